package condition

import (
	"cmp"
	"math"
	"regexp"
	"slices"
	"strings"

	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/value"
)

// relation decides a comparison of two known values. It may answer Unknown,
// for a list with unknown members or text that is no address.
type relation func(a, b value.Value) Tri

func (c *compiler) compare(n *syntax.Compare) *expr {
	l, r := c.sides(n)
	if l == nil || r == nil {
		return unknownExpr
	}
	rel := c.relation(n, l, r)
	if rel == nil {
		return unknownExpr
	}
	e := &expr{kind: leafExpr, node: n, reads: append(slices.Clone(l.reads), r.reads...)}
	e.describe(n, l, r)
	if e.interval = leafInterval(n.Op, l, r); e.interval != nil {
		e.eval, e.shallow = e.interval.eval(), true
	} else if e.eval = fastEval(n.Op, l, r); e.eval != nil {
		e.shallow = l.typ.Kind != value.Text && r.typ.Kind != value.Text
	} else {
		left, right := l.eval, r.eval
		e.eval = func(env *Env) Tri {
			a := left(env)
			if !a.Known() {
				return Unknown
			}
			b := right(env)
			if !b.Known() {
				return Unknown
			}
			return rel(a, b)
		}
	}
	var turns []func(*Env) int64
	if l.slope != r.slope {
		turn := fastCrossing(n.Op, l, r)
		if turn == nil {
			turn = crossing(l, r, rel)
		}
		turns = append(turns, turn)
	}
	for _, o := range []*operand{l, r} {
		if o.turn != nil {
			turns = append(turns, o.turn)
		}
	}
	e.turns = turns
	return e
}

// sides compiles both operands, the one that can stand alone first: it gives
// the other its meaning.
func (c *compiler) sides(n *syntax.Compare) (l, r *operand) {
	turn := func(t value.Type) *value.Type { return &t }
	if c.standsAlone(n.L) || !c.standsAlone(n.R) {
		if l = c.operand(n.L, nil); l == nil {
			return nil, nil
		}
		want := &l.typ
		switch {
		case n.Op == syntax.OpIn || n.Op == syntax.OpNotIn:
			if _, literal := n.R.(*syntax.Literal); !literal {
				want = turn(value.ListOf(l.typ))
			}
		case n.Op == syntax.OpHas && l.typ.Kind == value.List:
			want = l.typ.Elem
		}
		return l, c.operand(n.R, want)
	}
	if r = c.operand(n.R, nil); r == nil {
		return nil, nil
	}
	want := &r.typ
	switch {
	case (n.Op == syntax.OpIn || n.Op == syntax.OpNotIn) && r.typ.Kind == value.List:
		want = r.typ.Elem
	case n.Op == syntax.OpHas:
		want = turn(value.ListOf(r.typ))
	}
	return c.operand(n.L, want), r
}

// standsAlone reports whether an operand has a type without its other side.
func (c *compiler) standsAlone(n syntax.Node) bool {
	switch n := n.(type) {
	case *syntax.Path:
		if n.Name == "true" || n.Name == "false" || c.variable(n) != nil {
			return true
		}
		_, ok := c.dict.Lookup(n.Name)
		return ok
	case *syntax.Literal:
		return n.Value.Kind() != value.Int && n.Value.Kind() != value.Version
	case *syntax.List:
		return len(n.Items) > 0 && c.standsAlone(n.Items[0])
	}
	return true
}

// relation checks that the operator has a meaning for the two types and
// returns it, or reports an error and returns nil.
func (c *compiler) relation(n *syntax.Compare, l, r *operand) relation {
	bad := func(hint, why string) relation {
		c.failAt(n.At, len(n.Op), hint, "%s", why)
		return nil
	}
	mismatch := func() relation {
		return bad("", n.L.String()+" is "+articled(l.typ)+" but "+n.R.String()+" is "+articled(r.typ))
	}
	clock := l.slope != 0 || r.slope != 0
	switch n.Op {
	case syntax.OpEq, syntax.OpNe:
		if !l.typ.Same(r.typ) {
			return mismatch()
		}
		if l.typ.Kind == value.List || l.typ.Kind == value.Record {
			return bad("use contains, in or a quantifier", "a "+l.typ.String()+" cannot be compared as a whole")
		}
		same := n.Op == syntax.OpEq
		return func(a, b value.Value) Tri { return triOf(a.Equal(b) == same) }
	case syntax.OpLt, syntax.OpLe, syntax.OpGt, syntax.OpGe:
		if !l.typ.Same(r.typ) {
			return mismatch()
		}
		if !l.typ.Ordered() {
			return bad("use == or !=", articled(l.typ)+" has no order")
		}
		accept := signs(n.Op)
		return func(a, b value.Value) Tri { return triOf(accept[a.Compare(b)+1]) }
	case syntax.OpIn, syntax.OpNotIn:
		if clock {
			return bad("", "an age cannot be looked up in a list")
		}
		return negateIf(n.Op == syntax.OpNotIn, membership(l.typ, r.typ, mismatch))
	case syntax.OpHas:
		if l.typ.Kind == value.Text && r.typ.Kind == value.Text {
			return func(a, b value.Value) Tri { return triOf(strings.Contains(a.Str(), b.Str())) }
		}
		rel := membership(r.typ, l.typ, mismatch)
		if rel == nil {
			return nil
		}
		return func(a, b value.Value) Tri { return rel(b, a) }
	case syntax.OpStarts, syntax.OpEnds:
		if l.typ.Kind != value.Text || r.typ.Kind != value.Text {
			return bad("", string(n.Op)+" compares text with text; here "+n.L.String()+" is "+articled(l.typ)+
				" and "+n.R.String()+" is "+articled(r.typ))
		}
		if n.Op == syntax.OpStarts {
			return func(a, b value.Value) Tri { return triOf(strings.HasPrefix(a.Str(), b.Str())) }
		}
		return func(a, b value.Value) Tri { return triOf(strings.HasSuffix(a.Str(), b.Str())) }
	}
	return c.matches(n, l, r)
}

func (c *compiler) matches(n *syntax.Compare, l, r *operand) relation {
	if l.typ.Kind != value.Text || r.typ.Kind != value.Text || !r.konst {
		c.failAt(n.At, len(n.Op), "", "matches compares text with a pattern in quotes")
		return nil
	}
	re, err := regexp.Compile(r.value.Str())
	if err != nil {
		c.fail(n.R, "patterns are RE2", "%s is not a pattern: %v", n.R, err)
		return nil
	}
	return func(a, _ value.Value) Tri { return triOf(re.MatchString(a.Str())) }
}

func negateIf(negate bool, rel relation) relation {
	if !negate || rel == nil {
		return rel
	}
	return func(a, b value.Value) Tri { return -rel(a, b) }
}

// membership is "x in list", "address in network" and "address in networks".
func membership(item, group value.Type, mismatch func() relation) relation {
	address := item.Kind == value.Network || item.Kind == value.Text
	switch {
	case group.Kind == value.Network && address:
		return within
	case group.Kind == value.List && group.Elem.Kind == value.Network && address:
		return func(a, list value.Value) Tri {
			return amongst(list,
				func(m value.Value) Tri { return within(a, m) })
		}
	case group.Kind == value.List && group.Elem.Same(item) && item.Kind != value.List && item.Kind != value.Record:
		return func(a, list value.Value) Tri {
			return amongst(list, func(m value.Value) Tri {
				if !m.Known() {
					return Unknown
				}
				return triOf(a.Equal(m))
			})
		}
	}
	return mismatch()
}

func amongst(list value.Value, test func(value.Value) Tri) Tri {
	result := False
	for _, m := range list.Members() {
		result = max(result, test(m))
		if result == True {
			return True
		}
	}
	for _, m := range list.Perhaps() {
		if test(m) != False {
			return Unknown
		}
	}
	return result
}

// within reports whether an address, or text that holds one, lies in a network.
func within(a, network value.Value) Tri {
	if !network.Known() {
		return Unknown
	}
	if a.Kind() == value.Text {
		parsed, err := value.ParseNetwork(a.Str())
		if err != nil {
			return Unknown
		}
		a = parsed
	}
	outer, inner := network.Prefix(), a.Prefix()
	return triOf(outer.Bits() <= inner.Bits() && outer.Contains(inner.Addr()))
}

// signs tells for which results of Compare (-1, 0, +1) an operator holds.
func signs(op syntax.Op) [3]bool {
	switch op {
	case syntax.OpLt:
		return [3]bool{true, false, false}
	case syntax.OpLe:
		return [3]bool{true, true, false}
	case syntax.OpGt:
		return [3]bool{false, false, true}
	case syntax.OpGe:
		return [3]bool{false, true, true}
	case syntax.OpNe:
		return [3]bool{true, false, true}
	}
	return [3]bool{false, true, false}
}

// constantLast puts the constant of a comparison on its right side.
func constantLast(op syntax.Op, l, r *operand) (syntax.Op, *operand, *operand, bool) {
	if (r.plain || r.slope != 0) && l.konst {
		turned, ok := op.Mirror()
		if !ok || op == syntax.OpIn {
			return op, l, r, false
		}
		l, r, op = r, l, turned
	}
	return op, l, r, r.konst && r.value.Known()
}

// fastEval is the evaluation of a slot against a constant, where that is no
// interval; nil for everything else.
func fastEval(op syntax.Op, l, r *operand) func(*Env) Tri {
	op, l, r, ok := constantLast(op, l, r)
	if !ok || !l.plain {
		return nil
	}
	switch op {
	case syntax.OpEq, syntax.OpNe, syntax.OpLt, syntax.OpLe, syntax.OpGt, syntax.OpGe:
	case syntax.OpIn, syntax.OpNotIn:
		return fastIn(op == syntax.OpNotIn, l, r)
	case syntax.OpStarts, syntax.OpEnds:
		return fastEdge(op == syntax.OpStarts, l, r)
	default:
		return nil
	}
	f, s := l.reads[0].frame, l.reads[0].slot
	accept := signs(op)
	below, equal, above := triOf(accept[0]), triOf(accept[1]), triOf(accept[2])
	switch l.typ.Kind {
	case value.Version:
		return fastVersion(f, s, r.value, below, equal, above)
	case value.Text:
		return fastText(f, s, []value.Value{r.value}, equal, above)
	}
	return nil
}

// fastVersion compares the version of a slot with a constant of which the number
// does not tell all.
func fastVersion(f, s int, constant value.Value, below, equal, above Tri) func(*Env) Tri {
	bound, key := constant.Number(), constant.Str()
	return func(e *Env) Tri {
		cell := e.Frames[f].Cells[s]
		if cell.Until < e.Now {
			return Unknown
		}
		sign := cmp.Compare(cell.Number, bound)
		if sign == 0 {
			sign = cmp.Compare(e.Frames[f].values[s].Str(), key)
		}
		switch sign {
		case -1:
			return below
		case 1:
			return above
		}
		return equal
	}
}

// fastText looks for the text of a slot among constants. Texts whose numbers
// differ differ; of those with the same number the texts themselves tell.
func fastText(f, s int, constants []value.Value, found, missing Tri) func(*Env) Tri {
	numbers := make([]int64, len(constants))
	for i, c := range constants {
		numbers[i] = c.Number()
	}
	return func(e *Env) Tri {
		cell := e.Frames[f].Cells[s]
		if cell.Until < e.Now {
			return Unknown
		}
		for i, n := range numbers {
			if n == cell.Number && constants[i].Str() == e.Frames[f].values[s].Str() {
				return found
			}
		}
		return missing
	}
}

// fastCrossing is crossing for the age or the remaining time of a slot against
// a constant: there is one moment at which the two are equal.
func fastCrossing(op syntax.Op, l, r *operand) func(*Env) int64 {
	if !r.konst || !r.value.Known() || l.slope == 0 || len(l.reads) != 1 {
		return nil
	}
	accept := signs(op)
	before, after := accept[0], accept[2]
	if l.slope < 0 { // what remains falls with time
		before, after = after, before
	}
	f, s, bound := l.reads[0].frame, l.reads[0].slot, l.slope*r.value.Num()
	return func(e *Env) int64 {
		cell := e.Frames[f].Cells[s]
		if cell.Until < e.Now {
			return Always
		}
		at := cell.Number
		equal := at + bound
		switch {
		case (bound > 0) != (equal > at) && bound != 0: // beyond what time can be
			return Always
		case e.Now < equal && before != accept[1]:
			return equal
		case e.Now <= equal && after != accept[1]:
			return equal + 1
		}
		return Always
	}
}

// fastIn looks a slot up in a list of constants: words of an enumeration as
// bits, texts one by one.
func fastIn(negate bool, l, r *operand) func(*Env) Tri {
	if !l.plain || r.typ.Kind != value.List || !r.typ.Elem.Same(l.typ) {
		return nil
	}
	f, s := l.reads[0].frame, l.reads[0].slot
	found, missing := triOf(!negate), triOf(negate)
	switch l.typ.Kind {
	case value.Enum:
		if len(l.typ.Enum.Words) > 64 {
			return nil
		}
		bits := uint64(0)
		for _, m := range r.value.Members() {
			bits |= 1 << m.Num()
		}
		return func(e *Env) Tri {
			cell := e.Frames[f].Cells[s]
			if cell.Until < e.Now {
				return Unknown
			}
			if bits&(1<<cell.Number) != 0 {
				return found
			}
			return missing
		}
	case value.Text:
		return fastText(f, s, r.value.Members(), found, missing)
	}
	return nil
}

// fastEdge tests how the text of a slot begins or ends.
func fastEdge(start bool, l, r *operand) func(*Env) Tri {
	if !l.plain {
		return nil
	}
	f, s, edge := l.reads[0].frame, l.reads[0].slot, r.value.Str()
	low, high, test := int64(math.MinInt64), int64(math.MaxInt64), strings.HasSuffix
	if start {
		test = strings.HasPrefix
		low, high = value.Beginning(edge)
	}
	return func(e *Env) Tri {
		cell := e.Frames[f].Cells[s]
		if cell.Until < e.Now {
			return Unknown
		}
		return triOf(low <= cell.Number && cell.Number <= high && test(e.Frames[f].values[s].Str(), edge))
	}
}

// crossing finds when the passing of time turns a comparison in which an age
// takes part: the difference of the sides moves with slope per microsecond,
// and the comparison can turn only where that difference passes zero.
func crossing(l, r *operand, rel relation) func(*Env) int64 {
	left, right, slope := l.eval, r.eval, l.slope-r.slope
	return func(env *Env) int64 {
		a, b := left(env), right(env)
		if !a.Known() || !b.Known() {
			return Always
		}
		diff := a.Num() - b.Num()
		truth := func(diff int64) Tri { return rel(value.OfInt(diff), value.OfInt(0)) }
		now := truth(diff)
		// The steps until the difference is zero, and until it is past zero.
		steps := -diff / slope
		if -diff%slope != 0 && steps >= 0 && (diff > 0) != (slope > 0) {
			steps++
		}
		for _, d := range []int64{steps, steps + 1} {
			if d > 0 && truth(diff+d*slope) != now && env.Now <= Always-d {
				return env.Now + d
			}
		}
		return Always
	}
}
