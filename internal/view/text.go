package view

import (
	"iter"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/internal/state"
	"ironledger.example/internal/versioned"
)

// spoken is what searches by text look in: beside the id, these attributes.
var spoken = []string{"name", "serial", "owner", "model"}

// texts are those of the devices of a page, in small letters, one behind the other.
type texts struct {
	all  string
	ends [versioned.PageSize]uint32 // where those of each place end
}

// textsOf reads the texts of a page, and says until when they hold.
func textsOf(snap *state.Snapshot, p versioned.Page[state.Device], now int64) (*texts, int64) {
	t, until := &texts{}, int64(condition.Always)
	slots := slotsOf(snap.Book)
	var all strings.Builder
	for i := range versioned.PageSize {
		if d := p.At(i); d != nil {
			until = min(until, d.Wake)
			d = snap.At(d, now)
			all.WriteString(strings.ToLower(d.ID))
			for _, s := range slots {
				all.WriteByte(0)
				all.WriteString(strings.ToLower(d.View.Value(s).Str()))
			}
			all.WriteByte(0)
		}
		t.ends[i] = uint32(all.Len())
	}
	t.all = strings.Clone(all.String())
	return t, until
}

// among yields the devices of the page that may have a text, which is in small letters and not empty. One that reaches
// from one attribute into the next is taken for such too.
func (t *texts) among(p versioned.Page[state.Device], text string) iter.Seq[*state.Device] {
	return func(yield func(*state.Device) bool) {
		for from := 0; ; {
			at := strings.Index(t.all[from:], text)
			if at < 0 {
				return
			}
			place, _ := slices.BinarySearch(t.ends[:], uint32(from+at+1))
			if !yield(p.At(place)) {
				return
			}
			from = int(t.ends[place])
		}
	}
}

// pagesWith are the devices of each page that may have a text; "" for all.
func (s *Service) pagesWith(snap *state.Snapshot, text string, now int64) (out []iter.Seq[*state.Device]) {
	var read []*texts
	if text != "" {
		read = s.texts.Over(snap, now, func(p versioned.Page[state.Device]) (*texts, int64) { return textsOf(snap, p, now) })
	}
	for i, p := range snap.Fleet.Pages() {
		if text == "" {
			out = append(out, p.Values())
		} else {
			out = append(out, read[i].among(p, text))
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
