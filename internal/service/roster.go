package service

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

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
	entries map[string]RosterEntry
	keys    map[evidence.Key]string // to the id of the entry
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

// Len is how many entries there are.
func (r *Roster) Len() int { return len(r.entries) }

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

// LineRefusal is a line of a file that was not taken, and why.
type LineRefusal struct {
	Line    int    `json:"line"`
	Message string `json:"message"`
}

// ReadRoster reads a roster from CSV with the columns serial, hardware_id and
// note, in any order. A bad line is refused and the rest is read.
func ReadRoster(in io.Reader) ([]RosterEntry, []LineRefusal, error) {
	r := csv.NewReader(in)
	r.FieldsPerRecord, r.TrimLeadingSpace = -1, true
	head, err := r.Read()
	if err != nil {
		return nil, nil, fmt.Errorf("the roster has no header; serial,hardware_id,note was expected: %w", err)
	}
	columns := map[string]int{}
	for i, name := range head {
		name = strings.ToLower(strings.Trim(name, "\ufeff \t"))
		if !slices.Contains([]string{"serial", "hardware_id", "note"}, name) {
			return nil, nil, fmt.Errorf("%q is not a column of a roster; there are serial, hardware_id and note", name)
		}
		columns[name] = i
	}
	var out []RosterEntry
	refused := []LineRefusal{}
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, refused, nil
		}
		if err != nil {
			return nil, nil, fmt.Errorf("not readable as CSV: %w", err)
		}
		line, _ := r.FieldPos(0)
		cell := func(name string) string {
			if i, ok := columns[name]; ok && i < len(row) {
				return strings.TrimSpace(row[i])
			}
			return ""
		}
		e := RosterEntry{Serial: cell("serial"), HardwareID: cell("hardware_id"), Note: cell("note")}
		e.ID = strings.ToLower(cmp.Or(e.Serial, e.HardwareID))
		switch {
		case e.ID == "":
			refused = append(refused, LineRefusal{line, "the line has neither a serial nor a hardware_id"})
		case len(row) > len(head):
			refused = append(refused, LineRefusal{line, fmt.Sprintf("the line has %d cells under %d columns", len(row), len(head))})
		case len(e.Serial) > 200 || len(e.HardwareID) > 200 || len(e.Note) > 1000:
			refused = append(refused, LineRefusal{line, "a cell is too long"})
		default:
			out = append(out, e)
		}
	}
}

// ImportRoster adds entries to the roster or replaces those of the same id,
// and appraises the fleet under it.
func (s *Service) ImportRoster(ctx context.Context, actor string, entries []RosterEntry) (added, changed int, err error) {
	err = s.doAlone(ctx, func(c *change) error {
		all := make(map[string]RosterEntry, len(c.base.Roster.entries)+len(entries))
		for id, e := range c.base.Roster.entries {
			all[id] = e
		}
		for _, e := range entries {
			old, there := all[e.ID]
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
		c.rebuild(&Snapshot{Book: c.base.Book, People: c.base.People, Roster: newRoster(all)}, cause{kind: byRoster, actor: actor})
		return nil
	})
	return added, changed, err
}

// RemoveRoster takes an entry, named by its id, off the roster.
func (s *Service) RemoveRoster(ctx context.Context, actor, id, reason string) error {
	if reason = strings.TrimSpace(reason); reason == "" || len(reason) > maxReason {
		return &InputError{"/reason", fmt.Sprintf("a reason is needed, of at most %d bytes", maxReason)}
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
		c.rebuild(&Snapshot{Book: c.base.Book, People: c.base.People, Roster: newRoster(all)}, cause{kind: byRoster, actor: actor})
		return nil
	})
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
