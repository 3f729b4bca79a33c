package find

import (
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/internal/smalltext"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view/fold"
	"ironledger.example/internal/view/marked"
)

// spoken is what searches by text look in: beside the id, these attributes.
var spoken = []string{"name", "serial", "owner", "model"}

// reader reads what searches look in.
type reader struct {
	snap  *state.Snapshot
	now   int64
	slots []int
}

func newReader(snap *state.Snapshot, now int64) *reader {
	r := &reader{snap: snap, now: now}
	for _, n := range spoken {
		r.slots = append(r.slots, snap.Book.Rulebook.Dict.Slot(n))
	}
	return r
}

// of is what a device has of it; nothing for none.
func (r *reader) of(d *state.Device) (parts []string) {
	if d == nil {
		return nil
	}
	d = r.snap.At(d, r.now)
	parts = append(make([]string, 0, 1+len(r.slots)), d.ID)
	for _, s := range r.slots {
		parts = append(parts, d.View.Value(s).Str())
	}
	return parts
}

// page reads it of a page, by places, and says until when that holds. Most changes are none of it.
func (r *reader) page(p fold.Part[*smalltext.Texts]) (*smalltext.Texts, int64) {
	if p.Known != nil && r.now < p.Until {
		same, until := true, p.Until
		for place := range fold.PageSize {
			if same && p.Changed(place) {
				if d := p.At(place); d != nil {
					until = min(until, d.Wake)
				}
				same = (*p.Known).Is(place, r.of(p.At(place))...)
			}
		}
		if same {
			return *p.Known, until
		}
	}
	var b smalltext.Builder
	until := int64(condition.Always)
	for place := range fold.PageSize {
		if d := p.At(place); d != nil {
			until = min(until, d.Wake)
		}
		b.Add(r.of(p.At(place))...)
	}
	return b.Texts(), until
}

// having leaves the devices of each page that have a text, which is in small letters; "" for all.
func (s *Finder) having(snap *state.Snapshot, text string, sets []marked.Set, now int64) {
	if text == "" {
		return
	}
	for i, t := range s.texts.Over(snap, now, newReader(snap, now).page) {
		if (sets[i] == marked.Set{}) {
			continue
		}
		var with marked.Set
		for place := range t.With(text) {
			with.Put(place)
		}
		sets[i] = sets[i].Both(&with)
	}
}

// small is the text that is looked for, in small letters; "" for any.
func (q *Query) small() string { return strings.ToLower(strings.TrimSpace(q.Text)) }
