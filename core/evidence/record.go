package evidence

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironledger.example/core/value"
)

// Record is everything known of one device: the newest reading of each
// attribute from each source, sorted by name and source. It is immutable.
type Record struct {
	readings []Reading
}

// Readings lists the readings, sorted by name and then by source.
func (r *Record) Readings() []Reading {
	if r == nil {
		return nil
	}
	return r.readings
}

// Of returns the readings of one attribute.
func (r *Record) Of(name string) []Reading {
	all := r.Readings()
	first, _ := slices.BinarySearchFunc(all, name,
		func(x Reading, name string) int { return strings.Compare(x.Name, name) })
	end := first
	for end < len(all) && all[end].Name == name {
		end++
	}
	return all[first:end]
}

func before(a, b *Reading) int {
	if c := strings.Compare(a.Name, b.Name); c != 0 {
		return c
	}
	return strings.Compare(a.Source, b.Source)
}

// With returns the record with the readings of a report laid over it. A
// reading older than the one kept of the same source is left out.
func (r *Record) With(rep *Report) *Record {
	old, fresh := r.Readings(), rep.Readings
	if len(old) == 0 {
		return &Record{fresh}
	}
	out := make([]Reading, 0, united(old, fresh)) // records are kept by the hundred thousand: no room to spare
	for len(old) > 0 || len(fresh) > 0 {
		switch c := 0; {
		case len(fresh) == 0:
			return &Record{append(out, old...)}
		case len(old) > 0:
			if c = before(&old[0], &fresh[0]); c < 0 {
				out, old = append(out, old[0]), old[1:]
				continue
			}
			if c == 0 {
				if old[0].At > fresh[0].At {
					fresh[0] = old[0]
				}
				old = old[1:]
			}
		}
		out, fresh = append(out, fresh[0]), fresh[1:]
	}
	return &Record{out}
}

// united is how many readings two sorted lists have together, those of one attribute and source once.
func united(a, b []Reading) int {
	n := len(a) + len(b)
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch c := before(&a[i], &b[j]); {
		case c < 0:
			i++
		case c > 0:
			j++
		default:
			i, j, n = i+1, j+1, n-1
		}
	}
	return n
}

// MarshalSource writes the readings of one source as JSON for keeping: by the
// moment of observation in microseconds, with a mark of those that are proved, then as in a report:
// {"1763625600000000": {"attribute": value, "other": {"unavailable": "…"}}, "1763625600000000!": {…}}.
func (r *Record) MarshalSource(source string) []byte { return r.AppendSource(nil, source) }

// AppendSource appends what MarshalSource writes to b.
func (r *Record) AppendSource(b []byte, source string) []byte {
	readings := r.Readings()
	o := value.Object(slices.Grow(b, 64+56*len(readings))).Open()
	type moment struct {
		at     int64
		proved bool
	}
	var done []moment
	for i := range readings {
		first := &readings[i]
		of := moment{first.At, first.Proved}
		if first.Source != source || slices.Contains(done, of) {
			continue
		}
		done = append(done, of)
		o = o.Name(momentText(first.At, first.Proved)).Open()
		for j := i; j < len(readings); j++ {
			switch x := &readings[j]; {
			case x.At != first.At || x.Proved != first.Proved || x.Source != source:
			case x.Value.Known():
				o = x.Value.AppendJSON(o.Name(x.Name))
			default:
				o = o.Name(x.Name).Open().Text("unavailable", x.Unavailable).Close()
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
	rep, end, err := d.source(source, kept, 0)
	if err == nil && (end != len(kept) || len(kept) > 2 && !bytes.HasSuffix(kept, []byte("}}"))) {
		err = fmt.Errorf("the kept evidence of %s: it breaks off", source)
	}
	if err != nil {
		return nil, err
	}
	return rep, nil
}

// UnmarshalRecord reads the kept evidence of all sources of a device:
// {"source": what MarshalSource wrote, …}.
func (d *Dictionary) UnmarshalRecord(kept []byte) (*Record, error) {
	var rec *Record
	if len(kept) < 2 || kept[0] != '{' {
		return nil, errors.New("the kept evidence is no JSON object")
	}
	var bad error
	end := value.Walk(kept, 0, func(source []byte, at int) (int, bool) {
		rep, end, err := d.source(string(source), kept, at)
		if bad = err; err != nil {
			return at, false
		}
		rec = rec.With(rep)
		return end, true
	})
	whole := len(kept) == 2 || bytes.HasSuffix(kept, []byte("}}}")) || bytes.HasSuffix(kept, []byte("{}}"))
	if bad == nil && (end != len(kept) || !whole) {
		bad = errors.New("the kept evidence breaks off")
	}
	return rec, bad
}

// maxSpare is how much more room than it needs a list of readings may keep.
const maxSpare = 4

// source reads the object that begins at a place in kept and returns the place
// behind it.
func (d *Dictionary) source(source string, kept []byte, begin int) (*Report, int, error) {
	damaged := func(why string) error { return fmt.Errorf("the kept evidence of %s: %s", source, why) }
	if len(kept) < begin+2 || kept[begin] != '{' {
		return nil, begin, damaged("it is no JSON object")
	}
	list := make([]Reading, 0, d.usual.Load())
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
	if d.usual.Store(int64(len(list))); cap(list)-len(list) > maxSpare {
		list = append(make([]Reading, 0, len(list)), list...)
	}
	return &Report{Source: source, Readings: list}, end, nil
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
	return list[:n]
}
