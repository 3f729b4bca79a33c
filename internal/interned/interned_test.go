package interned

import (
	"slices"
	"sync"
	"testing"
)

func TestTheSameListsAreOne(t *testing.T) {
	var s Lists[byte]
	list := []byte{1, 2, 3}
	first := s.Of(list)
	list[0] = 9 // what was given is not what is kept
	if !slices.Equal(first, []byte{1, 2, 3}) || &s.Of([]byte{1, 2, 3})[0] != &first[0] {
		t.Errorf("%v is not kept once", first)
	}
	if s.Of(nil) != nil || slices.Equal(s.Of([]byte{3}), first) {
		t.Error("another list is the same")
	}
	var wg sync.WaitGroup
	for i := range 4 {
		wg.Go(func() {
			for j := range most {
				want := []byte{byte(j), byte(j >> 8), byte(i)}
				if got := s.Of(want); !slices.Equal(got, want) {
					t.Errorf("%v for %v", got, want)
				}
			}
		})
	}
	wg.Wait()
}
