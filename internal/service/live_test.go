package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view/find"
)

// toldBesides is what decisions add by themselves.
func toldBesides(s *Service) map[string]string {
	out := map[string]string{}
	for _, x := range s.Decisions.Kept() {
		out["session "+x.Decision] = fmt.Sprint(x.Person, x.Device, x.Resource, x.Level, x.Until, x.Allows)
	}
	o, err := s.View.Overview(context.Background(), value.Day, value.Day)
	if err != nil {
		panic(err)
	}
	out["alarms"] = fmt.Sprint(o.Emergencies)
	return out
}

func compareTold(t *testing.T, when, what string, got, want map[string]string) {
	t.Helper()
	for name := range want {
		if got[name] != want[name] {
			t.Errorf("%s, %s: %s is\n%s\nand should be\n%s", when, what, name, got[name], want[name])
		}
	}
	for name := range got {
		if _, known := want[name]; !known {
			t.Errorf("%s, %s: there is %s, %s, and should not be", when, what, name, got[name])
		}
	}
	if t.Failed() {
		t.FailNow()
	}
}

// The state that readers see is what the changes alone make of an empty one, and
// what the records on disk tell at the next start.
func TestTheStateIsItsChangesAndItsRecords(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	alone := state.EmptySnapshot()
	witness := func(c *state.Change) { alone = alone.Apply(c) }
	s := opened(t, dir, witness)
	r := rand.New(rand.NewPCG(11, 4))
	a := newActs(s, r, "", true)
	delete(a.steps, "redact") // what a session was asked is in the ledger alone
	done := map[string]int{}
	for step := range rounds(700) {
		name, ok := a.do(t.Context())
		if ok {
			done[name]++
		}
		if step%100 != 99 {
			continue
		}
		when, now := fmt.Sprintf("step %d", step), s.Micros()
		want := s.Snapshot().Told(now)
		compareTold(t, when, "from the changes alone", alone.Told(now), want)
		besides := toldBesides(s)
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		s = opened(t, dir, witness)
		a.s = s
		compareTold(t, when, "from the records", s.Snapshot().Told(now), want)
		compareTold(t, when, "sessions and alarms from the records", toldBesides(s), besides)
		steps := newActs(s, r, "", true).steps
		delete(steps, "redact")
		maps.Copy(a.steps, steps)
	}
	for name := range a.steps {
		if done[name] < 3 && rounds(4) == 4 {
			t.Errorf("%s was done %d times", name, done[name])
		}
	}
}

// A state that was read stays what it was, whatever happens after; and a change that is
// applied again to the same state gives the same.
func TestAStateThatWasReadStays(t *testing.T) {
	t.Parallel()
	s := opened(t, t.TempDir(), func(c *state.Change) {
		now := c.Now
		compareTold(t, "applied twice", "the same", c.Base.Apply(c).Told(now), c.Base.Apply(c).Told(now))
	})
	defer s.Close()
	a := newActs(s, rand.New(rand.NewPCG(5, 8)), "", true)
	type kept struct {
		snap *state.Snapshot
		now  int64
		told map[string]string
	}
	var read []kept
	for step := range rounds(300) {
		a.do(t.Context())
		if step%20 == 0 {
			snap, now := s.Snapshot(), s.Micros()
			read = append(read, kept{snap, now, snap.Told(now)})
		}
	}
	for i, k := range read {
		compareTold(t, fmt.Sprint("reading ", i), "at the end", k.snap.Told(k.now), k.told)
	}
}

// Of a job that fails nothing stays, also not what it had done before it failed; the
// others of its change do what they would have done without it.
func TestAJobThatFailsLeavesNothing(t *testing.T) {
	t.Parallel()
	s := opened(t, t.TempDir(), nil)
	defer s.Close()
	begin := make(chan struct{})
	first := s.Submit(func(*state.Change) error { <-begin; return nil }) // the others gather behind it
	var jobs []*engine.Job
	failure := errors.New("no")
	for i := range 40 {
		jobs = append(jobs, s.Submit(func(c *state.Change) error {
			if err := state.Put(c, state.SearchKind, fmt.Sprint("s", i),
				&kept.Search{Name: fmt.Sprint("s", i)}); err != nil {
				return err
			}
			if i%3 == 0 {
				return failure
			}
			return nil
		}))
	}
	close(begin)
	if err := first.Wait(t.Context()); err != nil {
		t.Fatal(err)
	}
	for i, j := range jobs {
		if err := j.Wait(t.Context()); (i%3 == 0) != errors.Is(err, failure) {
			t.Errorf("job %d: %v", i, err)
		}
	}
	for i := range jobs {
		if there := s.Snapshot().Searches.Get(fmt.Sprint("s", i)) != nil; there == (i%3 == 0) {
			t.Errorf("of job %d there is something: %v", i, there)
		}
	}
}

// Many who act at once leave what they would have left one after the other: each on
// devices and people of their own, and all of them on one house.
func TestManyActAtOnceAsOneAfterTheOther(t *testing.T) {
	t.Parallel()
	const people = 6
	steps := rounds(80)
	house := actors
	outcome := func(together bool) map[string]string {
		s := opened(t, t.TempDir(), nil)
		defer s.Close()
		var wg sync.WaitGroup
		results := make([][]string, people)
		for n := range people {
			act := func() {
				a := newActs(s, rand.New(rand.NewPCG(uint64(n), 9)), fmt.Sprint("a", n), false)
				for range steps {
					name, ok := a.do(t.Context())
					results[n] = append(results[n], fmt.Sprint(name, " ", ok))
				}
			}
			if together {
				wg.Go(act)
			} else {
				act()
			}
		}
		if together { // and somebody looks and publishes meanwhile
			wg.Go(func() {
				a := newActs(s, rand.New(rand.NewPCG(99, 9)), "x", true)
				for range 8 {
					if err := a.steps["publish"](t.Context()); err != nil {
						t.Error(err)
					}
					if _, err := s.View.Devices(t.Context(),
						find.Query{Where: `"crew" in owner.groups`, Limit: 10}); err != nil {
						t.Error(err)
					}
				}
			})
		}
		wg.Wait()
		last := api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: house}}, AcceptImpact: "a trial"}
		same := (*admin.UnchangedError)(nil)
		if _, _, err := s.Admin.Publish(t.Context(), "author", last); err != nil && !errors.As(err, &same) {
			t.Fatal(err)
		}
		out := map[string]string{}
		for n, list := range results {
			for i, x := range list {
				out[fmt.Sprintf("act %d of %d", i, n)] = x
			}
		}
		snap, now := s.Snapshot(), s.Micros()
		snap.Fleet.All(func(d *state.Device) bool {
			d = snap.At(d, now)
			held := ""
			if d.Held != nil {
				held = d.Held.State
			}
			live := 0
			for _, w := range d.Waivers {
				if snap.Book.Limited(w).Live(now) {
					live++
				}
			}
			out["device "+d.ID] = fmt.Sprint(d.Result.Level, d.Result.Verdicts, d.Keys,
				d.Record.Len(), live, len(d.Waivers), len(d.Vouches), d.Retired != nil, held)
			return true
		})
		for _, p := range snap.People.List() {
			out["person "+p.ID] = fmt.Sprint(p.Name, p.Groups)
		}
		for id, e := range snap.Roster.All() {
			out["roster "+id] = e.Note
		}
		for _, e := range snap.Enrolments.List() {
			out["enrolment "+e.Claims.Serial+" "+e.State] += "."
		}
		for _, u := range snap.Unmatched.List() {
			out["unmatched "+u.ID] = fmt.Sprint(u.Times, u.SettledAt != 0, u.Device)
		}
		for _, x := range s.Admin.Tokens() {
			out["token "+x.Name] += fmt.Sprint(x.RevokedAt != "", " ")
		}
		for _, x := range s.View.Searches() {
			out["search "+x.Name] = x.Where
		}
		return out
	}
	want := outcome(false)
	if len(want) < people*steps+30 {
		t.Fatalf("only %d things are compared", len(want))
	}
	compareTold(t, "at once", "as one after the other", outcome(true), want)
}

// Of several who do the same to the same thing at once, one gets it, as when they
// come one after the other.
func TestOfManyWhoDoTheSameOneGetsIt(t *testing.T) {
	t.Parallel()
	s := opened(t, t.TempDir(), nil)
	defer s.Close()
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	a := newActs(s, rand.New(rand.NewPCG(2, 2)), "", false)
	acts := map[string]func(i int) func() error{
		"revoke a waiver": func(i int) func() error {
			must(a.report(ctx, "d1", "agent"))
			w, err := WaiveOne(ctx, s, "astrid",
				api.ExceptionDraft{Device: "d1", Rule: "crew/disk", Reason: "a trial", For: "3d"})
			must(err)
			return func() error { _, err := s.Admin.Revoke(ctx, "astrid", w.ID, "enough"); return err }
		},
		"revoke a vouch": func(i int) func() error {
			must(a.report(ctx, "d1", "agent"))
			v, err := VouchOne(ctx, s, "astrid",
				api.ExceptionDraft{Device: "d1", Reason: "a trial", For: "3d"})
			must(err)
			return func() error { _, err := s.Admin.Revoke(ctx, "astrid", v.ID, "enough"); return err }
		},
		"settle an enrolment": func(i int) func() error {
			e, err := s.Admin.Enrol(ctx, "desk", state.Claims{Serial: fmt.Sprint("E-", i)}, nil)
			must(err)
			var turn atomic.Int64
			return func() error {
				_, err := s.Admin.DecideEnrolment(ctx, "astrid", e.ID, turn.Add(1)%2 == 0, "looked at")
				return err
			}
		},
		"settle a report": func(i int) func() error {
			must(a.take(ctx, fmt.Sprintf(`{"source":"desk","external_id":"t%d-1","identity":{"serial":"T-%d"},"evidence":{"name":"x"}}`, i, i)))
			must(a.take(ctx, fmt.Sprintf(`{"source":"desk","external_id":"t%d-2","identity":{"serial":"T-%d"},"evidence":{"name":"x"}}`, i, i)))
			id := a.aside[len(a.aside)-1]
			return func() error {
				_, err := s.Admin.Settle(ctx, "astrid", id, api.Settlement{Reason: "looked at", Discard: true})
				return err
			}
		},
		"retire a device": func(i int) func() error {
			id := fmt.Sprint("r", i)
			must(a.report(ctx, id, "agent"))
			return func() error { _, err := s.Admin.Retire(ctx, "astrid", []string{id}, "lost"); return err }
		},
		"make a token": func(i int) func() error {
			return func() error {
				_, _, err := s.Admin.CreateToken(ctx, "astrid", fmt.Sprint("t", i), bearer.Reader, "")
				return err
			}
		},
		"revoke a token": func(i int) func() error {
			_, _, err := s.Admin.CreateToken(ctx, "astrid", fmt.Sprint("u", i), bearer.Reader, "")
			must(err)
			return func() error { _, err := s.Admin.RevokeToken(ctx, "astrid", fmt.Sprint("u", i)); return err }
		},
		"drop a search": func(i int) func() error {
			_, err := s.Admin.KeepSearch(ctx, "astrid", kept.Search{Name: "s"}, s.View.CheckSearch)
			must(err)
			return func() error { return s.Admin.DropSearch(ctx, "s") }
		},
		"remove a person": func(i int) func() error {
			_, err := s.Admin.ImportPeople(ctx, "astrid", []directory.Person{{ID: "maren", Name: "Maren"}},
				admin.ListImport{})
			must(err)
			return func() error {
				_, err := s.Admin.RemovePerson(ctx, "astrid", "maren", api.Removal{Reason: "left"})
				return err
			}
		},
		"publish on a version": func(i int) func() error {
			base := s.Snapshot().Book.Info.Version
			return func() error {
				_, _, err := s.Admin.Publish(ctx, "astrid",
					api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: fmt.Sprintf("%s# %d\n", actors, base)}}, Base: &base})
				return err
			}
		},
		"redact an entry": func(i int) func() error {
			_, _, err := s.Admin.CreateToken(ctx, "astrid", fmt.Sprint("v", i), bearer.Reader, "")
			must(err)
			seq := s.Store.Sealed().Size
			return func() error { _, err := s.Audit.Redact(ctx, "astrid", seq, "a name"); return err }
		},
	}
	for name, prepare := range acts {
		for i := range rounds(12) {
			act := prepare(i)
			var wg sync.WaitGroup
			var got atomic.Int64
			begin := make(chan struct{})
			for range 8 {
				wg.Go(func() {
					<-begin
					if act() == nil {
						got.Add(1)
					}
				})
			}
			close(begin)
			if wg.Wait(); got.Load() != 1 {
				t.Errorf("%s, round %d: %d of 8 got it", name, i, got.Load())
				break
			}
		}
	}
}
