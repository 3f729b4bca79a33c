package state

import (
	"encoding/json"
	"maps"
	"slices"

	"ironledger.example/core/evidence"
	"ironledger.example/internal/versioned"
)

// Unmatched is a report that was joined to no device: its keys point at several,
// or two machines share a serial, and a person must say whose it is; or nobody
// knows the device, and the source cannot make it known.
type Unmatched struct {
	ID         string            `json:"id"`
	At         int64             `json:"at"` // when the newest such report arrived
	Times      int               `json:"times"`
	Source     string            `json:"source"`
	ExternalID string            `json:"external_id,omitempty"`
	Identity   evidence.Identity `json:"identity"`
	Observed   int64             `json:"observed"`
	Kept       json.RawMessage   `json:"kept"`              // its readings, as evidence.Record writes them
	Why        string            `json:"why,omitempty"`     // it was not joined
	Waiting    bool              `json:"waiting,omitempty"` // for another source to make its device known

	SettledAt int64  `json:"settled_at,omitempty"`
	SettledBy string `json:"settled_by,omitempty"`
	Device    string `json:"device,omitempty"` // "" of a settled one: discarded
	Reason    string `json:"reason,omitempty"`
}

// unmatchedTable holds the reports that were joined to no device, finds those that
// wait by their keys, and counts the open ones.
type unmatchedTable struct {
	table[Unmatched]
	byKey versioned.Map[evidence.Key, []string] // to the ids of reports that wait, sorted
	count map[unmatchedOf]int
}

// unmatchedOf is whose open reports are counted, and which.
type unmatchedOf struct {
	source  string
	waiting bool
}

// index takes in what changes against the table before, nil for none.
func (t *unmatchedTable) index(changes puts[Unmatched], before *unmatchedTable) {
	if len(changes) == 0 {
		return
	}
	count, byKey := maps.Clone(t.count), t.byKey.Edit()
	if count == nil {
		count = map[unmatchedOf]int{}
	}
	note := func(u *Unmatched, n int) {
		if !u.Unsettled() {
			return
		}
		if of := u.Of(); count[of]+n == 0 {
			delete(count, of)
		} else {
			count[of] += n
		}
		if !u.Waiting {
			return
		}
		for _, k := range u.keys() {
			var ids []string
			if old := byKey.Get(k); old != nil {
				ids = slices.DeleteFunc(slices.Clone(*old), func(id string) bool { return id == u.ID })
			}
			if n > 0 {
				at, _ := slices.BinarySearch(ids, u.ID)
				ids = slices.Insert(ids, at, u.ID)
			}
			if byKey.Set(k, nil); len(ids) > 0 {
				byKey.Set(k, &ids)
			}
		}
	}
	for id, u := range changes {
		if before != nil {
			note(before.Get(id), -1)
		}
		note(u, 1)
	}
	t.count, t.byKey = count, byKey.Map()
}

// Of is among which reports one is counted while it is open.
func (u *Unmatched) Of() unmatchedOf { return unmatchedOf{u.Source, u.Waiting} }

// Unsettled reports whether there is such a report, and nobody has settled it.
func (u *Unmatched) Unsettled() bool { return u != nil && u.SettledAt == 0 }

// PutUnmatched writes an unmatched report down.
func (c *Change) PutUnmatched(u Unmatched) error {
	c.countUnmatched(u.ID, &u)
	if u.Unsettled() && u.Waiting {
		if c.waits == nil {
			c.waits = map[evidence.Key][]string{}
		}
		for _, k := range u.keys() {
			c.waits[k] = append(c.waits[k], u.ID)
		}
	}
	return Put(c, UnmatchedKind, u.ID, &u)
}

// DropUnmatched forgets an unmatched report.
func (c *Change) DropUnmatched(id string) {
	c.countUnmatched(id, nil)
	Drop(c, UnmatchedKind, id)
}

func (c *Change) countUnmatched(id string, is *Unmatched) {
	if c.opened == nil {
		c.opened = map[unmatchedOf]int{}
	}
	if was := Get(c, UnmatchedKind, id); was.Unsettled() {
		c.opened[was.Of()]--
	}
	if is.Unsettled() {
		c.opened[is.Of()]++
	}
}

// Open counts the open reports of a source.
func (c *Change) Open(of unmatchedOf) int { return c.Base.Unmatched.count[of] + c.opened[of] }

// Waiting lists the reports that wait for a device with one of some keys.
func (c *Change) Waiting(keys []evidence.Key) []*Unmatched {
	found := map[string]bool{}
	for _, k := range keys {
		for _, id := range c.waits[k] {
			found[id] = true
		}
		if ids := c.Base.Unmatched.byKey.Get(k); ids != nil {
			for _, id := range *ids {
				found[id] = true
			}
		}
	}
	var out []*Unmatched
	for _, id := range slices.Sorted(maps.Keys(found)) {
		if u := Get(c, UnmatchedKind, id); u.Unsettled() && u.Waiting {
			out = append(out, u)
		}
	}
	return out
}

// Open counts the reports that wait for a person.
func (t *unmatchedTable) Open() int {
	n := 0
	for of, open := range t.count {
		if !of.waiting {
			n += open
		}
	}
	return n
}

// State is open, waiting, joined or discarded.
func (u *Unmatched) State() string {
	switch {
	case u.SettledAt == 0 && u.Waiting:
		return "waiting"
	case u.SettledAt == 0:
		return "open"
	case u.Device != "":
		return "joined"
	}
	return "discarded"
}

// keys are those that the report names.
func (u *Unmatched) keys() []evidence.Key {
	rep := evidence.Report{Source: u.Source, ExternalID: u.ExternalID, Identity: u.Identity}
	return rep.Identified().Keys()
}

// Report makes the kept report again, for the attributes that a book declares.
func (u *Unmatched) Report(book *Book) (*evidence.Report, error) {
	rep, err := book.Rulebook.Dict.UnmarshalSource(u.Source, u.Kept)
	if err != nil {
		return nil, err
	}
	rep.ExternalID, rep.Identity, rep.At = u.ExternalID, u.Identity, u.Observed
	return rep.Identified(), nil
}
