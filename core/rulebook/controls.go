package rulebook

import (
	"slices"
	"strings"

	"ironledger.example/core/control"
	"ironledger.example/core/rulebook/tree"
)

// The periods of reports.
const (
	EveryDay     = "day"
	EveryWeek    = "week" // from Monday on (ISO 8601)
	EveryMonth   = "month"
	EveryQuarter = "quarter"
	EveryYear    = "year"
)

// Periods are all of them. A period begins and ends at midnight, UTC.
var Periods = []string{EveryDay, EveryWeek, EveryMonth, EveryQuarter, EveryYear}

// Report is a report on controls that is made at the end of each period.
type Report struct {
	Where    Position
	ID       string
	Every    string   // one of Periods
	Controls []string // nil for all of the catalogue
	To       []Recipient
}

// ReportNotice is the id of the notice that sends a report to the first, second, … of those who get it.
func (r *Report) ReportNotice(i int) string { return "report " + r.ID + " " + r.To[i].String() }

// controls reads the catalogue of controls.
func (l *loader) controls() {
	if f, ok := l.single("controls"); ok {
		l.rb.Controls = control.Load(f, func(f tree.Field) (string, bool) { return l.beside(f, true) })
	}
}

// Serves lists the controls that a rule of a baseline serves: its own, and those of the whole baseline.
func (b *Baseline) Serves(r *Rule) []string {
	out := slices.Clone(b.Controls)
	for _, id := range r.Controls {
		if !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	return out
}

// reports reads [{id, every, controls: all | [ids], to: [recipients]}].
func (l *loader) reports() {
	seen := unique{}
	for _, it := range l.members("reports") {
		r := Report{Where: it.Position()}
		ok := it.Mapping("a report", map[string]func(tree.Field){
			"id":    func(f tree.Field) { f.ID(&r.ID) },
			"every": func(f tree.Field) { r.Every = chosen(f, "period", Periods) },
			"controls": func(f tree.Field) {
				if f.Kind() == "a list" {
					r.Controls = append([]string{}, f.References("control", l.rb.Controls.IDs())...)
				} else {
					f.Word("choice of controls", []string{"all"})
				}
			},
			"to": func(f tree.Field) {
				for _, to := range f.Seq() {
					var x Recipient
					if l.recipient(tree.Field{Item: to, KeyAt: to}, &x); x.Owner {
						to.Fail("a report is about no device, so that there is no owner; write {mail: …} or {hook: …}")
					}
					r.To = append(r.To, x)
				}
			},
		})
		if !ok || !l.named(it, "a report", r.ID) || !seen.add(it, "reports", r.ID) {
			continue
		}
		switch {
		case r.Every == "":
			it.Fail("the report %s needs every: %s", r.ID, strings.Join(Periods, ", "))
		case len(l.rb.Controls.Controls) == 0:
			it.Fail("the report %s needs controls to report on: write them, or a catalogue of them, into controls", r.ID)
		}
		l.rb.Reports = append(l.rb.Reports, r)
		for i, to := range r.To {
			l.rb.Notices = append(l.rb.Notices, Notice{Where: r.Where, ID: r.ReportNotice(i), On: ReportMade,
				Report: r.ID, To: to})
		}
	}
}
