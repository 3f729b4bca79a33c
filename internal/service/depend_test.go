package service

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/event"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/state"
)

// After every act of people and sources each device stands as if
// the whole fleet were appraised again, and every session that is left is an allow.
func TestAppraisingWhatDependsIsEnough(t *testing.T) {
	t.Parallel()
	s := opened(t, t.TempDir(), nil)
	defer s.Close()
	a := newActs(s, rand.New(rand.NewPCG(7, 9)), "", true)
	done, sessions := map[string]int{}, 0
	for step := range rounds(1200) {
		name, ok := a.do(t.Context())
		if ok {
			done[name]++
		}
		snap, now := s.Snapshot(), s.Micros()
		anew := snap.TryOut(snap.Book, snap.People.With(nil), snap.Roster)
		snap.Fleet.All(func(d *state.Device) bool {
			if got, want := snap.At(d, now).Result, anew.At(d, now).Result; got.Level != want.Level ||
				!slices.Equal(got.Verdicts, want.Verdicts) {
				t.Errorf("step %d, %s: %s stands at %d %v, and appraised anew at %d %v", step, name, d.ID,
					got.Level, got.Verdicts, want.Level, want.Verdicts)
			}
			return true
		})
		live := s.Decisions.Kept()
		sessions = max(sessions, len(live))
		for _, x := range live {
			if got := anew.Book.Gates.Evaluator().Evaluate(decision.Pose(anew, x.Asked, now).Request,
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

// A device that becomes known while a change of the roster is being weighed stands
// under the new roster too.
func TestWhoComesWhileARosterIsWeighed(t *testing.T) {
	t.Parallel()
	s := opened(t, t.TempDir(), nil)
	defer s.Close()
	ctx := t.Context()
	a := newActs(s, rand.New(rand.NewPCG(1, 1)), "", false)
	if _, err := s.Admin.ImportPeople(ctx, "astrid", []directory.Person{{ID: "p1", Name: "Ada"}},
		admin.ListImport{}); err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{"d1", "d2"} {
		arrive := func(*state.Snapshot) error {
			return a.take(ctx, fmt.Sprintf(`{"source":"agent","identity":{"id":%q,"serial":"S-%s"},"evidence":{"form":"laptop","owner":"p1"}}`, id, id))
		}
		if err := s.Weighed(ctx, arrive, func(c *state.Change) error {
			return c.ReplaceRoster(map[string]*state.RosterEntry{"s-" + id: {ID: "s-" + id, Serial: "S-" + id}},
				state.Cause{Kind: event.ByRoster, Actor: "astrid"})
		}); err != nil {
			t.Fatal(err)
		}
		snap, now := s.Snapshot(), s.Micros()
		d := snap.At(snap.Fleet.Get(id), now)
		if !d.View.Value(snap.Book.Rulebook.Dict.Slot("on_roster")).IsTrue() {
			t.Errorf("%s was appraised as if it were not on the roster", id)
		}
	}
}
