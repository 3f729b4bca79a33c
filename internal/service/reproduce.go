package service

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

	"ironledger.example/core/directory"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
)

// Reproduction is a past decision or standing, computed again from what was
// kept, beside what was recorded of it.
type Reproduction struct {
	Same bool `json:"same"`
	// Differences say where the two differ.
	Differences []Difference `json:"differences"`
	// What it was computed from.
	At       string `json:"at"`
	Rulebook int64  `json:"rulebook"`
	Device   int64  `json:"device_revision,omitempty"`
	People   int64  `json:"people_revision"`
	Roster   int64  `json:"roster_revision"`
}

// Difference is a place at which something recorded and the same computed again
// differ.
type Difference struct {
	Pointer  string          `json:"pointer"` // RFC 6901
	Recorded json.RawMessage `json:"recorded,omitempty"`
	Computed json.RawMessage `json:"computed,omitempty"`
}

// pastBooks keeps a few compiled rulebooks of the past.
type pastBooks struct {
	mu    sync.Mutex
	books []*Book // the latest used last
}

// maxPastBooks bounds how many are kept compiled.
const maxPastBooks = 4

// bookOf returns a published version, compiled.
func (s *Service) bookOf(ctx context.Context, version int64) (*Book, error) {
	if now := s.Snapshot().Book; now.Info.Version == version {
		return now, nil
	}
	if version == 0 {
		return emptyBook(), nil
	}
	s.books.mu.Lock()
	defer s.books.mu.Unlock()
	if i := slices.IndexFunc(s.books.books, func(b *Book) bool { return b.Info.Version == version }); i >= 0 {
		return s.books.books[i], nil
	}
	kept, err := s.store.Rulebook(ctx, version)
	if err != nil {
		return nil, fmt.Errorf("rulebook %d: %w", version, err)
	}
	book, err := compileBook(kept)
	if err != nil {
		return nil, fmt.Errorf("rulebook %d: %w", version, err)
	}
	if len(s.books.books) == maxPastBooks {
		s.books.books = s.books.books[1:]
	}
	s.books.books = append(s.books.books, book)
	return book, nil
}

// then is which past is meant, as moments or as the revisions that a decision
// was made from.
type then struct {
	version                int64
	device, people, roster store.Then
}

// past puts together the snapshot of a past. Its fleet is empty.
func (s *Service) past(ctx context.Context, t then) (*Snapshot, error) {
	book, err := s.bookOf(ctx, t.version)
	if err != nil {
		return nil, err
	}
	now := s.Snapshot()
	people, err := s.store.HousePast(ctx, housePeople, t.people)
	if err != nil {
		return nil, err
	}
	byID := make(map[string]directory.Person, now.People.Len())
	for id, m := range now.People.byID.All() {
		byID[id] = m.Person
	}
	if byID, err = rewindHouse(byID, people); err != nil {
		return nil, err
	}
	roster, err := s.store.HousePast(ctx, houseRoster, t.roster)
	if err != nil {
		return nil, err
	}
	lines := make(map[string]RosterEntry, now.Roster.entries.Len())
	for id, e := range now.Roster.entries.All() {
		lines[id] = *e
	}
	entries, err := rewindHouse(lines, roster)
	if err != nil {
		return nil, err
	}
	snap := &Snapshot{Book: book, People: newPeople(slices.Collect(maps.Values(byID))),
		Roster: newRoster(entries), Fleet: &Fleet{}}
	snap.People.revision, snap.Roster.revision = now.People.revision-int64(len(people)),
		now.Roster.revision-int64(len(roster))
	return snap, nil
}

// pastDevice brings back a device as it was, under a snapshot of that time and
// at the moment now.
func (s *Service) pastDevice(ctx context.Context, snap *Snapshot, id string, at store.Then,
	now int64) (*Device, error) {
	row, steps, err := s.store.DevicePast(ctx, id, at)
	if err != nil {
		return nil, err
	}
	extras := pastExtras{}
	if d := s.Snapshot().Fleet.Get(id); d != nil {
		extras = pastExtras{d.Waivers, d.Vouches, d.Retired, d.Held}
	}
	if err := rewind(&row, steps, &extras); err != nil {
		return nil, err
	}
	granted := exceptions{map[string][]*Waiver{id: extras.waivers}, map[string][]*Vouch{id: extras.vouches},
		map[string]*Retirement{id: extras.retired}}
	d, err := deviceOf(snap.Book, &row, granted)
	if err != nil {
		return nil, err
	}
	d.Held = extras.held
	if len(steps) > 0 {
		d.SeenAt = 0
		for _, r := range d.Record.Readings() {
			d.SeenAt = max(d.SeenAt, r.At)
		}
	}
	snap.appraise(d, &posture.Result{}, now)
	return d, nil
}

// ReproduceDecision makes a recorded decision again, from the states it says it
// was made from.
func (s *Service) ReproduceDecision(ctx context.Context, id string) (*Reproduction, error) {
	r, err := s.Decision(ctx, id)
	if err != nil {
		return nil, err
	}
	if r.Redacted {
		return nil, &InputError{"", fmt.Sprintf("the body of entry %d was redacted: there is nothing left to compare with", r.Seq)}
	}
	b := r.Basis
	if b == nil {
		return nil, &InputError{"", "the decision does not say which states it was made from"}
	}
	now := b.Moment
	snap, err := s.past(ctx, then{r.Rulebook, store.Then{Revision: b.Device}, store.Then{Revision: b.People},
		store.Then{Revision: b.Roster}})
	if err != nil {
		return nil, err
	}
	q := snap.from(r.Asked)
	if b.Device > 0 {
		d, err := s.pastDevice(ctx, snap, r.Device, store.Then{Revision: b.Device}, now)
		if err != nil {
			return nil, forgotten(err)
		}
		snap.on(q.Request, r.Asked, d, now)
	}
	a := snap.answer(r.Asked, q, now)
	a.ID, a.Code, a.Basis = r.ID, r.Code, r.Basis
	out := &Reproduction{At: value.FormatTime(now), Rulebook: r.Rulebook, Device: b.Device, People: b.People,
		Roster: b.Roster, Differences: []Difference{}}
	if err := differences(&out.Differences, "", value.JSON(r.Answer), value.JSON(a)); err != nil {
		return nil, err
	}
	out.Same = len(out.Differences) == 0
	return out, nil
}

func forgotten(err error) error {
	if errors.Is(err, store.ErrForgotten) {
		return &InputError{"/at", err.Error()}
	}
	return err
}

// PastDevice is a device as it stood at a moment.
type PastDevice struct {
	*Detail
	Reproduction Reproduction `json:"reproduction"`
}

// DeviceAt computes how a device stood at a moment, and compares it with the
// change of standing that was recorded last by then.
func (s *Service) DeviceAt(ctx context.Context, name string, at int64) (*PastDevice, error) {
	present := s.Snapshot().named(name)
	if present == nil {
		return nil, &NotFoundError{"device", name}
	}
	switch {
	case at > s.micros():
		return nil, &InputError{"/at", value.FormatTime(at) + " has not come yet"}
	case at < present.FirstSeen:
		return nil, &InputError{"/at",
			fmt.Sprintf("%s was first seen at %s", present.ID, value.FormatTime(present.FirstSeen))}
	}
	books, err := s.store.Rulebooks(ctx)
	if err != nil {
		return nil, err
	}
	t := then{device: store.Then{Revision: -1, At: at}, people: store.Then{Revision: -1, At: at},
		roster: store.Then{Revision: -1, At: at}}
	for _, b := range books { // newest first
		if b.At <= at {
			t.version = b.Version
			break
		}
	}
	snap, err := s.past(ctx, t)
	if err != nil {
		return nil, err
	}
	d, err := s.pastDevice(ctx, snap, present.ID, t.device, at)
	if err != nil {
		return nil, forgotten(err)
	}
	out := &PastDevice{snap.detail(d, at),
		Reproduction{At: value.FormatTime(at), Rulebook: t.version, Device: d.Revision,
			People: snap.People.revision, Roster: snap.Roster.revision, Differences: []Difference{}}}
	recorded, err := s.store.StandingAt(ctx, present.ID, at)
	if err != nil {
		return nil, err
	}
	if changed, ok := event.As[*event.StandingChanged](&recorded); ok {
		if level := out.Standing.Level; changed.To != level {
			out.Reproduction.Differences = append(out.Reproduction.Differences,
				Difference{"/standing/level", value.JSON(changed.To), value.JSON(level)})
		}
	}
	out.Reproduction.Same = len(out.Reproduction.Differences) == 0
	return out, nil
}

// maxDifferences bounds how many differences are told.
const maxDifferences = 50

// differences adds where two JSON values differ.
func differences(into *[]Difference, pointer string, recorded, computed json.RawMessage) error {
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
			*into = append(*into, Difference{pointer, x, y})
			return nil
		}
		return differences(into, pointer, x, y)
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
	*into = append(*into, Difference{pointer, a, b})
	return nil
}
