package service

import (
	"context"
	"slices"
	"strings"

	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
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
			if d, ok := snap.Fleet.Find(k); ok {
				shown.Device = d
			}
		}
		out = append(out, shown)
	}
	slices.SortFunc(out, func(a, b ShownRosterEntry) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// ImportRoster adds entries to the roster or replaces those of the same id,
// and appraises the fleet under it.
func (s *Service) ImportRoster(ctx context.Context, actor string, hardware []directory.Hardware) (added, changed int, err error) {
	err = s.doAlone(ctx, func(c *change) error {
		was := houseUndo{}
		all := make(map[string]RosterEntry, len(c.base.Roster.entries)+len(hardware))
		for id, e := range c.base.Roster.entries {
			all[id] = e
		}
		for _, h := range hardware {
			e := RosterEntry{ID: h.ID(), Serial: h.Serial, HardwareID: h.HardwareID, Note: h.Note}
			old, there := all[e.ID]
			if _, noted := was[e.ID]; !noted {
				if was[e.ID] = nil; there {
					was[e.ID] = old
				}
			}
			switch {
			case !there:
				added++
			case old.Serial != e.Serial || old.HardwareID != e.HardwareID || old.Note != e.Note:
				changed++
			default:
				continue
			}
			e.At, e.By = c.now, actor
			all[e.ID] = e
			if err := c.batch.PutDocument(rosterDocument, e.ID, e); err != nil {
				return err
			}
		}
		if added+changed == 0 {
			return nil
		}
		c.record(ledger.RosterImported, actor, "roster", map[string]int{"added": added, "changed": changed})
		c.rebuildRoster(all, was, actor)
		return nil
	})
	return added, changed, err
}

// RemoveRoster takes an entry, named by its id, off the roster.
func (s *Service) RemoveRoster(ctx context.Context, actor, id, reason string) error {
	if err := checkReason(&reason); err != nil {
		return err
	}
	id = strings.ToLower(id)
	return s.doAlone(ctx, func(c *change) error {
		e, there := c.base.Roster.entries[id]
		if !there {
			return &NotFoundError{"roster entry", id}
		}
		all := make(map[string]RosterEntry, len(c.base.Roster.entries))
		for k, x := range c.base.Roster.entries {
			if k != id {
				all[k] = x
			}
		}
		c.batch.DropDocument(rosterDocument, id)
		c.record(ledger.RosterRemoved, actor, id, map[string]string{"serial": e.Serial, "hardware_id": e.HardwareID, "reason": reason})
		c.rebuildRoster(all, houseUndo{id: e}, actor)
		return nil
	})
}

// rebuildRoster appraises the fleet under another roster, and keeps what its
// entries were.
func (c *change) rebuildRoster(all map[string]RosterEntry, was houseUndo, actor string) {
	next := newRoster(all)
	next.revision = c.base.Roster.revision + 1
	c.keepHouse(houseRoster, next.revision, was)
	c.rebuild(&Snapshot{Book: c.base.Book.renewed(), People: c.base.People, Roster: next}, cause{kind: byRoster, actor: actor})
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
