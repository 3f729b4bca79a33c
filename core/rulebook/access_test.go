package rulebook

import (
	"strings"
	"testing"
)

func TestGuardAndEnrolment(t *testing.T) {
	load := func(text string) (*Rulebook, error) {
		return Load([]File{{Name: "r.yaml", Text: "rulebook: r\n" + text}})
	}
	plain, err := load("")
	if err != nil || plain.Guard.MaxDenied != 0.2 || plain.Enrolment.Allow != nil || plain.Enrolment.Refuse {
		t.Fatalf("%+v %v", plain, err)
	}
	full, err := load("guard: {max_newly_denied: 7.5%, administrators: {groups: [it], users: [dag]}}\nenrolment: {allow: on_roster and form == laptop, otherwise: refuse}\n")
	if err != nil || full.Guard.MaxDenied != 0.075 || full.Enrolment.Allow == nil || !full.Enrolment.Refuse {
		t.Fatalf("%+v %v", full, err)
	}
	if got := full.Guard.String(); got != "at most 7.5% newly denied, administrators dag, it" {
		t.Error(got)
	}
	if got := full.Enrolment.String(); got != "allow on_roster and form == laptop, otherwise refuse" {
		t.Error(got)
	}
	for text, want := range map[string]string{
		"guard: {max_newly_denied: 20}": "not a share", "guard: {max_newly_denied: 120%}": "not a share",
		"guard: {max_newly_denied: lots}": "not a share", "guard: {administrators: {}}": "needs users or groups",
		"guard: {max: 3%}": "has no key max", "enrolment: {allow: level >= sound}": "level",
		"enrolment: {allow: on_rooster}": "did you mean on_roster?",
		"enrolment: {otherwise: wait}":   "wait is not a choice",
		"guard: [1]":                     "a mapping", "enrolment: yes": "a mapping",
	} {
		if _, err := load(text + "\n"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}
