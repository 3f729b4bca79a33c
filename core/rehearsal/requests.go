package rehearsal

import (
	"cmp"
	"slices"
	"strings"

	"ironledger.example/core/access"
)

// Asked is one recorded question under two rulebooks.
type Asked struct {
	Person, Device, Resource, Action string
	Machine                          bool // a device that asks for itself, not a person
	Times                            int  // how often it was asked
	From, To                         access.Outcome
	// FromGrant and ToGrant are what an admission to a network carries and would, in a few words; "" for what is none.
	FromGrant, ToGrant string
	// Gates stand in the way: of what is lost those of the candidate, of what is
	// gained those of the rulebook in force.
	Gates []string
	// Fell is set when the candidate puts the device at another level.
	Fell bool
}

// The ways in which the answer to a question changes.
const (
	NewlyDenied    = "newly-denied"      // allowed or stepped up, now denied
	NewlyAllowed   = "newly-allowed"     // denied or stepped up, now allowed
	NewlySteppedUp = "newly-stepped-up"  // allowed, now only with a second factor
	Eased          = "eased"             // denied, now allowed with a second factor
	Regranted      = "granted-otherwise" // allowed on a network, now with something else
)

// changeOf names how an answer changes, "" when it does not.
func changeOf(from, to access.Outcome) string {
	switch {
	case from == to:
		return ""
	case to == access.Deny:
		return NewlyDenied
	case to == access.Allow:
		return NewlyAllowed
	case from == access.Allow:
		return NewlySteppedUp
	}
	return Eased
}

// AccessChange is a question whose answer would change.
type AccessChange struct {
	Change   string         `json:"change"`
	Person   string         `json:"person"`
	Device   string         `json:"device,omitempty"`
	Resource string         `json:"resource"`
	Action   string         `json:"action"`
	Times    int            `json:"times"`
	From     access.Outcome `json:"from"`
	To       access.Outcome `json:"to"`
	Gates    []string       `json:"gates"`
	ByLevel  bool           `json:"by_level,omitempty"` // the level of the device changes too
	// FromGrant and ToGrant are what is granted on a network, in a few words.
	FromGrant string `json:"from_grant,omitempty"`
	ToGrant   string `json:"to_grant,omitempty"`
}

// AccessCount is how many answers about something would change.
type AccessCount struct {
	ID        string `json:"id"` // a gate, a person or a resource
	Denied    int    `json:"denied"`
	SteppedUp int    `json:"stepped_up"`
	Allowed   int    `json:"allowed"`
}

// AccessShift is what a candidate rulebook would do to recorded requests.
type AccessShift struct {
	Days      int            `json:"days"`     // how far back they go
	Requests  int            `json:"requests"` // recorded
	Distinct  int            `json:"distinct"` // different ones, each tried once
	People    int            `json:"people"`   // who made them
	Losing    int            `json:"losing"`   // people who would be newly denied something
	Denied    int            `json:"newly_denied"`
	SteppedUp int            `json:"newly_stepped_up"`
	Allowed   int            `json:"newly_allowed"`
	Regranted int            `json:"granted_otherwise"`
	LockedOut []string       `json:"locked_out"` // people of whose requests all that passed would be denied
	Raised    []string       `json:"raised"`     // of gates that leave the shadow, what it recorded
	Gates     []AccessCount  `json:"gates"`
	Persons   []AccessCount  `json:"persons"`
	Resources []AccessCount  `json:"resources"`
	Changes   []AccessChange `json:"changes"` // what is lost first; at most MaxMoves
}

// AccessTally gathers an AccessShift, one question at a time.
type AccessTally struct {
	shift                     AccessShift
	gates, persons, resources map[string]*AccessCount
	passed, left, lost        map[string]int // by person: questions that pass now, that would, and that are lost
}

// NewAccessTally begins a comparison over requests of the last days.
func NewAccessTally(days int) *AccessTally {
	return &AccessTally{shift: AccessShift{Days: days, LockedOut: []string{}, Changes: []AccessChange{}},
		gates: map[string]*AccessCount{}, persons: map[string]*AccessCount{}, resources: map[string]*AccessCount{},
		passed: map[string]int{}, left: map[string]int{}, lost: map[string]int{}}
}

// Add counts one question.
func (t *AccessTally) Add(q Asked) {
	s := &t.shift
	s.Requests += q.Times
	s.Distinct++
	pass := func(o access.Outcome) int {
		if o == access.Deny {
			return 0
		}
		return 1
	}
	if !q.Machine {
		t.passed[q.Person] += pass(q.From)
		t.left[q.Person] += pass(q.To)
	}
	change := changeOf(q.From, q.To)
	if change == "" && q.From == access.Allow && q.FromGrant != q.ToGrant {
		change = Regranted
	}
	if change == "" {
		return
	}
	if q.Gates == nil {
		q.Gates = []string{}
	}
	s.Changes = append(s.Changes, AccessChange{change, q.Person, q.Device, q.Resource, q.Action, q.Times,
		q.From, q.To, q.Gates, q.Fell, q.FromGrant, q.ToGrant})
	if change == Regranted { // nobody loses or gains a resource by it
		s.Regranted++
		return
	}
	counts := []*AccessCount{countOf(t.resources, q.Resource)}
	if !q.Machine {
		counts = append(counts, countOf(t.persons, q.Person))
	}
	for _, g := range q.Gates {
		counts = append(counts, countOf(t.gates, g))
	}
	switch change {
	case NewlyDenied:
		s.Denied++
		if !q.Machine {
			t.lost[q.Person]++
		}
		for _, c := range counts {
			c.Denied++
		}
	case NewlySteppedUp:
		s.SteppedUp++
		for _, c := range counts {
			c.SteppedUp++
		}
	default:
		s.Allowed++
		for _, c := range counts {
			c.Allowed++
		}
	}
}

func countOf(m map[string]*AccessCount, id string) *AccessCount {
	if m[id] == nil {
		m[id] = &AccessCount{ID: id}
	}
	return m[id]
}

// Loses reports whether anything would be lost by somebody.
func (t *AccessTally) Loses() bool { return len(t.lost) > 0 }

// rankOf orders changes: what is lost comes first.
func rankOf(change string) int {
	return slices.Index([]string{NewlyDenied, NewlySteppedUp, Regranted, NewlyAllowed, Eased}, change)
}

// Shift returns what has been gathered.
func (t *AccessTally) Shift() *AccessShift {
	s := &t.shift
	s.People, s.Losing = len(t.passed), len(t.lost)
	for person, n := range t.passed {
		if n > 0 && t.left[person] == 0 {
			s.LockedOut = append(s.LockedOut, person)
		}
	}
	slices.Sort(s.LockedOut)
	ordered := func(m map[string]*AccessCount) []AccessCount {
		out := []AccessCount{}
		for _, c := range m {
			out = append(out, *c)
		}
		slices.SortFunc(out, func(a, b AccessCount) int {
			return cmp.Or(cmp.Compare(b.Denied, a.Denied), cmp.Compare(b.SteppedUp, a.SteppedUp),
				strings.Compare(a.ID, b.ID))
		})
		return out
	}
	s.Gates, s.Persons, s.Resources = ordered(t.gates), ordered(t.persons), ordered(t.resources)
	slices.SortFunc(s.Changes, func(a, b AccessChange) int {
		return cmp.Or(cmp.Compare(rankOf(a.Change), rankOf(b.Change)), strings.Compare(a.Person, b.Person),
			strings.Compare(a.Resource, b.Resource), strings.Compare(a.Device, b.Device),
			strings.Compare(a.Action, b.Action))
	})
	if len(s.Changes) > MaxMoves {
		s.Changes = s.Changes[:MaxMoves]
	}
	return s
}

// Passed counts the questions of a person that pass today, and those that would.
func (t *AccessTally) Passed(person string) (today, then int) {
	return t.passed[person], t.left[person]
}
