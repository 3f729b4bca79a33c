package state

import (
	"maps"
	"slices"

	"ironledger.example/core/evidence"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/versioned"
)

// Unmatched is a report that was joined to no device.
type Unmatched = kept.Unmatched

// unmatchedTable holds the reports that were joined to no device, finds those that
// wait by their keys, and counts the open ones.
type unmatchedTable struct {
	table[Unmatched]
	byKey versioned.Map[evidence.Key, []string] // to the ids of reports that wait, sorted
	count map[kept.UnmatchedOf]int
}

// index takes in what changes against the table before, nil for none.
func (t *unmatchedTable) index(changes puts[Unmatched], before *unmatchedTable) {
	if len(changes) == 0 {
		return
	}
	count, byKey := maps.Clone(t.count), t.byKey.Edit()
	if count == nil {
		count = map[kept.UnmatchedOf]int{}
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
		for _, k := range u.Keys() {
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

// PutUnmatched writes an unmatched report down.
func (c *Change) PutUnmatched(u Unmatched) error {
	c.countUnmatched(u.ID, &u)
	if u.Unsettled() && u.Waiting {
		if c.waits == nil {
			c.waits = map[evidence.Key][]string{}
		}
		for _, k := range u.Keys() {
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
		c.opened = map[kept.UnmatchedOf]int{}
	}
	if was := Get(c, UnmatchedKind, id); was.Unsettled() {
		c.opened[was.Of()]--
	}
	if is.Unsettled() {
		c.opened[is.Of()]++
	}
}

// Open counts the open reports of a source.
func (c *Change) Open(of kept.UnmatchedOf) int { return c.Base.Unmatched.count[of] + c.opened[of] }

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
		if !of.Waiting {
			n += open
		}
	}
	return n
}
