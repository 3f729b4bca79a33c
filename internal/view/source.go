package view

import (
	"cmp"
	"iter"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/condition"
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
	of := func(id string) *api.Source {
		if all[id] == nil {
			all[id] = &api.Source{ID: id, Provides: []string{}}
			if rb.Policy.Sources == nil {
				all[id].Provides = []string{"*"}
			}
		}
		return all[id]
	}
	heard := heardTogether(s.heard.Over(snap, now, func(row iter.Seq[*state.Device]) (*heardOf, int64) {
		return hear(snap, row, now)
	}, func(rows []*heardOf) (*heardOf, int64) { return heardTogether(rows), condition.Always }))
	last := heard.addTo(of)
	out := []api.Source{}
	for id, src := range all {
		limit := cmp.Or(limits[id], quietByDefault)
		src.QuietAfter, src.Quiet = value.FormatDuration(limit), isQuiet(id, limits, last[id], now)
		if last[id] != 0 {
			src.LastAt = value.FormatTime(last[id])
		}
		src.Refused = refusalsOf(id, heard.refused)
		out = append(out, *src)
	}
	slices.SortFunc(out, func(a, b api.Source) int {
		return cmp.Or(cmp.Compare(b.Rank, a.Rank),
			strings.Compare(a.ID, b.ID))
	})
	return out
}

// QuietSources lists those of [Service.Sources] that are quiet. While none is, it takes no look at what they said.
func (s *Service) QuietSources() []api.Source {
	snap, now := s.Snapshot(), s.Micros()
	all, limits := declaredSources(snap.Book.Rulebook)
	last := map[string]int64{}
	for id := range all {
		last[id] = 0
	}
	last = lastTogether(append(s.latest.Over(snap, now, func(row iter.Seq[*state.Device]) (map[string]int64, int64) {
		return lastHeard(row), condition.Always
	}, func(rows []map[string]int64) (map[string]int64, int64) { return lastTogether(rows), condition.Always }), last))
	out := []api.Source{}
	for id, at := range last {
		if isQuiet(id, limits, at, now) {
			for _, src := range s.Sources() {
				if src.Quiet {
					out = append(out, src)
				}
			}
			break
		}
	}
	return out
}

// lastTogether is when each source was last heard of any devices.
func lastTogether(rows []map[string]int64) map[string]int64 {
	out := map[string]int64{}
	for _, r := range rows {
		for id, at := range r {
			if so, is := out[id]; !is || at > so {
				out[id] = at
			}
		}
	}
	return out
}

// lastHeard is when each source was last heard of devices.
func lastHeard(devices iter.Seq[*state.Device]) map[string]int64 {
	out := map[string]int64{}
	for d := range devices {
		if d.Retired != nil {
			continue
		}
		for r := range d.Record.All() {
			if r.At > out[r.Source] {
				out[r.Source] = r.At
			}
		}
		for _, r := range d.Refused { // of whom nothing else may be known
			out[r.Source] = max(out[r.Source], 0)
		}
	}
	return out
}

// isQuiet reports whether a source that was heard last at a moment, 0 for never, is quiet.
func isQuiet(id string, limits map[string]int64, last, now int64) bool {
	return id != evidence.Network && now-last > cmp.Or(limits[id], quietByDefault)
}

// heardOf is what sources said of devices.
type heardOf struct {
	sources map[string]*counts
	refused map[[2]string]*api.AttributeRefusal // by source, and by attribute with its message
}

// counts are those of a source.
type counts struct {
	devices, readings, counting, stale int
	last                               int64
}

// hear counts what sources said of devices, and says until when that holds.
func hear(snap *state.Snapshot, devices iter.Seq[*state.Device], now int64) (*heardOf, int64) {
	h, until := &heardOf{map[string]*counts{}, map[[2]string]*api.AttributeRefusal{}}, int64(condition.Always)
	for d := range devices {
		if d.Retired != nil {
			continue
		}
		d = snap.At(d, now)
		until = min(until, d.Wake, h.count(snap, d, now))
		for _, r := range d.Refused {
			key := [2]string{r.Source, r.Attribute + "\n" + r.Message}
			if h.refused[key] == nil {
				h.refused[key] = &api.AttributeRefusal{Attribute: r.Attribute, Message: r.Message, Device: d.ID,
					Source: r.Source, At: value.FormatTime(r.At)}
			}
			h.refused[key].Devices++
		}
	}
	return h, until
}

// heardTogether is what sources said of all devices of rows.
func heardTogether(rows []*heardOf) *heardOf {
	out := &heardOf{map[string]*counts{}, map[[2]string]*api.AttributeRefusal{}}
	for _, h := range rows {
		if h == nil { // of a page that nobody is on
			continue
		}
		for id, c := range h.sources {
			if out.sources[id] == nil {
				out.sources[id] = &counts{}
			}
			out.sources[id].add(c)
		}
		for key, r := range h.refused {
			if out.refused[key] == nil {
				whole := *r
				out.refused[key] = &whole
				continue
			}
			out.refused[key].Devices += r.Devices
		}
	}
	return out
}

func (c *counts) add(o *counts) {
	c.devices += o.devices
	c.readings += o.readings
	c.counting += o.counting
	c.stale += o.stale
	c.last = max(c.last, o.last)
}

// count adds what d has to the counts of its sources, and says until when that holds.
func (h *heardOf) count(snap *state.Snapshot, d *state.Device, now int64) (until int64) {
	until = condition.Always
	if d.View.Valid < until {
		until = d.View.Valid + 1
	}
	var seen []string
	for r := range d.View.Readings {
		src := h.sources[r.Source]
		if src == nil {
			src = &counts{}
			h.sources[r.Source] = src
		}
		if !slices.Contains(seen, r.Source) {
			seen = append(seen, r.Source)
			src.devices++
		}
		src.readings++
		src.last = max(src.last, r.At)
		if r.Slot < 0 {
			continue
		}
		if fresh := snap.Book.Resolver.Fresh(r.Slot, &r.Reading); fresh >= now && fresh < until {
			until = fresh + 1
		}
		if r.Counts && d.View.Get(r.Slot, now).Known() {
			src.counting++
		} else if snap.Book.Resolver.Fresh(r.Slot, &r.Reading) < now {
			src.stale++
		}
	}
	return until
}

// addTo adds what was heard to what is told of sources, and says when each was heard last.
func (h *heardOf) addTo(of func(id string) *api.Source) (last map[string]int64) {
	last = map[string]int64{}
	for id, c := range h.sources {
		src := of(id)
		src.Devices, src.Readings, src.Counting, src.Stale = c.devices, c.readings, c.counting, c.stale
		last[id] = c.last
	}
	for key := range h.refused { // of whom nothing else may be known
		of(key[0])
	}
	return last
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
