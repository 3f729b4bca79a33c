package state

import (
	"cmp"
	"slices"
	"strings"

	"github.com/tidwall/btree"

	"ironledger.example/core/evidence"
)

// owners finds devices by who may own them: by each text that a source reports as
// the owner, also one that other sources outweigh. Whose a device is, its view
// says. The zero owners finds none.
type owners struct {
	pairs *btree.BTreeG[owned]
}

// owned is a device of somebody.
type owned struct{ owner, device string }

func (a owned) compare(b owned) int {
	return cmp.Or(strings.Compare(a.owner, b.owner), strings.Compare(a.device, b.device))
}

func newPairs() *btree.BTreeG[owned] {
	return btree.NewBTreeG(func(a, b owned) bool { return a.compare(b) < 0 })
}

// ownersEdit makes the next owners: a copy, once something differs.
type ownersEdit struct {
	owners
	own bool
}

// edited returns the pairs of the next version alone.
func (e *ownersEdit) edited() *btree.BTreeG[owned] {
	switch {
	case e.pairs == nil:
		e.pairs, e.own = newPairs(), true
	case !e.own:
		e.pairs, e.own = e.pairs.Copy(), true
	}
	return e.pairs
}

// move takes in that a device is as it is now, and was otherwise; nil for none.
func (e *ownersEdit) move(was, is *Device) {
	if was != nil && was.Record == is.Record {
		return
	}
	now := ownersIn(is.Record)
	var before []string
	if was != nil {
		before = ownersIn(was.Record)
	}
	for _, owner := range before {
		if !slices.Contains(now, owner) {
			e.edited().Delete(owned{owner, is.ID})
		}
	}
	for _, owner := range now {
		if !slices.Contains(before, owner) {
			e.edited().Set(owned{owner, is.ID})
		}
	}
}

// filled finds pairs.
func filled(pairs []owned) owners {
	slices.SortFunc(pairs, owned.compare)
	o := owners{newPairs()}
	for _, x := range pairs {
		o.pairs.Load(x)
	}
	return o
}

// of lists the devices that may be a person's, in order.
func (o owners) of(person string) (ids []string) {
	if o.pairs == nil {
		return nil
	}
	o.pairs.Ascend(owned{owner: person}, func(x owned) bool {
		if x.owner == person {
			ids = append(ids, x.device)
		}
		return x.owner == person
	})
	return ids
}

// ownersIn lists what sources report as the owner.
func ownersIn(rec *evidence.Record) (names []string) {
	for _, r := range rec.Of("owner") {
		if r.Value.Known() && !slices.Contains(names, r.Value.Str()) {
			names = append(names, r.Value.Str())
		}
	}
	return names
}

// those are devices, each once. Of ids that are not known there are none.
func (f *Fleet) those(ids []string) []*Device {
	devices := make([]*Device, 0, len(ids))
	seen := make(map[string]bool, len(ids))
	for _, id := range ids {
		if d := f.Get(id); d != nil && !seen[id] {
			seen[id] = true
			devices = append(devices, d)
		}
	}
	return devices
}

// DevicesOf are a person's devices at now, in the order of their ids.
func (snap *Snapshot) DevicesOf(person string, now int64) (mine []*Device) {
	owner := snap.Book.Rulebook.Dict.Slot("owner")
	for _, id := range snap.Fleet.owners.of(person) {
		if d := snap.At(snap.Fleet.Get(id), now); d.View.Get(owner, now).Str() == person {
			mine = append(mine, d)
		}
	}
	return mine
}
