package view

import (
	"cmp"
	"slices"
	"strings"

	"ironledger.example/core/value"
	"ironledger.example/internal/state"
)

// Source is a source of evidence: what it may supply and what it did.
type Source struct {
	ID       string   `json:"id"`
	Title    string   `json:"title,omitempty"`
	Declared bool     `json:"declared"` // the rulebook names it
	Rank     int      `json:"rank"`
	Provides []string `json:"provides"`
	Devices  int      `json:"devices"`
	Readings int      `json:"readings"`
	Counting int      `json:"counting"` // readings that count, not outranked and not stale
	Stale    int      `json:"stale"`
	LastAt   string   `json:"last_at,omitempty"` // of the newest reading
	// Quiet is set when nothing has come from it for longer than the rulebook's
	// quiet_after, or a day.
	Quiet      bool      `json:"quiet"`
	QuietAfter string    `json:"quiet_after"`
	Refused    []Refusal `json:"refused"` // by attribute, of the newest report about each device
}

// Refusal is an attribute that was not taken, and of how many devices.
type Refusal struct {
	Attribute string `json:"attribute"`
	Message   string `json:"message"`
	Devices   int    `json:"devices"`
	Device    string `json:"device"` // one of them
	Source    string `json:"source,omitempty"`
	At        string `json:"at"`
}

const quietByDefault = 24 * 3600 * 1_000_000

// Sources lists who supplies evidence, those that count most first.
func (s *Service) Sources() []Source {
	snap, now := s.Snapshot(), s.Micros()
	rb := snap.Book.Rulebook
	all, last, limits := map[string]*Source{}, map[string]int64{}, map[string]int64{}
	for _, r := range rb.Policy.Sources {
		all[r.ID] = &Source{ID: r.ID, Title: r.Title, Declared: true, Rank: r.Rank, Provides: r.Provides}
		limits[r.ID] = r.QuietAfter
	}
	of := func(id string) *Source {
		if all[id] == nil {
			all[id] = &Source{ID: id, Provides: []string{}}
			if rb.Policy.Sources == nil {
				all[id].Provides = []string{"*"}
			}
		}
		return all[id]
	}
	refused := map[[2]string]*Refusal{}
	snap.Fleet.All(func(d *state.Device) bool {
		d = snap.At(d, now)
		var seen []string
		readings := d.Record.Readings()
		for i := range readings {
			r := &readings[i]
			src := of(r.Source)
			if !slices.Contains(seen, r.Source) {
				seen = append(seen, r.Source)
				src.Devices++
			}
			src.Readings++
			last[r.Source] = max(last[r.Source], r.At)
			slot := rb.Dict.Slot(r.Name)
			if slot < 0 {
				continue
			}
			if d.View.Counts(slot, r) && d.View.Get(slot, now).Known() {
				src.Counting++
			} else if snap.Book.Resolver.Stale(slot, r, now) {
				src.Stale++
			}
		}
		for _, r := range d.Refused {
			key := [2]string{r.Source, r.Attribute + "\n" + r.Message}
			if refused[key] == nil {
				refused[key] = &Refusal{Attribute: r.Attribute, Message: r.Message, Device: d.ID,
					Source: r.Source, At: value.FormatTime(r.At)}
			}
			refused[key].Devices++
			of(r.Source)
		}
		return true
	})
	out := []Source{}
	for id, src := range all {
		limit := cmp.Or(limits[id], quietByDefault)
		src.QuietAfter, src.Quiet = value.FormatDuration(limit), now-last[id] > limit
		if last[id] != 0 {
			src.LastAt = value.FormatTime(last[id])
		}
		src.Refused = []Refusal{}
		for key, r := range refused {
			if key[0] == id {
				src.Refused = append(src.Refused, *r)
			}
		}
		slices.SortFunc(src.Refused, func(a, b Refusal) int {
			return cmp.Or(cmp.Compare(b.Devices, a.Devices), strings.Compare(a.Attribute, b.Attribute))
		})
		out = append(out, *src)
	}
	slices.SortFunc(out, func(a, b Source) int {
		return cmp.Or(cmp.Compare(b.Rank, a.Rank),
			strings.Compare(a.ID, b.ID))
	})
	return out
}

// shownRefusals tells what was refused of the newest reports about a device.
func shownRefusals(d *state.Device) []Refusal {
	out := []Refusal{}
	for _, r := range d.Refused {
		out = append(out, Refusal{Attribute: r.Attribute, Message: r.Message, Devices: 1, Device: d.ID,
			Source: r.Source, At: value.FormatTime(r.At)})
	}
	return out
}

// threats lists the active threats of a device, the worst first.
func threats(b *state.Book, d *state.Device, now int64) []Threat {
	out := []Threat{}
	slot := b.Rulebook.Dict.Slot("threats")
	fields := b.Rulebook.Dict.Attributes()[slot].Type.Elem.Record
	for _, t := range d.View.Get(slot, now).Members() {
		text := func(name string) string {
			if v := t.FieldAt(fields.Index(name)); v.Known() {
				return v.String()
			}
			return ""
		}
		if t.FieldAt(fields.Index("active")).IsTrue() {
			out = append(out, Threat{ID: text("id"), Title: text("title"), Severity: text("severity"),
				At: text("at"), rank: t.FieldAt(fields.Index("severity")).Num()})
		}
	}
	slices.SortStableFunc(out, func(a, b Threat) int { return cmp.Compare(b.rank, a.rank) })
	if r := d.View.Reading(slot); r != nil {
		for i := range out {
			out[i].Source = r.Source
		}
	}
	return out
}

// Threat is something harmful that is active on a device.
type Threat struct {
	ID       string `json:"id"`
	Title    string `json:"title,omitempty"`
	Severity string `json:"severity,omitempty"`
	At       string `json:"at,omitempty"`
	Source   string `json:"source,omitempty"`

	rank int64
}
