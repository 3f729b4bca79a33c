package service

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

// DeviceQuery selects and orders devices.
type DeviceQuery struct {
	Where  string // a condition over the attributes, level, id, seen_at and since
	Text   string // a part of the id, name, serial, owner or model
	Sort   string // a column, with "-" before it for falling order; "" for id
	Cursor string
	Limit  int
	// Columns are attributes whose values the items carry beside the usual.
	Columns []string
}

// Summary is a device in a list.
type Summary struct {
	ID        string   `json:"id"`
	Name      string   `json:"name,omitempty"`
	Platform  string   `json:"platform,omitempty"`
	Form      string   `json:"form,omitempty"`
	Model     string   `json:"model,omitempty"`
	OSVersion string   `json:"os_version,omitempty"`
	Owner     string   `json:"owner,omitempty"`
	Ownership string   `json:"ownership,omitempty"`
	Serial    string   `json:"serial,omitempty"`
	Level     string   `json:"level"`
	Rank      int      `json:"rank"` // the place of the level on the ladder, 0 the lowest
	Top       int      `json:"top"`  // the place of the highest level
	Shadow    string   `json:"shadow_level,omitempty"`
	Covered   bool     `json:"covered"`
	Binding   []string `json:"binding"`
	Since     string   `json:"since"`
	SeenAt    string   `json:"seen_at"`
	Next      string   `json:"next_change,omitempty"`
	// Values are the attributes asked for, as text; those that are not known are
	// left out.
	Values map[string]string `json:"values,omitempty"`
	// Retired is why the device is out of service, "" when it is in.
	Retired string `json:"retired,omitempty"`
	// Outside is why the device is not one of ours, "" when it is: it was retired,
	// or its enrolment is held or refused.
	Outside string `json:"outside,omitempty"`
}

// DevicePage is one page of a list of devices.
type DevicePage struct {
	Total  int            `json:"total"`
	Levels map[string]int `json:"levels"` // how many of the total stand at each level
	Items  []Summary      `json:"items"`
	Next   string         `json:"next,omitempty"` // the cursor of the next page
}

// QueryError says what is wrong with a query.
type QueryError struct{ Param, Message, Excerpt string }

func (e *QueryError) Error() string { return e.Param + ": " + e.Message }

// columns are what a list can be sorted by.
var columns = map[string]func(b *Book, d *Device, now int64) string{
	"id":          func(_ *Book, d *Device, _ int64) string { return d.ID },
	"level":       func(_ *Book, d *Device, _ int64) string { return fmt.Sprintf("%03d", d.Result.Level) },
	"since":       func(_ *Book, d *Device, _ int64) string { return sortable(d.Since) },
	"seen_at":     func(_ *Book, d *Device, _ int64) string { return sortable(d.SeenAt) },
	"next_change": func(b *Book, d *Device, now int64) string { return sortable(b.next(d, now)) },
	"name":        byAttribute("name"),
	"platform":    byAttribute("platform"),
	"form":        byAttribute("form"),
	"model":       byAttribute("model"),
	"owner":       byAttribute("owner"),
	"serial":      byAttribute("serial"),
	"os_version":  byAttribute("os.version"),
}

func sortable(n int64) string { return fmt.Sprintf("%020d", n) }

func byAttribute(name string) func(*Book, *Device, int64) string {
	return func(b *Book, d *Device, now int64) string {
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
	d *Device
}

// Devices lists the devices that a query selects.
func (s *Service) Devices(ctx context.Context, q DeviceQuery) (*DevicePage, error) {
	snap, now := s.Snapshot(), s.micros()
	name, falling := strings.CutPrefix(cmp.Or(q.Sort, "id"), "-")
	column := columns[name]
	if column == nil {
		return nil, &QueryError{Param: "sort",
			Message: fmt.Sprintf("%q is not a column; there are id, level, since, seen_at, next_change, name, platform, form, model, owner, serial and os_version", name)}
	}
	after, err := parseCursor(q.Cursor)
	if err != nil {
		return nil, err
	}
	match, err := snap.Book.matcher(q, now)
	if err == nil {
		err = snap.Book.checkColumns(q.Columns)
	}
	if err != nil {
		return nil, err
	}
	var rows []deviceRow
	page := &DevicePage{Levels: map[string]int{}, Items: []Summary{}}
	budget := newBudget(ctx)
	snap.Fleet.All(func(d *Device) bool {
		if d = snap.at(d, now); match(d, budget) {
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
		page.Items = append(page.Items, snap.Book.summary(r.d, q.Columns, now))
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
		return nil, &QueryError{Param: "cursor", Message: "this is not a cursor that a page of this list gave"}
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
		return &QueryError{Param: "where", Message: fmt.Sprintf(
			"the search was given up after %d devices: its quantifiers looked at more than %d members of lists; nest fewer of them", b.seen, maxQuerySteps)}
	}
	return b.ctx.Err()
}

// matcher compiles the condition and the text of a query.
func (b *Book) matcher(q DeviceQuery, now int64) (func(*Device, *budget) bool, error) {
	where := func(*Device, *budget) bool { return true }
	if strings.TrimSpace(q.Where) != "" {
		p, err := condition.CompileText(q.Where, b.Search)
		if err != nil {
			return nil, whereError(err)
		}
		env := &condition.Env{Now: now}
		extra := condition.NewFrame(len(b.Search.Extra()))
		env.Frames[rulebook.RequestFrame] = extra
		where = func(d *Device, taken *budget) bool {
			env.Frames[evidence.DeviceFrame] = d.View.Frame
			extra.Set(searchLevel, b.Rulebook.LevelValue(d.Result.Level), condition.Always)
			extra.Set(searchID, value.OfText(d.ID), condition.Always)
			extra.Set(searchSeenAt, value.OfTime(d.SeenAt), condition.Always)
			extra.Set(searchSince, value.OfTime(d.Since), condition.Always)
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
	return func(d *Device, taken *budget) bool {
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
	return &QueryError{Param: "where", Message: msg, Excerpt: one.Excerpt()}
}

func (b *Book) checkColumns(columns []string) error {
	for _, name := range columns {
		if b.Rulebook.Dict.Slot(name) < 0 {
			return &QueryError{Param: "columns",
				Message: fmt.Sprintf("%q is not an attribute%s", name, nearest(name, b.Rulebook.Dict.Names()))}
		}
	}
	return nil
}

func nearest(name string, known []string) string {
	if near := condition.Nearest(name, known); near != "" {
		return "; did you mean " + near + "?"
	}
	return ""
}

// summary describes a device in a list with further attributes.
func (b *Book) summary(d *Device, columns []string, now int64) Summary {
	s := b.Summary(d, now)
	for _, name := range columns {
		if v := d.View.Get(b.Rulebook.Dict.Slot(name), now); v.Known() {
			if s.Values == nil {
				s.Values = map[string]string{}
			}
			s.Values[name] = v.String()
		}
	}
	return s
}

// Summary describes a device in a list.
func (b *Book) Summary(d *Device, now int64) Summary {
	get := func(name string) string {
		if v := d.View.Value(b.Rulebook.Dict.Slot(name)); v.Known() {
			return v.String()
		}
		return ""
	}
	s := Summary{ID: d.ID, Name: get("name"), Platform: get("platform"), Form: get("form"),
		Model: get("model"), OSVersion: get("os.version"),
		Owner: get("owner"), Ownership: get("ownership"), Serial: get("serial"),
		Level: b.Rulebook.LevelName(d.Result.Level), Rank: int(d.Result.Level), Top: int(b.Rulebook.Top()),
		Covered: d.Result.Covered, Binding: b.Rules.Binding(&d.Result), Since: value.FormatTime(d.Since),
		SeenAt: value.FormatTime(d.SeenAt)}
	if d.Retired != nil {
		s.Retired = d.Retired.Reason
	}
	if d.outsider() {
		s.Outside = d.whyOutside()
	}
	if d.Result.Shadow != d.Result.Level {
		s.Shadow = b.Rulebook.LevelName(d.Result.Shadow)
	}
	if next := b.next(d, now); next < condition.Always {
		s.Next = value.FormatTime(next)
	}
	return s
}

// Detail is a device in full.
type Detail struct {
	Summary
	FirstSeen string             `json:"first_seen"`
	Keys      map[string]string  `json:"keys"`
	Standing  *posture.Standing  `json:"standing"`
	Readings  []Shown            `json:"readings"`
	Refused   []ShownRefusal     `json:"refused"` // of the newest report of each source
	Threats   []Threat           `json:"threats"` // the active ones
	Waivers   []ShownException   `json:"waivers"`
	Vouches   []ShownException   `json:"vouches"`
	OnRoster  bool               `json:"on_roster"`
	Certs     []ShownCertificate `json:"certificates"`
	Rulebook  int64              `json:"rulebook"`
}

// Shown is a reading as people see it.
type Shown struct {
	Attribute   string      `json:"attribute"`
	Title       string      `json:"title"`
	Value       value.Value `json:"value"`
	Text        string      `json:"text,omitempty"`
	Unavailable string      `json:"unavailable,omitempty"`
	Source      string      `json:"source"`
	ObservedAt  string      `json:"observed_at"`
	Age         string      `json:"age"`
	Stale       bool        `json:"stale,omitempty"`
	Counts      bool        `json:"counts"` // this reading, of several sources, is the one that counts
}

// Device shows a device in full, or nil when there is none.
func (s *Service) Device(id string) *Detail {
	snap, now := s.Snapshot(), s.micros()
	d := snap.named(id)
	if d == nil {
		return nil
	}
	return snap.detail(snap.at(d, now), now)
}

// named returns a device by its id, serial or hardware id, or nil.
func (snap *Snapshot) named(name string) *Device {
	fleet := snap.Fleet
	for _, kind := range []evidence.KeyKind{evidence.ByID, evidence.BySerial, evidence.ByHardware} {
		if id, ok := fleet.Find(evidence.Folded(kind, name)); ok {
			return fleet.Get(id)
		}
	}
	return nil
}

// detail tells a device, that is at the moment now, in full.
func (snap *Snapshot) detail(d *Device, now int64) *Detail {
	b := snap.Book
	out := &Detail{Summary: b.Summary(d, now), FirstSeen: value.FormatTime(d.FirstSeen), Keys: map[string]string{},
		Standing: b.standing(d, now), Readings: []Shown{}, Rulebook: b.Info.Version}
	for _, k := range d.Keys {
		out.Keys[string(k.Kind)] = k.Text
	}
	out.Refused, out.Threats, out.OnRoster = d.shownRefusals(), b.threats(d, now),
		snap.Roster.Has(snap.telling(d.Keys))
	out.Waivers, out.Vouches, out.Certs = []ShownException{}, []ShownException{}, []ShownCertificate{}
	for _, w := range d.Waivers {
		out.Waivers = append(out.Waivers, snap.shownWaiver(w, now))
	}
	for _, v := range d.Vouches {
		out.Vouches = append(out.Vouches, v.shown("", now))
	}
	for _, c := range d.View.Get(b.Rulebook.Dict.Slot("certs"), now).Members() {
		out.Certs = append(out.Certs, b.certificate(d, c, certificateState(c, now)))
	}
	readings := d.Record.Readings()
	for i := range readings {
		r := &readings[i]
		slot := b.Rulebook.Dict.Slot(r.Name)
		if slot < 0 {
			continue
		}
		shown := Shown{Attribute: r.Name, Title: b.Rulebook.Dict.Attributes()[slot].Title, Value: r.Value,
			Unavailable: r.Unavailable, Source: r.Source,
			ObservedAt: value.FormatTime(r.At), Age: value.FormatAge(max(0, now-r.At))}
		counts := d.View.Counts(slot, r)
		if counts {
			shown.Value = d.View.Value(slot) // certificates checked, a threat level derived
		}
		if shown.Value.Known() {
			shown.Text = shown.Value.String()
		}
		if counts {
			shown.Stale = d.View.Cells[slot].Until < now
			shown.Counts = d.View.Get(slot, now).Known()
		} else {
			shown.Stale = r.Value.Known() && b.Resolver.Stale(slot, r, now)
		}
		out.Readings = append(out.Readings, shown)
	}
	return out
}
