package access

import (
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
	Closed  Kind = "closed" // no enforced gate: nobody gets through
)

// Cell is what it takes for members of a group to reach a resource.
type Cell struct {
	Kind  Kind       `json:"kind"`
	Level string     `json:"level,omitempty"` // the highest that a gate asks for outright
	MFA   bool       `json:"mfa,omitempty"`   // a gate asks for a second factor outright
	Gates []CellGate `json:"gates,omitempty"`
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
	c := &Coverage{Groups: append([]string{""}, groups...), Resources: []string{}, Cells: [][]Cell{}, Platforms: []PlatformCoverage{}}
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
			row = append(row, p.cell(q, p.resources[r.ID]))
		}
		c.Cells = append(c.Cells, row)
	}
	for _, platform := range evidence.Platforms() {
		c.Platforms = append(c.Platforms, p.platform(platform))
	}
	return c
}

func (p *Program) cell(q *Request, res *resource) Cell {
	cell := Cell{Kind: Closed}
	if p.rb.Unmatched {
		cell.Kind = Open
	}
	level := rulebook.Level(0)
	for _, i := range res.candidates(q, nil) {
		g := &p.gates[i]
		if intersect(g.Who.ExceptGroups, q.Groups) {
			continue
		}
		x := CellGate{Gate: g.ID, Number: g.Number, Shadow: g.shadow, Need: g.Need.String(), Actions: g.What.Actions}
		if g.When != nil {
			x.When = g.When.String()
		}
		cell.Gates = append(cell.Gates, x)
		if g.shadow {
			continue
		}
		cell.Kind = Guarded
		if len(g.What.Actions) > 0 {
			continue // it does not speak of the rest
		}
		asks, mfa := p.outright(g.Need.Node())
		level, cell.MFA = max(level, asks), cell.MFA || mfa
	}
	if level > 0 {
		cell.Level = p.rb.LevelName(level)
	}
	return cell
}

// outright is the level and the second factor that a condition asks for
// whatever else is true: what stands in its conjunction.
func (p *Program) outright(n condition.Node) (level rulebook.Level, mfa bool) {
	switch n := n.(type) {
	case *condition.Logic:
		if !n.And {
			return 0, false
		}
		for _, k := range n.Kids {
			l, m := p.outright(k)
			level, mfa = max(level, l), mfa || m
		}
	case *condition.Path:
		return 0, n.Name == "auth.mfa"
	case *condition.Compare:
		l, lok := n.L.(*condition.Path)
		r, rok := n.R.(*condition.Path)
		if !lok || !rok || l.Name != "level" {
			return 0, false
		}
		rank, ok := p.rb.Rank(r.Name)
		switch {
		case ok && (n.Op == condition.OpGe || n.Op == condition.OpEq):
			return rulebook.Level(rank), false
		case ok && n.Op == condition.OpGt:
			return min(rulebook.Level(rank+1), p.rb.Top()), false
		}
	}
	return level, mfa
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
