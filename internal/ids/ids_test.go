package ids

import (
	"slices"
	"sync"
	"testing"
)

// Ids rise with time and within a moment, whoever makes them, and none comes twice.
func TestIdsRise(t *testing.T) {
	var m Maker
	var last string
	for now := range int64(3000) {
		id := m.Next(now * 400)
		if id <= last || !IsID(id) {
			t.Fatalf("%s comes after %s", id, last)
		}
		last = id
	}
	if id := m.Next(0); id <= last {
		t.Errorf("with the clock set back %s comes after %s", id, last)
	}
	all := make([][]string, 8)
	var wg sync.WaitGroup
	for w := range all {
		wg.Go(func() {
			for range 2000 {
				all[w] = append(all[w], m.Next(5))
			}
		})
	}
	wg.Wait()
	every := slices.Concat(all...)
	slices.Sort(every)
	if n := len(slices.Compact(every)); n != 16_000 {
		t.Errorf("%d of 16000 differ", n)
	}
}

// No decision of a moment, or of a little before it, has an id below the earliest.
func TestTheEarliestId(t *testing.T) {
	const moment = int64(1_800_000_000_000_000)
	for _, made := range []int64{moment, moment - maxDrift + 1_000_000, moment + 1} {
		var m Maker
		if id := m.Next(made); id < Earliest(moment) {
			t.Errorf("%s, made %d after, lies before %s", id, made-moment, Earliest(moment))
		}
	}
	var m Maker
	if id := m.Next(moment - maxDrift - 10_000_000); id >= Earliest(moment) {
		t.Error("an older one does not lie before it")
	}
	if Earliest(-5) > Earliest(0) {
		t.Error("before all time there is an earliest id")
	}
	for _, bad := range []string{"", "w-1", "06h2wngsc000033cer", "06h2wngsc000033cer77x", "06H2WNGSC000033CER7O"} {
		if IsID(bad) {
			t.Errorf("%q is taken for an id", bad)
		}
	}
}
