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
	"ironledger.example/core/posture"
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
	match, err := matcher(snap.Book, &q, now)
	if err == nil {
		err = checkColumns(snap.Book, q.Columns)
	}
	if err != nil {
		return nil, err
	}
	var rows []deviceRow
	page := &api.DevicePage{Levels: map[string]int{}, Items: []api.DeviceSummary{}}
	budget, wanted := newBudget(ctx), condition.True
	if q.Undecided {
		wanted = condition.Unknown
	}
	snap.Fleet.All(func(d *state.Device) bool {
		d = snap.At(d, now)
		switch found := match(d, budget); {
		case q.Retired == OnlyRetired && d.Retired == nil || found == condition.False:
			return budget.goesOn()
		case q.Retired == "" && d.Retired != nil:
			if found == wanted {
				page.Retired++
			}
		case found != wanted:
			page.Undecided++
		default:
			rows = append(rows, deviceRow{cursor{column(snap.Book, d, now), d.ID}, d})
			page.Levels[snap.Book.Rulebook.LevelName(d.Result.Level)]++
		}
		return budget.goesOn()
	})
	if q.Undecided {
		page.Undecided = 0 // those whom the condition is true for were left out
	}
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
	holds := holding(b, strings.ToLower(strings.TrimSpace(q.Text)))
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

// holding leaves the devices that a text, in small letters, is a part of the id, name, serial, owner or model of.
func holding(b *state.Book, text string) func(*state.Device) bool {
	var slots []int
	for _, n := range []string{"name", "serial", "owner", "model"} {
		slots = append(slots, b.Rulebook.Dict.Slot(n))
	}
	return func(d *state.Device) bool {
		found := text == "" || strings.Contains(strings.ToLower(d.ID), text)
		for _, s := range slots {
			found = found || strings.Contains(strings.ToLower(d.View.Value(s).Str()), text)
		}
		return found
	}
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
