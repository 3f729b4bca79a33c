package state

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"ironledger.example/core/evidence"
	"ironledger.example/internal/kept"
)

// A key points at the one device that has it, and at none while several do: whatever
// they had before, in every version of the fleet.
func TestWhatAKeyPointsAt(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 1))
	var keys []evidence.Key
	for i := range 12 {
		keys = append(keys, evidence.Key{Kind: evidence.BySerial, Text: fmt.Sprint("s", i)},
			evidence.Key{Kind: evidence.ByCertificate, Text: fmt.Sprint("c", i)})
	}
	type version struct {
		fleet   *Fleet
		devices map[string]*Device
	}
	check := func(step int, v version) {
		t.Helper()
		for _, k := range keys {
			var have []string
			for id, d := range v.devices {
				if slices.Contains(d.Keys, k) {
					have = append(have, id)
				}
			}
			id, found := v.fleet.Find(k)
			switch {
			case len(have) == 1 && (!found || id != have[0]), len(have) != 1 && found:
				t.Fatalf("step %d: %v leads to %q, and %v have it", step, k, id, have)
			case v.fleet.Ambiguous(k) != (len(have) > 1):
				t.Fatalf("step %d: %v is that of %v, and ambiguous: %v", step, k, have, v.fleet.Ambiguous(k))
			}
		}
		if v.fleet.Len() != len(v.devices) {
			t.Fatalf("step %d: %d devices of %d", step, v.fleet.Len(), len(v.devices))
		}
	}
	versions := []version{{&Fleet{}, map[string]*Device{}}}
	for step := range 1500 {
		from := versions[r.IntN(len(versions))]
		next := version{devices: map[string]*Device{}}
		for id, d := range from.devices {
			next.devices[id] = d
		}
		e := from.fleet.edit()
		for range 1 + r.IntN(3) {
			d := &Device{ID: fmt.Sprint("d", r.IntN(6))}
			for _, k := range keys {
				if r.IntN(6) == 0 {
					d.Keys = append(d.Keys, k)
				}
			}
			e.put(d)
			next.devices[d.ID] = d
		}
		next.fleet = e.fleet()
		check(step, next)
		if versions = append(versions, next); len(versions) > 20 {
			versions = versions[1:]
		}
		check(step, versions[r.IntN(len(versions))]) // an older one is as it was
	}
}

// How many open reports a source has, and which wait for a key, is counted as they
// come and go; a change counts its own on top.
func TestWhichReportsWait(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 5))
	snap := EmptySnapshot()
	report := func(n int, settled bool) Unmatched {
		u := Unmatched{ID: fmt.Sprint("u", n), Source: fmt.Sprint("s", n%2), Waiting: n%3 == 0,
			Identity: evidence.Identity{Serial: fmt.Sprint("S-", n%4)}}
		if settled {
			u.SettledAt = 1
		}
		return u
	}
	for step := range 400 {
		c := NewChange(snap, 1)
		for range 1 + r.IntN(4) {
			if n := r.IntN(12); r.IntN(4) == 0 {
				c.DropUnmatched(fmt.Sprint("u", n))
			} else if err := c.PutUnmatched(report(n, r.IntN(3) == 0)); err != nil {
				t.Fatal(err)
			}
		}
		next := snap.Apply(c)
		unsettled := 0
		for _, u := range next.Unmatched.List() {
			if u.State() == "open" {
				unsettled++
			}
		}
		if got := next.Unmatched.Open(); got != unsettled {
			t.Fatalf("step %d: %d wait for a person, told %d", step, unsettled, got)
		}
		for _, source := range []string{"s0", "s1"} {
			for _, waiting := range []bool{true, false} {
				want := 0
				for _, u := range next.Unmatched.List() {
					if u.Source == source && u.Waiting == waiting && u.SettledAt == 0 {
						want++
					}
				}
				of := kept.UnmatchedOf{Source: source, Waiting: waiting}
				if c.Open(of) != want || next.Unmatched.count[of] != want {
					t.Fatalf("step %d: %d and %d are open of %v, and there are %d", step, c.Open(of),
						next.Unmatched.count[of], of, want)
				}
			}
		}
		for n := range 4 {
			k := evidence.Folded(evidence.BySerial, fmt.Sprint("S-", n))
			var want, got, seen []string
			for _, u := range next.Unmatched.List() {
				if u.Waiting && u.SettledAt == 0 && slices.Contains(u.Keys(), k) {
					want = append(want, u.ID)
				}
			}
			for _, u := range c.Waiting([]evidence.Key{k}) {
				got = append(got, u.ID)
			}
			for _, u := range NewChange(next, 2).Waiting([]evidence.Key{k}) {
				seen = append(seen, u.ID)
			}
			slices.Sort(want)
			if !slices.Equal(got, want) || !slices.Equal(seen, want) {
				t.Fatalf("step %d: for %v wait %v, told %v and %v", step, k, want, got, seen)
			}
		}
		snap = next
	}
}
