package service

import (
	"math/rand/v2"
	"slices"
	"testing"

	"ironledger.example/core/access"
)

// After every act of people and sources each device stands as if
// the whole fleet were appraised again, and every session that is left is an allow.
func TestAppraisingWhatDependsIsEnough(t *testing.T) {
	s := opened(t, t.TempDir())
	defer s.Close()
	a := newActs(s, rand.New(rand.NewPCG(7, 2)), "", true)
	done, sessions := map[string]int{}, 0
	for step := range rounds(1200) {
		name, ok := a.do(t.Context())
		if ok {
			done[name]++
		}
		snap, now := s.Snapshot(), s.micros()
		anew := snap.tryOut(snap.Book, newPeople(slices.Clone(snap.People.List())), snap.Roster)
		snap.Fleet.All(func(d *Device) bool {
			if got, want := snap.at(d, now).Result, anew.at(d, now).Result; got.Level != want.Level ||
				!slices.Equal(got.Verdicts, want.Verdicts) {
				t.Errorf("step %d, %s: %s stands at %d %v, and appraised anew at %d %v", step, name, d.ID,
					got.Level, got.Verdicts, want.Level, want.Verdicts)
			}
			return true
		})
		live := s.Kept()
		sessions = max(sessions, len(live))
		for _, x := range live {
			if got := anew.Book.Gates.Evaluator().Evaluate(anew.request(x.Asked, now).Request,
				now).Outcome; got != access.Allow {
				t.Errorf("step %d, %s: a session of %s on %s to %s is left, and the same is answered %s",
					step, name, x.Person, x.Device, x.Resource, got)
			}
		}
		if t.Failed() {
			t.FailNow()
		}
	}
	for name := range a.steps {
		if done[name] < 5 && rounds(4) == 4 {
			t.Errorf("%s was done %d times", name, done[name])
		}
	}
	if sessions < 5 && rounds(4) == 4 {
		t.Errorf("there were %d sessions at most", sessions)
	}
}
