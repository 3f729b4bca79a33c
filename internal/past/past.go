// Package past brings back earlier states from what was kept, and compares what is
// computed again with what was recorded.
package past

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
)

// Service brings back the past from the records.
type Service struct {
	*engine.Engine
	mu    sync.Mutex
	books []*state.Book // compiled ones, the latest used last
}

// New is a service over open records.
func New(e *engine.Engine) *Service { return &Service{Engine: e} }

// maxBooks bounds how many rulebooks of the past are kept compiled.
const maxBooks = 4

// BookOf returns a published version, compiled.
func (s *Service) BookOf(ctx context.Context, version int64) (*state.Book, error) {
	if now := s.Snapshot().Book; now.Info.Version == version {
		return now, nil
	}
	if version == 0 {
		return state.EmptyBook(), nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if i := slices.IndexFunc(s.books, func(b *state.Book) bool { return b.Info.Version == version }); i >= 0 {
		s.books[i] = s.anchored(s.books[i])
		return s.books[i], nil
	}
	kept, err := s.Store.Rulebook(ctx, version)
	if err != nil {
		return nil, fmt.Errorf("rulebook %d: %w", version, err)
	}
	book, err := state.CompileBook(kept)
	if err != nil {
		return nil, fmt.Errorf("rulebook %d: %w", version, err)
	}
	if len(s.books) == maxBooks {
		s.books = s.books[1:]
	}
	book = s.anchored(book)
	s.books = append(s.books, book)
	return book, nil
}

// anchored is a book that knows our own authority as it is now: what it issued since says itself when that was.
func (s *Service) anchored(b *state.Book) *state.Book {
	next := *b
	next.Anchor(s.Snapshot().Book.Anchors())
	return &next
}

// Then is which past is meant, as moments or as the revisions that a decision
// was made from.
type Then struct {
	Version                int64 // of the rulebook
	Device, People, Roster store.Then
}

// SnapshotThen puts together the snapshot of a past. Its fleet is empty.
func (s *Service) SnapshotThen(ctx context.Context, t Then) (*state.Snapshot, error) {
	book, err := s.BookOf(ctx, t.Version)
	if err != nil {
		return nil, err
	}
	now := s.Snapshot() // before the steps are read: none that leads here is missed
	people, err := s.Store.PeoplePast(ctx, t.People)
	if err != nil {
		return nil, err
	}
	roster, err := s.Store.RosterPast(ctx, t.Roster)
	if err != nil {
		return nil, err
	}
	return now.HouseThen(book, people, roster)
}

// DeviceThen brings back a device as it was, under a snapshot of that time and
// at the moment now.
func (s *Service) DeviceThen(ctx context.Context, snap *state.Snapshot, id string, at store.Then,
	now int64) (*state.Device, error) {
	present := s.Snapshot().Fleet.Get(id)
	row, steps, err := s.Store.DevicePast(ctx, id, at)
	if err != nil {
		return nil, err
	}
	return snap.DeviceThen(row, steps, present, now)
}

// Forgotten makes that the past is not kept so far back an error of the moment asked
// for.
func Forgotten(err error) error {
	if errors.Is(err, store.ErrForgotten) {
		return fault.Input("/at", err.Error())
	}
	return err
}

// maxDifferences bounds how many differences are told.
const maxDifferences = 50

// disagreement is a place where two values differ; nil is one that is not there.
func disagreement(pointer string, recorded, computed json.RawMessage) api.Disagreement {
	out := api.Disagreement{Pointer: pointer}
	if recorded != nil {
		out.Recorded = recorded
	}
	if computed != nil {
		out.Computed = computed
	}
	return out
}

// Differences adds where two JSON values differ.
func Differences(into *[]api.Disagreement, pointer string, recorded, computed json.RawMessage) error {
	a, err := ledger.Canonical(recorded)
	if err != nil {
		return err
	}
	b, err := ledger.Canonical(computed)
	if err != nil {
		return err
	}
	if string(a) == string(b) || len(*into) == maxDifferences {
		return nil
	}
	inner := func(key string, x, y json.RawMessage) error {
		pointer := pointer + "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(key)
		if x == nil || y == nil {
			*into = append(*into, disagreement(pointer, x, y))
			return nil
		}
		return Differences(into, pointer, x, y)
	}
	switch {
	case a[0] == '{' && b[0] == '{':
		var x, y map[string]json.RawMessage
		if err := cmp.Or(json.Unmarshal(a, &x), json.Unmarshal(b, &y)); err != nil {
			return err
		}
		keys := slices.Collect(maps.Keys(x))
		for k := range y {
			if _, both := x[k]; !both {
				keys = append(keys, k)
			}
		}
		slices.Sort(keys)
		for _, k := range keys {
			if err := inner(k, x[k], y[k]); err != nil {
				return err
			}
		}
		return nil
	case a[0] == '[' && b[0] == '[':
		x, y := slices.Collect(value.Elements(a)), slices.Collect(value.Elements(b))
		for i := range max(len(x), len(y)) {
			var l, r json.RawMessage
			if i < len(x) {
				l = x[i]
			}
			if i < len(y) {
				r = y[i]
			}
			if err := inner(strconv.Itoa(i), l, r); err != nil {
				return err
			}
		}
		return nil
	}
	*into = append(*into, disagreement(pointer, a, b))
	return nil
}
