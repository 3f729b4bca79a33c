package service

import (
	"context"
	"maps"
	"slices"
	"strings"

	"ironledger.example/core/directory"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/internal/store"
)

// RosterEntry is a piece of hardware registered in advance as the
// organisation's own. It is known by its serial, its hardware id, or both.
type RosterEntry struct {
	ID         string `json:"id"` // the serial, else the hardware id, case folded
	Serial     string `json:"serial,omitempty"`
	HardwareID string `json:"hardware_id,omitempty"`
	Note       string `json:"note,omitempty"`
	At         int64  `json:"at"`
	By         string `json:"by"`
}

const rosterDocument = "roster"

// Roster is the hardware registered in advance. It is immutable.
type Roster struct {
	entries  map[string]RosterEntry
	keys     map[evidence.Key]string // to the id of the entry
	revision int64                   // counts the changes
}

func newRoster(entries map[string]RosterEntry) *Roster {
	r := &Roster{entries: entries, keys: make(map[evidence.Key]string, len(entries))}
	for id, e := range entries {
		for _, k := range e.keys() {
			r.keys[k] = id
		}
	}
	return r
}

func (e *RosterEntry) keys() []evidence.Key {
	var keys []evidence.Key
	for _, k := range []evidence.Key{evidence.Folded(evidence.BySerial, e.Serial), evidence.Folded(evidence.ByHardware, e.HardwareID)} {
		if k.Text != "" {
			keys = append(keys, k)
		}
	}
	return keys
}

// Has reports whether one of a device's keys is on the roster.
func (r *Roster) Has(keys []evidence.Key) bool {
	return r != nil && len(r.keys) > 0 && slices.ContainsFunc(keys, func(k evidence.Key) bool { _, ok := r.keys[k]; return ok })
}

// ShownRosterEntry is an entry of the roster with the device it turned out to be.
type ShownRosterEntry struct {
	ID         string `json:"id"`
	Serial     string `json:"serial,omitempty"`
	HardwareID string `json:"hardware_id,omitempty"`
	Note       string `json:"note,omitempty"`
	At         string `json:"at"`
	By         string `json:"by"`
	Device     string `json:"device,omitempty"`
}

// RosterList lists the entries that hold a text, by id.
func (s *Service) RosterList(text string) []ShownRosterEntry {
	snap, text := s.Snapshot(), strings.ToLower(strings.TrimSpace(text))
	out := []ShownRosterEntry{}
	for id, e := range snap.Roster.entries {
		if !strings.Contains(strings.ToLower(id+"\n"+e.HardwareID+"\n"+e.Note), text) {
			continue
		}
		shown := ShownRosterEntry{ID: id, Serial: e.Serial, HardwareID: e.HardwareID, Note: e.Note, At: formatTime(e.At), By: e.By}
		for _, k := range e.keys() {
			if d, ok := snap.find(k); ok {
				shown.Device = d
			}
		}
		out = append(out, shown)
	}
	slices.SortFunc(out, func(a, b ShownRosterEntry) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// rosterPlan is a roster that takes the place of another.
type rosterPlan struct {
	ListIntake
	all map[string]RosterEntry
	was houseUndo
	put []string // the ids of entries that are new or changed
}

func (r *Roster) plan(hardware []directory.Hardware, actor string, now int64) *rosterPlan {
	in := &rosterPlan{all: maps.Clone(r.entries), was: houseUndo{}}
	if in.all == nil {
		in.all = map[string]RosterEntry{}
	}
	for _, h := range hardware {
		e := RosterEntry{ID: h.ID(), Serial: h.Serial, HardwareID: h.HardwareID, Note: h.Note}
		old, there := in.all[e.ID]
		if _, noted := in.was[e.ID]; !noted {
			if in.was[e.ID] = nil; there {
				in.was[e.ID] = old
			}
		}
		switch {
		case !there:
			in.Added++
		case old.Serial != e.Serial || old.HardwareID != e.HardwareID || old.Note != e.Note:
			in.Changed++
		default:
			in.Unchanged++
			continue
		}
		e.At, e.By = now, actor
		in.all[e.ID] = e
		in.put = append(in.put, e.ID)
	}
	return in
}

// weighRoster works out what a plan would change in who reaches what: for the
// owners of the devices that it speaks of.
func (s *Service) weighRoster(ctx context.Context, snap *Snapshot, in *rosterPlan) error {
	in.Impacts = nil
	next, now := newRoster(in.all), s.micros()
	owner, owners := snap.Book.Rulebook.Dict.Slot("owner"), map[string]bool{}
	touched := func(entries map[string]RosterEntry, id string) {
		e, there := entries[id]
		if !there {
			return
		}
		for _, k := range e.keys() {
			if device, ok := snap.find(k); ok {
				if d := snap.at(snap.Fleet.Get(device), now); d.View.Get(owner, now).Known() {
					owners[d.View.Get(owner, now).Str()] = true
				}
			}
		}
	}
	for id := range in.was {
		touched(snap.Roster.entries, id)
		touched(next.entries, id)
	}
	return s.weighHouse(ctx, snap, snap.People, next, sortedKeys(owners), &in.ListIntake)
}

// ImportRoster adds entries to the roster or replaces those of the same id,
// and appraises the fleet under it. The error is an [*ImpactError] when that would
// lock people out; then nothing has changed.
func (s *Service) ImportRoster(ctx context.Context, actor string, hardware []directory.Hardware, how ListImport) (ListIntake, error) {
	how.AcceptImpact = event.Clipped(strings.TrimSpace(how.AcceptImpact), maxReason)
	var in *rosterPlan
	weigh := func(snap *Snapshot) error {
		in = snap.Roster.plan(hardware, actor, s.micros())
		if len(in.put) == 0 {
			return nil
		}
		if err := s.weighRoster(ctx, snap, in); err != nil {
			return err
		}
		return in.held(&how)
	}
	err := s.weighedOrTried(ctx, how.DryRun, weigh, func(c *change) error {
		if len(in.put) == 0 {
			return nil
		}
		for _, id := range in.put {
			if err := c.batch.PutDocument(rosterDocument, id, in.all[id]); err != nil {
				return err
			}
		}
		c.record(actor, &event.RosterImported{Added: in.Added, Changed: in.Changed, Accepted: event.Accept(in.Impacts, how.AcceptImpact)})
		c.rebuildRoster(in.all, in.was, actor)
		return nil
	})
	return in.ListIntake, err
}

// RemoveRoster takes an entry, named by its id, off the roster. The error is an
// [*ImpactError] when that would lock people out.
func (s *Service) RemoveRoster(ctx context.Context, actor, id string, how Removal) (ListIntake, error) {
	if err := how.check(); err != nil {
		return ListIntake{}, err
	}
	id = strings.ToLower(id)
	var in *rosterPlan
	weigh := func(snap *Snapshot) error {
		e, there := snap.Roster.entries[id]
		if !there {
			return &NotFoundError{"roster entry", id}
		}
		in = &rosterPlan{all: maps.Clone(snap.Roster.entries), was: houseUndo{id: e}}
		delete(in.all, id)
		in.Removed = 1
		if err := s.weighRoster(ctx, snap, in); err != nil {
			return err
		}
		return in.held(&ListImport{DryRun: how.DryRun, AcceptImpact: how.AcceptImpact})
	}
	err := s.weighedOrTried(ctx, how.DryRun, weigh, func(c *change) error {
		e := c.base.Roster.entries[id] // weigh found it
		c.batch.DropDocument(rosterDocument, id)
		c.record(actor, &event.RosterRemoved{Entry: id, Serial: e.Serial, HardwareID: e.HardwareID, Reason: how.Reason,
			Accepted: event.Accept(in.Impacts, how.AcceptImpact)})
		c.rebuildRoster(in.all, in.was, actor)
		return nil
	})
	if err != nil {
		return ListIntake{}, err
	}
	return in.ListIntake, nil
}

// rebuildRoster appraises the fleet under another roster, and keeps what its
// entries were.
func (c *change) rebuildRoster(all map[string]RosterEntry, was houseUndo, actor string) {
	next := newRoster(all)
	next.revision = c.base.Roster.revision + 1
	c.keepHouse(houseRoster, next.revision, was)
	c.rebuild(&Snapshot{Book: c.base.Book.renewed(), People: c.base.People, Roster: next}, cause{kind: event.ByRoster, actor: actor})
}

// documents reads every document of a kind in the order of their ids.
func documents[T any](ctx context.Context, s *Service, kind string) ([]T, error) {
	all, err := store.Documents[T](ctx, s.store, kind)
	if err != nil {
		return nil, err
	}
	out := make([]T, 0, len(all))
	for _, id := range sortedKeys(all) {
		out = append(out, all[id])
	}
	return out, nil
}

func sortedKeys[T any](m map[string]T) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
