package service

import (
	"maps"
	"math/rand/v2"
	"testing"
)

// A layered map tells what a map does that is copied for every change, and one that
// was made earlier stays as it was.
func TestLayeredMapsAreMaps(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 8))
	type pair struct {
		ours   layered[int, int]
		theirs map[int]int
	}
	now := pair{newLayered(map[int]int{}), map[int]int{}}
	var kept []pair
	for step := range 3000 {
		changes, next := map[int]*int{}, maps.Clone(now.theirs)
		for range r.IntN(40) {
			k, v := r.IntN(2000), r.IntN(1000)
			if changes[k] = &v; r.IntN(3) == 0 {
				changes[k] = nil
			}
		}
		for k, v := range changes {
			if v == nil {
				delete(next, k)
			} else {
				next[k] = *v
			}
		}
		if now = (pair{now.ours.with(changes), next}); step%500 == 0 {
			kept = append(kept, now)
		}
	}
	for i, p := range append(kept, now) {
		if got := maps.Collect(p.ours.all()); !maps.Equal(got, p.theirs) || p.ours.len() != len(p.theirs) {
			t.Errorf("map %d has %d members, %d by its own count, and should have %d", i, len(got),
				p.ours.len(), len(p.theirs))
		}
		for k := range 2000 {
			v, ok := p.ours.get(k)
			if want, there := p.theirs[k]; v != want || ok != there {
				t.Fatalf("map %d has %d at %d (%v), and should have %d (%v)", i, v, k, ok, want, there)
			}
		}
	}
}
