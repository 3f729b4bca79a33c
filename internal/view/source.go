package view

import (
	"cmp"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/state"
)

const quietByDefault = 24 * 3600 * 1_000_000

// Sources lists who supplies evidence, those that count most first.
func (s *Service) Sources() []api.Source {
	snap, now := s.Snapshot(), s.Micros()
	rb := snap.Book.Rulebook
	all, limits := declaredSources(rb)
	last := map[string]int64{}
	of := func(id string) *api.Source {
		if all[id] == nil {
			all[id] = &api.Source{ID: id, Provides: []string{}}
			if rb.Policy.Sources == nil {
				all[id].Provides = []string{"*"}
			}
		}
		return all[id]
	}
	refused := map[[2]string]*api.AttributeRefusal{}
	snap.Fleet.InService(func(d *state.Device) bool {
		d = snap.At(d, now)
		countReadings(snap, d, now, of, last)
		for _, r := range d.Refused {
			key := [2]string{r.Source, r.Attribute + "\n" + r.Message}
			if refused[key] == nil {
				refused[key] = &api.AttributeRefusal{Attribute: r.Attribute, Message: r.Message, Device: d.ID,
					Source: r.Source, At: value.FormatTime(r.At)}
			}
			refused[key].Devices++
			of(r.Source)
		}
		return true
	})
	out := []api.Source{}
	for id, src := range all {
		limit := cmp.Or(limits[id], quietByDefault)
		src.QuietAfter, src.Quiet = value.FormatDuration(limit), id != evidence.Network && now-last[id] > limit
		if last[id] != 0 {
			src.LastAt = value.FormatTime(last[id])
		}
		src.Refused = refusalsOf(id, refused)
		out = append(out, *src)
	}
	slices.SortFunc(out, func(a, b api.Source) int {
		return cmp.Or(cmp.Compare(b.Rank, a.Rank),
			strings.Compare(a.ID, b.ID))
	})
	return out
}

// countReadings adds what d has to the counts of its sources, and to when each was last heard.
func countReadings(snap *state.Snapshot, d *state.Device, now int64, of func(id string) *api.Source,
	last map[string]int64) {
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
		slot := snap.Book.Rulebook.Dict.Slot(r.Name)
		if slot < 0 {
			continue
		}
		if d.View.Counts(slot, r) && d.View.Get(slot, now).Known() {
			src.Counting++
		} else if snap.Book.Resolver.Stale(slot, r, now) {
			src.Stale++
		}
	}
}

// declaredSources are those of the rulebook, and after what time in microseconds each is quiet.
func declaredSources(rb *rulebook.Rulebook) (all map[string]*api.Source, limits map[string]int64) {
	all, limits = map[string]*api.Source{}, map[string]int64{}
	for _, r := range rb.Policy.Sources {
		all[r.ID] = &api.Source{ID: r.ID, Title: r.Title, Declared: true, Rank: r.Rank, Provides: r.Provides,
			Identifies: r.Identifies}
		if r.Vouches > 0 {
			all[r.ID].Vouches = value.FormatDuration(r.Vouches)
		}
		limits[r.ID] = r.QuietAfter
	}
	return all, limits
}

// refusalsOf lists what was refused of a source, by source and by attribute with its
// message: what concerns most devices first.
func refusalsOf(source string, refused map[[2]string]*api.AttributeRefusal) []api.AttributeRefusal {
	out := []api.AttributeRefusal{}
	for key, r := range refused {
		if key[0] == source {
			out = append(out, *r)
		}
	}
	slices.SortFunc(out, func(a, b api.AttributeRefusal) int {
		return cmp.Or(cmp.Compare(b.Devices, a.Devices), strings.Compare(a.Attribute, b.Attribute))
	})
	return out
}

// shownRefusals tells what was refused of the newest reports about a device.
func shownRefusals(d *state.Device) []api.AttributeRefusal {
	out := []api.AttributeRefusal{}
	for _, r := range d.Refused {
		out = append(out, api.AttributeRefusal{Attribute: r.Attribute, Message: r.Message, Devices: 1, Device: d.ID,
			Source: r.Source, At: value.FormatTime(r.At)})
	}
	return out
}

// threats lists the active threats of a device, the worst first.
func threats(b *state.Book, d *state.Device, now int64) []api.Threat {
	out := []api.Threat{}
	slot := b.Rulebook.Dict.Slot("threats")
	fields := b.Rulebook.Dict.Attributes()[slot].Type.Elem.Record
	members := slices.Clone(d.View.Get(slot, now).Members())
	severity := func(t value.Value) int64 { return t.FieldAt(fields.Index("severity")).Num() }
	slices.SortStableFunc(members, func(a, b value.Value) int { return cmp.Compare(severity(b), severity(a)) })
	for _, t := range members {
		text := func(name string) string {
			if v := t.FieldAt(fields.Index(name)); v.Known() {
				return v.String()
			}
			return ""
		}
		if t.FieldAt(fields.Index("active")).IsTrue() {
			out = append(out, api.Threat{ID: text("id"), Title: text("title"), Severity: text("severity"),
				At: text("at")})
		}
	}
	if r := d.View.Reading(slot); r != nil {
		for i := range out {
			out[i].Source = r.Source
		}
	}
	return out
}
