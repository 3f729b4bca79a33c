package view

import (
	"runtime"
	"sync"
	"sync/atomic"

	"ironledger.example/core/rulebook"
	"ironledger.example/internal/state"
	"ironledger.example/internal/versioned"
)

// fold keeps what was worked out of each page of the fleet for as long as it holds: until a device in the page changes,
// another rulebook is in force, or the moment comes for which it was said. So the fleet is looked over in the time that
// its changes take, however large it is. It keeps no device from being forgotten.
type fold[T any] struct {
	mu    sync.Mutex
	rules *rulebook.Rulebook
	pages []folded[T]
}

type folded[T any] struct {
	mark  versioned.Mark[state.Device]
	until int64 // it holds before then
	of    T
}

// over works out what is not known any more of a fleet at the moment now, on all cores, and returns one value a page.
// work says of the devices of a page what they come to, and until when that holds.
func (f *fold[T]) over(snap *state.Snapshot, now int64, work func(versioned.Page[state.Device]) (T, int64)) []T {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.rules != snap.Book.Rulebook {
		f.rules, f.pages = snap.Book.Rulebook, nil
	}
	type task struct {
		at   int
		page versioned.Page[state.Device]
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
		} else {
			tasks = append(tasks, task{i, page})
		}
	}
	var next atomic.Int64
	var wg sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(tasks)) {
		wg.Go(func() {
			for n := next.Add(1) - 1; n < int64(len(tasks)); n = next.Add(1) - 1 {
				t := tasks[n]
				of, until := work(t.page)
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
