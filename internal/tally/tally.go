// Package tally keeps how often something happened, stretch of time by stretch, from the entries that tell of it.
package tally

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/store"
)

// Minute is one, in microseconds.
const Minute = 60 * 1_000_000

// Tally is how often something happened in the last days, as far as somebody asked: read once, and kept up from entries
// that came since. It is safe for concurrent use.
type Tally struct {
	what store.Counting
	each int64 // stretch that is counted by itself
	keep int64 // how far back

	mu    sync.Mutex
	from  int64 // it is told since this moment; 0 for none
	seq   int64 // the entry up to which is counted
	parts []part
}

// Lost reports whether an entry lost its body since those up to one were read: by a redaction, or to an archive. The
// entry that tells so comes with it.
func Lost(ctx context.Context, records *store.Store, seq int64) (is bool, err error) {
	for _, kind := range []ledger.Kind{ledger.Redacted, ledger.Archived} {
		if err = records.Behind(ctx, kind, seq, func(ledger.Entry) error { is = true; return nil }); err != nil {
			return false, err
		}
	}
	return is, nil
}

// part is what happened in a stretch, which begins at a moment.
type part struct {
	at int64
	of map[[2]string]int
}

// Of counts what is given, by stretches of so many microseconds, and keeps that so far back.
func Of(what store.Counting, each, keep int64) *Tally {
	return &Tally{what: what, each: each, keep: keep}
}

// Since visits what happened since the beginning of the stretch that a moment is in, oldest first: how often in the
// stretch that begins at one.
func (t *Tally) Since(ctx context.Context, records *store.Store, since, now int64,
	visit func(at int64, of [2]string, n int)) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	since -= since % t.each
	size := records.Sealed().Size
	anew, err := Lost(ctx, records, t.seq)
	if err != nil {
		return err
	}
	if anew || t.from == 0 || since < t.from {
		first, err := records.Before(ctx, since)
		if err != nil {
			return err
		}
		t.from, t.seq, t.parts = since, first, nil
	}
	if size > t.seq {
		more, err := records.Counts(ctx, t.what, t.seq, size, t.from, t.each)
		if err != nil {
			t.from = 0 // as if nothing had been read
			return err
		}
		t.add(more)
		t.seq = size
	}
	if old := now - t.keep; t.from < old && since >= old {
		t.from = old - old%t.each
		t.parts = slices.DeleteFunc(t.parts, func(m part) bool { return m.at < t.from })
	}
	for _, m := range t.parts[sort.Search(len(t.parts), func(i int) bool { return t.parts[i].at >= since }):] {
		for of, n := range m.of {
			visit(m.at, of, n)
		}
	}
	return nil
}

// add counts what came, of which some may be in the stretch that was counted last.
func (t *Tally) add(more []store.Counted) {
	for _, x := range more {
		last := len(t.parts) - 1
		if last < 0 || t.parts[last].at != x.At {
			t.parts = append(t.parts, part{x.At, map[[2]string]int{}})
			last++
		}
		t.parts[last].of[x.Of] += x.Count
	}
}

// Check compares what is kept with what the entries tell of, and returns where the two differ.
func (t *Tally) Check(ctx context.Context, records *store.Store) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if anew, err := Lost(ctx, records, t.seq); err != nil || anew || t.from == 0 {
		t.from = 0 // it is read anew when somebody asks
		return err
	}
	first, err := records.Before(ctx, t.from)
	if err != nil {
		return err
	}
	told, err := records.Counts(ctx, t.what, first, t.seq, t.from, t.each)
	if err != nil {
		return err
	}
	sum := map[string]int{}
	for _, m := range t.parts {
		for of, n := range m.of {
			sum[fmt.Sprintf("%d %q", m.at, of)] += n
		}
	}
	for _, x := range told {
		sum[fmt.Sprintf("%d %q", x.At, x.Of)] -= x.Count
	}
	for what, n := range sum {
		if n != 0 {
			at, of, _ := strings.Cut(what, " ")
			return fmt.Errorf("of %s in the stretch from %s %d more are kept than entries tell of", of, at, n)
		}
	}
	return nil
}
