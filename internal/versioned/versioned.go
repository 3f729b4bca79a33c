// Package versioned has a map of which every version stays as it was: the next one
// shares with it what does not differ.
//
// Each key has a place, which is the same in all versions; a version is pages of
// places. Reading is a look into a concurrent map and two steps, whichever the
// version; a change copies the pages that it touches.
package versioned

import (
	"iter"
	"slices"
	"sync"
	"sync/atomic"
)

// Map is a version. The zero Map is empty. It is safe for concurrent use.
type Map[K comparable, V any] struct {
	places *places[K]
	pages  []*page[V]
	n      int
}

// places are where keys are found, in every version that shares them. A place is
// never taken back.
type places[K comparable] struct {
	of     sync.Map // K -> int
	next   atomic.Int64
	marked bool // see [Map.Marked]
}

// PageSize is how many places a page has.
const PageSize = 256

type page[V any] struct {
	values [PageSize]*V
	stamps *stamps // nil unless the map is marked
}

// stamps tell of each place of a page in which edit it was set: one that has the same in two pages has the same value.
type stamps [PageSize]uint64

// edits counts the edits of all maps.
var edits atomic.Uint64

func newPage[V any](marked bool) *page[V] {
	if marked {
		return &page[V]{stamps: &stamps{}}
	}
	return &page[V]{}
}

func (p *page[V]) clone() *page[V] {
	own := *p
	if p.stamps != nil {
		marks := *p.stamps
		own.stamps = &marks
	}
	return &own
}

func (p *page[V]) set(place int, v *V, edit uint64) {
	if p.values[place] = v; p.stamps != nil {
		p.stamps[place] = edit
	}
}

// place finds the place of a key, and gives it one.
func (p *places[K]) place(k K) int {
	if at, known := p.of.Load(k); known {
		return at.(int)
	}
	at, _ := p.of.LoadOrStore(k, int(p.next.Add(1)-1))
	return at.(int)
}

// Len is how many keys have a value.
func (m Map[K, V]) Len() int { return m.n }

// Same reports whether two versions are one, or were made of one by changes that changed nothing. It may be false of two
// with the same values.
func (m Map[K, V]) Same(o Map[K, V]) bool {
	return m.places == o.places && len(m.pages) == len(o.pages) && (len(m.pages) == 0 || &m.pages[0] == &o.pages[0])
}

// Get returns the value of a key, nil for none. Nobody may change it.
func (m Map[K, V]) Get(k K) *V {
	if m.places == nil {
		return nil
	}
	at, known := m.places.of.Load(k)
	if !known {
		return nil
	}
	return m.at(at.(int))
}

func (m Map[K, V]) at(place int) *V {
	if i := place / PageSize; i < len(m.pages) && m.pages[i] != nil {
		return m.pages[i].values[place%PageSize]
	}
	return nil
}

// All yields keys and values, in no order.
func (m Map[K, V]) All() iter.Seq2[K, *V] {
	return func(yield func(K, *V) bool) {
		if m.places == nil {
			return
		}
		m.places.of.Range(func(k, at any) bool {
			v := m.at(at.(int))
			return v == nil || yield(k.(K), v)
		})
	}
}

// Values yields the values in the order in which their keys came.
func (m Map[K, V]) Values() iter.Seq[*V] {
	return func(yield func(*V) bool) {
		for _, p := range m.pages {
			if p == nil {
				continue
			}
			for _, v := range p.values {
				if v != nil && !yield(v) {
					return
				}
			}
		}
	}
}

// Page is a part of a version. Versions share it while nothing in it differs.
type Page[V any] struct{ of *page[V] }

// Marked makes an empty map one whose pages have marks: a change of it takes somewhat longer.
func (m Map[K, V]) Marked() Map[K, V] {
	if m.places == nil {
		m.places = &places[K]{marked: true}
	}
	return m
}

// Mark tells a page from all others of its place in other versions. It holds no value. The zero Mark is that of no page,
// and the pages of a map that is not [Map.Marked] have it.
type Mark struct{ of *stamps }

// Mark is that of a page.
func (p Page[V]) Mark() Mark { return Mark{p.of.stamps} }

// Is reports whether two marks are of one page; those of no page never are.
func (m Mark) Is(o Mark) bool { return m.of != nil && m.of == o.of }

// None reports whether it is the mark of no page.
func (m Mark) None() bool { return m.of == nil }

// Differs reports whether the value at a place may be another in a page with the mark o. It is true of all places where
// one is the mark of no page.
func (m Mark) Differs(o Mark, place int) bool {
	return m.of == nil || o.of == nil || m.of[place] != o.of[place]
}

// At is the value at a place of the page, below [PageSize]; nil for none.
func (p Page[V]) At(place int) *V { return p.of.values[place] }

// Values yields the values in the page.
func (p Page[V]) Values() iter.Seq[*V] {
	return func(yield func(*V) bool) {
		for _, v := range p.of.values {
			if v != nil && !yield(v) {
				return
			}
		}
	}
}

// Pages yields the parts of a version, which have all its values.
func (m Map[K, V]) Pages() iter.Seq2[int, Page[V]] {
	return func(yield func(int, Page[V]) bool) {
		for i, p := range m.pages {
			if p != nil && !yield(i, Page[V]{p}) {
				return
			}
		}
	}
}

// With is the next version: with values, or nil for keys that have none any more.
func (m Map[K, V]) With(changes map[K]*V) Map[K, V] {
	if len(changes) == 0 {
		return m
	}
	e := m.Edit()
	for k, v := range changes {
		e.Set(k, v)
	}
	return e.Map()
}

// Of is a map of values by their keys.
func Of[K comparable, V any](all map[K]V) Map[K, V] {
	e := Map[K, V]{}.Edit()
	for k, v := range all {
		e.Set(k, &v)
	}
	return e.Map()
}

// Edit makes the next version of a map. It is for one goroutine.
type Edit[K comparable, V any] struct {
	next Map[K, V]
	from []*page[V] // of the version before
	own  bool       // whether next.pages is not that version's
	mark uint64     // of what is set
}

// Edit begins a next version.
func (m Map[K, V]) Edit() *Edit[K, V] {
	if m.places == nil {
		m.places = &places[K]{}
	} else if m.crowded() { // by versions that came to nothing: they are not to add to it
		m = m.packed()
	}
	return &Edit[K, V]{next: m, from: m.pages, mark: edits.Add(1)}
}

// Get returns the value of a key as it is so far.
func (e *Edit[K, V]) Get(k K) *V { return e.next.Get(k) }

// Set gives a key a value; nil to take it away.
func (e *Edit[K, V]) Set(k K, v *V) {
	if v == nil && e.next.Get(k) == nil {
		return
	}
	place := e.next.places.place(k)
	page := e.page(place / PageSize)
	switch was := page.values[place%PageSize]; {
	case was == nil && v != nil:
		e.next.n++
	case was != nil && v == nil:
		e.next.n--
	}
	page.set(place%PageSize, v, e.mark)
}

// page returns a page that only this version has.
func (e *Edit[K, V]) page(i int) *page[V] {
	if !e.own {
		e.next.pages, e.own = slices.Clone(e.next.pages), true
	}
	for i >= len(e.next.pages) {
		e.next.pages = append(e.next.pages, nil)
	}
	switch p := e.next.pages[i]; {
	case p == nil:
		e.next.pages[i] = newPage[V](e.next.places.marked)
	case i < len(e.from) && p == e.from[i]:
		e.next.pages[i] = p.clone()
	}
	return e.next.pages[i]
}

// spare is how many places may be empty before the next version has places of its
// own, beside as many as are taken.
const spare = 1024

// Map ends the edit.
func (e *Edit[K, V]) Map() Map[K, V] {
	out := e.next
	e.next, e.from, e.own, e.mark = out, out.pages, false, edits.Add(1)
	if out.crowded() {
		return out.packed()
	}
	return out
}

// crowded reports whether most places are empty.
func (m Map[K, V]) crowded() bool { return int(m.places.next.Load()) > 2*m.n+spare }

// packed is the same version with places of its own.
func (m Map[K, V]) packed() Map[K, V] {
	e := Map[K, V]{places: &places[K]{marked: m.places.marked}}.Edit()
	for k, v := range m.All() {
		e.Set(k, v)
	}
	return e.next
}
