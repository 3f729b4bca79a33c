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

// Page is a part of the fleet.
type Page = versioned.Page[state.Device]

// PageSize is how many places a page has.
const PageSize = versioned.PageSize

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
	mark  versioned.Mark
	until int64 // it holds before then
	of    T
}

// Part is a page of which it is to be said what it comes to.
type Part[T any] struct {
	Page
	// Known is what it came to before something in it changed, or the moment Until; nil for what is not known. Others
	// read it: it is not to be altered.
	Known *T
	Until int64
	was   versioned.Mark
}

// Changed reports whether the device at a place may be another than the one that is in what is known.
func (p *Part[T]) Changed(place int) bool { return p.Known == nil || p.Mark().Differs(p.was, place) }

// Over works out what is not known any more of a fleet at the moment now, on all cores, and returns one value a page.
// work says of the devices of a page what they come to, and until when that holds.
func (f *Fold[T]) Over(snap *state.Snapshot, now int64, work func(Part[T]) (T, int64)) []T {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.rules != snap.Book.Rulebook {
		f.rules, f.pages = snap.Book.Rulebook, nil
	}
	type task struct {
		at   int
		page Page
		hold bool // it is worked out only to be compared
	}
	var tasks []task
	known := f.pages
	f.pages = nil
	for i, page := range snap.Fleet.Pages() {
		for i >= len(f.pages) {
			f.pages = append(f.pages, folded[T]{})
		}
		if i >= len(known) {
			tasks = append(tasks, task{i, page, false})
			continue
		}
		f.pages[i] = known[i]
		if holds := known[i].mark.Is(page.Mark()) && now < known[i].until; !holds || f.Differs != nil {
			tasks = append(tasks, task{i, page, holds})
		}
	}
	var next atomic.Int64
	var wg sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(tasks)) {
		wg.Go(func() {
			var long giveway.Long
			for n := next.Add(1) - 1; n < int64(len(tasks)); n = next.Add(1) - 1 {
				long.Pass()
				if t, k := tasks[n], &f.pages[tasks[n].at]; !t.hold {
					p := Part[T]{Page: t.page, was: k.mark}
					if !k.mark.None() {
						of := k.of
						p.Known, p.Until = &of, k.until
					}
					*k = folded[T]{mark: t.page.Mark()}
					k.of, k.until = work(p)
				}
				if f.Differs != nil {
					anew, _ := work(Part[T]{Page: tasks[n].page})
					f.compare(f.pages[tasks[n].at].of, anew, tasks[n].at, now)
				}
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
