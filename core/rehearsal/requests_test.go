package rehearsal

import (
	"slices"
	"testing"

	"ironledger.example/core/access"
)

// What people lose is told apart from what they gain, and who loses all of it
// is named.
func TestAccessShift(t *testing.T) {
	tally := NewAccessTally(7)
	ask := func(person, resource string, from, to access.Outcome, times int, gates ...string) {
		tally.Add(Asked{Person: person, Resource: resource, Action: "open", Times: times, From: from, To: to,
			Gates: gates})
	}
	ask("maren", "payroll", access.Allow, access.Deny, 3, "strong-only")
	ask("maren", "rota", access.Allow, access.Allow, 5)
	ask("birk", "charts", access.StepUp, access.Deny, 2, "strong-only")
	ask("liv", "charts", access.Allow, access.StepUp, 1, "factor")
	ask("jorun", "rota", access.Deny, access.Allow, 1, "everyday")
	ask("edda", "till", access.Deny, access.StepUp, 1, "till")
	ask("tuva", "till", access.Deny, access.Deny, 1)
	for _, to := range []string{"VLAN 40", "VLAN 90"} { // a device that asks for itself, of which one is moved
		tally.Add(Asked{Person: "d1", Machine: true, Resource: "wifi", Action: "join", Times: 1, From: access.Allow,
			To: access.Allow, FromGrant: "VLAN 40", ToGrant: to})
	}
	s := tally.Shift()
	if s.Regranted != 1 || s.Requests != 16 || s.Distinct != 9 || s.People != 6 || s.Losing != 2 || s.Denied != 2 ||
		s.SteppedUp != 1 || s.Allowed != 2 {
		t.Errorf("%+v", s)
	}
	if !slices.Equal(s.LockedOut, []string{"birk"}) {
		t.Errorf("locked out are %v", s.LockedOut)
	}
	var kinds []string
	for _, c := range s.Changes {
		kinds = append(kinds, c.Change+" "+c.Person)
	}
	if want := []string{"newly-denied birk", "newly-denied maren", "newly-stepped-up liv",
		"granted-otherwise d1", "newly-allowed jorun", "eased edda"}; !slices.Equal(kinds, want) {
		t.Errorf("the changes are %v", kinds)
	}
	if g := s.Gates[0]; g.ID != "strong-only" || g.Denied != 2 {
		t.Errorf("the first gate is %+v", g)
	}
	for person, passes := range map[string][2]bool{"maren": {true, true}, "birk": {true, false},
		"nobody": {false, false}} {
		if today, then := tally.Passed(person); [2]bool{today > 0, then > 0} != passes {
			t.Errorf("of %s %d questions pass today and %d would", person, today, then)
		}
	}
}
