package rehearsal

import (
	"cmp"
	"slices"
	"strings"

	"ironledger.example/core/rulebook"
)

// Subject is a device under two rulebooks.
type Subject struct {
	Device, Name, Platform, Owner string
	Groups                        []string // of the owner
	From, To                      rulebook.Level
	// Held are the rules that hold it at From under the rulebook in force, and
	// Holds those that would hold it at To.
	Held, Holds []string
}

// Move is a device whose level would change.
type Move struct {
	Device   string   `json:"device"`
	Name     string   `json:"name,omitempty"`
	Platform string   `json:"platform,omitempty"`
	Owner    string   `json:"owner,omitempty"`
	From     string   `json:"from"`
	To       string   `json:"to"`
	Falls    bool     `json:"falls"`
	Rules    []string `json:"rules"` // of a fall those that would hold it, of a rise those that held it
}

// Count is how many devices of a kind would move.
type Count struct {
	ID      string `json:"id"` // a rule, a platform or a group
	Devices int    `json:"devices,omitempty"`
	Falls   int    `json:"falls"`
	Rises   int    `json:"rises"`
}

// Shift is what a candidate rulebook would do to a fleet.
type Shift struct {
	Devices   int      `json:"devices"`
	Falls     int      `json:"falls"`
	Rises     int      `json:"rises"`
	From      []string `json:"from"`   // the ladder in force
	To        []string `json:"to"`     // the candidate's
	Matrix    [][]int  `json:"matrix"` // [from][to] devices
	Rules     []Count  `json:"rules"`
	Platforms []Count  `json:"platforms"`
	Groups    []Count  `json:"groups"`
	Moves     []Move   `json:"moves"` // falls first; at most MaxMoves
}

// MaxMoves bounds the devices that a shift lists one by one.
const MaxMoves = 2000

// Tally gathers a shift, one device at a time.
type Tally struct {
	before, after            *rulebook.Rulebook
	shift                    Shift
	rules, platforms, groups map[string]*Count
}

// NewTally begins a comparison of a rulebook in force with a candidate.
func NewTally(before, after *rulebook.Rulebook) *Tally {
	t := &Tally{before: before, after: after, rules: map[string]*Count{}, platforms: map[string]*Count{},
		groups: map[string]*Count{}}
	t.shift.From, t.shift.To = before.Ladder, after.Ladder
	t.shift.Matrix = make([][]int, len(before.Ladder))
	for i := range t.shift.Matrix {
		t.shift.Matrix[i] = make([]int, len(after.Ladder))
	}
	return t
}

func count(in map[string]*Count, id string) *Count {
	if id == "" {
		id = "unknown"
	}
	c := in[id]
	if c == nil {
		c = &Count{ID: id}
		in[id] = c
	}
	return c
}

// Add counts a device.
func (t *Tally) Add(s Subject) {
	t.shift.Devices++
	t.shift.Matrix[s.From][s.To]++
	counts := []*Count{count(t.platforms, s.Platform)}
	for _, g := range s.Groups {
		counts = append(counts, count(t.groups, g))
	}
	for _, c := range counts {
		c.Devices++
	}
	from, to := t.before.LevelName(s.From), t.after.LevelName(s.To)
	if t.after.Called(from) == to { // to be called otherwise is no move
		return
	}
	// Ladders may differ: a level that both have is compared on the new one.
	rank, ok := t.after.Rank(t.after.Called(from))
	if !ok {
		rank = int(s.From)
	}
	m := Move{Device: s.Device, Name: s.Name, Platform: s.Platform, Owner: s.Owner, From: from, To: to,
		Falls: int(s.To) < rank, Rules: s.Held}
	if m.Falls {
		m.Rules = s.Holds
	}
	for _, r := range m.Rules {
		counts = append(counts, count(t.rules, r))
	}
	for _, c := range counts {
		if m.Falls {
			c.Falls++
		} else {
			c.Rises++
		}
	}
	if m.Falls {
		t.shift.Falls++
	} else {
		t.shift.Rises++
	}
	t.shift.Moves = append(t.shift.Moves, m)
}

// Shift returns what was counted.
func (t *Tally) Shift() *Shift {
	s := t.shift
	slices.SortFunc(s.Moves, func(a, b Move) int {
		if a.Falls != b.Falls {
			return map[bool]int{true: -1, false: 1}[a.Falls]
		}
		return cmp.Or(strings.Compare(a.To, b.To), strings.Compare(a.Device, b.Device))
	})
	s.Moves = append([]Move{}, s.Moves[:min(len(s.Moves), MaxMoves)]...)
	s.Rules, s.Platforms, s.Groups = ordered(t.rules), ordered(t.platforms), ordered(t.groups)
	return &s
}

// ordered lists counts, those that move most first.
func ordered(in map[string]*Count) []Count {
	out := []Count{}
	for _, c := range in {
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b Count) int {
		return cmp.Or(cmp.Compare(b.Falls+b.Rises, a.Falls+a.Rises), strings.Compare(a.ID, b.ID))
	})
	return out
}
