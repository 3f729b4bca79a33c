package controls

import (
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/account"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
)

// Name is what the file of a report is called, without its end.
func Name(r *account.Report) string {
	day := func(at string) string { return strings.NewReplacer(":", "", "T00:00:00Z", "").Replace(at) }
	if r.From == "" {
		return "controls-" + day(r.To)
	}
	return "controls-" + day(r.From) + "-" + day(r.To)
}

// List shows the reports that were kept of one in the rulebook, or of all for "", and what the rulebook asks for.
func (s *Service) List(report string) *api.ReportList {
	out := &api.ReportList{Items: []api.KeptReport{}, Asked: []api.AskedReport{}}
	for _, r := range s.Kept(report) {
		out.Items = append(out.Items, shown(&r))
	}
	for _, r := range s.Snapshot().Book.Rulebook.Reports {
		a := api.AskedReport{ID: r.ID, Every: api.AskedReportEvery(r.Every), Controls: r.Controls, To: []string{},
			Next: value.FormatTime(ends(&r, s.Micros()))}
		for _, to := range r.To {
			a.To = append(a.To, to.String())
		}
		out.Asked = append(out.Asked, a)
	}
	return out
}

// ends is when the period ends that a moment is in.
func ends(r *rulebook.Report, now int64) int64 {
	from := begins(r.Every, value.Clock(now))
	switch r.Every {
	case rulebook.EveryDay:
		return from.AddDate(0, 0, 1).UnixMicro()
	case rulebook.EveryWeek:
		return from.AddDate(0, 0, 7).UnixMicro()
	case rulebook.EveryMonth:
		return from.AddDate(0, 1, 0).UnixMicro()
	case rulebook.EveryQuarter:
		return from.AddDate(0, 3, 0).UnixMicro()
	}
	return from.AddDate(1, 0, 0).UnixMicro()
}

func shown(r *kept.Report) api.KeptReport {
	out := api.KeptReport{ID: r.ID, Report: r.Report, From: value.FormatTime(r.From), To: value.FormatTime(r.To),
		At: value.FormatTime(r.At), SHA256: r.SHA256, Entries: r.Size, Controls: len(r.Brief)}
	for _, b := range r.Brief {
		if b.NotMet > 0 {
			out.NotMet++
		}
	}
	return out
}

// Trends compares the last reports of one in the rulebook: what got worse comes first.
func (s *Service) Trends(report string) (*api.ReportTrends, error) {
	of, rb := s.Kept(report), s.Snapshot().Book.Rulebook
	asked := slices.ContainsFunc(rb.Reports, func(r rulebook.Report) bool { return r.ID == report })
	if len(of) == 0 && !asked {
		return nil, fault.NotFound("report", report)
	}
	of = of[:min(len(of), makeUp)]
	slices.Reverse(of)
	out := &api.ReportTrends{Report: report, Periods: []api.KeptReport{}, Controls: trends(of, &rb.Controls)}
	for i := range of {
		out.Periods = append(out.Periods, shown(&of[i]))
	}
	return out, nil
}
