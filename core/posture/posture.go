// Package posture works out how far a device may be trusted: it appraises
// evidence (RFC 9334) against the baselines of a rulebook.
//
// [Compile] prepares a rulebook once. [Program.Appraise] gives the verdict of
// every rule and the level, without allocating; [Program.Next] says when that
// could change by the passing of time alone; [Program.Explain] says why, leaf
// by leaf, and what it takes to reach each higher level. All three take the
// moment as a parameter and give the same answer for the same input.
package posture

import (
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
)

// Verdict is the result of one rule for one device.
type Verdict uint8

// The verdicts. None is the verdict of a rule that does not apply.
const (
	None Verdict = iota
	Pass
	Fail
	Unknown
	Grace  // fails, and is still given time
	Waived // does not pass, and somebody has made an exception for a time
)

var verdictNames = [...]string{"none", "pass", "fail", "unknown", "grace", "waived"}

func (v Verdict) String() string { return verdictNames[v] }

// letters are the verdicts in the order above, one letter each.
const letters = "-pfugw"

// Letters writes verdicts as one letter each: - none, p pass, f fail, u unknown, g grace, w waived.
func Letters(verdicts []Verdict) string {
	out := make([]byte, len(verdicts))
	for i, v := range verdicts {
		out[i] = letters[v]
	}
	return string(out)
}

// ReadLetters reads what [Letters] wrote.
func ReadLetters(text string) ([]Verdict, error) {
	out := make([]Verdict, len(text))
	for i := range len(text) {
		v := strings.IndexByte(letters, text[i])
		if v < 0 {
			return nil, fmt.Errorf("%q is the letter of no verdict", text[i])
		}
		out[i] = Verdict(v)
	}
	return out, nil
}

// MarshalText writes the verdict's word.
func (v Verdict) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// UnmarshalText reads what MarshalText wrote.
func (v *Verdict) UnmarshalText(text []byte) error {
	i := slices.Index(verdictNames[:], string(text))
	if i < 0 {
		return fmt.Errorf("%q is not a verdict", text)
	}
	*v = Verdict(i)
	return nil
}

// rule is a rule of the rulebook with what appraising needs at hand.
type rule struct {
	*rulebook.Rule
	key          string // baseline/rule
	cap, unknown rulebook.Level
	grace        int64
}

type baseline struct {
	*rulebook.Baseline
	applies    func(*condition.Env) condition.Tri
	enforced   bool
	first, end int // its rules in Program.rules
}

// test works out the truth of a check.
type test struct {
	bands    int // how many must hold for it to pass at once; 0: that cannot be seen so
	band     [2]condition.Range
	eval     func(*condition.Env) condition.Tri // nil: there is no check
	plain    bool                               // junction says it all
	junction condition.Junction
}

func newTest(c *condition.Program) test {
	j, plain := c.Junction(evidence.DeviceFrame)
	t := test{eval: c.Func(), plain: plain, junction: j}
	if plain {
		if bands := j.Bands(); len(bands) <= len(t.band) {
			t.bands = copy(t.band[:], bands)
		}
	}
	return t
}

// Program is a rulebook prepared for appraising. It is immutable.
type Program struct {
	rb        *rulebook.Rulebook
	baselines []baseline // drafts left out
	rules     []rule
	platform  int // slot
	// checks has, for an unknown platform and then for each platform, the check
	// of each rule, nil where it has none; evals has their functions.
	checks [][]*condition.Program
	evals  [][]test
	// asks has, for the same platforms, whether any rule of each baseline has a
	// check: one that asks nothing of a device does not cover it.
	asks [][]bool
	// turns has, for the same platforms, when an age or a remaining time in any
	// check or scope crosses its bound.
	turns [][]func(*condition.Env) int64
}

// Compile prepares the baselines of a rulebook.
func Compile(rb *rulebook.Rulebook) *Program {
	p := &Program{rb: rb, platform: rb.Dict.Slot("platform")}
	for i := range rb.Baselines {
		b := &rb.Baselines[i]
		if b.Mode == rulebook.Draft {
			continue
		}
		first := len(p.rules)
		for j := range b.Rules {
			r := &b.Rules[j]
			p.rules = append(p.rules, rule{r, b.ID + "/" + r.ID, r.Cap, r.Unknown, r.Grace})
		}
		p.baselines = append(p.baselines, baseline{b, b.Applies.Func(), b.Mode == rulebook.Enforce, first,
			len(p.rules)})
	}
	for _, platform := range platforms() {
		checks := make([]*condition.Program, len(p.rules))
		evals := make([]test, len(p.rules))
		for i := range p.rules {
			if c := p.rules[i].Check(platform); c != nil {
				checks[i], evals[i] = c, newTest(c)
			}
		}
		p.checks, p.evals = append(p.checks, checks), append(p.evals, evals)
		asks := make([]bool, len(p.baselines))
		for i, b := range p.baselines {
			asks[i] = slices.ContainsFunc(checks[b.first:b.end],
				func(c *condition.Program) bool { return c != nil })
		}
		p.asks = append(p.asks, asks)
	}
	p.turns, _, _ = p.reading(func(int) bool { return true })
	return p
}

// platforms are "" for an unknown platform, and every platform.
func platforms() []string { return append([]string{""}, evidence.Platforms()...) }

// reading tells of the scopes and of some of the rules when an age or a
// remaining time in them crosses its bound, by platform, which slots they read,
// and of which they look at the values too.
func (p *Program) reading(some func(rule int) bool) (turns [][]func(*condition.Env) int64, hot, open []int) {
	slots := func(into []int, names []string) []int {
		for _, name := range names {
			if slot := p.rb.Dict.Slot(name); slot >= 0 && !slices.Contains(into, slot) {
				into = append(into, slot)
			}
		}
		return into
	}
	read := func(c *condition.Program) { hot, open = slots(hot, c.Reads()), slots(open, c.Opens()) }
	for n := range platforms() {
		list := []func(*condition.Env) int64{}
		for _, b := range p.baselines {
			list = append(list, b.Applies.Turns()...)
			read(b.Applies)
		}
		for i, c := range p.checks[n] {
			if c != nil && some(i) {
				list = append(list, c.Turns()...)
				read(c)
			}
		}
		turns = append(turns, list)
	}
	slices.Sort(hot)
	return turns, hot, open
}

// check returns the check of rule i for a platform by its place among the
// words, -1 for an unknown platform.
func (p *Program) check(i, platform int) *condition.Program { return p.checks[platform+1][i] }

// Rulebook returns the rulebook the program was compiled from.
func (p *Program) Rulebook() *rulebook.Rulebook { return p.rb }

// RuleKeys lists "baseline/rule" for every rule, in the order of verdicts.
func (p *Program) RuleKeys() []string {
	keys := make([]string, len(p.rules))
	for i := range p.rules {
		keys[i] = p.rules[i].key
	}
	return keys
}

// Title returns the title of rule i, in the order of RuleKeys.
func (p *Program) Title(i int) string { return p.rules[i].Title }

// Grace returns the grace of rule i, in microseconds.
func (p *Program) Grace(i int) int64 { return p.rules[i].grace }

// InShadow reports whether rule i belongs to a baseline that has no effect yet.
func (p *Program) InShadow(i int) bool {
	return slices.ContainsFunc(p.baselines,
		func(b baseline) bool { return !b.enforced && b.first <= i && i < b.end })
}

// Result is the outcome of an appraisal. Its slices are reused when it is
// passed to Appraise again.
type Result struct {
	Level  rulebook.Level
	Shadow rulebook.Level // the level if shadow baselines were enforced
	// Covered is whether an enforced baseline applies for certain and has a check
	// for the device. Doubt brings caps, and never lifts.
	Covered bool
	// Outsider, passed in, says that the device is not one of ours: it was retired,
	// or its enrolment is held or refused. It stands no higher than what no baseline
	// covers.
	Outsider bool
	// Quarantined, passed in, is until when a person's own order holds the device at the lowest level, in
	// microseconds since the Unix epoch; 0 for no such order.
	Quarantined int64
	// Verdicts has one verdict a rule, in the order of RuleKeys.
	Verdicts []Verdict
	// Since is when each rule began to fail, in microseconds since the Unix
	// epoch, 0 for one that does not; nil when none does. Passed in, it is what was remembered;
	// afterwards it is what to remember.
	Since []int64
	// Waived is until when a waiver for each rule lives, in microseconds since the
	// Unix epoch, 0 for none; nil: there are no waivers.
	Waived []int64
	// NoGrace makes a failing rule count from the first moment.
	NoGrace bool

	held bool    // a grace or a waiver keeps a verdict from counting
	room []int64 // for Since
}

// Recall makes a copy of since what is remembered.
func (r *Result) Recall(since []int64) {
	if r.Since = nil; len(since) > 0 {
		r.room = append(r.room[:0], since...)
		r.Since = r.room
	}
}

// Remembers reports whether there is anything in Since.
func (r *Result) Remembers() bool {
	return slices.ContainsFunc(r.Since, func(at int64) bool { return at != 0 })
}

// reset makes room for n rules and keeps what Since remembers.
func (r *Result) reset(n int) {
	if cap(r.Verdicts) < n {
		r.Verdicts = make([]Verdict, n)
	}
	r.Verdicts = r.Verdicts[:n]
	if len(r.Since) != n {
		r.Since = nil
	}
}

// failsSince remembers when rule i of n began to fail.
func (r *Result) failsSince(i, n int, at int64) {
	if r.Since == nil {
		r.room = slices.Grow(r.room[:0], n)[:n]
		clear(r.room)
		r.Since = r.room
	}
	if r.Since[i] == 0 {
		r.Since[i] = at
	}
}

// Appraise evaluates every rule that applies to the device whose attributes
// are in the first frame of env, at env.Now, and writes the outcome to r.
func (p *Program) Appraise(env *condition.Env, r *Result) { p.appraise(env, r, nil, nil) }

// appraise does the work of Appraise. Where from, by rule, gives a place in
// verdicts that were worked out before, their truth is taken and not worked out
// again.
func (p *Program) appraise(env *condition.Env, r *Result, from []int, verdicts []Verdict) {
	r.reset(len(p.rules))
	r.held = false
	platform := p.platformOf(env)
	real, shadow := p.rb.Top(), p.rb.Top()
	covered, shadowed := false, false
	asks := p.asks[platform+1]
	for bi := range p.baselines {
		b := &p.baselines[bi]
		applies := b.applies(env)
		if applies == condition.False {
			clear(r.Verdicts[b.first:b.end])
			continue
		}
		if applies == condition.True && asks[bi] {
			covered, shadowed = covered || b.enforced, true
		}
		at := p.rulesOf(b, env, r, platform, from, verdicts)
		shadow = min(shadow, at)
		if b.enforced {
			real = min(real, at)
		}
	}
	r.Covered = covered
	r.Level, r.Shadow = min(real, p.ceiling(covered, r)), min(shadow, p.ceiling(shadowed, r))
	if r.quarantined(env.Now) {
		r.Level, r.Shadow = 0, 0
	}
}

// rulesOf works out the verdicts of one baseline that may apply, and returns how far they let
// the device stand.
func (p *Program) rulesOf(b *baseline, env *condition.Env, r *Result, platform int, from []int,
	verdicts []Verdict) rulebook.Level {
	cells, now, since := env.Frames[evidence.DeviceFrame].Cells, env.Now, r.Since
	at := p.rb.Top()
	evals := p.evals[platform+1][b.first:b.end]
	out := r.Verdicts[b.first:b.end][:len(evals)]
	for i := range evals {
		t := &evals[i]
		truth, told := condition.Unknown, false
		passes := false // at a glance
		if from != nil && from[b.first+i] >= 0 {
			was := verdicts[from[b.first+i]]
			if passes = was == Pass; !passes {
				truth, told = truthOf(was)
			}
		} else {
			passes = t.bands > 0 && t.band[0].Holds(cells, now) && (t.bands == 1 || t.band[1].Holds(cells, now))
		}
		if passes {
			if out[i] = Pass; since != nil {
				since[b.first+i] = 0
			}
			continue
		}
		switch {
		case t.eval == nil:
			at = min(at, p.without(env, r, b.first+i, platform))
			since = r.Since
			continue
		case told:
		case t.plain:
			truth = t.junction.After(t.junction.First.Eval(cells, now), cells, now)
		default:
			truth = t.eval(env)
		}
		if truth != condition.True {
			at = min(at, p.judge(env, r, b.first+i, truth))
			since = r.Since
		} else if out[i] = Pass; since != nil {
			since[b.first+i] = 0
		}
	}
	return at
}

// quarantined reports whether a person's order holds the device at a moment.
func (r *Result) quarantined(now int64) bool { return now < r.Quarantined }

// ceiling is the highest level that a device can stand at, whatever it shows.
func (p *Program) ceiling(covered bool, r *Result) rulebook.Level {
	if covered && !r.Outsider {
		return p.rb.Top()
	}
	return p.rb.Uncovered
}

func (p *Program) platformOf(env *condition.Env) int {
	cell := env.Frames[evidence.DeviceFrame].Cells[p.platform]
	if cell.Until < env.Now {
		return -1
	}
	return int(cell.Number)
}

// without gives rule i, which has no check for the platform, its verdict: on
// an unknown platform it may have had one, and is unknown.
func (p *Program) without(env *condition.Env, r *Result, i, platform int) rulebook.Level {
	if platform < 0 {
		return p.judge(env, r, i, condition.Unknown)
	}
	r.Verdicts[i] = None
	return p.rb.Top()
}

// judge gives rule i, which does not pass, its verdict and returns the level
// it holds the device at.
func (p *Program) judge(env *condition.Env, r *Result, i int, truth condition.Tri) rulebook.Level {
	rl := &p.rules[i]
	if truth == condition.False {
		r.failsSince(i, len(p.rules), env.Now)
	}
	if r.Waived != nil && env.Now < r.Waived[i] {
		r.Verdicts[i], r.held = Waived, true
		return p.rb.Top()
	}
	if truth == condition.Unknown {
		r.Verdicts[i] = Unknown
		return rl.unknown
	}
	if rl.grace > 0 && !r.NoGrace && env.Now < r.Since[i]+rl.grace {
		r.Verdicts[i], r.held = Grace, true
		return p.rb.Top()
	}
	r.Verdicts[i] = Fail
	return rl.cap
}

// maxSteps bounds how many moments Next tries one after another.
const maxSteps = 64

// Next returns the first moment after env.Now at which a verdict of r differs
// without new evidence; [condition.Always] for never. It is exact for the view
// in env: each moment at which a part of a condition could turn is tried. After
// many that change nothing, the next one to try is returned.
func (p *Program) Next(env *condition.Env, r *Result) int64 {
	now := env.Now
	defer func() { env.Now = now }()
	then := Result{Waived: r.Waived, NoGrace: r.NoGrace, Outsider: r.Outsider}
	lifted := condition.Always // when the level may rise with no verdict that differs
	if r.quarantined(now) {
		lifted = r.Quarantined
	}
	at := p.candidate(env, r)
	for range maxSteps {
		if at == condition.Always {
			break
		}
		env.Now = at
		then.Recall(r.Since)
		if p.Appraise(env, &then); !slices.Equal(then.Verdicts, r.Verdicts) {
			break
		}
		at = p.candidate(env, &then)
	}
	return min(at, lifted)
}

// candidate is the first moment after env.Now at which a verdict could differ.
func (p *Program) candidate(env *condition.Env, r *Result) int64 {
	next, platform := condition.Always, p.platformOf(env)
	for bi := range p.baselines {
		b := &p.baselines[bi]
		next = min(next, b.Applies.Next(env))
		for i := b.first; i < b.end; i++ {
			if r.Verdicts[i] == None {
				continue
			}
			if check := p.check(i, platform); check != nil {
				next = min(next, check.Next(env))
			}
			switch r.Verdicts[i] {
			case Grace:
				next = min(next, r.Since[i]+p.rules[i].Grace)
			case Waived:
				next = min(next, r.Waived[i])
			}
		}
	}
	return next
}

// Wake returns a moment up to which no verdict of r can differ without new
// evidence. It is never later than Next and far cheaper to find; view is the
// evidence in env.
func (p *Program) Wake(env *condition.Env, view *evidence.View, r *Result) int64 {
	return p.wake(env, r, p.turns, view.Stale(env.Now))
}

func (p *Program) wake(env *condition.Env, r *Result, turns [][]func(*condition.Env) int64, wake int64) int64 {
	for _, turn := range turns[p.platformOf(env)+1] {
		wake = min(wake, turn(env))
	}
	if r.quarantined(env.Now) {
		wake = min(wake, r.Quarantined)
	}
	if !r.held {
		return wake
	}
	for i, v := range r.Verdicts {
		switch v {
		case Grace:
			wake = min(wake, r.Since[i]+p.rules[i].grace)
		case Waived:
			wake = min(wake, r.Waived[i])
		}
	}
	return wake
}

// holds returns the level at which rule i holds a device with verdict v.
func (p *Program) holds(i int, v Verdict) rulebook.Level {
	switch v {
	case Fail:
		return p.rules[i].Cap
	case Unknown:
		return p.rules[i].Unknown
	}
	return p.rb.Top()
}
