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
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/condition"
	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/past"
	"ironledger.example/internal/state"
)

// Service shows what is in open records.
type Service struct {
	*engine.Engine
	past      *past.Service
	decisions *decision.Service
}

// New is a service over open records.
func New(e *engine.Engine, past *past.Service, decisions *decision.Service) *Service {
	return &Service{e, past, decisions}
}

// DeviceSearch selects and orders devices.
type DeviceSearch struct {
	Where  string // a condition over the attributes, level, id, seen_at and since
	Text   string // a part of the id, name, serial, owner or model
	Sort   string // a column, with "-" before it for falling order; "" for id
	Cursor string
	Limit  int
	// Columns are attributes whose values the items carry beside the usual.
	Columns []string
}

// columns are what a list can be sorted by.
var columns = map[string]func(b *state.Book, d *state.Device, now int64) string{
	"id": func(_ *state.Book, d *state.Device, _ int64) string { return d.ID },
	"level": func(_ *state.Book, d *state.Device,
		_ int64) string {
		return fmt.Sprintf("%03d", d.Result.Level)
	},
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

func sortable(n int64) string { return fmt.Sprintf("%020d", n) }

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
	match, err := matcher(snap.Book, q, now)
	if err == nil {
		err = checkColumns(snap.Book, q.Columns)
	}
	if err != nil {
		return nil, err
	}
	var rows []deviceRow
	page := &api.DevicePage{Levels: map[string]int{}, Items: []api.DeviceSummary{}}
	budget := newBudget(ctx)
	snap.Fleet.All(func(d *state.Device) bool {
		if d = snap.At(d, now); match(d, budget) {
			rows = append(rows, deviceRow{cursor{column(snap.Book, d, now), d.ID}, d})
			page.Levels[snap.Book.Rulebook.LevelName(d.Result.Level)]++
		}
		return budget.goesOn()
	})
	if err := budget.err(); err != nil {
		return nil, err
	}
	page.Total = len(rows)
	shown, next := paged(rows, func(r deviceRow) cursor { return r.cursor }, after, falling, q.Limit)
	for _, r := range shown {
		page.Items = append(page.Items, withColumns(snap.Book, r.d, q.Columns, now))
	}
	page.Next = next
	return page, nil
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

// budget is what a search may take.
type budget struct {
	ctx   context.Context
	steps int64
	seen  int
}

// maxQuerySteps bounds how many members of lists a search looks at, over all
// devices.
const maxQuerySteps = 20_000_000

func newBudget(ctx context.Context) *budget { return &budget{ctx: ctx} }

// goesOn reports whether to look at the next device: the caller is still there,
// and the search has not taken too much.
func (b *budget) goesOn() bool {
	b.seen++
	return b.steps <= maxQuerySteps && (b.seen%64 != 0 || b.ctx.Err() == nil)
}

func (b *budget) err() error {
	if b.steps > maxQuerySteps {
		return &fault.QueryError{Param: "where", Message: fmt.Sprintf(
			"the search was given up after %d devices: its quantifiers looked at more than %d members of "+
				"lists; nest fewer of them", b.seen, maxQuerySteps)}
	}
	return b.ctx.Err()
}

// matcher compiles the condition and the text of a query.
func matcher(b *state.Book, q DeviceSearch, now int64) (func(*state.Device, *budget) bool, error) {
	where := func(*state.Device, *budget) bool { return true }
	if strings.TrimSpace(q.Where) != "" {
		p, err := condition.CompileText(q.Where, b.Search)
		if err != nil {
			return nil, whereError(err)
		}
		env := &condition.Env{Now: now}
		extra := condition.NewFrame(len(b.Search.Extra()))
		env.Frames[rulebook.RequestFrame] = extra
		where = func(d *state.Device, taken *budget) bool {
			env.Frames[evidence.DeviceFrame] = d.View.Frame
			extra.Set(state.SearchLevel, b.Rulebook.LevelValue(d.Result.Level), condition.Always)
			extra.Set(state.SearchID, value.OfText(d.ID), condition.Always)
			extra.Set(state.SearchSeenAt, value.OfTime(d.SeenAt), condition.Always)
			extra.Set(state.SearchSince, value.OfTime(d.Since), condition.Always)
			extra.Set(state.SearchQuarantined, value.OfBool(d.Quarantine.Holds(now)), condition.Always)
			before := env.Steps()
			match := p.Eval(env) == condition.True
			taken.steps += env.Steps() - before
			return match
		}
	}
	text := strings.ToLower(strings.TrimSpace(q.Text))
	if text == "" {
		return where, nil
	}
	var slots []int
	for _, n := range []string{"name", "serial", "owner", "model"} {
		slots = append(slots, b.Rulebook.Dict.Slot(n))
	}
	return func(d *state.Device, taken *budget) bool {
		found := strings.Contains(strings.ToLower(d.ID), text)
		for _, s := range slots {
			found = found || strings.Contains(strings.ToLower(d.View.Value(s).Str()), text)
		}
		return found && where(d, taken)
	}, nil
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
