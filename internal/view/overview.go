package view

import (
	"cmp"
	"context"
	"iter"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
	"ironledger.example/internal/tally"
	"ironledger.example/internal/view/fold"
	"ironledger.example/internal/view/marked"
)

// census is what a fleet comes to.
type census struct {
	devices   int
	retired   []marked.Retired // which nothing else counts
	platforms map[string][]int // by platform and level
	levels    []int
	holds     []api.RuleHold // by rule
	verdicts  [posture.Waived + 1]int
	moved     []moved // whose level changed in the last day: the newest
	floor     int64   // whoever moved before is not among them
}

// moved is a device whose level changed.
type moved struct {
	device string
	since  int64
}

// maxLooked is how many devices whose level changed are looked at.
const maxLooked = 400

// takeCensus counts the fleet as it is at the moment now.
func (s *Service) takeCensus(snap *state.Snapshot, now int64) *census {
	b := snap.Book
	n := &census{platforms: map[string][]int{}, levels: make([]int, len(b.Rulebook.Ladder)),
		holds: make([]api.RuleHold, len(b.RuleKeys))}
	marks := s.find.Marks.Over(snap, now)
	for i, page := range snap.Fleet.Pages() {
		n.add(marks[i])
		n.move(marks[i].Moved, page)
	}
	n.moved = newest(n.moved)
	return n
}

// add adds what a page comes to.
func (n *census) add(p *marked.Page) {
	n.devices += p.Serving.Len()
	n.retired = append(n.retired, p.Retired...)
	byLevel := func(levels []int, of *marked.Set) {
		for level := range p.Levels {
			at := p.Levels[level].Both(of)
			levels[level] += at.Len()
		}
	}
	byLevel(n.levels, &p.Serving)
	for i := range p.Platforms {
		of := &p.Platforms[i]
		if n.platforms[of.Name] == nil {
			n.platforms[of.Name] = make([]int, len(n.levels))
		}
		byLevel(n.platforms[of.Name], &of.Set)
	}
	for i := range p.Says {
		n.holds[i].Binding += p.Binding[i].Len()
		for v := range p.Says[i] {
			says := p.Says[i][v].Both(&p.Serving)
			x := says.Len()
			count(&n.holds[i], posture.Verdict(v), x)
			n.verdicts[v] += x
		}
	}
}

// move adds the devices of a page whose level changed.
func (n *census) move(list []marked.Moved, page fold.Page) {
	for _, m := range list {
		if m.Since < n.floor {
			break // those behind it moved before too
		}
		n.moved = append(n.moved, moved{page.At(m.Place).ID, m.Since})
	}
	if len(n.moved) > 16*maxLooked {
		n.moved = newest(n.moved)
		n.floor = n.moved[maxLooked-1].since
	}
}

// newest leaves the devices that moved last, the newest first.
func newest(list []moved) []moved {
	slices.SortFunc(list, func(x, y moved) int {
		return cmp.Or(cmp.Compare(y.since, x.since), strings.Compare(x.device, y.device))
	})
	return slices.Clip(list[:min(len(list), maxLooked)])
}

// byVerdict counts verdicts by their words.
func (n *census) byVerdict() map[string]int {
	out := map[string]int{}
	for v, x := range n.verdicts {
		if v := posture.Verdict(v); v != posture.None && x > 0 {
			out[v.String()] = x
		}
	}
	return out
}

// Overview looks over the whole fleet. within is how near an end must be to be
// told of, and back how far the course of levels reaches; microseconds.
func (s *Service) Overview(ctx context.Context, within, back int64) (*api.Overview, error) {
	snap, now := s.Snapshot(), s.Micros()
	b, n := snap.Book, s.takeCensus(snap, now)
	o := &api.Overview{Now: value.FormatTime(now), Devices: n.devices, Retired: len(n.retired),
		Ladder:    b.Rulebook.Ladder,
		Platforms: platforms(n.platforms), Rules: holdingDown(b, n.holds), Dropped: []api.Drop{},
		Unmatched: snap.Unmatched.Open(), Emergencies: s.Emergencies(now - 7*value.Day), Verdicts: n.byVerdict()}
	held, err := s.Enrolments(state.Held)
	if err != nil {
		return nil, err
	}
	o.Held = len(held)
	if err := s.dropped(ctx, o, snap, n.moved, now); err != nil {
		return nil, err
	}
	o.Quiet = s.QuietSources()
	o.Ending, o.EndingTotal = s.endingSoon(snap, now, within)
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

// count counts devices of which a rule says something.
func count(h *api.RuleHold, v posture.Verdict, devices int) {
	switch v {
	case posture.Pass:
		h.Pass += devices
	case posture.Fail:
		h.Fail += devices
	case posture.Unknown:
		h.Unknown += devices
	case posture.Grace:
		h.Grace += devices
	case posture.Waived:
		h.Waived += devices
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

// coursePoints is how many moments the course of levels has.
const coursePoints = 48

// course works the levels of the past out backwards: those of today less the
// moves in between. Devices that were retired since count until then.
func (s *Service) course(ctx context.Context, o *api.Overview, today *census, now, back int64) error {
	stretch := max((back/coursePoints+tally.Minute-1)/tally.Minute, 1) * tally.Minute
	type move struct {
		at int64
		of [2]string
		n  int
	}
	var changes []move
	err := s.moved.Since(ctx, s.Store, now-back, now, func(at int64, of [2]string, n int) {
		changes = append(changes, move{at, of, n})
	})
	if err != nil {
		return err
	}
	levels := slices.Clone(today.levels)
	for _, d := range today.retired {
		levels[d.Level]++
	}
	at := func(n int64, levels []int) api.CoursePoint {
		served := slices.Clone(levels)
		for _, d := range today.retired {
			if d.At <= n {
				served[d.Level] = max(0, served[d.Level]-1)
			}
		}
		return api.CoursePoint{At: value.FormatTime(n), Levels: served}
	}
	points := []api.CoursePoint{at(now, levels)}
	next := len(changes) - 1
	for t := now / stretch * stretch; t > now-back; t -= stretch {
		for ; next >= 0 && changes[next].at >= t; next-- {
			m := changes[next]
			if i := slices.Index(o.Ladder, m.of[1]); i >= 0 {
				levels[i] -= m.n
			}
			if i := slices.Index(o.Ladder, m.of[0]); i >= 0 {
				levels[i] += m.n
			}
		}
		points = append(points, at(t, levels))
	}
	slices.Reverse(points)
	o.Course = points
	return nil
}

// ending is something of a device that ends by itself.
type ending struct {
	kind, id, device, about string
	until                   int64
}

// endings are those of a page of the fleet: the first of them, and the moments of all in order.
type endings struct {
	first []ending
	all   []int64
}

// maxEndings bounds how many endings an overview tells of, and how many are kept of a page.
const maxEndings = 100

// eachEnding visits what of a device ends by itself after the moment now.
func eachEnding(snap *state.Snapshot, d *state.Device, now int64, visit func(ending)) {
	b := snap.Book
	see := func(kind, id, about string, until int64) {
		if until > now {
			visit(ending{kind, id, d.ID, about, until})
		}
	}
	for _, w := range d.Waivers {
		if c := b.Limited(w); c.Live(now) {
			see("waiver", w.ID, w.Rule, c.Until())
		}
	}
	for _, v := range d.Vouches {
		if v.Live(now) {
			see("vouch", v.ID, "", v.Until)
		}
	}
	for i, v := range d.Result.Verdicts {
		if v == posture.Grace {
			see("grace", d.ID+" "+b.RuleKeys[i], b.RuleKeys[i], d.Result.Since[i]+b.Rules.Grace(i))
		}
	}
	for _, c := range d.View.Get(b.Rulebook.Dict.Slot("certs"), now).Members() {
		if certificate.Field(c, "trusted").IsTrue() {
			see("certificate", certificate.Field(c, "sha256").Str(), certificate.Field(c, "subject").Str(),
				certificate.Field(c, "not_after").Num())
		}
	}
}

// shown is an ending as people see it.
func (e *ending) shown() api.Ending {
	return api.Ending{Kind: e.kind, ID: e.id, Device: e.device, About: e.about, Until: value.FormatTime(e.until)}
}

// Ending lists what ends by itself within a time, in microseconds, the next first: all of it, so that it takes a walk.
func (s *Service) Ending(within int64) []api.Ending {
	snap, now := s.Snapshot(), s.Micros()
	out := []api.Ending{}
	snap.Fleet.InService(func(d *state.Device) bool {
		eachEnding(snap, snap.At(d, now), now, func(e ending) {
			if e.until-now <= within {
				out = append(out, e.shown())
			}
		})
		return true
	})
	return inOrder(append(out, s.IssuersEnding(within)...))
}

func inOrder(list []api.Ending) []api.Ending {
	slices.SortFunc(list, func(x, y api.Ending) int {
		return cmp.Or(strings.Compare(x.Until, y.Until), strings.Compare(x.ID, y.ID))
	})
	return list
}

// endingSoon lists the first of what ends by itself within a time, the next first, and counts all of it.
func (s *Service) endingSoon(snap *state.Snapshot, now, within int64) (first []api.Ending, total int) {
	first = append([]api.Ending{}, s.IssuersEnding(within)...)
	total = len(first)
	var next []ending
	for _, p := range s.ends.Over(snap, now, func(row iter.Seq[*state.Device]) (endings, int64) {
		return endingsOf(snap, row, now)
	}, func(rows []endings) (endings, int64) { return endingsTogether(rows, now) }) {
		from, _ := slices.BinarySearch(p.all, now+1)
		to, _ := slices.BinarySearch(p.all, now+within+1)
		total += to - from
		for _, e := range p.first {
			if e.until > now && e.until-now <= within {
				next = append(next, e)
			}
		}
		if len(next) > 16*maxEndings {
			next = firstOf(next)
		}
	}
	for _, e := range firstOf(next) {
		first = append(first, e.shown())
	}
	if first = inOrder(first); len(first) > maxEndings {
		first = first[:maxEndings]
	}
	return first, total
}

func firstOf(list []ending) []ending {
	slices.SortFunc(list, func(x, y ending) int {
		return cmp.Or(cmp.Compare(x.until, y.until), strings.Compare(x.id, y.id))
	})
	return list[:min(len(list), maxEndings)]
}

// endingsOf are those of devices, and until when they hold.
func endingsOf(snap *state.Snapshot, devices iter.Seq[*state.Device], now int64) (out endings, until int64) {
	until = condition.Always
	for d := range devices {
		d = snap.At(d, now)
		if until = min(until, d.Wake); d.Retired != nil {
			continue
		}
		eachEnding(snap, d, now, func(e ending) {
			out.first, out.all = append(out.first, e), append(out.all, e.until)
		})
	}
	return out, min(until, out.keepFirst())
}

// endingsTogether are those of rows that are still to come.
func endingsTogether(rows []endings, now int64) (out endings, until int64) {
	for _, r := range rows {
		for _, e := range r.first {
			if e.until > now {
				out.first = append(out.first, e)
			}
		}
		from, _ := slices.BinarySearch(r.all, now+1)
		out.all = append(out.all, r.all[from:]...)
	}
	return out, out.keepFirst()
}

// keepFirst puts all in order and keeps the first. It says until when they are: when one has gone by, another comes to the
// list.
func (l *endings) keepFirst() (until int64) {
	slices.Sort(l.all)
	l.all = slices.Clip(l.all)
	if until = condition.Always; len(l.first) > maxEndings || len(l.first) < len(l.all) {
		until = slices.MinFunc(l.first, func(x, y ending) int { return cmp.Compare(x.until, y.until) }).until
	}
	l.first = slices.Clip(firstOf(l.first))
	return until
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
	n := s.takeCensus(snap, s.Micros())
	return Levels{Devices: n.levels, Retired: len(n.retired)}
}
