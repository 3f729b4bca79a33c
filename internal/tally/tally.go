// Package tally keeps how often something happened, stretch of time by stretch, from the entries that tell of it.
package tally

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"

	"ironledger.example/internal/store"
)

// Minute is one, in microseconds.
const Minute = 60 * 1_000_000

// Tally is how often something happened in the last days, as far as somebody asked: read once, and kept up from entries
// that came since. It is safe for concurrent use.
type Tally struct {
	what Counting
	each int64 // stretch that is counted by itself
	keep int64 // how far back

	mu    sync.Mutex
	parts Kept[[]part]
}

// part is what happened in a stretch, which begins at a moment.
type part struct {
	at int64
	of map[[2]string]int
}

// Of counts what is given, by stretches of so many microseconds, and keeps that so far back.
func Of(what Counting, each, keep int64) *Tally {
	return &Tally{what: what, each: each, keep: keep}
}

// Since visits what happened since the beginning of the stretch that a moment is in, oldest first: how often in the
// stretch that begins at one.
func (t *Tally) Since(ctx context.Context, records *store.Store, since, now int64,
	visit func(at int64, of [2]string, n int)) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	since -= since % t.each
	if err := t.parts.Bring(ctx, records, since, func(of []part, since, behind, last int64) ([]part, error) {
		more, err := t.what.count(ctx, records, behind, last, since, t.each)
		if err != nil {
			return nil, err
		}
		return added(of, more), nil
	}); err != nil {
		return err
	}
	old := now - t.keep
	t.parts.Forget(old-old%t.each, since, func(of []part, old int64) []part { return slices.Clone(of[first(of, old):]) })
	for _, m := range t.parts.Of[first(t.parts.Of, since):] {
		for of, n := range m.of {
			visit(m.at, of, n)
		}
	}
	return nil
}

// first is the place of the first that begins at a moment or later.
func first(parts []part, since int64) int {
	return sort.Search(len(parts), func(i int) bool { return parts[i].at >= since })
}

// added counts what came, of which some may be in the stretch that was counted last.
func added(parts []part, more []counted) []part {
	for _, x := range more {
		if last := len(parts) - 1; last < 0 || parts[last].at != x.at {
			parts = append(parts, part{x.at, map[[2]string]int{}})
		}
		parts[len(parts)-1].of[x.of] += x.n
	}
	return parts
}

// Check compares what is kept with what the entries tell of, and returns where the two differ.
func (t *Tally) Check(ctx context.Context, records *store.Store) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	var told []counted
	is, err := t.parts.Told(ctx, records, func(since, behind, last int64) (err error) {
		told, err = t.what.count(ctx, records, behind, last, since, t.each)
		return err
	})
	if err != nil || !is {
		return err
	}
	sum := map[string]int{}
	for _, m := range t.parts.Of {
		for of, n := range m.of {
			sum[fmt.Sprintf("%d %q", m.at, of)] += n
		}
	}
	for _, x := range told {
		sum[fmt.Sprintf("%d %q", x.at, x.of)] -= x.n
	}
	for what, n := range sum {
		if n != 0 {
			at, of, _ := strings.Cut(what, " ")
			return fmt.Errorf("of %s in the stretch from %s %d more are kept than entries tell of", of, at, n)
		}
	}
	return nil
}
