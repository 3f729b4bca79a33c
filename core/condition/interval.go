package condition

import (
	"math"
	"slices"

	"ironledger.example/core/value"
)

// Interval is a condition that asks only whether the number of one slot lies
// between two others, as nearly every leaf does. Whoever evaluates many
// conditions over many frames may do so without calling a function for each.
type Interval struct {
	Slot            int
	Low, High       int64 // both within
	Inside, Outside Tri   // what the condition is then

	frame int
}

// Eval returns the truth of the condition for a frame's cells at now.
func (iv *Interval) Eval(cells []Cell, now int64) Tri {
	c := &cells[iv.Slot]
	if c.Until < now {
		return Unknown
	}
	if iv.Low <= c.Number && c.Number <= iv.High {
		return iv.Inside
	}
	return iv.Outside
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
	n.Inside, n.Outside = -iv.Inside, -iv.Outside
	return &n
}

// leafInterval is a comparison as an interval; nil for what is none.
func leafInterval(op Op, l, r *operand) *Interval {
	op, l, r, ok := constantLast(op, l, r)
	if !ok || !l.plain {
		return nil
	}
	negate := op == OpNe || op == OpNotIn
	low, high, found := int64(0), int64(0), false
	switch {
	case op == OpIn || op == OpNotIn:
		low, high, found = membersRange(l, r)
	case l.typ.Kind != value.Text:
		return intervalOf(op, l, r.value.Num())
	case len(r.value.Str()) > value.Told:
	case op == OpEq || op == OpNe:
		low, high, found = r.value.Number(), r.value.Number(), true
	case op == OpStarts:
		low, high = value.Beginning(r.value.Str())
		found = true
	}
	if !found {
		return nil
	}
	iv := &Interval{Slot: l.reads[0].slot, Low: low, High: high, Inside: True, Outside: False, frame: l.reads[0].frame}
	if negate {
		return iv.not()
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
		switch m.Kind() {
		case value.Text:
			if len(m.Str()) > value.Told {
				return 0, 0, false
			}
		case value.Int, value.Enum, value.Duration, value.Time, value.Bool:
		default:
			return 0, 0, false
		}
		numbers = append(numbers, m.Number())
	}
	slices.Sort(numbers)
	numbers = slices.Compact(numbers)
	low, high = numbers[0], numbers[len(numbers)-1]
	return low, high, high-low == int64(len(numbers)-1)
}

// intervalOf is the comparison of a plain slot with a constant as an interval;
// nil for what has no number, or whose number does not tell all.
func intervalOf(op Op, o *operand, bound int64) *Interval {
	switch o.typ.Kind {
	case value.Int, value.Enum, value.Duration, value.Time, value.Bool:
	default:
		return nil
	}
	iv := &Interval{Slot: o.reads[0].slot, Low: math.MinInt64, High: math.MaxInt64, Inside: True, Outside: False, frame: o.reads[0].frame}
	switch op {
	case OpEq, OpNe:
		iv.Low, iv.High = bound, bound
	case OpLe, OpGt:
		iv.High = bound
	case OpGe, OpLt:
		iv.Low = bound
	default:
		return nil
	}
	if op == OpNe || op == OpGt || op == OpLt {
		return iv.not()
	}
	return iv
}

// pair joins two intervals of one frame by "and" or "or", whichever stop says;
// nil when either is none.
func pair(a, b *Interval, stop Tri) func(*Env) Tri {
	if a == nil || b == nil || a.frame != b.frame {
		return nil
	}
	return func(e *Env) Tri {
		cells := e.Frames[a.frame].Cells
		x := a.Eval(cells, e.Now)
		if x == stop {
			return stop
		}
		if y := b.Eval(cells, e.Now); y == stop || x != Unknown {
			return y
		}
		return Unknown
	}
}

// Interval returns the condition as an interval over the slots of a frame, if
// it is one.
func (p *Program) Interval(frame int) (Interval, bool) {
	if iv := p.root.interval; iv != nil && iv.frame == frame {
		return *iv, true
	}
	return Interval{}, false
}
