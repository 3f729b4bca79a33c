package engine

import "testing"

// A small heap may grow to five times what is live, and none to more; a large one to twice that.
func TestHowMuchAHeapMayGrow(t *testing.T) {
	const mb = 1 << 20
	for live, want := range map[uint64]int{64 * mb: 400, 160 * mb: 400, 320 * mb: 200, 640 * mb: 100, 8192 * mb: 100} {
		if got := growth(live); got != want {
			t.Errorf("with %d MB live it may grow by %d of a hundred, not %d", live/mb, got, want)
		}
	}
}

// What was thrown away is given back when nothing has been collected for a while, if it is much.
func TestWhatLingersIsGivenBack(t *testing.T) {
	const mb = 1 << 20
	little := heapSize{live: 400 * mb, all: 480 * mb, collected: 7}
	much := heapSize{live: 400 * mb, all: 600 * mb, collected: 7}
	var q quiet
	for i := range 2 * quietFor {
		if got, want := q.lingers(much), i >= quietFor; got != want {
			t.Fatalf("after %d ticks: %v", i, got)
		}
	}
	if q.lingers(little) {
		t.Error("little is given back")
	}
	much.collected++
	if q.lingers(much) {
		t.Error("what was collected just now is given back")
	}
}
