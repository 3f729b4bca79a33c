package condition

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/value"
)

// An interval says what the comparison does, at and on both sides of its
// bounds, and not at all when the value is stale.
func TestIntervals(t *testing.T) {
	slot := &operand{typ: value.Of(value.Int), reads: []read{{"n", 0, 0}}}
	for op, holds := range map[syntax.Op]func(n, bound int64) bool{
		syntax.OpEq: func(n, b int64) bool { return n == b }, syntax.OpNe: func(n, b int64) bool { return n != b },
		syntax.OpLt: func(n, b int64) bool { return n < b },
		syntax.OpLe: func(n, b int64) bool { return n <= b }, syntax.OpGt: func(n, b int64) bool { return n > b },
		syntax.OpGe: func(n, b int64) bool { return n >= b },
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
	if intervalOf(syntax.OpHas, slot, 1) != nil {
		t.Error("what compares no numbers is an interval")
	}
}

// Ages, what remains, and whether anything is known, as intervals: at and on both
// sides of the bound, and when the value is stale.
func TestIntervalsOfTime(t *testing.T) {
	b := newBook(t)
	const now, bound = int64(1_000_000_000_000), int64(3 * 86_400_000_000)
	slot, ok := b.Lookup("patched")
	if !ok {
		t.Fatal("no such slot")
	}
	for text, holds := range map[string]func(age int64) bool{
		"age(patched) < 3d":    func(a int64) bool { return a < bound },
		"age(patched) >= 3d":   func(a int64) bool { return a >= bound },
		"age(patched) == 3d":   func(a int64) bool { return a == bound },
		"3d < age(patched)":    func(a int64) bool { return a > bound },
		"until(patched) <= 3d": func(a int64) bool { return -a <= bound },
		"until(patched) > 3d":  func(a int64) bool { return -a > bound },
		"until(patched) != 3d": func(a int64) bool { return -a != bound },
		"known(patched)":       func(int64) bool { return true },
	} {
		p, err := CompileText(text, b)
		if err != nil {
			t.Fatal(err)
		}
		for _, age := range []int64{-bound - 1, -bound, -bound + 1, 0, bound - 1, bound, bound + 1} {
			env := &Env{Now: now}
			env.Frames[0] = NewFrame(len(b.names))
			env.Frames[0].Set(slot.Slot, value.OfTime(now-age), now)
			if got := p.Eval(env); got != triOf(holds(age)) {
				t.Errorf("%s at the age of %d is %s", text, age, got)
			}
			stale := Unknown
			if env.Now++; strings.HasPrefix(text, "known") {
				stale = False
			}
			if got := p.Eval(env); got != stale {
				t.Errorf("%s of what is stale is %s", text, got)
			}
		}
	}
}

// Where the bands of a junction hold it is true; where it is true they hold, but
// for the second part of an "or".
func TestBands(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	truths := []Tri{True, False, Unknown}
	bound := func() int64 { return []int64{math.MinInt64, math.MaxInt64, int64(rng.IntN(9)) - 4}[rng.IntN(3)] }
	interval := func() Interval {
		a, b := bound(), bound()
		iv := Interval{Slot: rng.IntN(2), Clock: int64(rng.IntN(2)), Low: min(a, b), High: max(a, b),
			Inside: truths[rng.IntN(2)], Stale: truths[rng.IntN(3)]}
		iv.Outside = []Tri{-iv.Inside, iv.Inside}[rng.IntN(2)]
		return iv
	}
	told := 0
	for range 20_000 {
		j := Junction{First: interval(), Stop: truths[rng.IntN(2)]}
		for range rng.IntN(3) {
			j.Rest = append(j.Rest, interval())
		}
		bands := j.Bands()
		if bands == nil {
			continue
		}
		told++
		now := int64(5)
		cells := []Cell{{now*int64(rng.IntN(2)) + int64(rng.IntN(11)) - 5, now + int64(rng.IntN(3)) - 1},
			{int64(rng.IntN(11)) - 5, now + int64(rng.IntN(2))}}
		hold := !slices.ContainsFunc(bands, func(b Range) bool { return !b.Holds(cells, now) })
		if got := j.Eval(cells, now); hold && got != True {
			t.Fatalf("%+v is %s with %v at %d, and its bands hold", j, got, cells, now)
		} else if one := cells[0].Until >= now && cells[1].Until >= now &&
			(len(j.Rest) == 0 || j.Stop == False); one && got == True && !hold && !j.everywhere() {
			t.Fatalf("%+v is true with %v at %d, and its bands do not hold", j, cells, now)
		}
	}
	if told < 2000 {
		t.Errorf("only %d junctions had bands", told)
	}
}

// everywhere reports whether a part is true wherever it is not stale.
func (j *Junction) everywhere() bool {
	return slices.ContainsFunc(append([]Interval{j.First}, j.Rest...),
		func(iv Interval) bool { return iv.Inside == True && iv.Outside == True })
}

// Which conditions a loop over a fleet may work out by itself.
func TestWhichConditionsAreJunctions(t *testing.T) {
	b := newBook(t)
	for text, want := range map[string]bool{
		"score <= 30": true, "30 >= score": true, "not score > 30": true, "on": true, "not off": true,
		"threat.level < high": true, "lock == 10m": true, "platform != macos": true,
		"score <= 30 and on": true, "score <= 30 or off or on": true, "not (score <= 30 and on)": false,
		"score <= 30 and (on or off)": false, `on and model matches "x"`: false, "known(score)": true,
		"not known(score)":  true,
		"age(patched) < 3d": true, "3d <= until(patched)": true, "os.version >= 14": true,
		"os.version >= 14.0.0.0.1": false, "os.version == 20260101": false,
		`model == "x"`: true, `model == "longer than a number tells"`: false, `model starts with "GF-"`: true,
		`model starts with "Gullholm"`: false, `model ends with "x"`: false,
		`model in ["x"]`: true, `model not in ["x", "x"]`: true, `model in ["x", "y"]`: false,
		"platform in [macos, linux]": true, "platform not in [linux, windows]": false,
		"score in [3, 1, 2]": true, "score in [1, 3]": false,
	} {
		p, err := CompileText(text, b)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		if _, got := p.Junction(0); got != want {
			t.Errorf("%s is a junction: %t", text, got)
		}
		if _, other := p.Junction(1); other {
			t.Errorf("%s is a junction of another frame", text)
		}
	}
}

func TestWalkSeesEverything(t *testing.T) {
	n, err := syntax.Parse(`not (action == "open" or action in ["read", "write"]) and any v in volumes (v.name == "c")`)
	if err != nil {
		t.Fatal(err)
	}
	if got := len(syntax.Texts(n)); got != 4 {
		t.Errorf("%d texts: %v", got, syntax.Texts(n))
	}
}

// What the numbers of texts are taken to say is what the texts say, at the ends
// of what a number can tell too.
func TestTextsByTheirNumbers(t *testing.T) {
	long := strings.Repeat("x", 300)
	texts := []string{"", "\x00", "\x00\x00", "a", "a\x00", "a\x00\x00", "ab", "abcdef", "abcdefg",
		"abcdefg\x00", "abcdefgh", "abcdefghi", "abcdefh", "\xff", "\xff\xff\xff\xff\xff\xff\xff", "é",
		long[:254], long[:255], long[:256], long}
	slot := &operand{typ: value.Of(value.Text), plain: true, reads: []read{{"model", 0, 0}}}
	for _, fixed := range texts {
		list := constant(value.ListOf(slot.typ), value.OfTexts([]string{fixed, "b"}))
		one := constant(slot.typ, value.OfText(fixed))
		for _, text := range texts {
			f := NewFrame(1)
			f.Set(0, value.OfText(text), 100)
			env := &Env{Now: 100}
			env.Frames[0] = f
			for op, want := range map[syntax.Op]bool{syntax.OpEq: text == fixed, syntax.OpNe: text != fixed,
				syntax.OpStarts: strings.HasPrefix(text, fixed), syntax.OpEnds: strings.HasSuffix(text, fixed),
				syntax.OpIn: text == fixed, syntax.OpNotIn: text != fixed} {
				r := one
				if op == syntax.OpIn || op == syntax.OpNotIn {
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
