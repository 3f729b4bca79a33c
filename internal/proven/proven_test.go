package proven

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/ledger"
)

// kept are entries as a database has them, with the hashes of the tree that was signed.
type kept struct {
	lines []ledger.Line
	tree  ledger.CompactRange
	tiles map[int]map[int64]tlog.Hash
}

// recorded are entries that were written one after the other.
func recorded(entries ...ledger.Entry) *kept {
	k := &kept{tiles: map[int]map[int64]tlog.Hash{0: {}}}
	for i, e := range entries {
		e.Seq, e.At, e.Actor = int64(i+1), int64(i+1), "edge"
		l := ledger.Line{Entry: e, Leaf: ledger.Leaf(e.Append(nil))}
		k.lines = append(k.lines, l)
		k.tiles[0][int64(i)] = l.Leaf
		k.tree.Add(l.Leaf, func(level int, n int64, h tlog.Hash) {
			if k.tiles[level] == nil {
				k.tiles[level] = map[int64]tlog.Hash{}
			}
			k.tiles[level][n] = h
		})
	}
	return k
}

func (k *kept) head() ledger.Head { return ledger.Head{Size: k.tree.Size(), Root: k.tree.Root()} }

func (k *kept) Lines(ctx context.Context, from, to int64, visit func(*ledger.Line) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	for i := range k.lines {
		if l := &k.lines[i]; l.Seq >= from && l.Seq <= to {
			if err := visit(l); err != nil {
				return err
			}
		}
	}
	return nil
}

func (k *kept) Tiles(context.Context) ledger.TileReader {
	return func(level int, n int64, width int) ([]tlog.Hash, error) {
		out := make([]tlog.Hash, width)
		for i := range out {
			out[i] = k.tiles[level][n+int64(i)]
		}
		return out, nil
	}
}

func (k *kept) About(_ context.Context, about string, _ int64, limit int) (out []ledger.Entry, _ error) {
	for _, l := range slices.Backward(k.lines) {
		if l.About == about && len(out) < limit {
			out = append(out, l.Entry)
		}
	}
	return out, nil
}

func decision(n int) ledger.Entry {
	return ledger.Entry{Kind: ledger.DecisionMade, About: fmt.Sprint("d", n), Body: fmt.Appendf(nil, `{"n":%d}`, n)}
}

func redaction(of int) ledger.Entry {
	return ledger.Entry{Kind: ledger.Redacted, About: fmt.Sprint(of), Body: fmt.Appendf(nil, `{"entry":%d}`, of)}
}

func archival(from, to int) ledger.Entry {
	return ledger.Entry{Kind: ledger.Archived, About: "ar-1",
		Body: fmt.Appendf(nil, `{"archive":"ar-1","entries":9,"from":%d,"to":%d}`, from, to)}
}

// Every entry is visited that is what was signed; whatever was altered, taken out or hidden meanwhile is told of instead.
func TestBetween(t *testing.T) {
	for name, c := range map[string]struct {
		entries  []ledger.Entry
		alter    func(*kept)
		from, to int64
		seen     int    // entries that are visited, when there is no problem
		problem  string // "" for none
	}{
		"as it was":      {[]ledger.Entry{decision(1), decision(2), decision(3)}, nil, 1, 9, 3, ""},
		"a part of it":   {[]ledger.Entry{decision(1), decision(2), decision(3)}, nil, 2, 2, 1, ""},
		"behind its end": {[]ledger.Entry{decision(1)}, nil, 5, 9, 0, ""},
		"another body": {[]ledger.Entry{decision(1), decision(2)},
			func(k *kept) { k.lines[1].Body = []byte(`{"n":9}`) }, 1, 9, 0, "entry 2 was changed"},
		"another subject": {[]ledger.Entry{decision(1), decision(2)}, func(k *kept) { k.lines[0].About = "d9" },
			1, 9, 0, "entry 1 was changed"},
		"another leaf beside it": {[]ledger.Entry{decision(1), decision(2)}, func(k *kept) {
			k.lines[0].Body = []byte(`{"n":9}`)
			k.lines[0].Leaf = ledger.Leaf(k.lines[0].Append(nil))
			k.tiles[0][0] = k.lines[0].Leaf
		}, 1, 9, 0, "the tree of entries"},
		"one is missing": {[]ledger.Entry{decision(1), decision(2), decision(3)},
			func(k *kept) { k.lines = slices.Delete(k.lines, 1, 2) }, 1, 9, 0, "entry 2 is missing"},
		"the last is missing": {[]ledger.Entry{decision(1), decision(2)},
			func(k *kept) { k.lines = k.lines[:1] }, 1, 9, 0, "entry 2 is missing"},
		"redacted, as is told": {[]ledger.Entry{decision(1), decision(2), redaction(1)},
			func(k *kept) { k.lines[0].Body = nil }, 1, 9, 3, ""},
		"redacted, as is told behind": {[]ledger.Entry{decision(1), decision(2), redaction(1)},
			func(k *kept) { k.lines[0].Body = nil }, 1, 2, 2, ""},
		"redacted, and nobody tells": {[]ledger.Entry{decision(1), decision(2), redaction(2)},
			func(k *kept) { k.lines[0].Body = nil }, 1, 9, 0, "no redaction tells why"},
		"redacted by an entry that was added": {[]ledger.Entry{decision(1), decision(2)}, func(k *kept) {
			k.lines[0].Body = nil
			e := redaction(1)
			e.Seq = 3
			k.lines = append(k.lines, ledger.Line{Entry: e})
		}, 1, 9, 0, "no redaction tells why"},
		"archived, as is told": {[]ledger.Entry{decision(1), decision(2), archival(1, 2)},
			func(k *kept) { k.lines[1].Body, k.lines[1].Archive = nil, "ar-1" }, 1, 9, 3, ""},
		"archived, asked for alone": {[]ledger.Entry{decision(1), decision(2), archival(1, 2)},
			func(k *kept) { k.lines[1].Body, k.lines[1].Archive = nil, "ar-1" }, 2, 2, 1, ""},
		"archived, not that far": {[]ledger.Entry{decision(1), decision(2), archival(1, 1)},
			func(k *kept) { k.lines[1].Body, k.lines[1].Archive = nil, "ar-1" }, 1, 9, 0, "said to be in the archive ar-1"},
		"archived, in no archive": {[]ledger.Entry{decision(1), decision(2), archival(1, 2)},
			func(k *kept) { k.lines[1].Body, k.lines[1].Archive = nil, "ar-2" }, 1, 9, 0, "said to be in the archive ar-2"},
		"archived by an entry that is archived": {[]ledger.Entry{decision(1), archival(1, 2)}, func(k *kept) {
			k.lines[0].Body, k.lines[0].Archive = nil, "ar-1"
			k.lines[1].Body, k.lines[1].Archive = nil, "ar-1"
		}, 1, 1, 0, "said to be in the archive ar-1"},
		"an archival that is archived": {[]ledger.Entry{decision(1), archival(1, 1)},
			func(k *kept) { k.lines[1].Body, k.lines[1].Archive = nil, "ar-1" }, 1, 9, 0, "tells of an archive, and is said to be in one"},
		"archived by an entry of the future": {[]ledger.Entry{decision(1), archival(1, 2), decision(2)},
			func(k *kept) { k.lines[0].Body, k.lines[0].Archive = nil, "ar-1" }, 1, 9, 0, "said to be in the archive ar-1"},
		"archived by an entry that was changed": {[]ledger.Entry{decision(1), decision(2), archival(1, 1)}, func(k *kept) {
			k.lines[1].Body, k.lines[1].Archive = nil, "ar-1"
			k.lines[2].Body = archival(1, 2).Body
		}, 1, 2, 0, "said to be in the archive ar-1"},
		"archived by an entry that was added": {[]ledger.Entry{decision(1), decision(2)}, func(k *kept) {
			k.lines[0].Body, k.lines[0].Archive = nil, "ar-1"
			e := archival(1, 1)
			e.Seq = 3
			k.lines = append(k.lines, ledger.Line{Entry: e})
		}, 1, 9, 0, "said to be in the archive ar-1"},
	} {
		k := recorded(c.entries...)
		if c.alter != nil {
			c.alter(k)
		}
		for how, walk := range walks {
			seen := 0
			err := walk(t.Context(), k, k.head(), c.from, c.to, func(ledger.Entry) error { seen++; return nil })
			tampered := (*TamperError)(nil)
			switch {
			case c.problem == "" && (err != nil || seen != c.seen):
				t.Errorf("%s, %s: %d entries are visited, %v; %d were expected", name, how, seen, err, c.seen)
			case c.problem != "" && (!errors.As(err, &tampered) || !strings.Contains(err.Error(), c.problem)):
				t.Errorf("%s, %s: %v; %q was expected", name, how, err, c.problem)
			}
		}
	}
}

var walks = map[string]func(context.Context, Records, ledger.Head, int64, int64, func(ledger.Entry) error) error{
	"between": Between, "ahead": Ahead}

// A walk over many stretches visits all in order, tells across them why a body is gone, and ends when whoever visits
// or asked says so.
func TestWalksOverManyStretches(t *testing.T) {
	const n = 3*stretchSize + 7
	var entries []ledger.Entry
	for i := range n - 1 {
		entries = append(entries, decision(i))
	}
	k, enough := recorded(append(entries, redaction(stretchSize+1))...), errors.New("enough")
	k.lines[stretchSize].Body = nil
	for how, walk := range walks {
		next := int64(2)
		err := walk(t.Context(), k, k.head(), 2, 1<<40, func(e ledger.Entry) error {
			if e.Seq != next {
				t.Fatalf("%s: entry %d comes in the place of %d", how, e.Seq, next)
			}
			next++
			return nil
		})
		if err != nil || next != n+1 {
			t.Fatalf("%s: it ends before entry %d of %d, %v", how, next, n, err)
		}
		seen := 0
		err = walk(t.Context(), k, k.head(), 300, 1<<40, func(e ledger.Entry) error {
			if seen++; e.Seq == stretchSize+600 {
				return enough
			}
			return nil
		})
		if !errors.Is(err, enough) || seen != stretchSize+301 {
			t.Errorf("%s: it ends after %d with %v", how, seen, err)
		}
		ctx, leave := context.WithCancel(t.Context())
		err = walk(ctx, k, k.head(), 1, 1<<40, func(e ledger.Entry) error {
			if e.Seq == 9 {
				leave()
			}
			return ctx.Err()
		})
		if !errors.Is(err, context.Canceled) {
			t.Errorf("%s: its caller left, and it ends with %v", how, err)
		}
		if err = walk(ctx, k, k.head(), 1, 1<<40, func(ledger.Entry) error { return nil }); !errors.Is(err, context.Canceled) {
			t.Errorf("%s: its caller had left, and it ends with %v", how, err)
		}
		altered := *k
		altered.lines = slices.Clone(k.lines)
		altered.lines[2*stretchSize+5].About = "another"
		seen = 0
		err = walk(t.Context(), &altered, k.head(), 1, 1<<40, func(ledger.Entry) error { seen++; return nil })
		if tampered := (*TamperError)(nil); !errors.As(err, &tampered) || seen != 2*stretchSize+5 {
			t.Errorf("%s: an entry was changed, and %d are visited, %v", how, seen, err)
		}
	}
}
