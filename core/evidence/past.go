package evidence

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironledger.example/core/value"
)

// AppendUndo appends, as a JSON object, what leads from a record back to the
// one before it; nothing when they are the same:
//
//	{"again": {"source": moment},          every reading of the source was the same, observed then
//	 "readings": {"source": {"moment": {"attribute": value}}},  what they were, as MarshalSource has it
//	 "gone": {"source": ["attribute"]}}    what was not there
//
// A routine report that tells nothing new takes but the first.
func (r *Record) AppendUndo(b []byte, before *Record) []byte {
	sources, was := r.undo(before)
	o := value.Object(b)
	section := func(name string, wanted func(*undone) bool, write func(value.Object, *undone) value.Object) {
		first := true
		for i := range sources {
			s := &sources[i]
			if !wanted(s) {
				continue
			}
			if first {
				if len(o) == len(b) {
					o = o.Open()
				}
				o, first = o.Name(name).Open(), false
			}
			o = write(o.Named(s.name), s)
		}
		if !first {
			o = o.Close()
		}
	}
	again := func(s *undone) bool { return s.moved && !s.changed && s.moment > 0 }
	section("again", again,
		func(o value.Object, s *undone) value.Object { return strconv.AppendInt(o, s.moment, 10) })
	section("readings", func(s *undone) bool {
		return !again(s) && slices.Contains(was.sources, s.name)
	}, func(o value.Object, s *undone) value.Object { return was.AppendSource(o, s.name) })
	section("gone", func(s *undone) bool { return len(s.gone) > 0 },
		func(o value.Object, s *undone) value.Object { return value.OfTexts(s.gone).AppendJSON(o) })
	if len(o) > len(b) {
		o = o.Close()
	}
	return o
}

// undone is a source of which readings differ from those before.
type undone struct {
	name           string
	moment         int64 // of the readings before; -1 when they differ in it
	changed, moved bool
	gone           []string
}

// undo finds, by source, how readings differ from those before, and what these were.
func (r *Record) undo(before *Record) (sources []undone, was *Record) {
	of := func(name string) *undone {
		for i := range sources {
			if sources[i].name == name {
				return &sources[i]
			}
		}
		sources = append(sources, undone{name: name})
		return &sources[len(sources)-1]
	}
	was = &Record{layout: &layout{}}
	old, fresh := before.all(), r.all()
	for i, j := 0, 0; i < len(old.labels) || j < len(fresh.labels); {
		c := 1
		if j == len(fresh.labels) {
			c = -1
		} else if i < len(old.labels) {
			c = old.labels[i].before(&fresh.labels[j])
		}
		switch {
		case c > 0:
			s := of(fresh.labels[j].source)
			s.gone, s.changed = append(s.gone, fresh.labels[j].name), true
			j++
		case c < 0: // a reading never goes away, but let it
			of(old.labels[i].source).changed = true
			was.add(old, i)
			i++
		default:
			o, f := old.held[i], fresh.held[j]
			s := of(old.labels[i].source)
			switch {
			case s.moment == 0:
				s.moment = o.at
			case s.moment != o.at:
				s.moment = -1
			}
			same := o.same(f) && old.labels[i].proved == fresh.labels[j].proved
			s.changed = s.changed || !same
			s.moved = s.moved || o.at != f.at
			if !same || o.at != f.at {
				was.add(old, i)
			}
			i, j = i+1, j+1
		}
	}
	return sources, was
}

// add adds a reading to a record that is being made.
func (r *Record) add(s span, i int) {
	r.labels, r.held = append(r.labels, s.labels[i]), append(r.held, s.held[i])
	r.from(s.labels[i].source)
}

// Past is the kept evidence of a device on the way back. It knows no
// dictionary: what it leads to is read with the one of that time.
type Past map[string]map[string]pastReading

type pastReading struct {
	at  string
	raw json.RawMessage
}

// ReadPast begins with what is kept of a device now; see
// [Dictionary.UnmarshalRecord] for the form.
func ReadPast(kept []byte) (Past, error) {
	p := Past{}
	if err := p.lay(kept); err != nil {
		return nil, fmt.Errorf("the kept evidence: %w", err)
	}
	return p, nil
}

func (p Past) lay(kept []byte) error {
	var sources map[string]map[string]map[string]json.RawMessage
	if err := json.Unmarshal(kept, &sources); err != nil {
		return err
	}
	for source, moments := range sources {
		if p[source] == nil {
			p[source] = map[string]pastReading{}
		}
		for at, readings := range moments {
			for name, raw := range readings {
				p[source][name] = pastReading{at, raw}
			}
		}
	}
	return nil
}

// Undo takes one step back, by what AppendUndo wrote.
func (p Past) Undo(undo []byte) error {
	var step struct {
		Again    map[string]int64    `json:"again"`
		Readings json.RawMessage     `json:"readings"`
		Gone     map[string][]string `json:"gone"`
	}
	if err := json.Unmarshal(undo, &step); err != nil {
		return fmt.Errorf("the past of the evidence: %w", err)
	}
	for source, names := range step.Gone {
		for _, name := range names {
			delete(p[source], name)
		}
		if len(p[source]) == 0 {
			delete(p, source)
		}
	}
	for source, at := range step.Again {
		if p[source] == nil {
			return errors.New("the past of the evidence speaks of a source that is not there")
		}
		for name, r := range p[source] {
			r.at = momentText(at, strings.HasSuffix(r.at, provedMark))
			p[source][name] = r
		}
	}
	if step.Readings != nil {
		if err := p.lay(step.Readings); err != nil {
			return fmt.Errorf("the past of the evidence: %w", err)
		}
	}
	return nil
}

// Kept is the evidence in the form in which it was kept.
func (p Past) Kept() []byte {
	out := map[string]map[string]map[string]json.RawMessage{}
	for source, readings := range p {
		out[source] = map[string]map[string]json.RawMessage{}
		for name, r := range readings {
			if out[source][r.at] == nil {
				out[source][r.at] = map[string]json.RawMessage{}
			}
			out[source][r.at][name] = r.raw
		}
	}
	raw, err := json.Marshal(out)
	if err != nil {
		panic(err) // made of texts and of JSON that was read
	}
	return raw
}
