package condition

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/value"
)

// book is a dictionary for tests; a name that starts with "no." is declared
// but has no value.
type book struct {
	names []string
	types map[string]value.Type
	env   *Env
}

func (b *book) Lookup(name string) (Name, bool) {
	t, ok := b.types[name]
	return Name{Type: t, Slot: slices.Index(b.names, name)}, ok
}

func (b *book) Names() []string { return slices.Clone(b.names) }

func (b *book) Origin(_, slot int) Origin {
	if !b.env.Frames[0].Value(slot).Known() {
		return Origin{Why: "never reported"}
	}
	return Origin{Source: "agent", At: b.env.Now - 60_000_000}
}

const day = int64(86_400_000_000)

var now = mustMicros("2026-11-20T08:00:00Z")

func mustMicros(s string) int64 {
	v, err := value.ParseTime(s)
	if err != nil {
		panic(err)
	}
	return v.Num()
}

func newBook(t *testing.T) *book {
	t.Helper()
	b := &book{types: map[string]value.Type{}, env: &Env{Now: now}}
	threat := value.Words("threat.level", true, "none", "low", "medium", "high")
	volume := &value.RecordType{Name: "volume", Fields: []value.Field{
		{Name: "name", Type: value.Of(value.Text)}, {Name: "system", Type: value.Of(value.Bool)},
		{Name: "encrypted", Type: value.Of(value.Bool)}, {Name: "ends", Type: value.Of(value.Time)}}}
	add := func(name string, typ value.Type, v value.Value) {
		b.names = append(b.names, name)
		b.types[name] = typ
		f := &b.env.Frames[0]
		f.Cells, f.values = append(f.Cells, Cell{}), append(f.values, new(value.Value))
		f.Set(len(f.Cells)-1, v, Always)
	}
	parse := func(typ value.Type, s string) value.Value {
		v, err := value.Parse(typ, s)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	for _, plain := range []struct {
		name string
		typ  value.Type
		text string
	}{
		{"on", value.Of(value.Bool), "true"}, {"off", value.Of(value.Bool), "false"},
		{"score", value.Of(value.Int), "30"},
		{"model", value.Of(value.Text), "Skerry 14"},
		{"platform", value.Words("platform", false, "windows", "macos", "linux"), "macos"},
		{"threat.level", threat, "low"}, {"os.version", value.Of(value.Version), "14.6.1"},
		{"lock", value.Of(value.Duration), "10m"},
		{"patched", value.Of(value.Time), "2026-11-10T08:00:00Z"}, {"ip", value.Of(value.Network), "10.20.3.4"},
	} {
		add(plain.name, plain.typ, parse(plain.typ, plain.text))
		add("no."+plain.name, plain.typ, value.Value{})
	}
	vol := func(name string, system, encrypted value.Value, ends string) value.Value {
		return value.OfRecord(volume, []value.Value{value.OfText(name), system, encrypted,
			parse(value.Of(value.Time), ends)})
	}
	yes, no := value.OfBool(true), value.OfBool(false)
	add("volumes", value.ListOf(value.Type{Kind: value.Record, Record: volume}), value.OfList([]value.Value{
		vol("root", yes, yes, "2026-12-01"), vol("scratch", no, no, "2026-11-25"),
		vol("key", no, value.Value{}, "2026-11-22")}))
	add("no.volumes", b.types["volumes"], value.Value{})
	add("groups", value.ListOf(value.Of(value.Text)), value.OfTexts([]string{"finance", "office"}))
	add("no.groups", b.types["groups"], value.Value{})
	add("empty", value.ListOf(value.Of(value.Text)), value.OfTexts(nil))
	add("addresses", value.ListOf(value.Of(value.Text)), value.OfTexts([]string{"10.20.0.9", "fe80::1"}))
	return b
}

func TestEveryOperatorHasThreeValues(t *testing.T) {
	b := newBook(t)
	cases := map[Tri][]string{
		True: {
			"on", "not off", "true", "on == true", "score == 30", "score != 31", "score < 31", "score <= 30",
			"score > 29", "score >= 30",
			"30 <= score", "platform == macos", "macos == platform", "platform in [macos, linux]",
			"platform not in [windows]",
			"threat.level < medium", "threat.level >= low", "os.version == 14.6.1", "os.version >= 14",
			"os.version < 14.10", "os.version >= 14.6.1.0",
			"lock <= 15m", "lock == 600s", "patched < 2026-11-11", "patched >= 2026-11-10T08:00:00Z",
			"age(patched) == 10d", "age(patched) > 1w",
			"until(patched) < 0s", "ip in 10.0.0.0/8", "ip in [192.168.0.0/16, 10.20.0.0/16]",
			"ip == 10.20.3.4", "10.20.0.0/16 contains ip",
			`"office" in groups`, `groups contains "office"`, `model contains "erry"`,
			`model starts with "Sk"`, `model ends with "14"`,
			`model matches "^S.*[0-9]+$"`, `model not in ["Holm", "Fjord"]`, "known(on)", "not known(no.on)",
			"known(ip)",
			"any v in volumes (v.encrypted)", "not all v in volumes (v.encrypted)",
			"all v in volumes (known(v.name))", `none v in volumes (v.name == "ghost")`,
			"any g in groups (g == \"office\")", "all g in empty (false)", "none g in empty (true)",
			"count v in volumes == 3", "count v in volumes (v.system) == 1",
			"any a in addresses (a in 10.0.0.0/8)", "any a in addresses (a in fe80::/10)", "on or no.on",
			"no.on or on", "not (off and no.on)",
			"any v in volumes (v.system and any w in volumes (w.name != v.name))", "(score > 3) == true",
			"[30, 31] contains score", "score in [no.score, 30]",
		},
		False: {
			"off", "not on", "score == 31", "score > 30", "platform == linux", "platform != macos",
			"threat.level > low", "os.version > 14.6.1",
			"lock > 10m", "age(patched) > 10d", "until(patched) > 1d", "ip in 192.168.0.0/16",
			"ip not in 10.0.0.0/8", `"crew" in groups`, `model contains "x"`,
			`model matches "^[0-9]"`, "known(no.score)", "any g in empty (true)",
			"all v in volumes (v.system)", "none v in volumes (v.system)",
			"off and no.on", "no.on and off", "not (on or no.on)", "known(no.volumes)", "count g in empty > 0",
		},
		Unknown: {
			"no.on", "not no.on", "no.score == 30", "no.score != 30", "no.platform in [macos]",
			"no.platform not in [macos]", "no.threat.level >= low",
			"no.os.version >= 14", "no.lock < 3m", "no.patched < 2026-01-01", "age(no.patched) < 3d",
			"until(no.patched) > 3d", "no.ip in 10.0.0.0/8",
			`no.groups contains "x"`, `no.model starts with "S"`, `no.model matches "S"`,
			"any v in no.volumes (v.system)", "all v in no.volumes (true)",
			"count v in no.volumes > 0", "count v in volumes (v.encrypted) > 0",
			"none v in volumes (v.name == \"key\" and v.encrypted)",
			"on and no.on", "no.on or off", "no.on == true", "score in [no.score, 31]", "score == no.score",
			"all v in volumes (v.encrypted or v.name == \"scratch\")",
			"any a in groups (a in 10.0.0.0/8)",
		},
	}
	for want, texts := range cases {
		for _, text := range texts {
			p, err := CompileText(text, b)
			if err != nil {
				t.Errorf("%s: %v", text, err)
				continue
			}
			if got := p.Eval(b.env); got != want {
				t.Errorf("%s is %v, want %v", text, got, want)
			}
			if got, _ := p.root.next(b.env); got != want {
				t.Errorf("%s: the walk for the next change sees %v, want %v", text, got, want)
			}
			if got, leaves := p.Explain(b.env, b); got != want || len(leaves) == 0 && text != "true" {
				t.Errorf("%s is explained as %v with %d leaves, want %v", text, got, len(leaves), want)
			}
			if allocs := testing.AllocsPerRun(10, func() { p.Eval(b.env) }); allocs > 0 &&
				!strings.Contains(text, "[no.") && !strings.Contains(text, " a in ") &&
				!strings.Contains(text, "matches") { // regexp keeps its own pool
				t.Errorf("%s allocates %v times", text, allocs)
			}
		}
	}
}

func TestErrorsPointAtTheText(t *testing.T) {
	b := newBook(t)
	cases := []struct{ text, message, caret string }{
		{"platfrom == macos", "did you mean platform?", "^^^^^^^^"},
		{"platform == macoss", "did you mean macos?", "            ^^^^^^"},
		{"on and\n  scoer > 3", "2:3: there is no name scoer; did you mean score?", "  ^^^^^"},
		{"score = 3", "write == to compare", "      ^"},
		{"score > 3 score", "found score where and, or", "          ^^^^^"},
		{"score >", "the condition ends where", "       ^"},
		{`model == "open`, "no closing quote", "         ^"},
		{"model > \"a\"", "text has no order", "      ^"},
		{"os.version >= \"14.6\"", "write 14.6 without quotes", "              ^^^^^^"},
		{"age(score) > 3d", "age takes a time", "    ^^^^^"},
		{"score in platform", "score is a whole number but platform is one of", "      ^^"},
		{`model matches "("`, "is not a pattern", "              ^^^"},
		{"any v in score (true)", "any goes over a list", "         ^^^^^"},
		{"any v in volumes (v.encripted)", "did you mean encrypted?", "                  ^^^^^^^^^^^"},
		{"score", "is a whole number, not a condition", "^^^^^"},
		{"lock > 3q", "is not a number, version", "       ^^"},
		{"volumes == volumes", "cannot be compared as a whole", "        ^^"},
		{"level >= #", "'#' has no meaning here", "         ^"},
		{strings.Repeat("(", 200) + "on", "nested more than 100 deep", strings.Repeat(" ", 100) + "^"},
		{"platform < macos", "has no order", "         ^"},
	}
	for _, c := range cases {
		_, err := CompileText(c.text, b)
		var list syntax.Errors
		var one *syntax.Error
		if errors.As(err, &list) {
			one = list[0]
		} else if !errors.As(err, &one) {
			t.Errorf("%s: got error %v", c.text, err)
			continue
		}
		if !strings.Contains(one.Error(), c.message) {
			t.Errorf("%s: the message is %q, want it to say %q", c.text, one, c.message)
		}
		if _, caret, _ := strings.Cut(one.Excerpt(), "\n"); caret != c.caret {
			t.Errorf("%s: the caret is\n%q, want\n%q", c.text, caret, c.caret)
		}
	}
	if _, err := CompileText("scoer > 3 and modle == \"x\"", b); len(err.(syntax.Errors)) != 2 {
		t.Errorf("two wrong names give %v", err)
	}
}

func TestExplanationNamesTheDecidingLeaves(t *testing.T) {
	b := newBook(t)
	cases := []struct{ text, want string }{
		{"os.version >= 15 and on", "os.version >= 15 [14.6.1] false"},
		{"os.version >= 15 or score <= 30", "score <= 30 [30] true"},
		{"not (off or score >= 30)", "score < 30 [30] false"},
		{"not off", "off false [false] true"},
		{"15 <= os.version", "os.version >= 15 [14.6.1] false"},
		{"no.score > 3 and on", "no.score > 3 [] unknown"},
		{"age(patched) <= 7d", "patched age <= 7d [10d] false"},
		{"known(no.lock)", "no.lock known [] false"},
		{"none v in volumes (v.system)",
			"volumes none v in volumes (v.system) [root, system, encrypted, ends 2026-12-01T00:00:00Z; scratch, not system, not encrypted, ends 2026-11-25T00:00:00Z; key, not system, ends 2026-11-22T00:00:00Z] false"},
	}
	for _, c := range cases {
		p, err := CompileText(c.text, b)
		if err != nil {
			t.Fatal(err)
		}
		_, leaves := p.Explain(b.env, b)
		if len(leaves) != 1 {
			t.Errorf("%s: %d leaves decided, want 1", c.text, len(leaves))
			continue
		}
		l := leaves[0]
		if got := l.Path + " " + l.Required + " [" + l.Observed + "] " + l.Holds.String(); got != c.want {
			t.Errorf("%s is explained as\n%s, want\n%s", c.text, got, c.want)
		}
	}
}

func TestNextIsTheMomentOfChange(t *testing.T) {
	b := newBook(t)
	score, on := slices.Index(b.names, "score"), slices.Index(b.names, "on")
	b.env.Frames[0].Cells[score].Until = now + day
	b.env.Frames[0].Cells[on].Until = now + 2*day
	cases := []struct {
		text string
		want int64 // from now; 0 for never
	}{
		{"score > 3", day + 1},
		{"score > 30", day + 1},
		{"score > 3 and on", day + 1},
		{"score > 3 or on", 2*day + 1},
		{"score > 31 or on", 2*day + 1},
		{"score > 31 and not on", 2*day + 1},
		{"age(patched) <= 12d", 2*day + 1},
		{"age(patched) < 12d", 2 * day},
		{"age(patched) >= 12d", 2 * day},
		{"age(patched) == 12d", 2 * day},
		{"age(patched) == 10d", 1},
		{"age(patched) <= 3d", 0},
		{"platform == macos", 0},
		{"no.score > 3", 0},
		{"any v in volumes (until(v.ends) > 1d)", 9*day + 16*day/24},
		{"all v in volumes (until(v.ends) > 1d)", 16 * day / 24},
		{"count v in volumes (until(v.ends) > 1d) >= 3", 16 * day / 24},
	}
	for _, c := range cases {
		p, err := CompileText(c.text, b)
		if err != nil {
			t.Fatal(err)
		}
		want := now + c.want
		if c.want == 0 {
			want = Always
		}
		got := p.Next(b.env)
		if got != want {
			t.Errorf("%s next changes at now+%d, want now+%d", c.text, got-now, want-now)
		}
		if got == Always {
			continue
		}
		before, at := *b.env, *b.env
		before.Now, at.Now = got-1, got
		if p.Eval(&before) == p.Eval(&at) {
			t.Errorf("%s has the same value before and at its next change", c.text)
		}
	}
}

func TestPrintingIsCanonical(t *testing.T) {
	for text, want := range map[string]string{
		"a   and(b or c)":                "a and (b or c)",
		"(a and b) or c":                 "a and b or c",
		"not(not (a))":                   "not not a",
		"not (a == b)":                   "not a == b",
		"(a == b) == c":                  "(a == b) == c",
		"(a or b) or c":                  "(a or b) or c",
		`x in [ 1,2 ,"q\""]`:             `x in [1, 2, "q\""]`,
		"any v in w(v.a  not in [b])":    "any v in w (v.a not in [b])",
		"count v in w>=3":                "count v in w >= 3",
		"level==none":                    "level == none",
		"x starts  with \"é\"":           `x starts with "é"`,
		"ip in 2001:db8::/32 or fe80::1": "ip in 2001:db8::/32 or fe80::1",
	} {
		if got, err := syntax.Format(text); err != nil || got != want {
			t.Errorf("%s prints as %s (%v), want %s", text, got, err, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"a and b", "not x in [1, 2d, \"t\"]",
		"any v in volumes (v.system and until(v.ends) > 2d)", "os.version >= 17.5.1 or ip in 10.0.0.0/8",
		"count v in w", "((", "\"\\", "-1 < x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, src string) {
		n, err := syntax.Parse(src)
		if err != nil {
			var e *syntax.Error
			if !errors.As(err, &e) {
				t.Fatalf("%q: the error %T has no place", src, err)
			}
			_ = e.Excerpt()
			return
		}
		printed := n.String()
		again, err := syntax.Parse(printed)
		if err != nil {
			t.Fatalf("%q prints as %q, which does not parse: %v", src, printed, err)
		}
		if again.String() != printed {
			t.Fatalf("%q prints as %q and then as %q", src, printed, again)
		}
	})
}

func FuzzCompile(f *testing.F) {
	for _, s := range []string{"score > 3 and on", "any v in volumes (v.encrypted)", "age(patched) < 3d",
		"known(no.on) or ip in 10.0.0.0/8", "count v in volumes (v.system) == 1"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, src string) {
		b := newBook(t)
		p, err := CompileText(src, b)
		if err != nil {
			return
		}
		want := p.Eval(b.env)
		if got, _ := p.Explain(b.env, b); got != want {
			t.Fatalf("%q is %v but explained as %v", src, want, got)
		}
		if got, at := p.root.next(b.env); got != want || at <= b.env.Now {
			t.Fatalf("%q is %v; its next change is seen from %v at %d", src, want, got, at)
		}
	})
}

// The two ways to find when an age crosses its bound must agree, to the
// microsecond.
func TestCrossingsAgree(t *testing.T) {
	dict := newBook(t)
	const name = "patched"
	slot := slices.Index(dict.names, name)
	if slot < 0 {
		t.Fatal("the book has no time")
	}
	for _, op := range []syntax.Op{syntax.OpLt, syntax.OpLe, syntax.OpGt, syntax.OpGe, syntax.OpEq, syntax.OpNe} {
		for _, fn := range []string{"age", "until"} {
			for _, bound := range []string{"0s", "5s", "2d"} {
				src := fmt.Sprintf("%s(%s) %s %s", fn, name, op, bound)
				p, err := CompileText(src, dict)
				if err != nil {
					t.Fatal(err)
				}
				leaf := p.root
				cmp := leaf.node.(*syntax.Compare)
				c := &compiler{dict: dict}
				l, r := c.sides(cmp)
				slow := crossing(l, r, c.relation(cmp, l, r))
				fast := fastCrossing(op, l, r)
				if fast == nil {
					t.Fatalf("%s has no fast way", src)
				}
				const at = int64(1_700_000_000_000_000)
				span := r.value.Num()
				for _, away := range []int64{-span - 2, -span - 1, -span, -span + 1, -2, -1, 0, 1, 2,
					span - 1, span, span + 1, span + 2, 9 * span} {
					env := &Env{Now: at + away}
					env.Frames[0] = dict.env.Frames[0].Clone()
					env.Frames[0].Set(slot, value.OfTime(at), Always)
					if a, b := slow(env), fast(env); a != b {
						t.Errorf("%s, %d from the moment: %d and %d", src, away, a-at, b-at)
					}
				}
			}
		}
	}
}

// What Turns gives must never be later than the moment at which the condition
// changes by time, and be silent where time changes nothing.
func TestTurnsAreNeverLate(t *testing.T) {
	b := newBook(t)
	for src, timed := range map[string]bool{
		"age(patched) <= 30d":                             true,
		"on or age(patched) > 20d":                        true,
		"not (until(patched) > 2d and off)":               true,
		"any v in volumes (until(v.ends) > 2d)":           true,
		"count v in volumes (until(v.ends) > 2d) >= 2":    true,
		"any v in volumes (v.system)":                     false,
		"on and score <= 30":                              false,
		"age(no.patched) <= 30d":                          true,
		"known(patched)":                                  false,
		"all v in no.volumes (until(v.ends) > 1d) or off": true,
	} {
		p, err := CompileText(src, b)
		if err != nil {
			t.Fatalf("%s: %v", src, err)
		}
		turns := p.Turns()
		if (len(turns) > 0) != timed {
			t.Errorf("%s has %d turns", src, len(turns))
		}
		for days := range int64(40) {
			env := &Env{Now: now + days*day}
			env.Frames = b.env.Frames
			first := Always
			for _, turn := range turns {
				first = min(first, turn(env))
			}
			if next := p.Next(env); next < first {
				t.Errorf("%s on day %d: it may change at %s, the turns say %s", src, days,
					value.FormatTime(next), value.FormatTime(first))
			}
			if first <= env.Now {
				t.Errorf("%s on day %d: a turn lies in the past", src, days)
			}
			was, later := p.Eval(env), &Env{Now: min(first, env.Now+400*day) - 1, Frames: b.env.Frames}
			if got := p.Eval(later); got != was {
				t.Errorf("%s on day %d is %v, and %v before its first turn", src, days, was, got)
			}
		}
	}
}
