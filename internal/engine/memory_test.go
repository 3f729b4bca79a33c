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
