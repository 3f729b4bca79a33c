package access

import (
	"cmp"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
)

// Coverage says for groups and resources what it takes to get through.
type Coverage struct {
	Groups    []string           `json:"groups"` // "" is a person in no group
	Resources []string           `json:"resources"`
	Cells     [][]Cell           `json:"cells"` // by group, then by resource
	Platforms []PlatformCoverage `json:"platforms"`
}

// Kind says how a cell is guarded.
type Kind string

// The kinds of cells. What no gate guards is open or closed by what the
// rulebook says of unmatched requests.
const (
	Guarded Kind = "guarded"
	Open    Kind = "open"   // no enforced gate: everybody gets through
	Closed  Kind = "closed" // nobody gets through
)

// Cell is what it takes for members of a group to reach a resource.
type Cell struct {
	Kind Kind `json:"kind"`
	// Level is the least under which any request of the group gets through; "" for
	// the lowest.
	Level string     `json:"level,omitempty"`
	MFA   bool       `json:"mfa,omitempty"`  // no request gets through without a second factor
	More  bool       `json:"more,omitempty"` // not every request with these gets through
	Gates []CellGate `json:"gates,omitempty"`
}

// String tells what it takes in a few letters: OPEN, closed, or the level with +f
// where a second factor is needed and * where more is asked.
func (c Cell) String() string {
	switch c.Kind {
	case Open:
		return "OPEN"
	case Closed:
		return "closed"
	}
	text := cmp.Or(c.Level, "any")
	if c.MFA {
		text += " +f"
	}
	if c.More {
		text += " *"
	}
	return text
}

// CellGate is a gate that speaks of a cell.
type CellGate struct {
	Gate    string   `json:"gate"`
	Number  int      `json:"number,omitempty"`
	Shadow  bool     `json:"shadow,omitempty"`
	Need    string   `json:"need"`
	When    string   `json:"when,omitempty"`
	Actions []string `json:"actions,omitempty"` // it speaks of these alone
}

// PlatformCoverage says what the rulebook has for a platform.
type PlatformCoverage struct {
	Platform  string   `json:"platform"`
	Devices   int      `json:"devices"`
	Baselines []string `json:"baselines"` // enforced, and able to apply
	Never     []string `json:"never"`     // gates whose need no device of the platform can meet
}

// Cover works out the coverage for groups, beside a person in none.
func (p *Program) Cover(groups []string) *Coverage {
	c := &Coverage{Groups: append([]string{""}, groups...), Resources: []string{}, Cells: [][]Cell{},
		Platforms: []PlatformCoverage{}}
	for _, r := range p.rb.Resources {
		c.Resources = append(c.Resources, r.ID)
	}
	for _, g := range c.Groups {
		q := &Request{}
		if g != "" {
			q.Groups = []string{g}
		}
		row := []Cell{}
		for _, r := range p.rb.Resources {
			row = append(row, p.cell(q, r.ID, p.resources[r.ID]))
		}
		c.Cells = append(c.Cells, row)
	}
	for _, platform := range evidence.Platforms() {
		c.Platforms = append(c.Platforms, p.platform(platform))
	}
	return c
}

func (p *Program) cell(q *Request, id string, res *resource) Cell {
	cell := Cell{Kind: Closed}
	if p.rb.Unmatched {
		cell.Kind = Open
	}
	group := ""
	if len(q.Groups) > 0 {
		group = q.Groups[0]
	}
	var asked []int
	for _, i := range res.candidates(q, nil) {
		g := &p.gates[i]
		if intersect(g.Who.ExceptGroups, q.Groups) {
			continue
		}
		x := CellGate{Gate: g.ID, Number: g.Number, Shadow: g.shadow, Need: g.Need.String(),
			Actions: g.What.Actions}
		if g.When != nil {
			x.When = g.When.String()
		}
		cell.Gates = append(cell.Gates, x)
		if !g.shadow {
			asked = append(asked, i)
		}
	}
	if len(asked) == 0 && (res.network == nil || !p.rb.Unmatched) {
		return cell
	}
	t, ok := p.takes(group, id, res, asked)
	if !ok {
		cell.Kind = Closed
		return cell
	}
	cell.Kind, cell.MFA, cell.More = Guarded, t.MFA, t.More
	if t.Level > 0 {
		cell.Level = p.rb.LevelName(t.Level)
	}
	return cell
}

func (p *Program) platform(name string) PlatformCoverage {
	c := PlatformCoverage{Platform: name, Baselines: []string{}, Never: []string{}}
	env := &condition.Env{Now: 1}
	env.Frames[evidence.DeviceFrame] = p.rb.Dict.OfPlatform(name)
	env.Frames[rulebook.RequestFrame] = condition.NewFrame(rulebook.RequestSlots)
	for i := range p.rb.Baselines {
		if b := &p.rb.Baselines[i]; b.Mode == rulebook.Enforce && b.Applies.Eval(env) != condition.False {
			c.Baselines = append(c.Baselines, b.ID)
		}
	}
	for _, g := range p.gates {
		if !g.shadow && g.Need.Eval(env) == condition.False {
			c.Never = append(c.Never, g.ID)
		}
	}
	return c
}
