package house

import (
	"iter"
	"slices"

	"ironledger.example/core/evidence"
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

// Roster is the hardware registered in advance. It is immutable.
type Roster struct {
	entries  versioned.Map[string, RosterEntry]
	keys     versioned.Map[evidence.Key, int] // how many entries have it
	Revision int64                            // counts the changes
}

// NewRoster is a roster of entries by their ids.
func NewRoster(entries map[string]RosterEntry) *Roster {
	keys := make(map[evidence.Key]int, len(entries))
	for _, e := range entries {
		for _, k := range e.Keys() {
			keys[k]++
		}
	}
	return &Roster{entries: versioned.Of(entries), keys: versioned.Of(keys)}
}

// CountOf is how many entries have each key.
func (r *Roster) CountOf() iter.Seq2[evidence.Key, *int] { return r.keys.All() }

// With is the roster with some entries otherwise: nil for one that is taken off.
func (r *Roster) With(changes map[string]*RosterEntry) *Roster {
	keys := map[evidence.Key]*int{}
	count := func(e *RosterEntry, by int) {
		for _, k := range e.Keys() {
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
	return &Roster{entries: r.entries.With(changes), keys: r.keys.With(keys), Revision: r.Revision + 1}
}

// Keys are those that devices are found by.
func (e *RosterEntry) Keys() []evidence.Key {
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

// Get returns an entry by its id, nil for none. Nobody may change it.
func (r *Roster) Get(id string) *RosterEntry { return r.entries.Get(id) }

// All yields the entries by their ids, in no order.
func (r *Roster) All() iter.Seq2[string, *RosterEntry] { return r.entries.All() }

// DevicesOf lists the devices that have a key of an entry, as it is on the roster or on
// another; find is whose a key is.
func (r *Roster) DevicesOf(ids iter.Seq[string], other *Roster,
	find func(evidence.Key) (string, bool)) (devices []string) {
	for id := range ids {
		for _, e := range []*RosterEntry{r.Get(id), other.Get(id)} {
			if e == nil {
				continue
			}
			for _, k := range e.Keys() {
				if device, ok := find(k); ok {
					devices = append(devices, device)
				}
			}
		}
	}
	return devices
}
