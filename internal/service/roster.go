package service

import (
	"context"
	"maps"
	"slices"
	"strings"

	"ironledger.example/core/directory"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/versioned"
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
	entries  versioned.Map[string, RosterEntry]
	keys     versioned.Map[evidence.Key, int] // how many entries have it
	revision int64                            // counts the changes
}

func newRoster(entries map[string]RosterEntry) *Roster {
	keys := make(map[evidence.Key]int, len(entries))
	for _, e := range entries {
		for _, k := range e.keys() {
			keys[k]++
		}
	}
	return &Roster{entries: versioned.Of(entries), keys: versioned.Of(keys)}
}

// with is the roster with some entries otherwise: nil for one that is taken off.
func (r *Roster) with(changes map[string]*RosterEntry) *Roster {
	keys := map[evidence.Key]*int{}
	count := func(e *RosterEntry, by int) {
		for _, k := range e.keys() {
			if keys[k] == nil {
				n := 0
				if had := r.keys.Get(k); had != nil {
					n = *had
				}
				keys[k] = &n
			}
			*keys[k] += by
		}
	}
	for id, e := range changes {
		if old := r.entries.Get(id); old != nil {
			count(old, -1)
		}
		if e != nil {
			count(e, 1)
		}
	}
	for k, n := range keys {
		if *n == 0 {
			keys[k] = nil
		}
	}
	return &Roster{entries: r.entries.With(changes), keys: r.keys.With(keys), revision: r.revision + 1}
}

func (e *RosterEntry) keys() []evidence.Key {
	var keys []evidence.Key
	for _, k := range []evidence.Key{evidence.Folded(evidence.BySerial, e.Serial),
		evidence.Folded(evidence.ByHardware, e.HardwareID)} {
		if k.Text != "" {
			keys = append(keys, k)
		}
	}
	return keys
}

// Has reports whether one of a device's keys is on the roster.
func (r *Roster) Has(keys []evidence.Key) bool {
	return r != nil && r.keys.Len() > 0 && slices.ContainsFunc(keys,
		func(k evidence.Key) bool { return r.keys.Get(k) != nil })
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
	for id, e := range snap.Roster.entries.All() {
		if !strings.Contains(strings.ToLower(id+"\n"+e.HardwareID+"\n"+e.Note), text) {
			continue
		}
		shown := ShownRosterEntry{ID: id, Serial: e.Serial, HardwareID: e.HardwareID, Note: e.Note,
			At: value.FormatTime(e.At), By: e.By}
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

// rosterPlan is what becomes of a roster.
type rosterPlan struct {
	ListIntake
	next *Roster
	was  houseUndo[RosterEntry]
	puts map[string]*RosterEntry // what is new or changed; nil for what is taken off
}

// put adds an entry as it becomes, nil for one that is taken off.
func (in *rosterPlan) put(r *Roster, id string, e *RosterEntry) {
	if in.was == nil {
		in.was, in.puts = houseUndo[RosterEntry]{}, map[string]*RosterEntry{}
	}
	if _, noted := in.was[id]; !noted {
		in.was[id] = r.entries.Get(id)
	}
	in.puts[id] = e
}

func (r *Roster) plan(hardware []directory.Hardware, actor string, now int64) *rosterPlan {
	in := &rosterPlan{}
	for _, h := range hardware {
		e := &RosterEntry{ID: h.ID(), Serial: h.Serial, HardwareID: h.HardwareID, Note: h.Note}
		old := r.entries.Get(e.ID)
		if again := in.puts[e.ID]; again != nil { // the same id earlier in the list
			old = again
		}
		switch {
		case old == nil:
			in.Added++
		case old.Serial != e.Serial || old.HardwareID != e.HardwareID || old.Note != e.Note:
			in.Changed++
		default:
			in.Unchanged++
			continue
		}
		e.At, e.By = now, actor
		in.put(r, e.ID, e)
	}
	in.next = r.with(in.puts)
	return in
}

// devices lists those that a plan speaks of, as they are known in a fleet: they have
// a key of what is put, or of what was in its place.
func (in *rosterPlan) devices(was *Roster, f *Fleet) (ids []string) {
	for id := range in.puts {
		for _, r := range []*Roster{was, in.next} {
			e := r.entries.Get(id)
			if e == nil {
				continue
			}
			for _, k := range e.keys() {
				if device, ok := f.Find(k); ok {
					ids = append(ids, device)
				}
			}
		}
	}
	return ids
}

// weighRoster works out what a plan would change in who reaches what: for the
// owners of the devices that it speaks of.
func (s *Service) weighRoster(ctx context.Context, snap *Snapshot, in *rosterPlan) error {
	in.Impacts = nil
	now, owner, owners := s.micros(), snap.Book.Rulebook.Dict.Slot("owner"), map[string]bool{}
	for _, id := range in.devices(snap.Roster, snap.Fleet) {
		if who := snap.at(snap.Fleet.Get(id), now).View.Get(owner, now); who.Known() {
			owners[who.Str()] = true
		}
	}
	return s.weighHouse(ctx, snap, snap.People, in.next, slices.Sorted(maps.Keys(owners)), &in.ListIntake)
}

// ImportRoster adds entries to the roster or replaces those of the same id,
// and appraises the fleet under it. The error is an [*ImpactError] when that would
// lock people out; then nothing has changed.
func (s *Service) ImportRoster(ctx context.Context, actor string, hardware []directory.Hardware,
	how ListImport) (ListIntake, error) {
	how.AcceptImpact = event.Clipped(strings.TrimSpace(how.AcceptImpact), maxReason)
	var in *rosterPlan
	weigh := func(snap *Snapshot) error {
		in = snap.Roster.plan(hardware, actor, s.micros())
		if len(in.puts) == 0 {
			return nil
		}
		if err := s.weighRoster(ctx, snap, in); err != nil {
			return err
		}
		return in.held(&how)
	}
	err := s.weighedOrTried(ctx, how.DryRun, weigh, func(c *change) error {
		if len(in.puts) == 0 {
			return nil
		}
		c.record(actor, &event.RosterImported{Added: in.Added, Changed: in.Changed,
			Accepted: event.Accept(in.Impacts, how.AcceptImpact)})
		return c.replaceRoster(in, actor)
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
		if snap.Roster.entries.Get(id) == nil {
			return &NotFoundError{"roster entry", id}
		}
		in = &rosterPlan{}
		in.put(snap.Roster, id, nil)
		in.next, in.Removed = snap.Roster.with(in.puts), 1
		if err := s.weighRoster(ctx, snap, in); err != nil {
			return err
		}
		return in.held(&ListImport{DryRun: how.DryRun, AcceptImpact: how.AcceptImpact})
	}
	err := s.weighedOrTried(ctx, how.DryRun, weigh, func(c *change) error {
		e := c.base.Roster.entries.Get(id) // weigh found it
		c.record(actor, &event.RosterRemoved{Entry: id, Serial: e.Serial, HardwareID: e.HardwareID,
			Reason:   how.Reason,
			Accepted: event.Accept(in.Impacts, how.AcceptImpact)})
		return c.replaceRoster(in, actor)
	})
	if err != nil {
		return ListIntake{}, err
	}
	return in.ListIntake, nil
}

// replaceRoster puts another roster in the place of the one there is: what its
// entries were is kept, and the devices that they speak of are appraised again.
func (c *change) replaceRoster(in *rosterPlan, actor string) error {
	for _, id := range slices.Sorted(maps.Keys(in.puts)) {
		if e := in.puts[id]; e == nil {
			c.batch.DropDocument(rosterDocument, id)
		} else if err := c.batch.PutDocument(rosterDocument, id, e); err != nil {
			return err
		}
	}
	keepHouse(c, houseRoster, in.next.revision, in.was)
	// As they are known now: since the plan was weighed, others may have come.
	devices := c.base.Fleet.those(in.devices(c.base.Roster, c.base.Fleet))
	c.reach = &reached{}
	c.rebuild(c.base.Book.renewed(), c.base.People, in.next,
		cause{kind: event.ByRoster, actor: actor}, devices)
	return nil
}
