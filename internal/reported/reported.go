// Package reported finds devices by a text that is reported of them, as who owns them, in versions of which each stays
// as it was.
package reported

import (
	"cmp"
	"slices"
	"strings"

	"github.com/tidwall/btree"
)

// Index finds devices by each text that a source reports, also one that other sources outweigh: what counts of a
// device, its view says. It is immutable; the zero Index finds none.
type Index struct {
	pairs *btree.BTreeG[Pair]
}

// Pair is a device of which a text is reported.
type Pair struct{ Text, Device string }

func (a Pair) compare(b Pair) int {
	return cmp.Or(strings.Compare(a.Text, b.Text), strings.Compare(a.Device, b.Device))
}

func newPairs() *btree.BTreeG[Pair] {
	return btree.NewBTreeG(func(a, b Pair) bool { return a.compare(b) < 0 })
}

// Of is the index of some pairs, which it sorts.
func Of(pairs []Pair) Index {
	slices.SortFunc(pairs, Pair.compare)
	x := Index{newPairs()}
	for _, p := range pairs {
		x.pairs.Load(p)
	}
	return x
}

// Devices lists the devices of which a text is reported, in order.
func (x Index) Devices(text string) (ids []string) {
	if x.pairs == nil {
		return nil
	}
	x.pairs.Ascend(Pair{Text: text}, func(p Pair) bool {
		if p.Text == text {
			ids = append(ids, p.Device)
		}
		return p.Text == text
	})
	return ids
}

// All calls visit for every pair, in order.
func (x Index) All(visit func(Pair)) {
	if x.pairs != nil {
		x.pairs.Scan(func(p Pair) bool { visit(p); return true })
	}
}

// Edit makes the next index: a copy, once something differs.
type Edit struct {
	index Index
	own   bool
}

// Edit begins the next index.
func (x Index) Edit() Edit { return Edit{index: x} }

// Index is the next one.
func (e *Edit) Index() Index { return e.index }

// edited returns the pairs of the next version alone.
func (e *Edit) edited() *btree.BTreeG[Pair] {
	switch {
	case e.index.pairs == nil:
		e.index.pairs, e.own = newPairs(), true
	case !e.own:
		e.index.pairs, e.own = e.index.pairs.Copy(), true
	}
	return e.index.pairs
}

// Move takes in what is reported of a device now, and what was before.
func (e *Edit) Move(device string, before, now []string) {
	for _, text := range before {
		if !slices.Contains(now, text) {
			e.edited().Delete(Pair{text, device})
		}
	}
	for _, text := range now {
		if !slices.Contains(before, text) {
			e.edited().Set(Pair{text, device})
		}
	}
}
