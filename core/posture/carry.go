package posture

import (
	"maps"

	"ironledger.example/core/condition"
)

// Carry says what a program can take over from an appraisal by another: the
// truth of the checks that both have. Evidence must mean the same to both, and
// the appraisal must still hold at the moment of the new one.
type Carry struct {
	from  []int // by rule: its place in the other program, -1 when the check is new
	turns [][]func(*condition.Env) int64
	hot   []int
}

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
	c.turns, c.hot = p.reading(func(i int) bool { return c.from[i] < 0 })
	return c
}

// Warm touches the values of a device's slots that an appraisal with the carry
// reads, one after another and none waiting for the one before, so that they
// come from memory together. It returns a number that means nothing.
func (c *Carry) Warm(slots []condition.Slot) int64 {
	sum := int64(0)
	for _, i := range c.hot {
		s := &slots[i]
		_, text := s.Value.Peek()
		if sum += s.Until; text != "" {
			sum += int64(text[0])
		}
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
