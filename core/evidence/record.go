package evidence

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"hash/maphash"
	"iter"
	"slices"
	"strconv"
	"strings"
	"sync"

	"ironledger.example/core/value"
)

// Record is everything known of one device: the newest reading of each
// attribute from each source, sorted by name and source. It is immutable.
//
// A fleet is kept in memory, so that a record is small: whose readings it has
// is kept once for all devices that are reported of alike, and so are values
// that many have.
type Record struct {
	*layout
	held []held
}

// layout says of what and from whom the readings of a record are, each differing from the one before.
type layout struct {
	labels  []label
	sources []string // sorted, each once
}

type label struct {
	name, source string
	proved       bool
}

// held is the rest of a reading: a value, or one that is not known and says why, and when it was observed.
type held struct {
	value *value.Value
	at    int64
}

func (l *label) reading(h held) Reading {
	x := Reading{Name: l.name, Source: l.source, At: h.at, Proved: l.proved}
	if h.value.Known() {
		x.Value = *h.value
	} else {
		x.Unavailable = h.value.Str()
	}
	return x
}

func holding(x *Reading) (label, held) {
	v := x.Value
	if !v.Known() {
		v = value.Unavailable(x.Unavailable)
	}
	return label{x.Name, x.Source, x.Proved}, held{value.Shared(v), x.At}
}

// same reports whether two say the same, whenever that was observed.
func (h held) same(o held) bool {
	return h.value == o.value || h.value.Kind() == o.value.Kind() && h.value.Equal(*o.value) &&
		(h.value.Known() || h.value.Str() == o.value.Str())
}

var layouts, layoutSeed = new(value.Recent[layout]), maphash.MakeSeed()

// layoutOf returns the layout with the labels, which it copies: one of those that came lately, if it was one.
func layoutOf(labels []label) *layout {
	var h maphash.Hash
	h.SetSeed(layoutSeed)
	for i := range labels {
		h.WriteString(labels[i].name)
		h.WriteByte(0)
		h.WriteString(labels[i].source)
		if labels[i].proved {
			h.WriteByte(1)
		}
	}
	place, kept, _ := layouts.At(h.Sum64())
	if kept != nil && slices.Equal(kept.labels, labels) {
		return kept
	}
	l := &layout{labels: slices.Clone(labels)}
	for i := range labels {
		l.from(labels[i].source)
	}
	slices.Sort(l.sources)
	place.Store(l)
	return l
}

// from adds a source, if it is not there.
func (l *layout) from(source string) {
	if !slices.Contains(l.sources, source) {
		l.sources = append(l.sources, source)
	}
}

// span is a run of the readings of a record.
type span struct {
	labels []label
	held   []held
}

func (r *Record) all() span {
	if r == nil || r.layout == nil {
		return span{}
	}
	return span{r.labels, r.held}
}

func (s span) from(i int) span { return span{s.labels[i:], s.held[i:]} }

// Len is how many readings there are.
func (r *Record) Len() int { return len(r.all().held) }

// Sources lists, sorted, who gave them.
func (r *Record) Sources() []string {
	if r.Len() == 0 {
		return nil
	}
	return r.sources
}

// All yields the readings, sorted by name and then by source.
func (r *Record) All() iter.Seq[Reading] { return r.all().readings }

func (s span) readings(yield func(Reading) bool) {
	for i := range s.labels {
		if !yield(s.labels[i].reading(s.held[i])) {
			return
		}
	}
}

// Of yields the readings of one attribute.
func (r *Record) Of(name string) iter.Seq[Reading] { return r.of(name).readings }

func (r *Record) of(name string) span {
	s := r.all()
	first, _ := slices.BinarySearchFunc(s.labels, name,
		func(x label, name string) int { return strings.Compare(x.name, name) })
	return s.from(first).about(name)
}

// about is the readings of an attribute with which the span begins, if it does.
func (s span) about(name string) span {
	n := 0
	for n < len(s.labels) && s.labels[n].name == name {
		n++
	}
	return span{s.labels[:n], s.held[:n]}
}

func (l *label) before(o *label) int {
	if c := strings.Compare(l.name, o.name); c != 0 {
		return c
	}
	return strings.Compare(l.source, o.source)
}

// With returns the record with the readings of a report laid over it. A
// reading older than the one kept of the same source is left out.
func (r *Record) With(rep *Report) *Record {
	old := r.all()
	var labelRoom [48]label
	var heldRoom [48]held
	labels, out := labelRoom[:0], heldRoom[:0]
	i, alike := 0, r != nil
	take := func() {
		labels, out = append(labels, old.labels[i]), append(out, old.held[i])
		i++
	}
	for j := range rep.Readings {
		l, h := holding(&rep.Readings[j])
		c := -1
		for ; i < len(old.labels); take() {
			if c = old.labels[i].before(&l); c >= 0 {
				break
			}
		}
		replaces := i < len(old.labels) && c == 0
		switch {
		case replaces && old.held[i].at > h.at:
			take()
			continue
		case replaces:
			alike = alike && old.labels[i] == l
			i++
		default:
			alike = false
		}
		labels, out = append(labels, l), append(out, h)
	}
	for i < len(old.labels) {
		take()
	}
	out = append(make([]held, 0, len(out)), out...) // many are kept: no room to spare
	if alike {
		return &Record{r.layout, out}
	}
	return &Record{layoutOf(labels), out}
}

// MarshalSource writes the readings of one source as JSON for keeping: by the
// moment of observation in microseconds, with a mark of those that are proved, then as in a report:
// {"1763625600000000": {"attribute": value, "other": {"unavailable": "…"}}, "1763625600000000!": {…}}.
func (r *Record) MarshalSource(source string) []byte { return r.AppendSource(nil, source) }

// AppendSource appends what MarshalSource writes to b.
func (r *Record) AppendSource(b []byte, source string) []byte {
	all := r.all()
	o := value.Object(slices.Grow(b, 64+56*len(all.held))).Open()
	type moment struct {
		at     int64
		proved bool
	}
	of := func(i int) moment { return moment{all.held[i].at, all.labels[i].proved} }
	var done []moment
	for i := range all.labels {
		first := of(i)
		if all.labels[i].source != source || slices.Contains(done, first) {
			continue
		}
		done = append(done, first)
		o = o.Name(momentText(first.at, first.proved)).Open()
		for j := i; j < len(all.labels); j++ {
			switch v := all.held[j].value; {
			case of(j) != first || all.labels[j].source != source:
			case v.Known():
				o = v.AppendJSON(o.Name(all.labels[j].name))
			default:
				o = o.Name(all.labels[j].name).Open().Text("unavailable", v.Str()).Close()
			}
		}
		o = o.Close()
	}
	return o.Close()
}

// provedMark stands behind the moment of readings that are proved.
const provedMark = "!"

func momentText(at int64, proved bool) string {
	text := strconv.FormatInt(at, 10)
	if proved {
		text += provedMark
	}
	return text
}

// UnmarshalSource reads what MarshalSource wrote as a report of the source.
// Attributes that the dictionary no longer declares, or declares with another
// type, are left out.
func (d *Dictionary) UnmarshalSource(source string, kept []byte) (*Report, error) {
	list, end, err := d.source(nil, source, kept, 0)
	if err == nil && (end != len(kept) || len(kept) > 2 && !bytes.HasSuffix(kept, []byte("}}"))) {
		err = fmt.Errorf("the kept evidence of %s: it breaks off", source)
	}
	if err != nil {
		return nil, err
	}
	return &Report{Source: source, Readings: list}, nil
}

// readRooms are rooms for what is read of a source: a fleet of them is read at a start.
var readRooms = sync.Pool{New: func() any { return new([]Reading) }}

// UnmarshalRecord reads the kept evidence of all sources of a device:
// {"source": what MarshalSource wrote, …}.
func (d *Dictionary) UnmarshalRecord(kept []byte) (*Record, error) {
	var rec *Record
	if len(kept) < 2 || kept[0] != '{' {
		return nil, errors.New("the kept evidence is no JSON object")
	}
	room := readRooms.Get().(*[]Reading)
	defer readRooms.Put(room)
	var bad error
	end := value.Walk(kept, 0, func(key []byte, at int) (int, bool) {
		source := string(key)
		list, end, err := d.source(*room, source, kept, at)
		if bad = err; err != nil {
			return at, false
		}
		rec = rec.With(&Report{Source: source, Readings: list})
		clear(list) // it holds nothing longer
		*room = list[:0]
		return end, true
	})
	whole := len(kept) == 2 || bytes.HasSuffix(kept, []byte("}}}")) || bytes.HasSuffix(kept, []byte("{}}"))
	if bad == nil && (end != len(kept) || !whole) {
		bad = errors.New("the kept evidence breaks off")
	}
	return rec, bad
}

// source appends the readings in the object that begins at a place in kept to a list that has none, and returns the
// place behind it.
func (d *Dictionary) source(list []Reading, source string, kept []byte, begin int) ([]Reading, int, error) {
	damaged := func(why string) error { return fmt.Errorf("the kept evidence of %s: %s", source, why) }
	if len(kept) < begin+2 || kept[begin] != '{' {
		return nil, begin, damaged("it is no JSON object")
	}
	ordered, expected := true, 0 // mostly they stand in order
	var bad error
	end := value.Walk(kept, begin, func(moment []byte, at int) (int, bool) {
		digits, proved := strings.CutSuffix(string(moment), provedMark)
		observed, err := strconv.ParseInt(digits, 10, 64)
		if err != nil || kept[at] != '{' {
			bad = damaged(fmt.Sprintf("%.40q is no moment", moment))
			return at, false
		}
		return value.Walk(kept, at, func(name []byte, at int) (int, bool) {
			end := value.Skip(kept, at)
			if end <= at {
				bad = damaged(fmt.Sprintf("%.40q has no value", name))
				return at, false
			}
			slot := 0
			if expected < len(d.sorted) && d.list[d.sorted[expected]].Name == string(name) {
				slot = d.sorted[expected]
			} else {
				var known bool
				if slot, known = d.index[string(name)]; !known {
					return end, true
				}
			}
			ordered = ordered && d.rank[slot] >= expected
			expected = d.rank[slot] + 1
			got := Reading{Name: d.list[slot].Name, Source: source, At: observed}
			if why, ok := unavailable(kept[at:end]); ok {
				got.Unavailable = why
			} else if got.Value, err = value.Decode(d.list[slot].Type, kept[at:end]); err != nil {
				return end, true
			}
			got.Proved = proved && got.Value.Known()
			list = append(list, got)
			return end, true
		}), bad == nil
	})
	if bad != nil {
		return nil, begin, bad
	}
	if !ordered {
		list = newestOfEach(list)
	}
	return list, end, nil
}

// newestOfEach orders readings of several moments by attribute and keeps the newest of each,
// of two of one moment the last.
func newestOfEach(list []Reading) []Reading {
	slices.SortStableFunc(list, func(a, b Reading) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), cmp.Compare(a.At, b.At))
	})
	n := 0
	for i := range list {
		if i+1 == len(list) || list[i+1].Name != list[i].Name {
			list[n] = list[i]
			n++
		}
	}
	clear(list[n:])
	return list[:n]
}
