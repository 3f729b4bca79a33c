package posture

import (
	"maps"
	"slices"
	"unsafe"

	"ironledger.example/core/condition"
)

// Carry says what a program can take over from an appraisal by another: the
// truth of the checks that both have. Evidence must mean the same to both, and
// the appraisal must still hold at the moment of the new one.
type Carry struct {
	from  []int // by rule: its place in the other program, -1 when the check is new; nil: all are
	turns [][]func(*condition.Env) int64
	hot   []int // slots whose cells are read, one of each line of memory
	open  []int // slots whose values are read too
}

// cellsPerLine is how many cells come from memory together.
const cellsPerLine = 64 / int(unsafe.Sizeof(condition.Cell{}))

// Carry compares the rules of p with those of another program.
func (p *Program) Carry(old *Program) *Carry {
	c := &Carry{from: make([]int, len(p.rules))}
	places := map[string]int{}
	for i := range old.rules {
		places[old.rules[i].key] = i
	}
	same := func(a, b *condition.Program) bool { return a.String() == b.String() }
	for i := range p.rules {
		j, ok := places[p.rules[i].key]
		if c.from[i] = -1; ok && maps.EqualFunc(p.rules[i].Checks, old.rules[j].Checks, same) {
			c.from[i] = j
		}
	}
	if !slices.ContainsFunc(c.from, func(j int) bool { return j >= 0 }) {
		c.from = nil
	}
	turns, reads, open := p.reading(func(i int) bool { return c.from == nil || c.from[i] < 0 })
	c.turns, c.open = turns, open
	for _, slot := range reads {
		if n := len(c.hot); n == 0 || slot/cellsPerLine > c.hot[n-1]/cellsPerLine {
			c.hot = append(c.hot, slot)
		}
	}
	return c
}

// Warm touches what of a device's evidence an appraisal with the carry
// reads, piece after piece and none waiting for the one before, so that all come
// from memory together. It returns a number that means nothing.
func (c *Carry) Warm(f condition.Frame) int64 {
	sum := int64(0)
	for _, i := range c.hot {
		sum += f.Cells[i].Until
	}
	for _, i := range c.open {
		sum += int64(f.Value(i).Kind())
	}
	return sum
}

// AppraiseFrom does what Appraise does, and takes from the verdicts of the
// other program, given in its order, what the carry allows.
func (p *Program) AppraiseFrom(env *condition.Env, r *Result, c *Carry, verdicts []Verdict) {
	p.appraise(env, r, c.from, verdicts)
}

// WakeFrom does what Wake does; was is the wake of the other appraisal.
func (p *Program) WakeFrom(env *condition.Env, r *Result, c *Carry, was int64) int64 {
	return p.wake(env, r, c.turns, was)
}

// truthOf is the truth of a check by its verdict, if the verdict tells.
func truthOf(v Verdict) (condition.Tri, bool) {
	switch v {
	case Pass:
		return condition.True, true
	case Fail, Grace:
		return condition.False, true
	case Unknown:
		return condition.Unknown, true
	}
	return condition.Unknown, false // waived, or it did not apply
}
