package evidence

import (
	"encoding/json"
	"fmt"
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
	out := make([]Reading, 0, len(old)+len(fresh))
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

// Newest is the time of the newest reading, 0 without any.
func (r *Record) Newest() int64 {
	newest := int64(0)
	for _, x := range r.Readings() {
		newest = max(newest, x.At)
	}
	return newest
}

// MarshalSource writes the readings of one source as JSON for keeping:
// {"attribute": {"at": micros, "value": …} or {"at": micros, "unavailable": "…"}}.
func (r *Record) MarshalSource(source string) []byte {
	b := []byte{'{'}
	for _, x := range r.Readings() {
		if x.Source != source {
			continue
		}
		if len(b) > 1 {
			b = append(b, ',')
		}
		b = fmt.Appendf(b, "%q:{\"at\":%d,", x.Name, x.At)
		if x.Value.Known() {
			b = append(x.Value.AppendJSON(append(b, `"value":`...)), '}')
		} else {
			b = append(value.OfText(x.Unavailable).AppendJSON(append(b, `"unavailable":`...)), '}')
		}
	}
	return append(b, '}')
}

// UnmarshalSource reads what MarshalSource wrote as a report of the source.
// Attributes that the dictionary no longer declares, or declares with another
// type, are left out.
func (d *Dictionary) UnmarshalSource(source string, kept []byte) (*Report, error) {
	var parts map[string]struct {
		At          int64           `json:"at"`
		Value       json.RawMessage `json:"value"`
		Unavailable string          `json:"unavailable"`
	}
	if err := json.Unmarshal(kept, &parts); err != nil {
		return nil, fmt.Errorf("the kept evidence of %s: %w", source, err)
	}
	rep := &Report{Source: source}
	for name, p := range parts {
		slot := d.Slot(name)
		if slot < 0 {
			continue
		}
		x := Reading{Name: d.list[slot].Name, Source: source, At: p.At, Unavailable: p.Unavailable}
		if len(p.Value) > 0 {
			v, err := value.Decode(d.list[slot].Type, p.Value)
			if err != nil {
				continue
			}
			x.Value = v
		}
		rep.Readings = append(rep.Readings, x)
	}
	sortReadings(rep.Readings)
	return rep, nil
}
