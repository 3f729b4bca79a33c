package condition

import (
	"math"
	"slices"

	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/value"
)

// Interval is a condition that asks only whether the number of one slot lies
// between two others, as nearly every leaf does. Whoever evaluates many
// conditions over many frames may do so without calling a function for each.
type Interval struct {
	Slot                   int
	Clock                  int64 // 1 when the number is taken from now on, 0 as it is
	Low, High              int64 // both within
	Inside, Outside, Stale Tri   // what the condition is then

	frame int
}

// Eval returns the truth of the condition for a frame's cells at now.
func (iv *Interval) Eval(cells []Cell, now int64) Tri {
	c := &cells[iv.Slot]
	n := c.Number - iv.Clock*now
	switch {
	case c.Until < now:
		return iv.Stale
	case iv.Low <= n && n <= iv.High:
		return iv.Inside
	}
	return iv.Outside
}

// Range is the numbers for which a condition is true for sure.
type Range struct {
	Slot  int
	Clock int64 // as in an Interval
	Low   int64
	Span  uint64 // how far above Low they reach
}

// Holds reports whether the number of the slot is within the band, and fresh.
func (b *Range) Holds(cells []Cell, now int64) bool {
	c := &cells[b.Slot]
	return c.Until >= now && uint64(c.Number-b.Clock*now-b.Low) <= b.Span
}

// band is where the interval is true, if that is one band.
func (iv *Interval) band() (Range, bool) {
	low, high := iv.Low, iv.High
	switch {
	case iv.Inside == True:
	case iv.Outside != True:
		return Range{}, false
	case low == math.MinInt64 && high < math.MaxInt64:
		low, high = high+1, math.MaxInt64
	case high == math.MaxInt64 && low > math.MinInt64:
		low, high = math.MinInt64, low-1
	default:
		return Range{}, false
	}
	return Range{iv.Slot, iv.Clock, low, uint64(high - low)}, low <= high
}

// Junction is intervals over one frame, joined by "and" or by "or": nearly every
// condition is one.
type Junction struct {
	First Interval
	Rest  []Interval
	Stop  Tri // what settles the whole when one of them is it: False for and, True for or
}

// Eval returns the truth of the condition for a frame's cells at now.
func (j *Junction) Eval(cells []Cell, now int64) Tri {
	return j.After(j.First.Eval(cells, now), cells, now)
}

// After goes on from what First came to: it and First are small enough for
// the compiler to take them into a loop over a fleet.
func (j *Junction) After(first Tri, cells []Cell, now int64) Tri {
	if len(j.Rest) == 0 || first == j.Stop {
		return first
	}
	return j.rest(first, cells, now)
}

// Bands returns bands that make the condition true when all of them hold; nil
// when there are none. Most devices pass most rules, and this is the quickest
// way to see that they do.
func (j *Junction) Bands() []Range {
	first, ok := j.First.band()
	switch {
	case !ok:
		return nil
	case len(j.Rest) == 0 || j.Stop == True: // alone, or one is enough
		return []Range{first}
	}
	all := []Range{first}
	for i := range j.Rest {
		b, ok := j.Rest[i].band()
		if !ok {
			return nil
		}
		all = append(all, b)
	}
	return all
}

func (j *Junction) rest(t Tri, cells []Cell, now int64) Tri {
	for i := 0; i < len(j.Rest) && t != j.Stop; i++ {
		if x := j.Rest[i].Eval(cells, now); x != -j.Stop {
			t = x
		}
	}
	return t
}

// junction is the condition as one; nil when it is none.
func (e *expr) junction() *Junction {
	if e.interval != nil {
		return &Junction{First: *e.interval}
	}
	j := &Junction{Stop: True}
	switch e.kind {
	case andExpr:
		j.Stop = False
	case orExpr:
	default:
		return nil
	}
	for i, k := range e.kids {
		switch iv := k.interval; {
		case iv == nil || iv.frame != e.kids[0].interval.frame:
			return nil
		case i == 0:
			j.First = *iv
		default:
			j.Rest = append(j.Rest, *iv)
		}
	}
	return j
}

func (j *Junction) eval() func(*Env) Tri {
	frame := j.First.frame
	return func(e *Env) Tri { return j.Eval(e.Frames[frame].Cells, e.Now) }
}

// Junction returns the condition as one over the slots of a frame, if it is that.
func (p *Program) Junction(frame int) (Junction, bool) {
	if j := p.root.junction(); j != nil && j.First.frame == frame {
		return *j, true
	}
	return Junction{}, false
}

func (iv *Interval) eval() func(*Env) Tri {
	return func(e *Env) Tri { return iv.Eval(e.Frames[iv.frame].Cells, e.Now) }
}

// not returns the interval that is true where iv is false.
func (iv *Interval) not() *Interval {
	if iv == nil {
		return nil
	}
	n := *iv
	n.Inside, n.Outside, n.Stale = -iv.Inside, -iv.Outside, -iv.Stale
	return &n
}

// leafInterval is a comparison as an interval; nil for what is none.
func leafInterval(op syntax.Op, l, r *operand) *Interval {
	op, l, r, ok := constantLast(op, l, r)
	switch {
	case !ok:
		return nil
	case l.slope != 0:
		return clockInterval(op, l, r.value.Num())
	case !l.plain:
		return nil
	}
	negate := op == syntax.OpNe || op == syntax.OpNotIn
	low, high, found := int64(0), int64(0), false
	switch {
	case op == syntax.OpIn || op == syntax.OpNotIn:
		low, high, found = membersRange(l, r)
	case !r.value.Exact():
	case l.typ.Kind != value.Text:
		return intervalOf(op, l, r.value.Number())
	case op == syntax.OpEq || op == syntax.OpNe:
		low, high, found = r.value.Number(), r.value.Number(), true
	case op == syntax.OpStarts:
		low, high = value.Beginning(r.value.Str())
		found = true
	}
	if !found {
		return nil
	}
	iv := &Interval{Slot: l.reads[0].slot, Low: low, High: high, Inside: True, Outside: False,
		frame: l.reads[0].frame}
	if negate {
		return iv.not()
	}
	return iv
}

// clockInterval is the comparison of the age or the remaining time of a slot with
// a constant. The number is taken from now on: what remains, or less than nothing
// for an age.
func clockInterval(op syntax.Op, l *operand, bound int64) *Interval {
	if len(l.reads) != 1 { // a time of a quantifier's variable
		return nil
	}
	if l.slope > 0 {
		op, _ = op.Mirror() // it is one of those that have one
		bound = -bound
	}
	iv := intervalOf(op, l, bound)
	if iv != nil {
		iv.Clock = 1
	}
	return iv
}

// membersRange returns between which numbers the members of a list of constants
// lie, if no other value that the slot l can have does.
func membersRange(l, r *operand) (low, high int64, ok bool) {
	if r.typ.Kind != value.List || !r.typ.Elem.Same(l.typ) || len(r.value.Members()) == 0 {
		return 0, 0, false
	}
	numbers := make([]int64, 0, len(r.value.Members()))
	for _, m := range r.value.Members() {
		if !m.Exact() {
			return 0, 0, false
		}
		numbers = append(numbers, m.Number())
	}
	slices.Sort(numbers)
	numbers = slices.Compact(numbers)
	low, high = numbers[0], numbers[len(numbers)-1]
	return low, high, high-low == int64(len(numbers)-1)
}

// intervalOf is the comparison of a plain slot with the number of a constant as
// an interval; nil for what is no comparison of numbers.
func intervalOf(op syntax.Op, o *operand, bound int64) *Interval {
	iv := &Interval{Slot: o.reads[0].slot, Low: math.MinInt64, High: math.MaxInt64, Inside: True,
		Outside: False, frame: o.reads[0].frame}
	switch op {
	case syntax.OpEq, syntax.OpNe:
		iv.Low, iv.High = bound, bound
	case syntax.OpLe, syntax.OpGt:
		iv.High = bound
	case syntax.OpGe, syntax.OpLt:
		iv.Low = bound
	default:
		return nil
	}
	if op == syntax.OpNe || op == syntax.OpGt || op == syntax.OpLt {
		return iv.not()
	}
	return iv
}
