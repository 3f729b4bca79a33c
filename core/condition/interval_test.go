package condition

import (
	"math"
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
		"score <= 30 and on": false, "known(score)": false, "age(patched) < 3d": false, "os.version >= 14": false, "model == \"x\"": false, "platform in [macos, linux]": false,
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
