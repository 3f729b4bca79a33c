package view

import (
	"iter"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/internal/smalltext"
	"ironledger.example/internal/state"
	"ironledger.example/internal/versioned"
)

// spoken is what searches by text look in: beside the id, these attributes.
var spoken = []string{"name", "serial", "owner", "model"}

// textsOf reads what searches look in of the devices of a page, by their places, and says until when that holds.
func textsOf(snap *state.Snapshot, p versioned.Page[state.Device], now int64) (*smalltext.Texts, int64) {
	var b smalltext.Builder
	until, slots := int64(condition.Always), slotsOf(snap.Book)
	parts := make([]string, 1+len(slots))
	for i := range versioned.PageSize {
		d := p.At(i)
		if d == nil {
			b.Add()
			continue
		}
		until = min(until, d.Wake)
		d = snap.At(d, now)
		parts[0] = d.ID
		for n, s := range slots {
			parts[n+1] = d.View.Value(s).Str()
		}
		b.Add(parts...)
	}
	return b.Texts(), until
}

// among yields the devices of a page that may have a text, which is in small letters and not empty.
func among(t *smalltext.Texts, p versioned.Page[state.Device], text string) iter.Seq[*state.Device] {
	return func(yield func(*state.Device) bool) {
		for place := range t.With(text) {
			if !yield(p.At(place)) {
				return
			}
		}
	}
}

// pagesWith are the devices of each page that may have a text; "" for all.
func (s *Service) pagesWith(snap *state.Snapshot, text string, now int64) (out []iter.Seq[*state.Device]) {
	var read []*smalltext.Texts
	if text != "" {
		read = s.texts.Over(snap, now, func(p versioned.Page[state.Device]) (*smalltext.Texts, int64) {
			return textsOf(snap, p, now)
		})
	}
	for i, p := range snap.Fleet.Pages() {
		if text == "" {
			out = append(out, p.Values())
		} else {
			out = append(out, among(read[i], p, text))
		}
	}
	return out
}

// small is the text that is looked for, in small letters; "" for any.
func (q *DeviceSearch) small() string { return strings.ToLower(strings.TrimSpace(q.Text)) }

func slotsOf(b *state.Book) (slots []int) {
	for _, n := range spoken {
		slots = append(slots, b.Rulebook.Dict.Slot(n))
	}
	return slots
}

// holding leaves the devices that a text, in small letters, is a part of the id, name, serial, owner or model of.
func holding(b *state.Book, text string) func(*state.Device) bool {
	slots := slotsOf(b)
	has := func(s string) bool { return strings.Contains(strings.ToLower(s), text) }
	return func(d *state.Device) bool {
		return text == "" || has(d.ID) ||
			slices.ContainsFunc(slots, func(s int) bool { return has(d.View.Value(s).Str()) })
	}
}
