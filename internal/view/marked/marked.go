// Package marked keeps up which devices of the fleet stand where: at which level, and of which each rule says what. It is
// what counts and searches begin with.
package marked

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"ironledger.example/core/condition"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view/fold"
)

// Fleet keeps it up. The zero Fleet knows nothing yet.
type Fleet struct {
	// Differs is as that of [fold.Fold].
	Differs func(error)

	begun sync.Once
	pages fold.Fold[*Page]
}

// Page is where the devices of a page stand, each at its place. It does not change.
type Page struct {
	All, Serving Set // what is not serving is retired
	Levels       []Set
	Says         [][posture.Waived + 1]Set // by rule and verdict
	Binding      []Set                     // by rule, of those that serve
	Platforms    []Platform                // of those that serve, in order
	Retired      []Retired
	Moved        []Moved // the newest first
}

// Platform are the devices of a platform.
type Platform struct {
	Name string
	Set  Set
}

// Retired is a device out of service.
type Retired struct {
	Level rulebook.Level
	At    int64 // since when
}

// Moved is a device whose level changed within a day.
type Moved struct {
	Since int64
	Place int
}

// MostMoved bounds how many devices of a page whose level changed are kept: the newest.
const MostMoved = 64

// Over says where the devices of a fleet stand at the moment now, by pages; nil for a page that nobody is on.
func (f *Fleet) Over(snap *state.Snapshot, now int64) []*Page {
	f.begun.Do(func() { f.pages.Differs, f.pages.Same = f.Differs, same })
	return f.pages.Over(snap, now, func(p fold.Part[*Page]) (*Page, int64) {
		m := marking{snap: snap, now: now, until: condition.Always, page: p.Page}
		if p.Known != nil && now < p.Until {
			m.Page, m.until = (*p.Known).clone(), p.Until
		} else {
			p.Known, m.Page = nil, blank(snap.Book)
		}
		m.mark(&p)
		return m.Page, m.until
	})
}

func blank(b *state.Book) *Page {
	return &Page{Levels: make([]Set, len(b.Rulebook.Ladder)), Says: make([][posture.Waived + 1]Set, len(b.RuleKeys)),
		Binding: make([]Set, len(b.RuleKeys))}
}

func (p *Page) clone() *Page {
	own := *p
	own.Levels, own.Says, own.Binding = slices.Clone(p.Levels), slices.Clone(p.Says), slices.Clone(p.Binding)
	own.Platforms, own.Moved = slices.Clone(p.Platforms), slices.Clone(p.Moved)
	return &own
}

// clear takes a place out of all.
func (p *Page) clear(place int) {
	p.All.drop(place)
	p.Serving.drop(place)
	for i := range p.Levels {
		p.Levels[i].drop(place)
	}
	for i := range p.Says {
		for v := range p.Says[i] {
			p.Says[i][v].drop(place)
		}
		p.Binding[i].drop(place)
	}
	for i := range p.Platforms {
		p.Platforms[i].Set.drop(place)
	}
}

// marking is the making of a page.
type marking struct {
	*Page
	snap  *state.Snapshot
	now   int64
	until int64
	page  fold.Page
}

// mark puts the devices that changed where they stand now.
func (m *marking) mark(p *fold.Part[*Page]) {
	var changed Set
	slot := m.snap.Book.Rulebook.Dict.Slot("platform")
	for place := range fold.PageSize {
		if !p.Changed(place) {
			continue
		}
		changed.Put(place)
		m.clear(place)
		if d := p.At(place); d != nil {
			m.put(place, m.snap.At(d, m.now), slot)
			m.until = min(m.until, d.Wake)
		}
	}
	m.Platforms = slices.DeleteFunc(m.Platforms, func(p Platform) bool { return p.Set == Set{} })
	m.Retired = nil
	for place := range m.All.Without(&m.Serving).Places() {
		d := m.snap.At(p.At(place), m.now)
		m.Retired = append(m.Retired, Retired{d.Result.Level, d.Retired.At})
	}
	m.move(p.Known != nil, changed)
}

func (m *marking) put(place int, d *state.Device, platform int) {
	m.All.Put(place)
	m.Levels[d.Result.Level].Put(place)
	for i, v := range d.Result.Verdicts {
		m.Says[i][v].Put(place)
	}
	if d.Retired != nil {
		return
	}
	m.Serving.Put(place)
	m.snap.Book.Rules.Binds(&d.Result, func(i int) { m.Binding[i].Put(place) })
	name := "unknown"
	if v := d.View.Get(platform, m.now); v.Known() {
		name = v.String()
	}
	i, found := slices.BinarySearchFunc(m.Platforms, name, func(p Platform, name string) int {
		return strings.Compare(p.Name, name)
	})
	if !found {
		m.Platforms = slices.Insert(m.Platforms, i, Platform{Name: name})
	}
	m.Platforms[i].Set.Put(place)
}

// move lists whose level changed lately. Where more did than are kept, others may come to the place of those that are
// not among them any more.
func (m *marking) move(known bool, changed Set) {
	kept := m.Moved
	m.Moved = slices.DeleteFunc(slices.Clone(kept), func(x Moved) bool { return changed.Has(x.Place) })
	if known && len(kept) == MostMoved && len(m.Moved) < len(kept) {
		m.Moved, changed = nil, m.All
	}
	for place := range changed.Both(&m.Serving).Places() {
		d := m.snap.At(m.page.At(place), m.now)
		if d.Since != d.FirstSeen {
			m.Moved = append(m.Moved, Moved{d.Since, place})
		}
	}
	m.Moved = slices.DeleteFunc(m.Moved, func(x Moved) bool { return m.now-x.Since >= value.Day })
	slices.SortFunc(m.Moved, func(a, b Moved) int {
		return cmp.Or(cmp.Compare(b.Since, a.Since), strings.Compare(m.page.At(a.Place).ID, m.page.At(b.Place).ID))
	})
	m.Moved = slices.Clip(m.Moved[:min(len(m.Moved), MostMoved)])
}

// same compares two pages. What moved more than a day ago may be in the one that was kept.
func same(kept, anew *Page, now int64) bool {
	moved := slices.DeleteFunc(slices.Clone(kept.Moved), func(x Moved) bool { return now-x.Since >= value.Day })
	then := anew.Moved
	if len(kept.Moved) == MostMoved { // others may stand in the place of those
		then = then[:min(len(moved), len(then))]
	}
	return kept.All == anew.All && kept.Serving == anew.Serving && slices.Equal(kept.Levels, anew.Levels) &&
		slices.Equal(kept.Says, anew.Says) && slices.Equal(kept.Binding, anew.Binding) &&
		slices.Equal(kept.Platforms, anew.Platforms) && slices.Equal(kept.Retired, anew.Retired) &&
		slices.Equal(moved, then)
}
