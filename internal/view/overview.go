package view

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// census is what a walk over the fleet counts.
type census struct {
	devices   int
	retired   []*state.Device  // out of service, which nothing else counts
	platforms map[string][]int // by platform and level
	levels    []int
	holds     []api.RuleHold // by rule
	verdicts  map[string]int
	recent    []*state.Device // whose level changed in the last day
}

// takeCensus walks over the fleet as it is at the moment now.
func (s *Service) takeCensus(snap *state.Snapshot, now int64) *census {
	b := snap.Book
	slot, ladder := b.Rulebook.Dict.Slot("platform"), len(b.Rulebook.Ladder)
	n := &census{platforms: map[string][]int{}, levels: make([]int, ladder),
		holds:    make([]api.RuleHold, len(b.RuleKeys)),
		verdicts: map[string]int{}}
	snap.Fleet.All(func(d *state.Device) bool {
		d = snap.At(d, now)
		if d.Retired != nil {
			n.retired = append(n.retired, d)
			return true
		}
		n.devices++
		platform := "unknown"
		if v := d.View.Get(slot, now); v.Known() {
			platform = v.String()
		}
		if n.platforms[platform] == nil {
			n.platforms[platform] = make([]int, ladder)
		}
		n.platforms[platform][d.Result.Level]++
		n.levels[d.Result.Level]++
		for i, v := range d.Result.Verdicts {
			count(&n.holds[i], v)
			if v != posture.None {
				n.verdicts[v.String()]++
			}
		}
		for _, k := range b.Rules.Binding(&d.Result) {
			if i := slices.Index(b.RuleKeys, k); i >= 0 { // else it is a person's own order
				n.holds[i].Binding++
			}
		}
		if now-d.Since < value.Day {
			n.recent = append(n.recent, d)
		}
		return true
	})
	return n
}

// Overview looks over the whole fleet. within is how near an end must be to be
// told of, and back how far the course of levels reaches; microseconds.
func (s *Service) Overview(ctx context.Context, within, back int64) (*api.Overview, error) {
	snap, now := s.Snapshot(), s.Micros()
	b, n := snap.Book, s.takeCensus(snap, now)
	o := &api.Overview{Now: value.FormatTime(now), Devices: n.devices, Retired: len(n.retired),
		Ladder:    b.Rulebook.Ladder,
		Platforms: platforms(n.platforms), Rules: holdingDown(b, n.holds), Dropped: []api.Drop{}, Quiet: []api.Source{},
		Unmatched: snap.Unmatched.Open(), Emergencies: s.Emergencies(now - 7*value.Day), Verdicts: n.verdicts}
	held, err := s.Enrolments(state.Held)
	if err != nil {
		return nil, err
	}
	o.Held = len(held)
	if err := s.dropped(ctx, o, b, n.recent); err != nil {
		return nil, err
	}
	for _, src := range s.Sources() {
		if src.Quiet {
			o.Quiet = append(o.Quiet, src)
		}
	}
	o.Ending = s.Ending(within)
	return o, s.course(ctx, o, n, now, back)
}

// platforms lists how many devices of each platform stand at each level, the platform
// with most devices first.
func platforms(levels map[string][]int) []api.PlatformLevels {
	out := []api.PlatformLevels{}
	for p, l := range levels {
		out = append(out, api.PlatformLevels{Platform: p, Levels: l})
	}
	sum := func(l []int) (n int) {
		for _, x := range l {
			n += x
		}
		return n
	}
	slices.SortFunc(out, func(a, b api.PlatformLevels) int {
		return cmp.Or(cmp.Compare(sum(b.Levels), sum(a.Levels)), strings.Compare(a.Platform, b.Platform))
	})
	return out
}

// count counts a verdict of a rule.
func count(h *api.RuleHold, v posture.Verdict) {
	switch v {
	case posture.Pass:
		h.Pass++
	case posture.Fail:
		h.Fail++
	case posture.Unknown:
		h.Unknown++
	case posture.Grace:
		h.Grace++
	case posture.Waived:
		h.Waived++
	}
}

// holdingDown tells of the rules that hold devices down, those that hold most first.
func holdingDown(b *state.Book, holds []api.RuleHold) []api.RuleHold {
	out := []api.RuleHold{}
	for i, h := range holds {
		if h.Fail+h.Unknown+h.Grace+h.Waived == 0 {
			continue
		}
		h.Rule = b.RuleKeys[i]
		h.Title, h.Shadow = b.Rules.Title(i), b.Rules.InShadow(i)
		out = append(out, h)
	}
	slices.SortStableFunc(out, func(x, y api.RuleHold) int {
		return cmp.Or(cmp.Compare(y.Binding, x.Binding), cmp.Compare(y.Fail+y.Unknown, x.Fail+x.Unknown),
			strings.Compare(x.Rule, y.Rule))
	})
	return out
}

// maxDropped bounds the devices of which an overview tells that they fell.
const maxDropped = 50

// dropped finds, of devices whose level changed lately, those that fell.
func (s *Service) dropped(ctx context.Context, o *api.Overview, b *state.Book, recent []*state.Device) error {
	slices.SortFunc(recent, func(x, y *state.Device) int {
		return cmp.Or(cmp.Compare(y.Since, x.Since),
			strings.Compare(x.ID, y.ID))
	})
	ladders := ladders{s: s, of: map[int64]*rulebook.Rulebook{b.Info.Version: b.Rulebook}}
	for _, d := range recent {
		if len(o.Dropped) == maxDropped {
			break
		}
		entries, err := s.Store.About(ctx, d.ID, 0, 20)
		if err != nil {
			return err
		}
		fell, at, err := ladders.fell(ctx, entries, s.Micros()-value.Day)
		if err != nil {
			return err
		}
		if fell {
			sum := Summarize(b, d, s.Micros())
			o.Dropped = append(o.Dropped, api.Drop{Device: d.ID, Name: sum.Name, Level: sum.Level, Rank: sum.Rank,
				Top: sum.Top, Since: value.FormatTime(at), Held: sum.Binding})
		}
	}
	return nil
}

// ladders reads changes of standing on the ladders that were in force then.
type ladders struct {
	s  *Service
	of map[int64]*rulebook.Rulebook // by version
}

// fell reports whether the newest change of level since a moment was a fall, and
// when. What only gave levels other names is no change.
func (l *ladders) fell(ctx context.Context, entries []ledger.Entry, since int64) (bool, int64, error) {
	for _, e := range entries {
		if e.At < since {
			break
		}
		body, ok := event.As[*event.StandingChanged](&e)
		if !ok || body.From == body.To || body.From == "" {
			continue
		}
		if l.of[body.Rulebook] == nil {
			book, err := l.s.past.BookOf(ctx, body.Rulebook)
			if err != nil {
				return false, 0, err
			}
			l.of[body.Rulebook] = book.Rulebook
		}
		from, known := l.of[body.Rulebook].Rank(body.From)
		to, ok := l.of[body.Rulebook].Rank(body.To)
		if known && ok {
			return from > to, e.At, nil
		}
	}
	return false, 0, nil
}

// coursePoints is how many moments the course of levels has.
const coursePoints = 48

// course works the levels of the past out backwards: those of today less the
// moves in between. Devices that were retired since count until then.
func (s *Service) course(ctx context.Context, o *api.Overview, today *census, now, back int64) error {
	stretch := max(back/coursePoints, 60*1_000_000)
	moves, err := s.Store.Moves(ctx, now-back, stretch)
	if err != nil {
		return err
	}
	levels := slices.Clone(today.levels)
	for _, d := range today.retired {
		levels[d.Result.Level]++
	}
	at := func(n int64, levels []int) api.CoursePoint {
		served := slices.Clone(levels)
		for _, d := range today.retired {
			if d.Retired.At <= n {
				served[d.Result.Level] = max(0, served[d.Result.Level]-1)
			}
		}
		return api.CoursePoint{At: value.FormatTime(n), Levels: served}
	}
	points := []api.CoursePoint{at(now, levels)}
	next := len(moves) - 1
	for t := now / stretch * stretch; t > now-back; t -= stretch {
		for ; next >= 0 && moves[next].At >= t; next-- {
			m := moves[next]
			if i := slices.Index(o.Ladder, m.To); i >= 0 {
				levels[i] -= m.Devices
			}
			if i := slices.Index(o.Ladder, m.From); i >= 0 {
				levels[i] += m.Devices
			}
		}
		points = append(points, at(t, levels))
	}
	slices.Reverse(points)
	o.Course = points
	return nil
}

// Ending lists what ends by itself within a time, in microseconds, the next
// first.
func (s *Service) Ending(within int64) []api.Ending {
	snap, now := s.Snapshot(), s.Micros()
	b, out := snap.Book, []api.Ending{}
	add := func(e api.Ending, until int64) {
		if until > now && until-now <= within {
			e.Until = value.FormatTime(until)
			out = append(out, e)
		}
	}
	certs := b.Rulebook.Dict.Slot("certs")
	snap.Fleet.InService(func(d *state.Device) bool {
		d = snap.At(d, now)
		for _, w := range d.Waivers {
			if c := b.Limited(w); c.Live(now) {
				add(api.Ending{Kind: "waiver", ID: w.ID, Device: d.ID, About: w.Rule}, c.Until())
			}
		}
		for _, v := range d.Vouches {
			if v.Live(now) {
				add(api.Ending{Kind: "vouch", ID: v.ID, Device: d.ID}, v.Until)
			}
		}
		for i, v := range d.Result.Verdicts {
			if v == posture.Grace {
				add(api.Ending{Kind: "grace", ID: d.ID + " " + b.RuleKeys[i], Device: d.ID, About: b.RuleKeys[i]},
					d.Result.Since[i]+b.Rules.Grace(i))
			}
		}
		for _, c := range d.View.Get(certs, now).Members() {
			if certificate.Field(c, "trusted").IsTrue() {
				add(api.Ending{Kind: "certificate", ID: certificate.Field(c, "sha256").Str(), Device: d.ID,
					About: certificate.Field(c, "subject").Str()}, certificate.Field(c, "not_after").Num())
			}
		}
		return true
	})
	out = append(out, s.IssuersEnding(within)...)
	slices.SortFunc(out, func(x, y api.Ending) int {
		return cmp.Or(strings.Compare(x.Until, y.Until),
			strings.Compare(x.ID, y.ID))
	})
	return out
}

// IssuersEnding lists the issuers and revocation lists that end within a time, in
// microseconds.
func (s *Service) IssuersEnding(within int64) (out []api.Ending) {
	now := s.Micros()
	add := func(e api.Ending, until int64) {
		if until > now && until-now <= within {
			e.Until = value.FormatTime(until)
			out = append(out, e)
		}
	}
	for _, is := range s.Snapshot().Book.Rulebook.Issuers() {
		add(api.Ending{Kind: "issuer", ID: is.ID}, is.NotAfter)
		add(api.Ending{Kind: "crl", ID: is.ID}, cmp.Or(is.CRLEnds, condition.Always))
	}
	return out
}

// Emergencies are the uses of accounts for emergencies since a moment, in microseconds
// since the Unix epoch, the newest first.
func (s *Service) Emergencies(since int64) []api.Emergency {
	out := []api.Emergency{}
	for _, e := range s.decisions.Emergencies(since) {
		out = append(out, api.Emergency(e))
	}
	return out
}

// Span reads a duration parameter; "" is the default.
func Span(param, text string, otherwise int64) (int64, error) {
	if text == "" {
		return otherwise, nil
	}
	d, err := value.ParseDuration(text)
	if err == nil && d.Num() <= 0 {
		return 0, &fault.QueryError{Param: param, Message: text + " is not a time to come or gone by"}
	}
	if err != nil {
		return 0, &fault.QueryError{Param: param, Message: err.Error()}
	}
	return d.Num(), nil
}

// Levels is how many devices in service stand at each level, the lowest first, and how many are retired.
type Levels struct {
	Devices []int
	Retired int
}

// Levels counts devices by level, as the writer has them.
func (s *Service) Levels() Levels {
	snap := s.Snapshot()
	out := Levels{Devices: make([]int, len(snap.Book.Rulebook.Ladder))}
	snap.Fleet.All(func(d *state.Device) bool {
		if d.Retired != nil {
			out.Retired++
		} else {
			out.Devices[d.Result.Level]++
		}
		return true
	})
	return out
}
