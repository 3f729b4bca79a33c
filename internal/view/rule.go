package view

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// Rules lists the rules of the rulebook in force, in its order, with what they say of the devices in service.
func (s *Service) Rules() []api.Rule {
	snap, now := s.Snapshot(), s.Micros()
	holds := s.takeCensus(snap, now).holds
	out := []api.Rule{}
	for i, key := range snap.Book.RuleKeys {
		h := holds[i]
		r := ruleOf(snap.Book, key)
		r.Counts = api.VerdictCounts{Pass: h.Pass, Fail: h.Fail, Unknown: h.Unknown, Grace: h.Grace, Waived: h.Waived,
			Binding: h.Binding}
		out = append(out, r)
	}
	return out
}

// ruleOf is a rule, that there is, without its counts.
func ruleOf(b *state.Book, key string) api.Rule {
	rb, rule := b.Rulebook, b.Rulebook.Rule(key)
	base := baselineOf(rb, key)
	r := api.Rule{Rule: key, Title: rule.Title, Baseline: base.Title, Mode: string(base.Mode),
		Cap: rb.LevelName(rule.Cap), Unknown: rb.LevelName(rule.Unknown), Waivable: !rule.Strict}
	if rule.Grace > 0 {
		r.Grace = value.FormatDuration(rule.Grace)
	}
	return r
}

// baselineOf is the baseline of a rule that there is.
func baselineOf(rb *rulebook.Rulebook, key string) *rulebook.Baseline {
	id, _, _ := strings.Cut(key, "/")
	return &rb.Baselines[slices.IndexFunc(rb.Baselines, func(b rulebook.Baseline) bool { return b.ID == id })]
}

// Rule shows a rule, baseline/rule, with what it says of the devices in service, by platform, and what it said over a
// time back, in microseconds.
func (s *Service) Rule(ctx context.Context, key string, back int64) (*api.RuleDetail, error) {
	snap, now := s.Snapshot(), s.Micros()
	b := snap.Book
	i := slices.Index(b.RuleKeys, key)
	if i < 0 {
		return nil, fault.NotFound("rule", key+fault.Nearest(key, b.RuleKeys))
	}
	rule, base := b.Rulebook.Rule(key), baselineOf(b.Rulebook, key)
	r := ruleOf(b, key)
	out := &api.RuleDetail{Rule: r, Applies: base.Applies.String(),
		Checks: map[string]string{}, Remedy: rule.Remedy, Where: rule.Where, Platforms: []api.PlatformVerdicts{},
		Waivers: []api.Exception{}}
	if out.Remedy == nil {
		out.Remedy = map[string]plaintext.Remedy{}
	}
	for platform, check := range rule.Checks {
		out.Checks[platform] = check.String()
	}
	platforms := map[string]*api.VerdictCounts{}
	slot := b.Rulebook.Dict.Slot("platform")
	serving, newcomers := map[string]posture.Verdict{}, []*state.Device{}
	snap.Fleet.InService(func(d *state.Device) bool {
		d = snap.At(d, now)
		v := d.Result.Verdicts[i]
		serving[d.ID] = v
		if d.FirstSeen > now-back {
			newcomers = append(newcomers, d)
		}
		if v == posture.None {
			return true
		}
		platform := "unknown"
		if p := d.View.Get(slot, now); p.Known() {
			platform = p.String()
		}
		if platforms[platform] == nil {
			platforms[platform] = &api.VerdictCounts{}
		}
		binding := binds(b, d, i)
		for _, c := range []*api.VerdictCounts{&out.Counts, platforms[platform]} {
			*counted(c, v)++
			if binding {
				c.Binding++
			}
		}
		return true
	})
	for _, platform := range slices.Sorted(maps.Keys(platforms)) {
		out.Platforms = append(out.Platforms, api.PlatformVerdicts{Platform: platform, Counts: *platforms[platform]})
	}
	waivers, err := s.Waivers(ExceptionQuery{})
	if err != nil {
		return nil, err
	}
	for _, w := range waivers {
		if w.Rule == key && (w.State == "live" || w.State == "asked") {
			out.Waivers = append(out.Waivers, w)
		}
	}
	out.Course, err = s.verdictCourse(ctx, key, out.Counts, serving, newcomers, now, back)
	return out, err
}

// binds reports whether a rule, by its place, holds a device down.
func binds(b *state.Book, d *state.Device, rule int) (is bool) {
	b.Rules.Binds(&d.Result, func(i int) { is = is || i == rule })
	return is
}

// counted is the place where a verdict is counted; a place apart for what is none.
func counted(c *api.VerdictCounts, v posture.Verdict) *int {
	switch v {
	case posture.Pass:
		return &c.Pass
	case posture.Fail:
		return &c.Fail
	case posture.Unknown:
		return &c.Unknown
	case posture.Grace:
		return &c.Grace
	case posture.Waived:
		return &c.Waived
	}
	return new(int)
}

// verdictMove is a device of which a rule began to say something else, or which came in.
type verdictMove struct {
	at       int64
	device   string
	cameIn   bool
	from, to posture.Verdict
}

// verdictCourse works out backwards what a rule said: what it says today less what changed in between, of the devices
// in service today, with what it says of each. Devices count from when they came in.
func (s *Service) verdictCourse(ctx context.Context, key string, today api.VerdictCounts,
	serving map[string]posture.Verdict, newcomers []*state.Device, now, back int64) ([]api.VerdictPoint, error) {
	told, err := s.turned.of(key, now).since(ctx, s.Store, key, now-back, now)
	if err != nil {
		return nil, err
	}
	moves := make([]verdictMove, 0, len(newcomers)+len(told))
	for _, d := range newcomers {
		moves = append(moves, verdictMove{at: d.FirstSeen, device: d.ID, cameIn: true})
	}
	for _, m := range told {
		if _, is := serving[m.device]; is {
			moves = append(moves, m)
		}
	}
	slices.SortStableFunc(moves, func(a, b verdictMove) int { return cmp.Compare(a.at, b.at) })
	today.Binding = 0 // of which entries tell by device, not by rule
	points, stretch := []api.VerdictPoint{{At: value.FormatTime(now), Counts: today}},
		max(back/coursePoints, 60*1_000_000)
	for t := now / stretch * stretch; t > now-back; t -= stretch {
		for ; len(moves) > 0 && moves[len(moves)-1].at >= t; moves = moves[:len(moves)-1] {
			m := moves[len(moves)-1]
			if m.cameIn {
				*counted(&today, serving[m.device])--
				continue
			}
			*counted(&today, m.to)--
			*counted(&today, m.from)++
			serving[m.device] = m.from
		}
		points = append(points, api.VerdictPoint{At: value.FormatTime(t), Counts: today})
	}
	slices.Reverse(points)
	return points, nil
}
