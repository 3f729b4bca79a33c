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
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
	"ironledger.example/internal/versioned"
	"ironledger.example/internal/view/moves"
)

// census is what a fleet, or a page of it, comes to.
type census struct {
	devices   int
	retired   []outOfService   // which nothing else counts
	platforms map[string][]int // by platform and level
	levels    []int
	holds     []api.RuleHold // by rule
	verdicts  [posture.Waived + 1]int
	moved     []moved // whose level changed in the last day, some of the newest
}

type outOfService struct {
	level rulebook.Level
	at    int64
}

type moved struct {
	device string
	since  int64
}

// maxMoved bounds how many devices of a page whose level changed are looked at, and maxLooked how many of the fleet.
const (
	maxMoved  = 64
	maxLooked = 400
)

func newCensus(b *state.Book) *census {
	return &census{platforms: map[string][]int{}, levels: make([]int, len(b.Rulebook.Ladder)),
		holds: make([]api.RuleHold, len(b.RuleKeys))}
}

// takeCensus counts the fleet as it is at the moment now.
func (s *Service) takeCensus(snap *state.Snapshot, now int64) *census {
	out := newCensus(snap.Book)
	for _, p := range s.counted.Over(snap, now, func(p versioned.Page[state.Device]) (*census, int64) {
		return countPage(snap, p.Values(), now)
	}) {
		if p != nil {
			out.add(p)
		}
	}
	return out
}

// countPage counts devices, and says until when that holds.
func countPage(snap *state.Snapshot, devices iter.Seq[*state.Device], now int64) (*census, int64) {
	b, n, until := snap.Book, newCensus(snap.Book), int64(condition.Always)
	slot := b.Rulebook.Dict.Slot("platform")
	for d := range devices {
		d = snap.At(d, now)
		until = min(until, d.Wake)
		if d.Retired != nil {
			n.retired = append(n.retired, outOfService{d.Result.Level, d.Retired.At})
			continue
		}
		n.devices++
		platform := "unknown"
		if v := d.View.Get(slot, now); v.Known() {
			platform = v.String()
		}
		if n.platforms[platform] == nil {
			n.platforms[platform] = make([]int, len(n.levels))
		}
		n.platforms[platform][d.Result.Level]++
		n.levels[d.Result.Level]++
		for i, v := range d.Result.Verdicts {
			count(&n.holds[i], v)
			n.verdicts[v]++
		}
		b.Rules.Binds(&d.Result, func(i int) { n.holds[i].Binding++ })
		if now-d.Since < value.Day && d.Since != d.FirstSeen {
			n.moved = append(n.moved, moved{d.ID, d.Since})
		}
	}
	n.moved = newest(n.moved, maxMoved)
	return n, until
}

// newest leaves the devices that moved last, the newest first.
func newest(list []moved, most int) []moved {
	slices.SortFunc(list, func(x, y moved) int {
		return cmp.Or(cmp.Compare(y.since, x.since), strings.Compare(x.device, y.device))
	})
	return slices.Clip(list[:min(len(list), most)])
}

// add adds what a page comes to.
func (n *census) add(p *census) {
	n.devices += p.devices
	n.retired = append(n.retired, p.retired...)
	for platform, levels := range p.platforms {
		if n.platforms[platform] == nil {
			n.platforms[platform] = make([]int, len(levels))
		}
		for i, x := range levels {
			n.platforms[platform][i] += x
		}
	}
	for i, x := range p.levels {
		n.levels[i] += x
	}
	for i := range p.holds {
		to, from := &n.holds[i], &p.holds[i]
		to.Pass += from.Pass
		to.Fail += from.Fail
		to.Unknown += from.Unknown
		to.Grace += from.Grace
		to.Waived += from.Waived
		to.Binding += from.Binding
	}
	for v, x := range p.verdicts {
		n.verdicts[v] += x
	}
	if n.moved = append(n.moved, p.moved...); len(n.moved) > 16*maxLooked {
		n.moved = newest(n.moved, maxLooked)
	}
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
	if err := s.dropped(ctx, o, snap, newest(n.moved, maxLooked), now); err != nil {
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
func (s *Service) dropped(ctx context.Context, o *api.Overview, snap *state.Snapshot, lately []moved, now int64) error {
	b := snap.Book
	ladders := ladders{s: s, of: map[int64]*rulebook.Rulebook{b.Info.Version: b.Rulebook}}
	for _, m := range lately {
		if len(o.Dropped) == maxDropped || now-m.since >= value.Day {
			break
		}
		d := snap.Fleet.Get(m.device)
		if d == nil {
			continue
		}
		entries, err := s.Store.About(ctx, m.device, 0, 20)
		if err != nil {
			return err
		}
		fell, at, err := ladders.fell(ctx, entries, now-value.Day)
		if err != nil {
			return err
		}
		if fell {
			sum := Summarize(b, snap.At(d, now), now)
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
	stretch := max((back/coursePoints+moves.Minute-1)/moves.Minute, 1) * moves.Minute
	changes, err := s.moved.Since(ctx, s.Store, now-back, now)
	if err != nil {
		return err
	}
	levels := slices.Clone(today.levels)
	for _, d := range today.retired {
		levels[d.level]++
	}
	at := func(n int64, levels []int) api.CoursePoint {
		served := slices.Clone(levels)
		for _, d := range today.retired {
			if d.at <= n {
				served[d.level] = max(0, served[d.level]-1)
			}
		}
		return api.CoursePoint{At: value.FormatTime(n), Levels: served}
	}
	points := []api.CoursePoint{at(now, levels)}
	next := len(changes) - 1
	for t := now / stretch * stretch; t > now-back; t -= stretch {
		for ; next >= 0 && changes[next].At >= t; next-- {
			m := changes[next]
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
	for _, p := range s.ends.Over(snap, now, func(p versioned.Page[state.Device]) (endings, int64) {
		return endingsOf(snap, p.Values(), now)
	}) {
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
	slices.Sort(out.all)
	out.all = slices.Clip(out.all)
	if out.first = firstOf(out.first); len(out.first) < len(out.all) { // when one has gone by, another comes to the list
		until = min(until, out.first[0].until)
	}
	out.first = slices.Clip(out.first)
	return out, until
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
