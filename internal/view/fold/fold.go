// Package fold keeps what parts of the fleet come to for as long as it holds, so that what is counted, listed or looked
// for over all devices takes the time of what changed.
package fold

import (
	"fmt"
	"reflect"
	"runtime"
	"sync"
	"sync/atomic"

	"ironledger.example/core/rulebook"
	"ironledger.example/internal/giveway"
	"ironledger.example/internal/state"
	"ironledger.example/internal/versioned"
)

// Fold keeps what was worked out of each page of the fleet for as long as it holds: until a device in the page changes,
// another rulebook is in force, or the moment comes for which it was said. So the fleet is looked over in the time that
// its changes take, however large it is. It keeps no device from being forgotten.
type Fold[T any] struct {
	// Differs is called with what is kept and what comes out instead when somebody asks, if the two are not the same:
	// with it, nothing is taken from what is kept without being worked out again. nil: what is kept is believed.
	Differs func(error)
	// Same compares the two at a moment, if they need not be equal; nil: they must be.
	Same func(kept, anew T, now int64) bool

	mu    sync.Mutex
	rules *rulebook.Rulebook
	pages []folded[T]
}

type folded[T any] struct {
	mark  versioned.Mark[state.Device]
	until int64 // it holds before then
	of    T
}

// Over works out what is not known any more of a fleet at the moment now, on all cores, and returns one value a page.
// work says of the devices of a page what they come to, and until when that holds.
func (f *Fold[T]) Over(snap *state.Snapshot, now int64, work func(versioned.Page[state.Device]) (T, int64)) []T {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.rules != snap.Book.Rulebook {
		f.rules, f.pages = snap.Book.Rulebook, nil
	}
	type task struct {
		at    int
		page  versioned.Page[state.Device]
		known bool // it is worked out only to be compared
	}
	var tasks []task
	known := f.pages
	f.pages = nil
	for i, page := range snap.Fleet.Pages() {
		for i >= len(f.pages) {
			f.pages = append(f.pages, folded[T]{})
		}
		if i < len(known) && known[i].mark == page.Mark() && now < known[i].until {
			f.pages[i] = known[i]
			if f.Differs != nil {
				tasks = append(tasks, task{i, page, true})
			}
		} else {
			tasks = append(tasks, task{i, page, false})
		}
	}
	var next atomic.Int64
	var wg sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(tasks)) {
		wg.Go(func() {
			var long giveway.Long
			for n := next.Add(1) - 1; n < int64(len(tasks)); n = next.Add(1) - 1 {
				long.Pass()
				t := tasks[n]
				of, until := work(t.page)
				if t.known {
					f.compare(f.pages[t.at].of, of, t.at, now)
					continue
				}
				f.pages[t.at] = folded[T]{t.page.Mark(), until, of}
			}
		})
	}
	wg.Wait()
	out := make([]T, len(f.pages))
	for i := range f.pages {
		out[i] = f.pages[i].of
	}
	return out
}

// compare tells when what is kept of a page is not what it comes to.
func (f *Fold[T]) compare(kept, anew T, at int, now int64) {
	same := f.Same
	if same == nil {
		same = func(kept, anew T, _ int64) bool { return reflect.DeepEqual(kept, anew) }
	}
	if !same(kept, anew, now) {
		f.Differs(fmt.Errorf("of part %d of the fleet this is kept: %+v; and it comes to %+v", at, kept, anew))
	}
}
