package view

import (
	"container/heap"
	"slices"
	"strings"
	"sync"

	"ironledger.example/core/condition"
	"ironledger.example/internal/state"
	"ironledger.example/internal/versioned"
	"ironledger.example/internal/view/fold"
)

// all reports whether a search asks for all devices in service, so that nothing has to be looked for.
func (q *DeviceSearch) all() bool {
	return strings.TrimSpace(q.Where) == "" && strings.TrimSpace(q.Text) == "" && q.Rule == "" && q.Verdict == "" &&
		q.Retired == "" && !q.Undecided && q.Limit < versioned.PageSize
}

// orders are the devices in service of each page in the order of a column, a byte a device, by the column with its
// direction: as many as there are columns that somebody looked at.
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

// inOrder finds the first devices after a cursor in the order of a column, from pages that are each in order.
func (s *Service) inOrder(snap *state.Snapshot, sort string, f *finding, now int64) {
	row := func(d *state.Device) deviceRow { return deviceRow{cursor{f.column(snap.Book, d, now), d.ID}, d} }
	orders := s.sorted.by(sort).Over(snap, now, func(p versioned.Page[state.Device]) ([]uint8, int64) {
		var rows []deviceRow
		places, until := map[string]uint8{}, int64(condition.Always)
		for i := range versioned.PageSize {
			if d := p.At(i); d != nil && d.Retired == nil {
				until = min(until, d.Wake)
				places[d.ID] = uint8(i)
				rows = append(rows, row(snap.At(d, now)))
			}
		}
		slices.SortFunc(rows, func(a, b deviceRow) int { return f.order(a.cursor, b.cursor) })
		order := make([]uint8, len(rows))
		for i, r := range rows {
			order[i] = places[r.ID]
		}
		return order, until
	})
	m := &merge{f: f}
	for i, p := range snap.Fleet.Pages() {
		next := head{page: p, order: orders[i], row: func(d *state.Device) deviceRow { return row(snap.At(d, now)) }}
		if f.after != nil {
			at, found := slices.BinarySearchFunc(next.order, *f.after, func(place uint8, after cursor) int {
				return f.order(next.row(p.At(int(place))).cursor, after)
			})
			if found {
				at++
			}
			next.order = next.order[at:]
		}
		if next.step() {
			m.heads = append(m.heads, next)
		}
	}
	heap.Init(m)
	for len(m.heads) > 0 && len(f.rows) < f.most {
		f.rows = append(f.rows, m.heads[0].first)
		if m.heads[0].step() {
			heap.Fix(m, 0)
		} else {
			heap.Pop(m)
		}
	}
	n := s.takeCensus(snap, now)
	f.total, f.levels, f.retired = n.devices, n.levels, len(n.retired)
}

// head is a page of which the first device that was not taken yet is known.
type head struct {
	page  versioned.Page[state.Device]
	order []uint8
	row   func(*state.Device) deviceRow
	first deviceRow
}

// step goes on to the next device, if there is one.
func (h *head) step() bool {
	if len(h.order) == 0 {
		return false
	}
	h.first = h.row(h.page.At(int(h.order[0])))
	h.order = h.order[1:]
	return true
}

// merge is a heap of pages, the one with the first device on top.
type merge struct {
	f     *finding
	heads []head
}

func (m *merge) Len() int { return len(m.heads) }
func (m *merge) Less(i, j int) bool {
	return m.f.order(m.heads[i].first.cursor, m.heads[j].first.cursor) < 0
}
func (m *merge) Swap(i, j int) { m.heads[i], m.heads[j] = m.heads[j], m.heads[i] }
func (m *merge) Push(x any)    { m.heads = append(m.heads, x.(head)) }
func (m *merge) Pop() any {
	last := m.heads[len(m.heads)-1]
	m.heads = m.heads[:len(m.heads)-1]
	return last
}
