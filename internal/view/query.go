// Package view shows people what there is: devices and their certificates, people,
// sources, exceptions, the fleet at a glance, and a device's past.
package view

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"math"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"ironledger.example/api"
	"ironledger.example/core/condition"
	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/giveway"
	"ironledger.example/internal/past"
	"ironledger.example/internal/smalltext"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view/fold"
	"ironledger.example/internal/view/moves"
)

// Service shows what is in open records.
type Service struct {
	*engine.Engine
	past      *past.Service
	decisions *decision.Service

	counted fold.Fold[*census]
	ends    fold.Fold[endings]
	heard   fold.Fold[*heardOf]
	latest  fold.Fold[map[string]int64]
	texts   fold.Fold[*smalltext.Texts]
	sorted  orders
	moved   moves.Moves
}

// New is a service over open records.
func New(e *engine.Engine, past *past.Service, decisions *decision.Service) *Service {
	return &Service{Engine: e, past: past, decisions: decisions}
}

// DeviceSearch selects and orders devices.
type DeviceSearch struct {
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
	"level":       func(_ *state.Book, d *state.Device, _ int64) string { return sortable(int64(d.Result.Level)) },
	"since":       func(_ *state.Book, d *state.Device, _ int64) string { return sortable(d.Since) },
	"seen_at":     func(_ *state.Book, d *state.Device, _ int64) string { return sortable(d.SeenAt) },
	"next_change": func(b *state.Book, d *state.Device, now int64) string { return sortable(b.Next(d, now)) },
	"name":        byAttribute("name"),
	"platform":    byAttribute("platform"),
	"form":        byAttribute("form"),
	"model":       byAttribute("model"),
	"owner":       byAttribute("owner"),
	"serial":      byAttribute("serial"),
	"os_version":  byAttribute("os.version"),
}

// sortable is a number as a text that sorts as it does.
func sortable(n int64) string {
	text := strconv.FormatInt(n, 10)
	return "00000000000000000000"[min(len(text), 20):] + text
}

func byAttribute(name string) func(*state.Book, *state.Device, int64) string {
	return func(b *state.Book, d *state.Device, now int64) string {
		return strings.ToLower(d.View.Value(b.Rulebook.Dict.Slot(name)).Str())
	}
}

type cursor struct {
	Key string `json:"k"`
	ID  string `json:"i"`
}

// deviceRow is a device in a list, with the place where it stands.
type deviceRow struct {
	cursor
	d *state.Device
}

// Devices lists the devices that a query selects.
func (s *Service) Devices(ctx context.Context, q DeviceSearch) (*api.DevicePage, error) {
	snap, now := s.Snapshot(), s.Micros()
	f, err := s.found(ctx, snap, &q, now)
	if err != nil {
		return nil, err
	}
	page := &api.DevicePage{Levels: map[string]int{}, Items: []api.DeviceSummary{}, Total: f.total, Retired: f.retired,
		Undecided: f.undecided}
	for level, n := range f.levels {
		if n > 0 {
			page.Levels[snap.Book.Rulebook.LevelName(rulebook.Level(level))] = n
		}
	}
	if len(f.rows) > q.Limit {
		page.Next = formatCursor(f.rows[q.Limit-1].cursor)
		f.rows = f.rows[:q.Limit]
	}
	for _, r := range f.rows {
		page.Items = append(page.Items, withColumns(snap.Book, r.d, q.Columns, now))
	}
	return page, nil
}

// AllDevices finds all devices that a search is for, of one moment, whatever its limit and cursor, and yields one after
// the other.
func (s *Service) AllDevices(ctx context.Context, q DeviceSearch) (iter.Seq[api.DeviceSummary], error) {
	snap, now := s.Snapshot(), s.Micros()
	q.Limit, q.Cursor = math.MaxInt32, ""
	f, err := s.found(ctx, snap, &q, now)
	if err != nil {
		return nil, err
	}
	return func(yield func(api.DeviceSummary) bool) {
		for _, r := range f.rows {
			if !yield(withColumns(snap.Book, r.d, q.Columns, now)) {
				return
			}
		}
	}, nil
}

// found is what a search finds in a snapshot: as many rows as it is for, and one more if there are more.
func (s *Service) found(ctx context.Context, snap *state.Snapshot, q *DeviceSearch, now int64) (*finding, error) {
	name, falling := strings.CutPrefix(cmp.Or(q.Sort, "id"), "-")
	column := columns[name]
	if column == nil {
		return nil, &fault.QueryError{Param: "sort",
			Message: fmt.Sprintf("%q is not a column; there are id, level, since, seen_at, next_change, name, "+
				"platform, form, model, owner, serial and os_version", name)}
	}
	after, err := parseCursor(q.Cursor)
	if err != nil {
		return nil, err
	}
	if err := checkColumns(snap.Book, q.Columns); err != nil {
		return nil, err
	}
	like := finding{column: column, falling: falling, after: after, most: q.Limit + 1}
	f := &like
	if q.all() {
		s.inOrder(snap, cmp.Or(q.Sort, "id"), f, now)
	} else if f, err = s.find(ctx, snap, q, &like, now); err != nil {
		return nil, err
	}
	return f, nil
}

// finding is what a search has found so far: how many, and of those after a cursor the first.
type finding struct {
	column  func(b *state.Book, d *state.Device, now int64) string
	falling bool
	after   *cursor // nil for the first page
	most    int     // rows that are wanted

	rows                      []deviceRow
	bound                     *cursor // nothing at or behind it is wanted
	levels                    []int
	total, retired, undecided int
}

// order compares places in a list.
func (f *finding) order(a, b cursor) int {
	c := strings.Compare(a.Key, b.Key)
	if f.falling {
		c = -c
	}
	return cmp.Or(c, strings.Compare(a.ID, b.ID))
}

// take counts a device that was found, and keeps it if it is wanted.
func (f *finding) take(b *state.Book, d *state.Device, now int64) {
	f.total++
	f.levels[d.Result.Level]++
	at := cursor{f.column(b, d, now), d.ID}
	if f.after != nil && f.order(at, *f.after) <= 0 || f.bound != nil && f.order(at, *f.bound) >= 0 {
		return
	}
	if f.rows = append(f.rows, deviceRow{at, d}); len(f.rows) >= 4*f.most {
		f.sift()
	}
}

// sift leaves the rows that are wanted, in order.
func (f *finding) sift() {
	slices.SortFunc(f.rows, func(a, b deviceRow) int { return f.order(a.cursor, b.cursor) })
	if len(f.rows) >= f.most {
		f.rows = f.rows[:f.most]
		bound := f.rows[f.most-1].cursor
		f.bound = &bound
	}
}

// add adds what was found elsewhere in the fleet.
func (f *finding) add(o *finding) {
	f.total, f.retired, f.undecided = f.total+o.total, f.retired+o.retired, f.undecided+o.undecided
	for i, n := range o.levels {
		f.levels[i] += n
	}
	f.rows = append(f.rows, o.rows...)
}

// find looks for devices, on half of the cores: others are to be answered meanwhile.
func (s *Service) find(ctx context.Context, snap *state.Snapshot, q *DeviceSearch, like *finding,
	now int64) (*finding, error) {
	pages := s.pagesWith(snap, q.small(), now)
	var next atomic.Int64
	var wg sync.WaitGroup
	spent := &spending{ctx: ctx}
	parts := make([]finding, max(1, min(runtime.GOMAXPROCS(0)/2, len(pages))))
	matchers := make([]func(*state.Device, *budget) condition.Tri, len(parts)) // each has room of its own to work in
	for i := range parts {
		parts[i] = *like
		parts[i].levels = make([]int, len(snap.Book.Rulebook.Ladder))
		var err error
		if matchers[i], err = matcher(snap.Book, q, now); err != nil {
			return nil, err
		}
	}
	for i := range parts {
		f, match := &parts[i], matchers[i]
		wg.Go(func() {
			b := &budget{spending: spent}
			var long giveway.Long
			for n := next.Add(1) - 1; n < int64(len(pages)) && b.goesOn(); n = next.Add(1) - 1 {
				long.Pass()
				for d := range pages[n] {
					if f.look(snap, q, snap.At(d, now), match, b, now); !b.goesOn() {
						return
					}
				}
			}
		})
	}
	wg.Wait()
	if err := spent.err(); err != nil {
		return nil, err
	}
	out := &parts[0]
	for i := range parts[1:] {
		out.add(&parts[i+1])
	}
	if out.sift(); q.Undecided {
		out.undecided = 0 // those whom the condition is true for were left out
	}
	return out, nil
}

// look takes a device if it is one of those that are asked for.
func (f *finding) look(snap *state.Snapshot, q *DeviceSearch, d *state.Device,
	match func(*state.Device, *budget) condition.Tri, b *budget, now int64) {
	wanted := condition.True
	if q.Undecided {
		wanted = condition.Unknown
	}
	switch found := match(d, b); {
	case q.Retired == OnlyRetired && d.Retired == nil || found == condition.False:
	case q.Retired == "" && d.Retired != nil:
		if found == wanted {
			f.retired++
		}
	case found != wanted:
		f.undecided++
	default:
		f.take(snap.Book, d, now)
	}
}

// paged orders rows by their cursors and returns those of one page, which
// begins after a cursor (nil for the first), and the cursor of the next.
func paged[T any](rows []T, at func(T) cursor, after *cursor, falling bool, limit int) (page []T, next string) {
	order := func(a, b cursor) int {
		c := strings.Compare(a.Key, b.Key)
		if falling {
			c = -c
		}
		return cmp.Or(c, strings.Compare(a.ID, b.ID))
	}
	slices.SortFunc(rows, func(a, b T) int { return order(at(a), at(b)) })
	start := 0
	if after != nil {
		i, found := slices.BinarySearchFunc(rows, *after, func(r T, c cursor) int { return order(at(r), c) })
		if start = i; found {
			start++
		}
	}
	end := min(len(rows), start+limit)
	if end < len(rows) {
		next = formatCursor(at(rows[end-1]))
	}
	return rows[start:end], next
}

func formatCursor(c cursor) string { return base64.RawURLEncoding.EncodeToString(value.JSON(c)) }

func parseCursor(text string) (*cursor, error) {
	if text == "" {
		return nil, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(text)
	c := &cursor{}
	if err != nil || json.Unmarshal(raw, c) != nil {
		return nil, &fault.QueryError{Param: "cursor",
			Message: "this is not a cursor that a page of this list gave"}
	}
	return c, nil
}

// spending is what a search has taken, in all its parts.
type spending struct {
	ctx   context.Context
	steps atomic.Int64
	seen  atomic.Int64
}

// budget is what a part of a search may take.
type budget struct {
	*spending
	steps int64 // that the whole does not know of yet
	seen  int64
}

// maxQuerySteps bounds how many members of lists a search looks at, over all
// devices.
const maxQuerySteps = 20_000_000

func newBudget(ctx context.Context) *budget { return &budget{spending: &spending{ctx: ctx}} }

// goesOn reports whether to look at the next device: the caller is still there,
// and the search has not taken too much.
func (b *budget) goesOn() bool {
	if b.seen++; b.seen < 64 && b.steps < 4096 {
		return true
	}
	all := b.spending.steps.Add(b.steps)
	b.spending.seen.Add(b.seen)
	b.steps, b.seen = 0, 0
	return all <= maxQuerySteps && b.ctx.Err() == nil
}

func (s *spending) err() error {
	if s.steps.Load() > maxQuerySteps {
		return &fault.QueryError{Param: "where", Message: fmt.Sprintf(
			"the search was given up after %d devices: its quantifiers looked at more than %d members of "+
				"lists; nest fewer of them", s.seen.Load(), maxQuerySteps)}
	}
	return s.ctx.Err()
}

// matcher compiles the condition, the text and the rule of a query, and tells of a device whether it is meant;
// [condition.Unknown] when the condition cannot be told. A condition that asks for retired devices has them found.
func matcher(b *state.Book, q *DeviceSearch, now int64) (func(*state.Device, *budget) condition.Tri, error) {
	if !slices.Contains([]string{"", WithRetired, OnlyRetired}, q.Retired) {
		return nil, &fault.QueryError{Param: "retired", Message: "say with or only, or nothing"}
	}
	where := func(*state.Device, *budget) condition.Tri { return condition.True }
	if strings.TrimSpace(q.Where) != "" {
		p, err := condition.CompileText(q.Where, b.Search)
		if err != nil {
			return nil, whereError(err)
		}
		if q.Retired == "" && slices.Contains(p.Reads(), "retired") {
			q.Retired = WithRetired
		}
		where = asked(b, p, now)
	}
	says, err := ruling(b, q)
	if err != nil {
		return nil, err
	}
	holds := holding(b, q.small())
	return func(d *state.Device, taken *budget) condition.Tri {
		if !says(d) || !holds(d) {
			return condition.False
		}
		return where(d, taken)
	}, nil
}

// asked asks a condition of a search.
func asked(b *state.Book, p *condition.Program, now int64) func(*state.Device, *budget) condition.Tri {
	env := &condition.Env{Now: now}
	extra := condition.NewFrame(len(b.Search.Extra()))
	env.Frames[rulebook.RequestFrame] = extra
	return func(d *state.Device, taken *budget) condition.Tri {
		env.Frames[evidence.DeviceFrame] = d.View.Frame
		extra.Set(state.SearchLevel, b.Rulebook.LevelValue(d.Result.Level), condition.Always)
		extra.Set(state.SearchID, value.OfText(d.ID), condition.Always)
		extra.Set(state.SearchSeenAt, value.OfTime(d.SeenAt), condition.Always)
		extra.Set(state.SearchSince, value.OfTime(d.Since), condition.Always)
		extra.Set(state.SearchQuarantined, value.OfBool(d.Quarantine.Holds(now)), condition.Always)
		extra.Set(state.SearchRetired, value.OfBool(d.Retired != nil), condition.Always)
		before := env.Steps()
		match := p.Eval(env)
		taken.steps += env.Steps() - before
		return match
	}
}

// ruling leaves the devices of which a rule says something.
func ruling(b *state.Book, q *DeviceSearch) (func(*state.Device) bool, error) {
	if q.Rule == "" {
		if q.Verdict != "" {
			return nil, &fault.QueryError{Param: "rule", Message: "say of which rule, as baseline/rule"}
		}
		return func(*state.Device) bool { return true }, nil
	}
	i := slices.Index(b.RuleKeys, q.Rule)
	if i < 0 {
		return nil, &fault.QueryError{Param: "rule", Message: fmt.Sprintf(
			"%q is not a rule of the rulebook in force, as baseline/rule%s", q.Rule, fault.Nearest(q.Rule, b.RuleKeys))}
	}
	if q.Verdict == "" {
		return func(d *state.Device) bool { return d.Result.Verdicts[i] != posture.None }, nil
	}
	var v posture.Verdict
	if v.UnmarshalText([]byte(q.Verdict)) != nil {
		return nil, &fault.QueryError{Param: "verdict", Message: fmt.Sprintf(
			"%q is not a verdict; there are pass, fail, unknown, grace, waived and none", q.Verdict)}
	}
	return func(d *state.Device) bool { return d.Result.Verdicts[i] == v }, nil
}

func whereError(err error) error {
	var list syntax.Errors
	var one *syntax.Error
	if errors.As(err, &list) {
		one = list[0]
	} else if !errors.As(err, &one) {
		return err
	}
	msg := one.Message
	if one.Hint != "" {
		msg += "; " + one.Hint
	}
	return &fault.QueryError{Param: "where", Message: msg, Excerpt: one.Excerpt()}
}

func checkColumns(b *state.Book, columns []string) error {
	for _, name := range columns {
		if b.Rulebook.Dict.Slot(name) < 0 {
			return &fault.QueryError{Param: "columns",
				Message: fmt.Sprintf("%q is not an attribute%s", name,
					fault.Nearest(name, b.Rulebook.Dict.Names()))}
		}
	}
	return nil
}
