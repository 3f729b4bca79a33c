package service

import (
	"cmp"
	"slices"
	"strings"

	"github.com/tidwall/btree"

	"ironledger.example/core/evidence"
)

// owners finds devices by who may own them: by each text that a source reports as
// the owner, also one that other sources outweigh. Whose a device is, its view
// says. It is safe for concurrent use.
type owners struct {
	pairs *btree.BTreeG[owned]
}

// owned is a device of somebody.
type owned struct{ owner, device string }

func newOwners() *owners {
	return &owners{btree.NewBTreeG(func(a, b owned) bool { return a.compare(b) < 0 })}
}

func (a owned) compare(b owned) int {
	return cmp.Or(strings.Compare(a.owner, b.owner), strings.Compare(a.device, b.device))
}

// move takes in that a device is as it is now, and was otherwise; nil for none.
func (o *owners) move(was, is *Device) {
	if was != nil && was.Record == is.Record {
		return
	}
	now := ownersIn(is.Record)
	if was != nil {
		for _, owner := range ownersIn(was.Record) {
			if !slices.Contains(now, owner) {
				o.pairs.Delete(owned{owner, is.ID})
			}
		}
	}
	for _, owner := range now {
		o.pairs.Set(owned{owner, is.ID})
	}
}

// fill takes in devices while nobody reads yet.
func (o *owners) fill(pairs []owned) {
	slices.SortFunc(pairs, owned.compare)
	for _, x := range pairs {
		o.pairs.Load(x)
	}
}

// of lists the devices that may be a person's, in order.
func (o *owners) of(person string) (ids []string) {
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

// cellsOf are where devices are found, each once. Those of none that is known are
// left out.
func (f *Fleet) cellsOf(ids []string) []*cell {
	cells := make([]*cell, 0, len(ids))
	seen := make(map[string]bool, len(ids))
	for _, id := range ids {
		if p := f.cell(id); p != &nowhere && !seen[id] {
			seen[id] = true
			cells = append(cells, p)
		}
	}
	return cells
}

// devicesOf are a person's devices at now, in the order of their ids.
func (snap *Snapshot) devicesOf(person string, now int64) (mine []*Device) {
	owner := snap.Book.Rulebook.Dict.Slot("owner")
	for _, id := range snap.Fleet.owners.of(person) {
		if d := snap.at(snap.Fleet.Get(id), now); d.View.Get(owner, now).Str() == person {
			mine = append(mine, d)
		}
	}
	return mine
}
