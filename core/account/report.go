package account

import (
	"cmp"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"maps"
	"math/bits"
	"slices"

	"ironledger.example/core/access"
	"ironledger.example/core/control"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
)

// Format names the form of a report, and its version.
const Format = "ironledger-controls/1"

// Report tells how controls were met. Two reports of one period are the same to the byte.
type Report struct {
	Format    string    `json:"format"`
	Rulebook  string    `json:"rulebook"` // its name
	Version   int64     `json:"version"`  // the one in force at the end; 0 for none
	Catalogue string    `json:"catalogue,omitempty"`
	Edition   string    `json:"edition,omitempty"` // of the catalogue
	From      string    `json:"from,omitempty"`    // RFC 3339; "" for a report about a moment
	To        string    `json:"to"`                // before this moment
	Only      bool      `json:"only,omitempty"`    // some controls were asked for, not all
	Ledger    Head      `json:"ledger"`            // all entries before To
	Missing   int64     `json:"missing"`           // entries that would count, and whose bodies are gone
	Devices   int64     `json:"devices"`           // known at the end
	Controls  []Told    `json:"controls"`
	Nothing   Bare      `json:"nothing"`
	Decisions *Outcomes `json:"decisions,omitempty"` // nil for a moment

	Exceptions   []Exception   `json:"exceptions"`
	Publications []Publication `json:"publications"` // the first may be older than the period: it was in force then
	BreakGlass   []Emergency   `json:"break_glass"`
	Refusals     []Refusal     `json:"refusals"`
}

// Head is a ledger as it was: how many entries it had, and the root of their tree (RFC 6962), in base64.
type Head struct {
	Origin string `json:"origin"`
	Size   int64  `json:"size"`
	Root   string `json:"root"`
}

// Tally counts devices, or the seconds that devices were so.
type Tally struct {
	Met      int64 `json:"met"`
	NotMet   int64 `json:"not_met"`
	Unknown  int64 `json:"unknown"`
	Excepted int64 `json:"excepted"`
}

// All is the sum.
func (t Tally) All() int64 { return t.Met + t.NotMet + t.Unknown + t.Excepted }

func tally(n [states]int64) Tally { return Tally{n[met], n[failing], n[unknown], n[excepted]} }

// Told is what a report tells of a control.
type Told struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	Group string `json:"group,omitempty"`
	// Statement is the id of its statement in an OSCAL catalogue, "" for one of our own.
	Statement string    `json:"statement,omitempty"`
	Serving   []Serving `json:"serving"`
	State     string    `json:"state"`                    // one of States, at the end
	AtEnd     Tally     `json:"at_end"`                   // devices
	Seconds   *Tally    `json:"device_seconds,omitempty"` // over the period; nil for a moment
	Share     *float64  `json:"share,omitempty"`          // of device-seconds in which it was met, cut to 0.0001
	Changes   int64     `json:"changes"`                  // how often a device came to stand otherwise to it
	First     string    `json:"first_change,omitempty"`
	Last      string    `json:"last_change,omitempty"`
	Course    []Point   `json:"course,omitempty"`
	Asked     *Outcomes `json:"decisions,omitempty"` // which gates that serve it were about; nil for none
	Failing   []Failing `json:"failing"`             // devices that do not meet it at the end, the longest first
	More      int64     `json:"more,omitempty"`      // of them, that are not listed
	Excepted  []string  `json:"exceptions"`          // the ids of exceptions from rules that serve it
}

// The states of a control at the end of a report, from those that are well on.
const (
	Met         = "met"      // by every device that it concerns
	InForce     = "in force" // gates alone serve it, which decide for everybody
	NoDevice    = "no device"
	ButExcepted = "met but for exceptions"
	NotKnown    = "not known" // of some device
	NotMet      = "not met"   // by some device
	NotServed   = "not served"
)

// States are all of them.
var States = []string{Met, InForce, NoDevice, ButExcepted, NotKnown, NotMet, NotServed}

// state says in a word how a control came out.
func (t *Told) state() string {
	counts := func(kind string) bool {
		return slices.ContainsFunc(t.Serving, func(s Serving) bool { return s.Kind == kind && !s.Shadow })
	}
	switch {
	case !counts("rule") && !counts("gate"):
		return NotServed
	case t.AtEnd.NotMet > 0:
		return NotMet
	case t.AtEnd.Unknown > 0:
		return NotKnown
	case t.AtEnd.Excepted > 0:
		return ButExcepted
	case t.AtEnd.Met > 0:
		return Met
	case counts("rule"):
		return NoDevice
	}
	return InForce
}

// Serving is something that serves a control.
type Serving struct {
	Kind   string `json:"kind"` // rule or gate
	ID     string `json:"id"`
	Shadow bool   `json:"shadow,omitempty"` // it only watches, and does not count
	Since  string `json:"since,omitempty"`
}

// Point is how many devices met a control at a moment.
type Point struct {
	At string `json:"at"`
	Tally
}

// Failing is a device that does not meet a control.
type Failing struct {
	Device string   `json:"device"`
	State  string   `json:"state"` // not_met, unknown or excepted
	Since  string   `json:"since"`
	Rules  []string `json:"rules"` // that say so
}

// Outcomes counts decisions, or what gates said in them.
type Outcomes struct {
	Allow  int64 `json:"allow"`
	StepUp int64 `json:"step_up"`
	Deny   int64 `json:"deny"`
}

const allowed = string(access.Allow)

func (o *Outcomes) count(outcome string) {
	switch outcome {
	case allowed:
		o.Allow++
	case string(access.StepUp):
		o.StepUp++
	case string(access.Deny):
		o.Deny++
	}
}

// Bare is what nothing covers at the end.
type Bare struct {
	Controls []string `json:"controls"` // that nothing in force serves
	Devices  int64    `json:"devices"`  // known ones about which no rule says anything
	Some     []string `json:"some"`     // of them
}

// Exception is a waiver or a vouch that was in force in the period.
type Exception struct {
	ID         string   `json:"id"`
	Kind       string   `json:"kind"` // waiver or vouch
	Device     string   `json:"device"`
	Rule       string   `json:"rule,omitempty"`
	Controls   []string `json:"controls"`
	Reason     string   `json:"reason"`
	Author     string   `json:"author"`
	ApprovedBy string   `json:"approved_by,omitempty"`
	At         string   `json:"at"`
	Until      string   `json:"until"`
	RevokedAt  string   `json:"revoked_at,omitempty"`
	RevokedBy  string   `json:"revoked_by,omitempty"`
}

// Publication is a rulebook that was put in force, with what its author was told that it would do and accepted.
type Publication struct {
	Entry       int64          `json:"entry"`
	Version     int64          `json:"version"`
	At          string         `json:"at"`
	Author      string         `json:"author"`
	Message     string         `json:"message"`
	Digest      string         `json:"digest"`
	AcceptedWhy string         `json:"accepted_why,omitempty"`
	Impacts     []event.Impact `json:"impacts,omitempty"`
}

// Emergency is a use of an account for emergencies.
type Emergency struct {
	Entry    int64  `json:"entry"`
	Decision string `json:"decision"`
	At       string `json:"at"`
	Person   string `json:"person"`
	Resource string `json:"resource"`
	Device   string `json:"device,omitempty"`
}

// Refusal is how often a resource was refused, and by which gate first; "" for none.
type Refusal struct {
	Resource string `json:"resource"`
	Outcome  string `json:"outcome"`
	Gate     string `json:"gate,omitempty"`
	Times    int64  `json:"times"`
}

// The bounds of a report.
const (
	maxFailing  = 200 // devices of one control
	maxNamed    = 100
	maxRefusals = 1000
)

// Size is the number of entries that were added.
func (a *Account) Size() int64 { return a.seq }

// Version is the rulebook in force at the end, 0 for none.
func (a *Account) Version() int64 { return a.version }

// Report tells what came out: under the catalogue in force at the end, of some controls or, for nil, of all. head is the
// ledger with the entries that were added.
func (a *Account) Report(head ledger.Head, rulebook string, c *control.Catalogue, only []string) (*Report, error) {
	if head.Size != a.seq {
		return nil, errors.New("the head is not that of the entries")
	}
	a.advance(a.period.To)
	r := &Report{Format: Format, Rulebook: rulebook, Version: a.version, Catalogue: c.Title, Edition: c.Version,
		To: value.FormatTime(a.period.To), Only: only != nil, Missing: a.missing,
		Ledger:   Head{head.Origin, head.Size, base64.StdEncoding.EncodeToString(head.Root[:])},
		Controls: []Told{}, Nothing: Bare{Controls: []string{}, Some: []string{}},
		Exceptions: []Exception{}, Publications: append([]Publication{}, a.publications...),
		BreakGlass: append([]Emergency{}, a.emergencies...), Refusals: a.refused()}
	if !a.period.Moment() {
		r.From, r.Decisions = value.FormatTime(a.period.From), &a.decisions
	}
	exceptions := a.inPeriod()
	for i := range c.Controls {
		if one := &c.Controls[i]; only == nil || slices.Contains(only, one.ID) {
			told := a.told(one, exceptions)
			if told.State == NotServed {
				r.Nothing.Controls = append(r.Nothing.Controls, one.ID)
			}
			r.Controls = append(r.Controls, told)
		}
	}
	r.Exceptions = append(r.Exceptions, exceptions...)
	for _, id := range slices.Sorted(maps.Keys(a.devices)) {
		d := a.devices[id]
		if !d.known {
			continue
		}
		if r.Devices++; !slices.ContainsFunc(d.verdicts, func(v posture.Verdict) bool { return v != posture.None }) {
			if r.Nothing.Devices++; len(r.Nothing.Some) < maxNamed {
				r.Nothing.Some = append(r.Nothing.Some, id)
			}
		}
	}
	return r, nil
}

func (a *Account) told(of *control.Control, exceptions []Exception) Told {
	t := Told{ID: of.ID, Title: of.Title, Group: of.Group, Statement: of.Statement, State: NotServed, Serving: []Serving{}, Failing: []Failing{},
		Excepted: []string{}}
	c := a.controls[of.ID]
	if c == nil {
		if !a.period.Moment() {
			t.Seconds = &Tally{}
		}
		return t
	}
	a.settle(c)
	for s, since := range c.serving {
		s.Since = when(since)
		t.Serving = append(t.Serving, s)
	}
	slices.SortFunc(t.Serving, func(x, y Serving) int {
		return cmp.Or(cmp.Compare(y.Kind, x.Kind), cmp.Compare(x.ID, y.ID))
	})
	t.AtEnd = tally(c.counts)
	t.State = t.state()
	if t.Changes = c.changes; c.changes > 0 {
		t.First, t.Last = when(c.first), when(c.final)
	}
	if !a.period.Moment() {
		t.Seconds = &Tally{c.sums[met].seconds, c.sums[failing].seconds, c.sums[unknown].seconds,
			c.sums[excepted].seconds}
		if all := t.Seconds.All(); all > 0 {
			share := float64(hundredths(t.Seconds.Met, all)) / 10_000
			t.Share = &share
		}
		for i, at := range points(a.period) {
			t.Course = append(t.Course, Point{value.FormatTime(at), c.drawn[i]})
		}
		if c.gated() || c.asked != (Outcomes{}) {
			t.Asked = &c.asked
		}
	}
	t.Failing, t.More = a.failing(c)
	for i := range exceptions {
		if slices.Contains(exceptions[i].Controls, of.ID) {
			t.Excepted = append(t.Excepted, exceptions[i].ID)
		}
	}
	return t
}

// hundredths is a part of all in hundredths of a percent, cut: what is not all is never said to be.
func hundredths(part, all int64) int64 {
	high, low := bits.Mul64(uint64(part), 10_000)
	of, _ := bits.Div64(high, low, uint64(all))
	return int64(of)
}

var stateWords = map[state]string{failing: "not_met", unknown: "unknown", excepted: "excepted"}

// failing lists the devices that do not meet a control: those that fail first, and the longest first.
func (a *Account) failing(c *course) (out []Failing, more int64) {
	out = []Failing{}
	type one struct {
		id    string
		state state
		since int64
	}
	var all []one
	for id, d := range a.devices {
		if c.number < len(d.stands) && d.stands[c.number] > met {
			all = append(all, one{id, d.stands[c.number], d.since[c.number]})
		}
	}
	slices.SortFunc(all, func(x, y one) int {
		return cmp.Or(cmp.Compare(y.state, x.state), cmp.Compare(x.since, y.since), cmp.Compare(x.id, y.id))
	})
	more = int64(max(0, len(all)-maxFailing))
	for _, x := range all[:min(len(all), maxFailing)] {
		f := Failing{Device: x.id, State: stateWords[x.state], Since: when(x.since), Rules: []string{}}
		verdicts := a.devices[x.id].verdicts
		for _, r := range c.rules {
			if r < len(verdicts) && ofVerdict[verdicts[r]] == x.state {
				f.Rules = append(f.Rules, a.keys[r])
			}
		}
		out = append(out, f)
	}
	return out, more
}

// inPeriod are the exceptions that were in force for a part of the period.
func (a *Account) inPeriod() (out []Exception) {
	from := value.FormatTime(a.period.From)
	for _, id := range a.granted {
		x := a.exceptions[id]
		if x.State == "asked" || x.Until <= from || x.RevokedAt != "" && x.RevokedAt <= from {
			continue
		}
		out = append(out, Exception{ID: x.ID, Kind: x.kind, Device: x.Device, Rule: x.Rule,
			Controls: append([]string{}, x.controls...), Reason: x.Reason, Author: x.Author, ApprovedBy: x.ApprovedBy,
			At: x.At, Until: x.Until, RevokedAt: x.RevokedAt, RevokedBy: x.RevokedBy})
	}
	return out
}

// refused lists what was refused, the most often first.
func (a *Account) refused() []Refusal {
	out := []Refusal{}
	for r, n := range a.refusals {
		out = append(out, Refusal{r.resource, r.outcome, r.gate, n})
	}
	slices.SortFunc(out, func(x, y Refusal) int {
		return cmp.Or(cmp.Compare(y.Times, x.Times), cmp.Compare(x.Resource, y.Resource),
			cmp.Compare(x.Outcome, y.Outcome), cmp.Compare(x.Gate, y.Gate))
	})
	return out[:min(len(out), maxRefusals)]
}

// JSON is the report as it is kept, hashed and signed.
func (r *Report) JSON() []byte {
	out, err := json.MarshalIndent(r, "", " ")
	if err != nil {
		panic(err) // it has numbers and texts alone
	}
	return append(out, '\n')
}

// Digest is the SHA-256 of [Report.JSON], in hex.
func (r *Report) Digest() string {
	sum := sha256.Sum256(r.JSON())
	return hex.EncodeToString(sum[:])
}
