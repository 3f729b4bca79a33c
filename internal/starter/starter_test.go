package starter

import (
	"strings"
	"testing"

	"ironledger.example/core/rehearsal"
	"ironledger.example/core/review"
	"ironledger.example/core/rulebook"
)

const now = 1_795_000_000_000_000 // November 2026, in microseconds

// tryOut loads a rulebook, runs its examples, and fails for what a reviewer would remark.
func tryOut(t *testing.T, name, text string) {
	t.Helper()
	rb, err := rulebook.Load([]rulebook.File{{Name: name, Text: text}})
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	if done, err := rulebook.Format([]rulebook.File{{Name: name, Text: text}}); err != nil || done[0].Text != text {
		t.Errorf("%s is not written in the canonical way: %v", name, err)
	}
	outcomes := rehearsal.Examples(rb, now)
	if len(outcomes) == 0 {
		t.Errorf("%s has no examples", name)
	}
	for _, o := range outcomes {
		if !o.Passed {
			t.Errorf("%s: %s: want %s, got %s", name, o.Title, o.Want, o.Got)
		}
	}
	for _, r := range review.Of(rb, nil, now) {
		t.Errorf("%s: %s: %s", name, r.About, r.Message)
	}
}

// Every example, and what is made of answers, is right, tried, and leaves a reviewer nothing to say.
func TestStartersAreRight(t *testing.T) {
	names := Examples()
	if len(names) != 3 {
		t.Errorf("the examples are %v", names)
	}
	for _, name := range names {
		text, err := Example(name)
		if err != nil {
			t.Fatal(err)
		}
		tryOut(t, name+".yaml", text)
	}
	for name, a := range map[string]Answers{
		"nothing said": {},
		"phones alone": {Name: "quay", Platforms: []string{"android"}, Groups: []string{"crew"}},
		"two levels":   {Ladder: []string{"shut", "open"}, Platforms: []string{"windows", "ios"}},
		"three levels": {Ladder: []string{"red", "amber", "green"}, Platforms: []string{"macos"},
			Groups: []string{"a", "b"}},
		"two platforms": {Platforms: []string{"linux", "chromeos"}},
	} {
		text, err := Compose(a)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		tryOut(t, name+".yaml", text)
	}
	for name, a := range map[string]Answers{"a platform that there is not": {Platforms: []string{"windos"}},
		"one level": {Ladder: []string{"in"}}, "a level that is none": {Ladder: []string{"a b", "c"}},
		"a name that is none": {Name: "a: b"}} {
		if text, err := Compose(a); err == nil {
			t.Errorf("%s makes\n%s", name, text)
		}
	}
	if _, err := Example("offices"); err == nil || !strings.Contains(err.Error(), "office, shop, workshop") {
		t.Errorf("an example that there is not: %v", err)
	}
}
