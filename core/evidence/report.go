package evidence

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/value"
)

// MaxReport bounds one report, in bytes.
const MaxReport = 1 << 20

// Skew is how far in the future a report may have been observed before its
// clock is taken to be wrong, in microseconds.
const Skew = 5 * 60 * 1_000_000

// DefaultSource is who sent a report that names no source.
const DefaultSource = "file"

// Reading is one attribute's value with who gave it and when it was observed.
// Without a value it says why the value is unavailable.
type Reading struct {
	Name        string
	Value       value.Value
	Unavailable string
	Source      string
	At          int64 // microseconds since the Unix epoch
}

// Identity is how a report says which device it is about.
type Identity struct {
	ID         string `json:"id"`
	Serial     string `json:"serial"`
	HardwareID string `json:"hardware_id"`
}

// Refusal is an attribute of a report that was not taken, and why.
type Refusal struct {
	Attribute string `json:"attribute"`
	Message   string `json:"message"`
}

// Report is one message of evidence about one device.
type Report struct {
	Source     string
	ExternalID string
	At         int64
	Identity   Identity
	Readings   []Reading // sorted by name
	Refused    []Refusal
}

type wireReport struct {
	Source     string                     `json:"source"`
	ExternalID string                     `json:"external_id"`
	ObservedAt string                     `json:"observed_at"`
	Identity   Identity                   `json:"identity"`
	Evidence   map[string]json.RawMessage `json:"evidence"`
}

// ParseReport reads one JSON report that arrived at now. Attributes it cannot
// take are listed in Refused; the error is for a report that says nothing
// usable at all.
func (d *Dictionary) ParseReport(raw []byte, now int64) (*Report, error) {
	if len(raw) > MaxReport {
		return nil, fmt.Errorf("the report of %d bytes is larger than %d", len(raw), MaxReport)
	}
	var w wireReport
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&w); err != nil {
		return nil, jsonError(err)
	}
	if dec.More() {
		return nil, errors.New("more text follows the report; one JSON object was expected")
	}
	r, err := newReport(w.Source, w.ExternalID, w.ObservedAt, w.Identity, now)
	if err != nil {
		return nil, err
	}
	for name, raw := range w.Evidence {
		d.take(r, name, raw)
	}
	return r, d.finish(r)
}

func jsonError(err error) error {
	var syntax *json.SyntaxError
	var typ *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		return fmt.Errorf("not valid JSON at byte %d: %w", syntax.Offset, err)
	case errors.As(err, &typ):
		return fmt.Errorf("%s is a JSON %s where an %s was expected", cmpOr(typ.Field, "the report"), typ.Value, jsonKind(typ.Type.Kind().String()))
	}
	return fmt.Errorf("not a report: %s", strings.TrimPrefix(err.Error(), "json: "))
}

func cmpOr(s, or string) string {
	if s == "" {
		return or
	}
	return s
}

func jsonKind(k string) string {
	if k == "struct" || k == "map" {
		return "object"
	}
	return "other kind, " + k + ","
}

func newReport(source, external, observed string, id Identity, now int64) (*Report, error) {
	r := &Report{Source: cmpOr(source, DefaultSource), ExternalID: external, At: now, Identity: id}
	for what, s := range map[string]string{"source": source, "external_id": external, "identity.id": id.ID, "identity.serial": id.Serial, "identity.hardware_id": id.HardwareID} {
		if len(s) > 200 || strings.ContainsAny(s, "\x00\r\n") {
			return nil, fmt.Errorf("%s is longer than 200 bytes or has line breaks in it", what)
		}
	}
	if observed != "" {
		t, err := value.ParseTime(observed)
		if err != nil {
			return nil, fmt.Errorf("observed_at: %w", err)
		}
		if t.Num() > now+Skew {
			return nil, fmt.Errorf("observed_at %s is %s in the future; the clock of the sender is wrong", observed, value.FormatAge(t.Num()-now))
		}
		r.At = t.Num()
	}
	return r, nil
}

// take adds one attribute of a report to its readings or its refusals.
func (d *Dictionary) take(r *Report, name string, raw json.RawMessage) {
	if string(raw) == "null" {
		return
	}
	slot := d.Slot(name)
	if slot < 0 {
		msg := "there is no such attribute"
		if near := condition.Nearest(name, d.Names()); near != "" {
			msg += "; did you mean " + near + "?"
		} else if strings.HasPrefix(name, "custom.") {
			msg += "; the rulebook must declare it"
		}
		r.refuse(name, msg)
		return
	}
	a := &d.list[slot]
	if a.ByService {
		r.refuse(name, "only the service itself sets this attribute")
		return
	}
	if why, ok := unavailable(raw); ok {
		r.Readings = append(r.Readings, Reading{Name: a.Name, Unavailable: why, Source: r.Source, At: r.At})
		return
	}
	v, err := a.decode(raw)
	if err != nil {
		r.refuse(name, err.Error())
		return
	}
	r.Readings = append(r.Readings, Reading{Name: a.Name, Value: v, Source: r.Source, At: r.At})
}

func (r *Report) refuse(name, msg string) {
	r.Refused = append(r.Refused, Refusal{name, msg})
}

func unavailable(raw json.RawMessage) (string, bool) {
	if raw[0] != '{' {
		return "", false
	}
	var u map[string]any
	if json.Unmarshal(raw, &u) != nil || len(u) != 1 {
		return "", false
	}
	why, ok := u["unavailable"].(string)
	if len(why) > 500 {
		why = why[:500]
	}
	return cmpOr(why, "no reason given"), ok
}

// finish makes identity and evidence tell the same and puts the report in order.
func (d *Dictionary) finish(r *Report) error {
	for _, key := range []struct {
		name string
		id   *string
	}{{"serial", &r.Identity.Serial}, {"hardware_id", &r.Identity.HardwareID}} {
		i := slices.IndexFunc(r.Readings, func(x Reading) bool { return x.Name == key.name && x.Value.Known() })
		switch {
		case i >= 0 && *key.id == "":
			*key.id = r.Readings[i].Value.Str()
		case i < 0 && *key.id != "":
			r.Readings = append(r.Readings, Reading{Name: key.name, Value: value.OfText(*key.id), Source: r.Source, At: r.At})
		case i >= 0 && r.Readings[i].Value.Str() != *key.id:
			return fmt.Errorf("the %s of the identity and of the evidence differ", key.name)
		}
	}
	if len(r.Keys()) == 0 {
		return errors.New("the report does not say which device it is about: identity needs an id, a serial or a hardware_id, or the report an external_id")
	}
	slices.SortFunc(r.Readings, func(a, b Reading) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(r.Refused, func(a, b Refusal) int { return strings.Compare(a.Attribute, b.Attribute) })
	return nil
}
