package rehearsal

import (
	"fmt"
	"strings"
	"testing"

	"ironledger.example/core/rulebook"
)

func TestAShiftCountsWhoMoves(t *testing.T) {
	book := func(ladder string) *rulebook.Rulebook {
		rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: "rulebook: x\nladder: " + ladder + "\n"}})
		if err != nil {
			t.Fatal(err)
		}
		return rb
	}
	old := book("[low, middle, high]")
	tally := NewTally(old, book("[low, middle, high, top]"))
	for i, s := range []Subject{
		{From: 2, To: 2, Platform: "windows", Groups: []string{"finance"}},
		{From: 2, To: 0, Platform: "windows", Groups: []string{"finance", "office"}, Held: []string{"a/old"},
			Holds: []string{"a/new"}},
		{From: 0, To: 3, Platform: "ios", Held: []string{"a/old"}},
		{From: 1, To: 0, Holds: []string{"a/new", "b/x"}},
	} {
		s.Device = fmt.Sprint("d", i)
		tally.Add(s)
	}
	s := tally.Shift()
	if s.Devices != 4 || s.Falls != 2 || s.Rises != 1 || len(s.Matrix) != 3 || len(s.Matrix[0]) != 4 ||
		s.Matrix[2][0] != 1 || s.Matrix[2][2] != 1 || s.Matrix[0][3] != 1 {
		t.Errorf("the shift is %+v", s)
	}
	if got := fmt.Sprint(s.Moves); got != "[{d1  windows  high low true [a/new]} {d3    middle low true [a/new b/x]} {d2  ios  low top false [a/old]}]" {
		t.Errorf("the moves are %s", got)
	}
	if got := fmt.Sprint(s.Rules, s.Platforms,
		s.Groups); got != "[{a/new 0 2 0} {a/old 0 0 1} {b/x 0 1 0}] [{ios 1 0 1} {unknown 1 1 0} {windows 2 1 0}] [{finance 2 1 0} {office 1 1 0}]" {
		t.Errorf("the counts are %s", got)
	}
	many := NewTally(old, old)
	for i := range MaxMoves + 50 {
		many.Add(Subject{Device: fmt.Sprintf("%05d", i), From: 2, To: 1})
	}
	if s := many.Shift(); len(s.Moves) != MaxMoves || s.Falls != MaxMoves+50 {
		t.Errorf("%d moves are listed of %d", len(s.Moves), s.Falls)
	}
}

// A level that is only called otherwise moves nobody, and one that has another meaning does.
func TestARenamedLevelIsNoFall(t *testing.T) {
	old := laddered(t, "rulebook: r\nladder: [barred, limited, strong]\n")
	renamed := laddered(t, "rulebook: r\nladder: [barred, {id: fair, was: limited}, strong]\n")
	for from, want := range map[rulebook.Level]map[rulebook.Level]string{
		0: {0: "0 0", 1: "0 1"}, 1: {0: "1 0", 1: "0 0", 2: "0 1"}, 2: {1: "1 0", 2: "0 0"},
	} {
		for to, counts := range want {
			tally := NewTally(old, renamed)
			tally.Add(Subject{Device: "d", From: from, To: to})
			if s := tally.Shift(); fmt.Sprint(s.Falls, " ", s.Rises) != counts {
				t.Errorf("from %d to %d: %d falls and %d rises, want %s", from, to, s.Falls, s.Rises, counts)
			}
		}
	}
	for text, want := range map[string]string{
		"[a, {id: b, was: a}]":          "was renamed, and is still a level",
		"[a, {id: a, was: x}]":          "stands twice",
		"[a, {was: x}]":                 "at least two levels",
		"[a, {id: b, whas: x}, c]":      "did you mean was",
		"[a, {id: b, was: [x]}, c]":     "a single value was expected",
		"[{id: strong, was: top}, [b]]": "a single value was expected",
	} {
		_, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: "rulebook: r\nladder: " + text + "\n"}})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

func laddered(t *testing.T, text string) *rulebook.Rulebook {
	t.Helper()
	rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: text}})
	if err != nil {
		t.Fatal(err)
	}
	return rb
}
