package tree

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/value"
)

// parsed reads a text and returns its top with the problems that gather.
func parsed(t *testing.T, text string) (Item, *Problems) {
	t.Helper()
	probs, conds := &Problems{}, &[]Placed{}
	root, ok := Parse("r.yaml", text, probs, conds)
	if !ok {
		t.Fatalf("%q is not read: %v", text, *probs)
	}
	return root, probs
}

func TestParseRefuses(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"nothing":       {"", "the file is empty"},
		"a comment":     {"# nothing\n", "the file is empty"},
		"two documents": {"a: 1\n---\nb: 2\n", "a second document begins here"},
		"no YAML":       {"a: [1\n", "not valid YAML"},
		"a key twice":   {"a: 1\na: 2\n", "not valid YAML"},
		"too deep":      {"a: " + strings.Repeat("[", 80), "nested more than 64 deep"},
	} {
		probs := &Problems{}
		if _, ok := Parse("r.yaml", c.text, probs, &[]Placed{}); ok || !strings.Contains(probs.Error(), c.want) ||
			!strings.HasPrefix(probs.Error(), "r.yaml:") {
			t.Errorf("%s: %v; %q was expected", name, probs, c.want)
		}
	}
}

// Each reader takes what it is for, and says of all else what stands there, and where.
func TestReaders(t *testing.T) {
	first := func(it Item) Field { fields, _ := it.Fields(); return fields[0] }
	read := map[string]func(Field) any{
		"text":    func(f Field) any { s := ""; f.Text(&s); return s },
		"texts":   func(f Field) any { return strings.Join(f.Texts(), "|") },
		"boolean": func(f Field) any { b := false; f.Boolean(&b); return b },
		"truth":   func(f Field) any { return *f.Truth() },
		"span":    func(f Field) any { var d int64; f.Duration(&d); return d },
		"id":      func(f Field) any { s := ""; f.ID(&s); return s },
		"word":    func(f Field) any { i, _ := f.Word("colour", []string{"red", "green"}); return i },
		"none":    func(f Field) any { i, _ := f.Word("colour", nil); return i },
		"names":   func(f Field) any { return strings.Join(f.References("group", []string{"crew", "desk"}), "|") },
		"version": func(f Field) any { v, _ := f.Value(value.Of(value.Version)); return v.String() },
		"seq":     func(f Field) any { return len(f.Seq()) },
		"moment": func(f Field) any {
			if at, ok := f.Moment(); ok {
				return at(1_000_000_000)
			}
			return nil
		},
		"mapping": func(f Field) any { return f.Mapping("a thing", map[string]func(Field){"a": func(Field) {}}) },
	}
	for _, c := range []struct {
		reader, text string
		want         any
		problem      string // "" for none
	}{
		{"text", `x: " a b "`, "a b", ""},
		{"text", "x: |\n  two\n  lines\n", "two\nlines", ""},
		{"text", "x: [a]", "", "r.yaml:1:4: a list stands where a single value was expected"},
		{"text", "x: {a: b}", "", "a mapping stands where a single value was expected"},
		{"text", "x: &a b", "", "anchor"},
		{"texts", "x: [a, b]", "a|b", ""},
		{"texts", "x: [a, a]", "a", "1:8: a stands twice in the list"},
		{"texts", "x: a", "", `"a" stands where a list was expected`},
		{"boolean", "x: true", true, ""},
		{"boolean", "x: perhaps", false, "perhaps"},
		{"truth", "x: false", false, ""},
		{"truth", "x: true", true, ""},
		{"span", "x: 2m", int64(120_000_000), ""},
		{"span", "x: soon", int64(0), "soon"},
		{"id", "x: a-1", "a-1", ""},
		{"id", "x: A b", "A b", "is not an id"},
		{"word", "x: green", 1, ""},
		{"word", "x: gren", 0, "gren is not a colour; did you mean green?"},
		{"word", "x: purple", 0, "purple is not a colour; there are red, green"},
		{"none", "x: red", 0, "red is not a colour; there are none"},
		{"names", "x: [crew]", "crew", ""},
		{"names", "x: [crew, disk]", "crew", "disk is not a group in this rulebook; did you mean desk?"},
		{"version", "x: 14.6", "14.6", ""},
		{"seq", "x: [1, [2], {a: 3}]", 3, ""},
		{"seq", "x: 1", 0, "stands where a list was expected"},
		{"moment", "x: now", int64(1_000_000_000), ""},
		{"moment", "x: -1s", int64(999_000_000), ""},
		{"moment", "x: +2s", int64(1_002_000_000), ""},
		{"moment", "x: 1970-01-01T00:00:05Z", int64(5_000_000), ""},
		{"moment", "x: -2y", nil, "is written as -2h or +30d"},
		{"moment", "x: monday", nil, "or a distance from the moment of the example"},
		{"mapping", "x: {a: 1}", true, ""},
		{"mapping", "x: {aa: 1}", true, "a thing has no key aa; did you mean a?"},
		{"mapping", "x: {zebra: 1}", true, "a thing has no key zebra; it may have a"},
		{"mapping", "x: [a]", false, "stands where a mapping (key: value) was expected"},
		{"mapping", "x: {<<: {a: 1}}", true, "merge keys are not used"},
	} {
		root, probs := parsed(t, c.text)
		got := read[c.reader](first(root))
		if fmt.Sprint(got) != fmt.Sprint(c.want) {
			t.Errorf("%s of %q is %v; %v was expected", c.reader, c.text, got, c.want)
		}
		if (len(*probs) == 0) != (c.problem == "") || !strings.Contains(probs.Error(), c.problem) {
			t.Errorf("%s of %q has the problems %q; %q was expected", c.reader, c.text, probs.Error(), c.problem)
		}
	}
}

// A list is parted into what is taken and the rest, in order; what is no list is the rest.
func TestPartition(t *testing.T) {
	scalar := func(m Item) bool { return !m.IsMapping() }
	for text, want := range map[string]string{
		"[a, {b: 1}, c]": "2 taken, 1 left", "[{a: 1}]": "0 taken, 1 left", "[]": "0 taken, 0 left",
		"[a]":    "1 taken, none left",
		"{a: 1}": "0 taken, whole",
	} {
		root, _ := parsed(t, text)
		taken, rest := root.Partition(scalar)
		got := fmt.Sprintf("%d taken, ", len(taken))
		switch {
		case rest.Absent():
			got += "none left"
		case rest.IsMapping():
			got += "whole"
		default:
			got += fmt.Sprintf("%d left", len(rest.Seq()))
		}
		if got != want {
			t.Errorf("of %s it is %s; %s was expected", text, got, want)
		}
	}
}

// What a report would hold is written as the types ask, with moments as far from another as they say.
func TestJSON(t *testing.T) {
	thing := &value.RecordType{Name: "thing", Fields: []value.Field{{Name: "at", Type: value.Of(value.Time)},
		{Name: "n", Type: value.Of(value.Int)}}}
	for _, c := range []struct {
		text string
		typ  value.Type
		want string
	}{
		{"x: 1.10", value.Of(value.Text), `"1.10"`},
		{"x: 7", value.Of(value.Int), `7`},
		{"x: yes please", value.Of(value.Bool), `"yes please"`},
		{"x: true", value.Of(value.Bool), `true`},
		{"x: -1s", value.Of(value.Time), `"1969-12-31T23:59:59Z"`},
		{"x: -1s", value.Of(value.Text), `"-1s"`},
		{"x: [1, 2]", value.ListOf(value.Of(value.Int)), `[1,2]`},
		{"x: [{at: +1h, n: 3, other: 4}]", value.ListOf(value.Type{Kind: value.Record, Record: thing}),
			`[{"at":"1970-01-01T01:00:00Z","n":3,"other":"4"}]`},
		{"x: null", value.Of(value.Text), `null`},
	} {
		root, probs := parsed(t, c.text)
		fields, _ := root.Fields()
		if got := string(fields[0].JSON(c.typ)(0)); got != c.want || len(*probs) > 0 {
			t.Errorf("%s is written as %s (%v); %s was expected", c.text, got, probs, c.want)
		}
	}
}

// Problems are told in the order of the files, each with what stands there.
func TestProblemsInOrder(t *testing.T) {
	list := Problems{{File: "b", Line: 1, Column: 1, Message: "m1"},
		{File: "a", Line: 9, Column: 2, Message: "m2", Excerpt: "x\n^"},
		{File: "a", Line: 9, Column: 1, Message: "m3"}, {File: "a", Line: 2, Column: 7, Message: "m4"}}
	list.Sort()
	if got := slices.Collect(func(yield func(string) bool) {
		for _, p := range list {
			if !yield(p.Message) {
				return
			}
		}
	}); !slices.Equal(got, []string{"m4", "m3", "m2", "m1"}) {
		t.Errorf("they are told in the order %v", got)
	}
	if text := list.Error(); !strings.Contains(text, "a:9:2: m2\n    x\n    ^\n") {
		t.Errorf("it says\n%s", text)
	}
}
