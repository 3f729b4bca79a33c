package find

import (
	"container/heap"
	"slices"
	"sync"

	"ironledger.example/core/condition"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view/fold"
	"ironledger.example/internal/view/marked"
)

// orders are the devices of each page in the order of a column, a byte a device, by the column with its direction: as
// many as there are columns that somebody looked at.
type orders struct {
	differs func(error) // see [fold.Fold]

	mu sync.Mutex
	of map[string]*fold.Fold[[]uint8]
}

func (o *orders) by(sort string) *fold.Fold[[]uint8] {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.of == nil {
		o.of = map[string]*fold.Fold[[]uint8]{}
	}
	if o.of[sort] == nil {
		o.of[sort] = &fold.Fold[[]uint8]{Differs: o.differs}
	}
	return o.of[sort]
}

// order is the order of a page.
func (l *list) order(p fold.Part[[]uint8]) ([]uint8, int64) {
	var changed []int
	for place := range fold.PageSize {
		if p.Changed(place) {
			changed = append(changed, place)
		}
	}
	if p.Known == nil || l.now >= p.Until || len(changed) > fold.PageSize/8 {
		return l.orderAnew(p.Page)
	}
	until := p.Until
	order := slices.DeleteFunc(slices.Clone(*p.Known), func(place uint8) bool { return p.Changed(int(place)) })
	for _, place := range changed {
		if d := p.At(place); d != nil {
			until = min(until, d.Wake)
			at, _ := slices.BinarySearchFunc(order, l.at(d), func(other uint8, at Cursor) int {
				return l.compare(l.at(p.At(int(other))), at)
			})
			order = slices.Insert(order, at, uint8(place))
		}
	}
	return slices.Clip(order), until
}

func (l *list) orderAnew(p fold.Page) ([]uint8, int64) {
	type placed struct {
		at    Cursor
		place uint8
	}
	var all []placed
	until := int64(condition.Always)
	for place := range fold.PageSize {
		if d := p.At(place); d != nil {
			until = min(until, d.Wake)
			all = append(all, placed{l.at(d), uint8(place)})
		}
	}
	slices.SortFunc(all, func(a, b placed) int { return l.compare(a.at, b.at) })
	order := make([]uint8, len(all))
	for i, x := range all {
		order[i] = x.place
	}
	return order, until
}

// first are the first rows of the list, of devices in sets by page: those that are wanted.
func (l *list) first(orders [][]uint8, sets []marked.Set) []Row {
	m := &merge{list: l}
	for i, p := range l.snap.Fleet.Pages() {
		if (sets[i] == marked.Set{}) {
			continue
		}
		next := head{page: p, order: orders[i], among: &sets[i]}
		if l.after != nil {
			at, found := slices.BinarySearchFunc(next.order, *l.after, func(place uint8, after Cursor) int {
				return l.compare(l.at(p.At(int(place))), after)
			})
			if found {
				at++
			}
			next.order = next.order[at:]
		}
		if next.step(l) {
			m.heads = append(m.heads, next)
		}
	}
	heap.Init(m)
	var rows []Row
	for len(m.heads) > 0 && len(rows) < l.most {
		rows = append(rows, m.heads[0].first)
		if m.heads[0].step(l) {
			heap.Fix(m, 0)
		} else {
			heap.Pop(m)
		}
	}
	return rows
}

// head is a page of which the first device that was not taken yet is known.
type head struct {
	page  fold.Page
	order []uint8
	among *marked.Set
	first Row
}

// step goes on to the next device, if there is one.
func (h *head) step(l *list) bool {
	for i, place := range h.order {
		if h.among.Has(int(place)) {
			h.first, h.order = l.row(h.page.At(int(place))), h.order[i+1:]
			return true
		}
	}
	return false
}

// merge is a heap of pages, the one with the first device on top.
type merge struct {
	*list
	heads []head
}

func (m *merge) Len() int { return len(m.heads) }
func (m *merge) Less(i, j int) bool {
	return m.compare(m.heads[i].first.Cursor, m.heads[j].first.Cursor) < 0
}
func (m *merge) Swap(i, j int) { m.heads[i], m.heads[j] = m.heads[j], m.heads[i] }
func (m *merge) Push(x any)    { m.heads = append(m.heads, x.(head)) }
func (m *merge) Pop() any {
	last := m.heads[len(m.heads)-1]
	m.heads = m.heads[:len(m.heads)-1]
	return last
}

// sorted are the rows of the list, of devices in sets by page: all of them are put in order.
func (l *list) sorted(sets []marked.Set) []Row {
	var rows []Row
	for i, p := range l.snap.Fleet.Pages() {
		for place := range sets[i].Places() {
			if r := l.row(p.At(place)); l.after == nil || l.compare(r.Cursor, *l.after) > 0 {
				rows = append(rows, r)
			}
		}
	}
	slices.SortFunc(rows, func(a, b Row) int { return l.compare(a.Cursor, b.Cursor) })
	return rows[:min(len(rows), l.most)]
}

// at is where a device stands in the list.
func (l *list) at(d *state.Device) Cursor { return l.row(d).Cursor }

func (l *list) row(d *state.Device) Row {
	d = l.snap.At(d, l.now)
	return Row{Cursor{l.column(l.snap.Book, d, l.now), d.ID}, d}
}
