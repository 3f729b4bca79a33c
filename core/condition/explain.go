package condition

import (
	"fmt"
	"slices"

	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/value"
)

// Origin is where the value of a name came from, for people.
type Origin struct {
	Source string // who supplied it
	At     int64  // when it was observed; microseconds since the Unix epoch, 0 if it has no time
	Why    string // why it is unknown: never reported, stale, unavailable
	Last   string // the last value known, when it is stale
}

// Origins tells where values came from.
type Origins interface {
	Origin(frame, slot int) Origin
}

// Leaf is a part of a condition that decided its value.
type Leaf struct {
	Age       string `json:"age,omitempty"`
	Condition string `json:"condition"`          // the leaf, printed canonically
	Holds     Tri    `json:"holds"`              // whether the requirement is met
	Observed  string `json:"observed,omitempty"` // what it was, as text
	At        string `json:"observed_at,omitempty"`
	Path      string `json:"path,omitempty"`    // the name it reads
	Required  string `json:"required"`          // what the name must be
	Source    string `json:"source,omitempty"`  // who said so
	Unknown   string `json:"unknown,omitempty"` // why nothing is known

	// Bound is the constant the name is compared with, if there is one.
	Bound value.Value `json:"-"`
}

// Explain evaluates the condition and returns the leaves that decided its
// value: of a true "or" the true parts, of a false "and" the false ones, of an
// unknown either the unknown ones.
func (p *Program) Explain(env *Env, from Origins) (Tri, []Leaf) {
	t := p.Eval(env)
	return t, p.root.explain(env, from, t, false, make([]Leaf, 0, p.leaves))
}

// print keeps the text of every leaf and counts them.
func (e *expr) print() (leaves int) {
	switch e.kind {
	case notExpr, andExpr, orExpr:
		for _, k := range e.kids {
			leaves += k.print()
		}
		return leaves
	}
	e.said, e.denied = e.node.String(), "not "+syntax.Bracket(e.node, 2)
	return 1
}

func (e *expr) explain(env *Env, from Origins, t Tri, negated bool, out []Leaf) []Leaf {
	switch e.kind {
	case notExpr:
		return e.kids[0].explain(env, from, -t, !negated, out)
	case andExpr, orExpr:
		// When the whole has the value that each part must have, all decided;
		// otherwise those that share the whole's value did.
		for _, k := range e.kids {
			env.begin()
			if v := k.eval(env); v == t {
				out = k.explain(env, from, v, negated, out)
			}
		}
		return out
	}
	return append(out, e.leaf(env, from, t, negated))
}

func (e *expr) leaf(env *Env, from Origins, t Tri, negated bool) Leaf {
	l := Leaf{Condition: e.said, Required: e.want, Holds: t}
	if negated {
		l.Condition, l.Required, l.Holds = e.denied, e.unwant, -t
	}
	if e.against != nil && e.against.konst {
		l.Bound = e.against.value
	}
	if e.show != nil {
		l.Path = e.show.path
		if v := e.show.eval(env); v.Known() {
			l.Observed = v.String()
			if e.show.slope != 0 {
				l.Observed = value.FormatAge(v.Num())
			}
		}
	}
	for i, r := range e.reads {
		o := from.Origin(r.frame, r.slot)
		if i == 0 || o.Why != "" {
			l.Source, l.Unknown = o.Source, o.Why
			if o.At != 0 {
				l.At, l.Age = value.FormatTime(o.At), value.FormatAge(env.Now-o.At)
			}
			if l.Observed == "" && o.Last != "" {
				l.Observed = o.Last
			}
		}
		if o.Why != "" {
			break
		}
	}
	if t == Unknown && env.Exhausted() {
		l.Unknown = fmt.Sprintf("it takes more than %d steps to work out", MaxSteps)
	}
	if t == Unknown && l.Unknown == "" {
		l.Unknown = "part of it is not known"
	}
	return l
}

// describe says what a comparison requires of the name in it.
func (e *expr) describe(n *syntax.Compare, l, r *operand) {
	subject, other, op := l, n.R, n.Op
	e.against = r
	if turned, ok := n.Op.Mirror(); ok && l.konst && !r.konst {
		subject, other, op = r, n.L, turned
		e.against = l
	}
	e.show = subject
	text := func(op syntax.Op) string { return string(op) + " " + syntax.Bracket(other, 4) }
	if call, ok := n.L.(*syntax.Call); ok && subject == l && subject.slope != 0 {
		text = func(op syntax.Op) string { return call.Fn + " " + string(op) + " " + syntax.Bracket(other, 4) }
	}
	if q, ok := n.L.(*syntax.Quantifier); ok && subject == l {
		text = func(op syntax.Op) string { return q.String() + " " + string(op) + " " + syntax.Bracket(other, 4) }
	}
	e.want = text(op)
	e.unwant = "not " + e.want
	if inv, ok := op.Inverse(); ok {
		e.unwant = text(inv)
	}
}

// Next returns the first moment after env.Now at which the condition could
// have another value by the passing of time alone: a value in it goes stale,
// or an age or a remaining time crosses its bound. Always means never.
func (p *Program) Next(env *Env) int64 {
	env.begin()
	_, at := p.root.next(env)
	return at
}

// Turns returns functions that together bound Next from below, apart from
// values that go stale: each gives the first moment after env.Now at which a
// part of the condition could turn because an age or a remaining time crosses
// its bound. Most conditions have none.
func (p *Program) Turns() []func(*Env) int64 { return p.root.turnings(nil) }

func (e *expr) turnings(out []func(*Env) int64) []func(*Env) int64 {
	if e.kind == quantExpr {
		timed := false
		e.kids[0].walk(func(k *expr) { timed = timed || len(k.turns) > 0 })
		if timed {
			out = append(out, func(env *Env) int64 { env.begin(); _, at := e.next(env); return at })
		}
		return out
	}
	out = append(out, e.turns...) // each is Always while its part is not known
	for _, k := range e.kids {
		out = k.turnings(out)
	}
	return out
}

func (e *expr) next(env *Env) (Tri, int64) {
	switch e.kind {
	case notExpr:
		t, at := e.kids[0].next(env)
		return -t, at
	case andExpr, orExpr:
		stop := True
		if e.kind == andExpr {
			stop = False
		}
		return fold(stop, len(e.kids), func(i int) (Tri, int64) { return e.kids[i].next(env) })
	case quantExpr:
		return e.nextOver(env)
	}
	t := e.eval(env)
	if t == Unknown {
		return t, Always // what is unknown stays so without new evidence
	}
	at := staleAt(env, e.reads)
	for _, turn := range e.turns {
		at = min(at, turn(env))
	}
	return t, at
}

func (e *expr) nextOver(env *Env) (Tri, int64) {
	l := e.list.eval(env)
	if !l.Known() {
		return Unknown, Always
	}
	members := slices.Concat(l.Members(), l.Perhaps())
	sure := len(l.Members())
	stop, found := True, True
	switch e.fn {
	case "all":
		stop, found = False, False
	case "none":
		found = False
	}
	t, at := fold(stop, len(members), func(i int) (Tri, int64) {
		if !env.step() {
			return Unknown, Always
		}
		env.vars[e.slot] = members[i]
		t, at := e.kids[0].next(env)
		if i >= sure && t == stop { // it would settle the whole, if it is a member
			t = Unknown
		}
		return t, at
	})
	if stop != found {
		t = -t
	}
	return t, min(at, staleAt(env, e.list.reads))
}

// fold joins n parts of which one with the value stop settles the whole. A
// settled whole holds until the last of the settling parts may turn; any other
// until the first part may.
func fold(stop Tri, n int, part func(int) (Tri, int64)) (Tri, int64) {
	result, first, last := -stop, Always, int64(0)
	for i := range n {
		t, at := part(i)
		first = min(first, at)
		switch {
		case t == stop:
			result, last = stop, max(last, at)
		case t == Unknown && result != stop:
			result = Unknown
		}
	}
	if result == stop {
		return result, last
	}
	return result, first
}

// staleAt is the first moment at which one of the values read is stale.
func staleAt(env *Env, reads []read) int64 {
	at := Always
	for _, r := range reads {
		if until := env.Frames[r.frame].Cells[r.slot].Until; until >= env.Now && until != Always {
			at = min(at, until+1)
		}
	}
	return at
}
