// Package proven visits entries of the ledger that are proved to be in the tree whose head is
// signed.
package proven

import (
	"context"
	"encoding/json"
	"fmt"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/mod/sumdb/tlog"
	"ironledger.example/core/ledger"
)

// TamperError says that the ledger in the database is not the one that was
// signed.
type TamperError struct{ Message string }

func (e *TamperError) Error() string { return "the ledger was tampered with: " + e.Message }

// Records are the entries and the hashes of the tree as they are kept.
type Records interface {
	// Lines visits the entries from one on to another, oldest first.
	Lines(ctx context.Context, from, to int64, visit func(*ledger.Line) error) error
	// Tiles reads tiles of the tree.
	Tiles(ctx context.Context) ledger.TileReader
	// About reads the entries about something, newest first.
	About(ctx context.Context, about string, before int64, limit int) ([]ledger.Entry, error)
}

// tiles reads tiles for [tlog.TileHashReader], which checks them.
type tiles struct{ ledger.TileReader }

func (t tiles) Height() int                     { return ledger.TileHeight }
func (t tiles) SaveTiles([]tlog.Tile, [][]byte) {}
func (t tiles) ReadTiles(list []tlog.Tile) ([][]byte, error) {
	out := make([][]byte, len(list))
	for i, x := range list {
		var err error
		if out[i], err = t.Tile(x); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// stretchSize is how many entries are read and checked together.
const stretchSize = 16 * ledger.TileWidth

// Between visits the entries from one on to another, oldest first, and checks that each is in
// the tree of head. The error is a [*TamperError] when one is not, or when a body is gone and
// no entry tells why.
func Between(ctx context.Context, s Records, head ledger.Head, from, last int64,
	visit func(ledger.Entry) error) error {
	last = min(last, head.Size)
	gone := missing{}
	for ; from <= last; from += stretchSize {
		err := stretch(ctx, s, head, from, min(from+stretchSize-1, last), func(e ledger.Entry, why loss) error {
			gone.note(e.Seq, why)
			return visit(e)
		})
		if err != nil {
			return err
		}
	}
	return gone.told(ctx, s, head, last)
}

// Ahead does as Between, and has several stretches read and checked at once, for one that waits for all of them. visit is
// called for one entry at a time.
func Ahead(ctx context.Context, s Records, head ledger.Head, from, last int64, visit func(ledger.Entry) error) error {
	type checked struct {
		entries []ledger.Entry
		why     []loss
		err     error
	}
	var wg sync.WaitGroup
	defer wg.Wait()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	last = min(last, head.Size)
	workers := runtime.GOMAXPROCS(0)
	places, stretches := make(chan struct{}, workers), make(chan chan checked, 2*workers)
	wg.Go(func() {
		defer close(stretches)
		for ; from <= last; from += stretchSize {
			begin, end, done := from, min(from+stretchSize-1, last), make(chan checked, 1)
			select {
			case stretches <- done:
			case <-ctx.Done():
				return
			}
			places <- struct{}{}
			wg.Go(func() {
				c := checked{entries: make([]ledger.Entry, 0, end-begin+1), why: make([]loss, 0, end-begin+1)}
				c.err = stretch(ctx, s, head, begin, end, func(e ledger.Entry, why loss) error {
					c.entries, c.why = append(c.entries, e), append(c.why, why)
					return nil
				})
				<-places
				done <- c
			})
		}
	})
	gone := missing{}
	for done := range stretches {
		c := <-done
		for i, e := range c.entries {
			gone.note(e.Seq, c.why[i])
			if err := visit(e); err != nil {
				return err
			}
		}
		if c.err != nil {
			return c.err
		}
	}
	if err := ctx.Err(); err != nil { // then not all came
		return err
	}
	return gone.told(ctx, s, head, last)
}

// loss is what an entry has to do with bodies that are gone.
type loss struct {
	gone bool  // its own is
	of   int64 // it tells why that of this entry is; 0 for none
}

// stretch visits and checks neighbours.
func stretch(ctx context.Context, s Records, head ledger.Head, from, to int64,
	visit func(ledger.Entry, loss) error) error {
	indexes := make([]int64, 0, to-from+1)
	for seq := from; seq <= to; seq++ {
		indexes = append(indexes, tlog.StoredHashIndex(0, seq-1))
	}
	leaves, err := tlog.TileHashReader(tlog.Tree{N: head.Size, Hash: head.Root}, tiles{s.Tiles(ctx)}).ReadHashes(indexes)
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return &TamperError{Message: fmt.Sprintf("the tree of entries %d to %d: %s", from, to, err)}
	}
	archived := archives{s: s, ctx: ctx, head: head}
	next := from
	err = s.Lines(ctx, from, to, func(l *ledger.Line) error {
		if l.Seq != next {
			return &TamperError{Message: fmt.Sprintf("entry %d is missing", next)}
		}
		next++
		why := loss{}
		switch {
		case l.Archive != "" && l.Kind == ledger.Archived: // which no archive takes away
			return &TamperError{Message: fmt.Sprintf("entry %d tells of an archive, and is said to be in one", l.Seq)}
		case l.Archive != "" && !archived.holds(l.Archive, l.Seq):
			return &TamperError{Message: fmt.Sprintf("the body of entry %d is said to be in the archive %s, and no entry "+
				"tells that it is", l.Seq, l.Archive)}
		case l.Archive != "":
		case l.Body == nil:
			why.gone = true
		case ledger.Leaf(l.Append(nil)) != leaves[l.Seq-from]:
			return &TamperError{Message: fmt.Sprintf("entry %d was changed", l.Seq)}
		case l.Kind == ledger.Redacted:
			var r ledger.Redaction
			if json.Unmarshal(l.Body, &r) == nil {
				why.of = r.Entry
			}
		}
		e := l.Entry
		e.Body = slices.Clone(l.Body)
		return visit(e, why)
	})
	if err == nil && next <= to {
		err = &TamperError{Message: fmt.Sprintf("entry %d is missing", next)}
	}
	return err
}

// missing are the entries whose bodies are gone, of which no later one has told why yet.
type missing map[int64]bool

func (m missing) note(seq int64, why loss) {
	if why.gone {
		m[seq] = true
	}
	delete(m, why.of)
}

// told looks behind what was visited for why bodies are gone.
func (m missing) told(ctx context.Context, s Records, head ledger.Head, last int64) error {
	for seq := range m {
		told, err := redactedBehind(ctx, s, head, seq, last)
		if err != nil {
			return err
		}
		if !told {
			return &TamperError{Message: fmt.Sprintf("the body of entry %d is gone, and no redaction tells why", seq)}
		}
	}
	return nil
}

// Root is the root of the tree as it was with so many entries, worked out from hashes that are proved to be those of
// head.
func Root(ctx context.Context, s Records, head ledger.Head, size int64) (tlog.Hash, error) {
	root, err := tlog.TreeHash(size, tlog.TileHashReader(tlog.Tree{N: head.Size, Hash: head.Root}, tiles{s.Tiles(ctx)}))
	if err != nil {
		return root, &TamperError{Message: fmt.Sprintf("the tree of the first %d entries: %s", size, err)}
	}
	return root, nil
}

// archives are those that entries in the tree tell of, as they are asked for.
type archives struct {
	s    Records
	ctx  context.Context
	head ledger.Head
	told map[string]ledger.Archival
}

// holds reports whether an entry is one of those that an archive has.
func (a *archives) holds(id string, seq int64) bool {
	if _, known := a.told[id]; !known {
		if a.told == nil {
			a.told = map[string]ledger.Archival{}
		}
		a.told[id] = a.read(id)
	}
	return a.told[id].From <= seq && seq <= a.told[id].To
}

func (a *archives) read(id string) (out ledger.Archival) {
	about, err := a.s.About(a.ctx, id, 0, 10)
	if err != nil {
		return out
	}
	for _, e := range about {
		if e.Kind != ledger.Archived || e.Seq > a.head.Size {
			continue
		}
		err := Between(a.ctx, a.s, a.head, e.Seq, e.Seq, func(e ledger.Entry) error {
			return json.Unmarshal(e.Body, &out)
		})
		if err != nil || out.Archive != id || out.To >= e.Seq {
			return ledger.Archival{}
		}
		return out
	}
	return out
}

// redactedBehind reports whether the redaction of an entry is told of behind what was
// looked at, up to last, in an entry that is in the tree itself.
func redactedBehind(ctx context.Context, s Records, head ledger.Head, seq, last int64) (bool, error) {
	if last >= head.Size {
		return false, nil
	}
	about, err := s.About(ctx, fmt.Sprint(seq), 0, 10)
	if err != nil {
		return false, err
	}
	for _, e := range about {
		if e.Kind != ledger.Redacted || e.Seq <= last || e.Seq > head.Size {
			continue
		}
		told := false
		err := Between(ctx, s, head, e.Seq, e.Seq, func(e ledger.Entry) error {
			var r ledger.Redaction
			told = e.Kind == ledger.Redacted && json.Unmarshal(e.Body, &r) == nil && r.Entry == seq
			return nil
		})
		if err != nil || told {
			return told, err
		}
	}
	return false, nil
}
