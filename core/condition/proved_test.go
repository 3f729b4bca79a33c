package condition

import (
	"strings"
	"testing"

	"ironledger.example/core/value"
)

// own is a dictionary of two attributes that devices report, and one that the service knows.
type own struct{}

func (own) Lookup(name string) (Name, bool) {
	switch name {
	case "storage.encrypted":
		return Name{Type: value.Of(value.Bool), Slot: 0, Shown: true}, true
	case "tags":
		return Name{Type: value.ListOf(value.Of(value.Text)), Slot: 70, Shown: true}, true
	case "on_roster":
		return Name{Type: value.Of(value.Bool), Slot: 1}, true
	}
	return Name{}, false
}

func (own) Names() []string { return []string{"storage.encrypted", "tags", "on_roster"} }

func TestProved(t *testing.T) {
	env := &Env{Now: 100}
	env.Frames[0] = NewFrame(80)
	f := &env.Frames[0]
	eval := func(text string, want Tri) {
		t.Helper()
		p, err := CompileText(text, own{})
		if err != nil {
			t.Fatal(err)
		}
		if got := p.Eval(env); got != want {
			t.Errorf("%s is %v; %v was expected", text, got, want)
		}
		if again, err := CompileText(p.String(), own{}); err != nil || again.Eval(env) != want {
			t.Errorf("%s is otherwise when printed, %s: %v", text, p, err)
		}
	}
	eval("proved(storage.encrypted)", Unknown) // nothing is known of it
	eval("proved(storage.encrypted) or true", True)
	f.Set(0, value.OfBool(true), 200)
	f.Set(70, value.OfTexts([]string{"a"}), 200)
	eval("proved(storage.encrypted)", False)
	eval("not proved(storage.encrypted)", True)
	f.Prove(0)
	eval("storage.encrypted and proved(storage.encrypted)", True)
	eval("proved(storage.encrypted) == true", True)
	eval("proved(tags)", False)
	f.Prove(70)
	eval("proved(tags)", True)
	kept := f.Clone()
	p, err := CompileText("proved(storage.encrypted)", own{})
	if err != nil {
		t.Fatal(err)
	}
	if at := p.Next(env); at != 201 {
		t.Errorf("it may turn at %d, when the value is stale, which is at 201", at)
	}
	env.Now = 201
	eval("proved(storage.encrypted)", Unknown) // it is stale
	f.Clear()
	if f.Proved(0) || f.Proved(70) || !kept.Proved(0) || kept.Proved(1) {
		t.Error("clearing and cloning keep no proof, or lose it")
	}
	for text, want := range map[string]string{
		"proved(on_roster)":                    "proved takes an attribute that a device reports; on_roster is none",
		"proved(storage.encripted)":            "there is no name storage.encripted",
		"any t in tags (proved(t))":            "proved takes an attribute that a device reports",
		"proved(storage.encrypted, on_roster)": "closing bracket",
	} {
		if _, err := CompileText(text, own{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; %q was expected", text, err, want)
		}
	}
}
