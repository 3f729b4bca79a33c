package access

import (
	"slices"

	"ironledger.example/core/condition"
	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

// What it takes to get through is read off the trees of conditions: with the
// level and the second factor set, and all else that a request can be left open,
// which values can a condition have? The answer is a set of the three truths.
// Parts of one condition are taken to be independent of each other, so that
// what cannot be is never said to be certain, nor what can be said never to be.

// truths is a set of truth values.
type truths uint8

const (
	canFail truths = 1 << iota // false
	canDoubt
	canHold // true

	anything = canFail | canDoubt | canHold
)

func only(t condition.Tri) truths { return canFail << (t - condition.False) }

func (s truths) each(visit func(condition.Tri)) {
	for t := condition.False; t <= condition.True; t++ {
		if s&only(t) != 0 {
			visit(t)
		}
	}
}

// not is the set of the opposites.
func (s truths) not() (out truths) {
	s.each(func(t condition.Tri) { out |= only(-t) })
	return out
}

// join is the set of what "and", or else "or", makes of a member of each.
func join(and bool, a, b truths) (out truths) {
	a.each(func(x condition.Tri) {
		b.each(func(y condition.Tri) {
			if (x < y) == and {
				out |= only(x)
			} else {
				out |= only(y)
			}
		})
	})
	return out
}

// requirement works out what a cell of the coverage takes.
type requirement struct {
	p   *Program
	env condition.Env // with what is settled
}

// settled are the names that a cell and a guess settle; of the groups of a
// person one is known, or that there is none.
var settled = []string{"level", "auth.mfa", "resource.id", "resource.tags", "user.known", "user.groups"}

// under sets the level, the second factor and the person's group.
func (r *requirement) under(group, id string, res *resource, level rulebook.Level, mfa value.Value) {
	if r.env.Frames[rulebook.RequestFrame].Cells == nil {
		r.env.Now = 1
		r.env.Frames[evidence.DeviceFrame] = r.p.noDevice
		r.env.Frames[rulebook.RequestFrame] = condition.NewFrame(rulebook.RequestSlots)
	}
	set := func(slot int, v value.Value) { r.env.Frames[rulebook.RequestFrame].Set(slot, v, condition.Always) }
	set(rulebook.SlotLevel, r.p.rb.LevelValue(level))
	set(rulebook.SlotMFA, mfa)
	set(rulebook.SlotResourceID, value.OfText(id))
	set(rulebook.SlotResourceTags, res.value)
	set(rulebook.SlotUserKnown, value.OfBool(true))
	groups := value.OfTexts(nil)
	if group != "" {
		groups = value.OfPartialTexts([]string{group},
			slices.DeleteFunc(slices.Clone(r.p.groups), func(g string) bool { return g == group }))
	}
	set(rulebook.SlotUserGroups, groups)
}

// of is the set of values that a condition can have.
func (r *requirement) of(n syntax.Node) truths {
	switch n := n.(type) {
	case *syntax.Logic:
		out := r.of(n.Kids[0])
		for _, k := range n.Kids[1:] {
			out = join(n.And, out, r.of(k))
		}
		return out
	case *syntax.Not:
		return r.of(n.X).not()
	}
	leaf, err := condition.Compile(n, n.String(), r.p.rb.Names)
	if err != nil {
		return anything // it compiled as a part of the whole
	}
	reads := leaf.Reads()
	if slices.ContainsFunc(reads, func(name string) bool { return !slices.Contains(settled, name) }) {
		return anything
	}
	t := leaf.Eval(&r.env)
	if t == condition.Unknown && slices.Contains(reads, "user.groups") {
		return canFail | canHold // whether the person is in other groups is known, to the directory
	}
	return only(t)
}

// get is what a request under what is set can come to: whether some request gets
// through, and whether every one does.
func (r *requirement) get(gates []int, net *network) (some, every bool) {
	some, every = true, true
	asked, sure := false, false // whether a gate can match, and whether one surely does
	for _, i := range gates {
		g := &r.p.gates[i]
		if g.shadow {
			continue
		}
		applies := canHold
		if g.When != nil {
			applies = r.of(g.When.Node())
		}
		if len(g.What.Actions) > 0 {
			applies |= canFail
		}
		if applies == canFail {
			continue
		}
		need := r.of(g.Need.Node())
		passes := need&canHold != 0
		if asked = asked || passes; applies&canFail == 0 {
			some, sure = some && passes, true
		}
		every = every && need == canHold
	}
	if open := r.p.rb.Unmatched; !open {
		some, every = some && asked, every && sure
	}
	if net != nil { // and something is granted
		granted := canFail
		for i := range net.Grants {
			granted = join(false, granted, r.of(net.Grants[i].When.Node()))
		}
		some, every = some && granted&canHold != 0, every && granted == canHold
	}
	return some, every
}

// answers are what a request can say of a second factor.
var answers = []value.Value{value.OfBool(true), value.OfBool(false), {}}

// Takes is what it takes to get through.
type Takes struct {
	Level rulebook.Level // the least under which any request gets through
	MFA   bool           // no request gets through without a second factor
	More  bool           // at that level, and with the second factor, not every request does
}

// takes works out what it takes for members of a group, "" for a person in none,
// to get past some gates. It reports false when no request gets through.
func (p *Program) takes(group, id string, res *resource, gates []int) (t Takes, ok bool) {
	r := requirement{p: p}
	t.MFA, t.Level = true, p.rb.Top()
	for l := p.rb.Top(); l >= 0; l-- {
		for _, mfa := range answers {
			r.under(group, id, res, l, mfa)
			if some, _ := r.get(gates, res.network); some {
				ok, t.Level = true, l
				t.MFA = t.MFA && mfa.IsTrue()
			}
		}
	}
	for _, mfa := range answers {
		if t.MFA && !mfa.IsTrue() {
			continue
		}
		for l := t.Level; l <= p.rb.Top(); l++ {
			r.under(group, id, res, l, mfa)
			_, every := r.get(gates, res.network)
			t.More = t.More || !every
		}
	}
	return t, ok
}
