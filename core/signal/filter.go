package signal

import (
	"slices"

	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

// Change is what conditions see of something that happened to a device.
type Change struct {
	Device   string
	From, To string // levels; "" where there was none
	Cause    string
	Rules    []string // that hold the device down afterwards

	// Lost and Gained are resources that its person can use it for no longer, and again;
	// nil when that is not known.
	Lost, Gained []string
}

// changeOf is what conditions see of an event, false when it is about no device.
func (g *Given) changeOf(e event.Event) (Change, bool) {
	switch e := e.(type) {
	case *event.StandingChanged:
		c := Change{Device: e.Device, From: e.From, To: e.To, Cause: e.Cause, Rules: e.Binding}
		Reaches(&c, g.Rulebook, g.Directory)
		return c, true
	case *event.SessionEnded:
		c := Change{Device: e.Device, Cause: e.Cause}
		if e.Resource != "" {
			c.Lost = []string{e.Resource}
		}
		return c, true
	}
	return Change{}, false
}

// Reaches works out what was lost and gained with a change of level.
func Reaches(c *Change, rb *rulebook.Rulebook, dir Directory) {
	if c.To == "" {
		return
	}
	before := c.From
	if before == "" { // it counted as one that nobody knows
		before = rb.LevelName(rb.Uncovered)
	}
	was, is := dir.Reach(c.Device, before), dir.Reach(c.Device, c.To)
	c.Lost, c.Gained = without(was, is), without(is, was)
}

// without is what is in one list and not in another; never nil.
func without(list, other []string) []string {
	out := []string{}
	for _, x := range list {
		if !slices.Contains(other, x) {
			out = append(out, x)
		}
	}
	return out
}

// Meets evaluates a condition on a change, of which somebody hears as an event of a short
// name, at a moment in microseconds since the Unix epoch.
func (c *Change) Meets(p *condition.Program, rb *rulebook.Rulebook, dir Directory, name string,
	now int64) condition.Tri {
	env := condition.Env{Now: now}
	env.Frames[evidence.DeviceFrame] = condition.NewFrame(len(rb.Dict.Attributes()))
	if view := dir.View(c.Device); view != nil {
		env.Frames[evidence.DeviceFrame] = view.Frame
	}
	f := condition.NewFrame(rulebook.ChangeSlots)
	env.Frames[rulebook.RequestFrame] = f
	set := func(slot int, v value.Value) { f.Set(slot, v, condition.Always) }
	level := func(slot int, word string) {
		if word != "" {
			set(slot, rb.LevelValue(rankOf(rb, word)))
		}
	}
	set(rulebook.SlotChangeEvent, value.OfText(name))
	switch from := c.From; {
	case from != "":
		level(rulebook.SlotChangeFrom, from)
	case c.To != "": // it counted as one that nobody knows
		set(rulebook.SlotChangeFrom, rb.LevelValue(rb.Uncovered))
	}
	level(rulebook.SlotChangeTo, c.To)
	level(rulebook.SlotChangeLevel, dir.Level(c.Device))
	if c.Cause != "" {
		set(rulebook.SlotChangeCause, value.OfText(c.Cause))
	}
	for slot, list := range map[int][]string{rulebook.SlotChangeRules: c.Rules, rulebook.SlotChangeLost: c.Lost,
		rulebook.SlotChangeGained: c.Gained} {
		if list != nil {
			set(slot, value.OfTexts(list))
		}
	}
	return p.Eval(&env)
}

// rankOf is the place of a level on the ladder. One that today's ladder does not have is
// as low as any.
func rankOf(rb *rulebook.Rulebook, level string) rulebook.Level {
	i, _ := rb.Rank(level)
	return rulebook.Level(max(i, 0))
}

// wanted leaves out the events that the receiver's condition surely excludes. One that
// may or may not hold does not: a receiver hears rather once too often.
func (g *Given) wanted(e event.Event, out []Signal) []Signal {
	if len(out) == 0 || g.When == nil && !g.Reach {
		return out
	}
	c, ok := g.changeOf(e)
	if !ok {
		return out
	}
	out = slices.DeleteFunc(out, func(s Signal) bool {
		return g.When != nil && c.Meets(g.When, g.Rulebook, g.Directory, NameOf(s.Type), g.Now) == condition.False
	})
	for i := range out {
		if s, ok := out[i].Payload.(Standing); ok && g.Reach {
			s.Lost, s.Gained = c.Lost, c.Gained
			out[i].Payload = s
		}
	}
	return out
}
