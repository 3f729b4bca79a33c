// Package account works out from the entries of a ledger how the controls of a rulebook were met over a period.
//
// [New] begins with a period, [Account.Add] takes every entry from the first one on, in order, and [Account.Report]
// tells. What a device met follows from the verdicts that entries tell, what served a control from the publications:
// nothing else goes in, so that the same entries give the same report whoever makes it, and whenever.
package account

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
)

// Period is what a report is about, in microseconds since the Unix epoch: from one moment on until before another.
// When both are the same it is about that moment.
type Period struct{ From, To int64 }

// Moment reports whether it is a moment.
func (p Period) Moment() bool { return p.From == p.To }

// state is how a device stands to a control: the gravest of what the rules say that serve it.
type state uint8

const (
	apart    state = iota // no rule that serves it is about the device
	met                   // it passes all of them
	excepted              // it fails, and somebody made an exception
	unknown
	failing // it fails, or has still time to mend it
	states
)

// ofVerdict is what the verdict of one rule says.
var ofVerdict = [...]state{posture.None: apart, posture.Pass: met, posture.Waived: excepted,
	posture.Unknown: unknown, posture.Fail: failing, posture.Grace: failing}

// Books tells what a published rulebook was made of, by its version, where its entry does not: it is too large for
// one, or its body is gone.
type Books func(version int64) ([]event.PublishedRule, []event.PublishedGate, error)

// Account is a report in the making.
type Account struct {
	period  Period
	books   Books
	points  []int64 // moments at which the course is drawn
	at      int64   // of the entry before
	seq     int64   // of the entry before
	missing int64

	rules    map[string]int // by key, in the order in which they came
	keys     []string
	version  int64
	order    []int // of the version's rules
	controls map[string]*course
	names    []string // of controls, in the order in which they came
	gates    map[string][]string
	waiting  []*event.StandingChanged // told under a rulebook whose entry comes behind them

	devices      map[string]*device
	exceptions   map[string]*exception
	granted      []string // ids of exceptions, in the order in which they came
	publications []Publication
	emergencies  []Emergency
	refusals     map[refusal]int64
	decisions    Outcomes
}

// course is what became of a control.
type course struct {
	number  int               // its place among the controls
	rules   []int             // in force, that serve it
	watched []int             // in shadow, that do
	serving map[Serving]int64 // since when
	counts  [states]int64     // devices
	since   int64             // of the counts
	sums    [states]span
	changes int64
	first   int64
	final   int64
	drawn   []Tally
	asked   Outcomes
}

// gated reports whether some gate serves it.
func (c *course) gated() bool {
	for s := range c.serving {
		if s.Kind == "gate" {
			return true
		}
	}
	return false
}

// span is a sum of device-time: whole seconds and microseconds, which a fleet over a year would be too many of.
type span struct{ seconds, micros int64 }

func (s *span) add(devices, micros int64) {
	s.seconds += devices * (micros / 1e6)
	s.micros += devices * (micros % 1e6)
	s.seconds, s.micros = s.seconds+s.micros/1e6, s.micros%1e6
}

// device is what is known of a device.
type device struct {
	known    bool
	verdicts []posture.Verdict // by the number of a rule
	stands   []state           // by the number of a control
	since    map[int]int64     // by the number of a control, where it does not meet it
}

// New begins a report on a period.
func New(p Period, books Books) *Account {
	a := &Account{period: p, books: books, rules: map[string]int{}, controls: map[string]*course{},
		gates: map[string][]string{}, devices: map[string]*device{}, exceptions: map[string]*exception{},
		refusals: map[refusal]int64{}}
	if !p.Moment() {
		a.points = points(p)
	}
	return a
}

// maxPoints bounds how many points a course is drawn with, but for its end.
const maxPoints = 62

// points are the midnights within a period, or as many of them as can be drawn.
func points(p Period) (out []int64) {
	day := time.UnixMicro(p.From).UTC().Truncate(24 * time.Hour)
	step := 1 + int((p.To-p.From)/value.Day)/maxPoints
	for t := day.AddDate(0, 0, step); t.UnixMicro() < p.To; t = t.AddDate(0, 0, step) {
		out = append(out, t.UnixMicro())
	}
	return append(out, p.To)
}

// ErrBehind says that an entry is of a moment that the period does not have: with it all entries were added.
var ErrBehind = errors.New("the entry is behind the period")

// Add adds the next entry. The error is [ErrBehind] for the first one that does not count any more.
func (a *Account) Add(e *ledger.Entry) error {
	if e.At >= a.period.To {
		return ErrBehind
	}
	if e.Seq != a.seq+1 {
		return fmt.Errorf("entry %d comes behind entry %d", e.Seq, a.seq)
	}
	a.seq = e.Seq
	a.advance(e.At)
	within := e.At >= a.period.From
	if e.Kind == ledger.DecisionMade && !within {
		return nil
	}
	if e.Body == nil {
		return a.gone(e)
	}
	what, err := event.Read(e)
	if err != nil {
		return err
	}
	switch x := what.(type) {
	case *event.StandingChanged:
		if x.Rulebook > a.version {
			a.waiting = append(a.waiting, x)
			return nil
		}
		return a.standing(x)
	case *event.RulebookPublished:
		return a.published(e, x)
	case *event.DevicePurged:
		a.purge(x.Device)
	case *event.WaiverGranted:
		a.except("waiver", &x.Exception)
	case *event.WaiverApproved:
		a.except("waiver", &x.Exception)
	case *event.WaiverRevoked:
		a.except("waiver", &x.Exception)
	case *event.VouchGiven:
		a.except("vouch", &x.Exception)
	case *event.VouchRevoked:
		a.except("vouch", &x.Exception)
	case *event.DecisionMade:
		a.decided(e, x)
	}
	return nil
}

// gone counts an entry whose body is not there. Of a publication the rulebook is there still.
func (a *Account) gone(e *ledger.Entry) error {
	switch e.Kind {
	case ledger.RulebookPublished:
		var version int64
		if _, err := fmt.Sscan(e.About, &version); err != nil {
			return fmt.Errorf("entry %d publishes no version: %w", e.Seq, err)
		}
		a.missing++
		return a.published(e, &event.RulebookPublished{Version: version, Short: true})
	case ledger.StandingChanged, ledger.DecisionMade, ledger.WaiverGranted, ledger.WaiverApproved, ledger.WaiverRevoked,
		ledger.VouchGiven, ledger.VouchRevoked, ledger.DevicePurged:
		a.missing++
	}
	return nil
}

// advance draws what the courses were at moments up to t.
func (a *Account) advance(t int64) {
	for len(a.points) > 0 && a.points[0] <= t {
		for _, id := range a.names {
			c := a.controls[id]
			c.drawn = append(c.drawn, tally(c.counts))
		}
		a.points = a.points[1:]
	}
	a.at = t
}

// drawnSoFar is how many points are behind.
func (a *Account) drawnSoFar() int {
	if a.period.Moment() {
		return 0
	}
	return len(points(a.period)) - len(a.points)
}

// standing takes the verdicts of a device, under the rulebook in force.
func (a *Account) standing(x *event.StandingChanged) error {
	d := a.device(x.Device)
	if err := a.tell(d, x); err != nil {
		return err
	}
	for _, id := range a.names {
		a.place(d, a.controls[id])
	}
	return nil
}

func (a *Account) device(id string) *device {
	d := a.devices[id]
	if d == nil {
		d = &device{}
		a.devices[id] = d
	}
	return d
}

// tell puts what an entry tells into a device.
func (a *Account) tell(d *device, x *event.StandingChanged) error {
	d.known = !x.Outsider
	if x.Verdicts != "" {
		all, err := posture.ReadLetters(x.Verdicts)
		if err != nil || len(all) != len(a.order) {
			return fmt.Errorf("entry %d has %d verdicts of %d rules of rulebook %d", a.seq, len(all), len(a.order),
				a.version)
		}
		d.verdicts = d.verdicts[:0]
		for i, v := range all {
			d.set(a.order[i], v)
		}
		return nil
	}
	for _, c := range x.Changed {
		d.set(a.rule(c.Rule), c.To)
	}
	return nil
}

func (d *device) set(rule int, v posture.Verdict) {
	if more := rule + 1 - len(d.verdicts); more > 0 {
		d.verdicts = append(d.verdicts, make([]posture.Verdict, more)...)
	}
	d.verdicts[rule] = v
}

func (a *Account) rule(key string) int {
	i, is := a.rules[key]
	if !is {
		i = len(a.keys)
		a.rules[key], a.keys = i, append(a.keys, key)
	}
	return i
}

// standsTo is how a device stands to a control now.
func (d *device) standsTo(c *course) (out state) {
	if !d.known {
		return apart
	}
	for _, r := range c.rules {
		if r < len(d.verdicts) {
			out = max(out, ofVerdict[d.verdicts[r]])
		}
	}
	return out
}

// place counts a device where it stands now.
func (a *Account) place(d *device, c *course) {
	if more := c.number + 1 - len(d.stands); more > 0 {
		d.stands = append(d.stands, make([]state, more)...)
	}
	was, is := d.stands[c.number], d.standsTo(c)
	if was == is {
		return
	}
	a.settle(c)
	d.stands[c.number] = is
	c.counts[was]-- // of those that it is not about nobody asks how many they are
	c.counts[is]++
	delete(d.since, c.number)
	if is > met {
		if d.since == nil {
			d.since = map[int]int64{}
		}
		d.since[c.number] = a.at
	}
	if was != apart && is != apart && a.at >= a.period.From {
		if c.changes++; c.first == 0 {
			c.first = a.at
		}
		c.final = a.at
	}
}

// settle adds what a course's counts came to since they changed last.
func (a *Account) settle(c *course) {
	from, to := max(c.since, a.period.From), min(a.at, a.period.To)
	if to > from {
		for s, n := range c.counts {
			c.sums[s].add(n, to-from)
		}
	}
	c.since = a.at
}

// purge takes a device out: nothing is known of it any more.
func (a *Account) purge(id string) {
	d := a.devices[id]
	if d == nil {
		return
	}
	d.known = false
	for _, name := range a.names {
		a.place(d, a.controls[name])
	}
	delete(a.devices, id)
}

// published puts a rulebook in force: what serves the controls is another from here on.
func (a *Account) published(e *ledger.Entry, x *event.RulebookPublished) error {
	rules, gates := x.Rules, x.Gates
	if x.Short || len(rules) == 0 {
		if a.books == nil {
			return fmt.Errorf("entry %d does not tell of what rulebook %d is made", e.Seq, x.Version)
		}
		var err error
		if rules, gates, err = a.books(x.Version); err != nil {
			return err
		}
	}
	if a.version = x.Version; e.At < a.period.From {
		a.publications = a.publications[:0] // of those before, the one that is in force when the period begins counts
	}
	a.publications = append(a.publications, Publication{Entry: e.Seq, Version: x.Version, At: when(e.At),
		Author: e.Actor, Message: x.Message, Digest: x.Digest, AcceptedWhy: x.AcceptImpact, Impacts: x.Impacts})
	a.serve(rules, gates)
	for _, w := range a.waiting {
		if err := a.tell(a.device(w.Device), w); err != nil {
			return err
		}
	}
	a.waiting = nil
	for _, id := range a.names {
		c := a.controls[id]
		a.settle(c)
		for _, d := range a.devices {
			a.place(d, c)
		}
	}
	return nil
}

// serve takes down what serves which control from now on.
func (a *Account) serve(rules []event.PublishedRule, gates []event.PublishedGate) {
	a.order, a.gates = a.order[:0], map[string][]string{}
	before := map[string]map[Serving]int64{}
	for id, c := range a.controls {
		before[id] = c.serving
		c.rules, c.watched, c.serving = nil, nil, map[Serving]int64{}
	}
	note := func(id string, s Serving) *course {
		c := a.course(id)
		since, is := before[id][s]
		if !is {
			since = a.at
		}
		c.serving[s] = since
		return c
	}
	for _, r := range rules {
		i := a.rule(r.Rule)
		a.order = append(a.order, i)
		for _, id := range r.Controls {
			if c := note(id, Serving{Kind: "rule", ID: r.Rule, Shadow: r.Shadow}); r.Shadow {
				c.watched = append(c.watched, i)
			} else {
				c.rules = append(c.rules, i)
			}
		}
	}
	for _, g := range gates {
		for _, id := range g.Controls {
			if note(id, Serving{Kind: "gate", ID: g.Gate, Shadow: g.Shadow}); !g.Shadow {
				a.gates[g.Gate] = append(a.gates[g.Gate], id)
			}
		}
	}
}

func (a *Account) course(id string) *course {
	c := a.controls[id]
	if c == nil {
		c = &course{number: len(a.names), serving: map[Serving]int64{}, since: a.at,
			drawn: make([]Tally, a.drawnSoFar())}
		a.controls[id], a.names = c, append(a.names, id)
	}
	return c
}

// except takes an exception as it is now.
func (a *Account) except(kind string, x *event.Exception) {
	known := a.exceptions[x.ID]
	if known == nil {
		known = &exception{}
		a.exceptions[x.ID], a.granted = known, append(a.granted, x.ID)
	}
	known.kind, known.Exception = kind, *x
	if r, is := a.rules[x.Rule]; is && x.Rule != "" {
		known.controls = known.controls[:0]
		for _, id := range a.names {
			if c := a.controls[id]; slices.Contains(c.rules, r) || slices.Contains(c.watched, r) {
				known.controls = append(known.controls, id)
			}
		}
	}
}

type exception struct {
	event.Exception
	kind     string
	controls []string
}

// refusal is what refusals are counted by.
type refusal struct{ resource, outcome, gate string }

// decided counts a decision.
func (a *Account) decided(e *ledger.Entry, x *event.DecisionMade) {
	if x.Decision == nil || x.Asked == nil {
		return
	}
	if x.BreakGlass {
		a.emergencies = append(a.emergencies, Emergency{Entry: e.Seq, Decision: x.ID, At: when(e.At),
			Person: x.Asked.Subject.ID, Resource: x.Asked.Resource.ID, Device: x.Device})
	}
	outcome := string(x.Outcome)
	a.decisions.count(outcome)
	refusedBy := ""
	for i := range x.Gates {
		g := &x.Gates[i]
		if g.Shadow {
			continue
		}
		if g.Verdict == outcome && refusedBy == "" {
			refusedBy = g.Gate
		}
		said := g.Verdict
		if said == "met" {
			said = allowed
		}
		for _, id := range a.gates[g.Gate] {
			a.controls[id].asked.count(said)
		}
	}
	if outcome != allowed {
		a.refusals[refusal{x.Asked.Resource.ID, outcome, refusedBy}]++
	}
}

func when(micros int64) string { return string(ledger.AppendTime(nil, micros)) }
