// Package find looks for devices in the fleet, and puts what it finds in order.
package find

import (
	"cmp"
	"context"
	"fmt"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"ironledger.example/core/condition"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/giveway"
	"ironledger.example/internal/smalltext"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view/fold"
	"ironledger.example/internal/view/marked"
)

// Finder finds devices. It keeps up what it looks in; the zero Finder knows nothing yet.
type Finder struct {
	Marks marked.Fleet

	texts  fold.Fold[*smalltext.Texts]
	sorted orders
}

// CheckWith has all that is kept up worked out anew whenever it is asked for, and calls differs when it is something else.
// It must be called before anything is asked.
func (s *Finder) CheckWith(differs func(error)) {
	s.Marks.Differs, s.texts.Differs, s.sorted.differs = differs, differs, differs
}

// Query selects and orders devices.
type Query struct {
	Where  string // a condition over the attributes, level, id, seen_at and since
	Text   string // a part of the id, name, serial, owner or model
	Sort   string // a column, with "-" before it for falling order; "" for id
	Cursor string
	Limit  int
	// Rule, baseline/rule, leaves those that it is for, of which it says Verdict; "" for any.
	Rule, Verdict string
	// Retired is [WithRetired] or [OnlyRetired]; "" leaves those out of service out, unless Where asks for them.
	Retired string
	// Undecided leaves those of which Where cannot be told, instead of those of which it is true.
	Undecided bool
	// Columns are attributes whose values the items carry beside the usual.
	Columns []string
}

// What a search has of the devices that are out of service.
const (
	WithRetired = "with"
	OnlyRetired = "only"
)

// columns are what a list can be sorted by.
var columns = map[string]func(b *state.Book, d *state.Device, now int64) string{
	"id":          func(_ *state.Book, d *state.Device, _ int64) string { return d.ID },
	"level":       func(_ *state.Book, d *state.Device, _ int64) string { return Sortable(int64(d.Result.Level)) },
	"since":       func(_ *state.Book, d *state.Device, _ int64) string { return Sortable(d.Since) },
	"seen_at":     func(_ *state.Book, d *state.Device, _ int64) string { return Sortable(d.SeenAt) },
	"next_change": func(b *state.Book, d *state.Device, now int64) string { return Sortable(b.Next(d, now)) },
	"name":        byAttribute("name"),
	"platform":    byAttribute("platform"),
	"form":        byAttribute("form"),
	"model":       byAttribute("model"),
	"owner":       byAttribute("owner"),
	"serial":      byAttribute("serial"),
	"os_version":  byAttribute("os.version"),
}

// Sortable is a number as a text that sorts as it does.
func Sortable(n int64) string {
	text := strconv.FormatInt(n, 10)
	return "00000000000000000000"[min(len(text), 20):] + text
}

func byAttribute(name string) func(*state.Book, *state.Device, int64) string {
	return func(b *state.Book, d *state.Device, now int64) string {
		return strings.ToLower(d.View.Value(b.Rulebook.Dict.Slot(name)).Str())
	}
}

// Row is a device in a list, with the place where it stands.
type Row struct {
	Cursor
	Device *state.Device
}

// Found is what a search finds: how many, and the first rows.
type Found struct {
	Rows                      []Row
	Levels                    []int
	Total, Retired, Undecided int
}

// list is what is found, as it is to be shown.
type list struct {
	snap    *state.Snapshot
	now     int64
	column  func(b *state.Book, d *state.Device, now int64) string
	falling bool
	after   *Cursor // nil for the first page
	most    int     // rows that are wanted
}

func (l *list) compare(a, b Cursor) int { return compare(a, b, l.falling) }

// Devices finds in a snapshot what a search is for: as many rows as it says, and one more if there are more.
func (s *Finder) Devices(ctx context.Context, snap *state.Snapshot, q Query, now int64) (*Found, error) {
	name, falling := strings.CutPrefix(cmp.Or(q.Sort, "id"), "-")
	column := columns[name]
	if column == nil {
		return nil, &fault.QueryError{Param: "sort",
			Message: fmt.Sprintf("%q is not a column; there are id, level, since, seen_at, next_change, name, "+
				"platform, form, model, owner, serial and os_version", name)}
	}
	after, err := ParseCursor(q.Cursor)
	if err != nil {
		return nil, err
	}
	if err := CheckColumns(snap.Book, q.Columns); err != nil {
		return nil, err
	}
	p, err := q.condition(snap.Book)
	if err != nil {
		return nil, err
	}
	says, err := q.ruling(snap.Book)
	if err != nil {
		return nil, err
	}
	marks := s.Marks.Over(snap, now)
	sets := make([]marked.Set, len(marks))
	for i, m := range marks {
		if m != nil {
			if sets[i] = says(m); q.Retired == OnlyRetired {
				sets[i] = sets[i].Without(&m.Serving)
			}
		}
	}
	s.having(snap, q.small(), sets, now)
	unknown := make([]marked.Set, len(sets))
	if p != nil {
		if err := where(ctx, snap, p, sets, unknown, now); err != nil {
			return nil, err
		}
	}
	found := count(snap, &q, marks, sets, unknown)
	l := &list{snap: snap, now: now, column: column, falling: falling, after: after, most: q.Limit + 1}
	found.Rows = s.rows(l, cmp.Or(q.Sort, "id"), sets, found.Total)
	return found, nil
}

// few is how many devices are sorted when they are asked for, rather than looked for in the order of all.
const few = 256

// rows are the first rows of the list, of devices in sets by page.
func (s *Finder) rows(l *list, sort string, sets []marked.Set, total int) []Row {
	if total <= few || l.most > total/2 {
		return l.sorted(sets)
	}
	return l.first(s.sorted.by(sort).Over(l.snap, l.now, l.order), sets)
}

// count counts what was found, and leaves it in sets: the devices of which the condition is true, or, where they are asked
// for, of which it cannot be told.
func count(snap *state.Snapshot, q *Query, marks []*marked.Page, sets, unknown []marked.Set) *Found {
	found := &Found{Levels: make([]int, len(snap.Book.Rulebook.Ladder))}
	for i, m := range marks {
		if m == nil {
			continue
		}
		other := unknown[i]
		if q.Undecided {
			sets[i], other = unknown[i], marked.Set{}
		}
		if q.Retired == "" {
			hidden := sets[i].Without(&m.Serving)
			found.Retired += hidden.Len()
			sets[i], other = sets[i].Both(&m.Serving), other.Both(&m.Serving)
		}
		found.Undecided += other.Len()
		for level := range m.Levels {
			at := sets[i].Both(&m.Levels[level])
			n := at.Len()
			found.Levels[level] += n
			found.Total += n
		}
	}
	return found
}

// where leaves in sets the devices of which a condition is true, and puts into unknown those of which it cannot be told.
// It takes half of the cores: others are to be answered meanwhile.
func where(ctx context.Context, snap *state.Snapshot, p *condition.Program, sets, unknown []marked.Set, now int64) error {
	var next atomic.Int64
	var wg sync.WaitGroup
	pages := make([]fold.Page, len(sets))
	for i, page := range snap.Fleet.Pages() {
		pages[i] = page
	}
	spent := &spending{ctx: ctx}
	for range max(1, min(runtime.GOMAXPROCS(0)/2, len(pages))) {
		wg.Go(func() {
			b, match := &Budget{spending: spent}, asked(snap.Book, p, now)
			var long giveway.Long
			for n := next.Add(1) - 1; n < int64(len(pages)) && b.GoesOn(); n = next.Add(1) - 1 {
				long.Pass()
				among := sets[n]
				sets[n] = marked.Set{}
				for place := range among.Places() {
					switch match(snap.At(pages[n].At(place), now), b) {
					case condition.True:
						sets[n].Put(place)
					case condition.Unknown:
						unknown[n].Put(place)
					}
					if !b.GoesOn() {
						return
					}
				}
			}
		})
	}
	wg.Wait()
	return spent.Err()
}
