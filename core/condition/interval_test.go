package condition

import (
	"math"
	"strings"
	"testing"

	"ironledger.example/core/value"
)

// An interval says what the comparison does, at and on both sides of its
// bounds, and not at all when the value is stale.
func TestIntervals(t *testing.T) {
	slot := &operand{typ: value.Of(value.Int), reads: []read{{"n", 0, 0}}}
	for op, holds := range map[Op]func(n, bound int64) bool{
		OpEq: func(n, b int64) bool { return n == b }, OpNe: func(n, b int64) bool { return n != b }, OpLt: func(n, b int64) bool { return n < b },
		OpLe: func(n, b int64) bool { return n <= b }, OpGt: func(n, b int64) bool { return n > b }, OpGe: func(n, b int64) bool { return n >= b },
	} {
		for _, bound := range []int64{math.MinInt64, -1, 0, 30, math.MaxInt64} {
			iv := intervalOf(op, slot, bound)
			for _, n := range []int64{math.MinInt64, bound - 1, bound, bound + 1, 0, math.MaxInt64} {
				cells := []Cell{{n, 100}}
				if got := iv.Eval(cells, 100); got != triOf(holds(n, bound)) {
					t.Errorf("%d %s %d is %s", n, op, bound, got)
				}
				if got := iv.not().Eval(cells, 100); got != triOf(!holds(n, bound)) {
					t.Errorf("not %d %s %d is %s", n, op, bound, got)
				}
				if got := iv.Eval(cells, 101); got != Unknown {
					t.Errorf("a stale %d %s %d is %s", n, op, bound, got)
				}
			}
		}
	}
	if intervalOf(OpHas, slot, 1) != nil || intervalOf(OpEq, &operand{typ: value.Of(value.Text), reads: slot.reads}, 1) != nil {
		t.Error("what has no number is an interval")
	}
}

// Which conditions a loop over a fleet may work out by itself.
func TestWhichConditionsAreIntervals(t *testing.T) {
	b := newBook(t)
	for text, want := range map[string]bool{
		"score <= 30": true, "30 >= score": true, "not score > 30": true, "on": true, "not off": true, "threat.level < high": true, "lock == 10m": true, "platform != macos": true,
		"score <= 30 and on": false, "known(score)": false, "age(patched) < 3d": false, "os.version >= 14": false,
		`model == "x"`: true, `model == "longer than a number tells"`: false, `model starts with "GF-"`: true, `model starts with "Gullholm"`: false, `model ends with "x"`: false,
		`model in ["x"]`: true, `model not in ["x", "x"]`: true, `model in ["x", "y"]`: false, "platform in [macos, linux]": true, "platform not in [linux, windows]": false, "score in [3, 1, 2]": true, "score in [1, 3]": false,
	} {
		p, err := CompileText(text, b)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		if _, got := p.Interval(0); got != want {
			t.Errorf("%s is an interval: %t", text, got)
		}
		if _, other := p.Interval(1); other {
			t.Errorf("%s is an interval of another frame", text)
		}
	}
}

func TestWalkSeesEverything(t *testing.T) {
	n, err := Parse(`not (action == "open" or action in ["read", "write"]) and any v in volumes (v.name == "c")`)
	if err != nil {
		t.Fatal(err)
	}
	if got := len(Texts(n)); got != 4 {
		t.Errorf("%d texts: %v", got, Texts(n))
	}
}

// What the numbers of texts are taken to say is what the texts say, at the ends
// of what a number can tell too.
func TestTextsByTheirNumbers(t *testing.T) {
	long := strings.Repeat("x", 300)
	texts := []string{"", "\x00", "\x00\x00", "a", "a\x00", "a\x00\x00", "ab", "abcdef", "abcdefg", "abcdefg\x00", "abcdefgh", "abcdefghi", "abcdefh", "\xff", "\xff\xff\xff\xff\xff\xff\xff", "é", long[:254], long[:255], long[:256], long}
	slot := &operand{typ: value.Of(value.Text), plain: true, reads: []read{{"model", 0, 0}}}
	for _, fixed := range texts {
		list := constant(value.ListOf(slot.typ), value.OfTexts([]string{fixed, "b"}))
		one := constant(slot.typ, value.OfText(fixed))
		for _, text := range texts {
			f := NewFrame(1)
			f.Set(0, value.OfText(text), 100)
			env := &Env{Now: 100}
			env.Frames[0] = f
			for op, want := range map[Op]bool{OpEq: text == fixed, OpNe: text != fixed, OpStarts: strings.HasPrefix(text, fixed), OpEnds: strings.HasSuffix(text, fixed), OpIn: text == fixed, OpNotIn: text != fixed} {
				r := one
				if op == OpIn || op == OpNotIn {
					r = list
				}
				eval := fastEval(op, slot, r)
				if iv := leafInterval(op, slot, r); iv != nil {
					eval = iv.eval()
				}
				if got := eval(env); got != triOf(want) {
					t.Errorf("%q %s %q is %s", text, op, fixed, got)
				}
				if env.Now = 101; eval(env) != Unknown {
					t.Errorf("stale, %q %s %q is known", text, op, fixed)
				}
				env.Now = 100
			}
		}
	}
}
