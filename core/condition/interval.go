package condition

import (
	"math"

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
