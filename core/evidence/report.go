package evidence

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

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

// Agent is the source of what devices say of themselves.
const Agent = "agent"

// Reading is one attribute's value with who gave it and when it was observed.
// Without a value it says why the value is unavailable.
type Reading struct {
	Name        string
	Value       value.Value
	Unavailable string
	Source      string
	At          int64 // microseconds since the Unix epoch
	// Proved is whether the device said it of itself, over a connection that proved the key of its certificate.
	Proved bool
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
	// Vouch is whether its source vouches for the device; nil when it says nothing of it.
	Vouch *bool

	keys []Key
}

// Value returns what the report says of an attribute; unknown when nothing.
func (r *Report) Value(name string) value.Value {
	i, ok := slices.BinarySearchFunc(r.Readings, name,
		func(x Reading, name string) int { return strings.Compare(x.Name, name) })
	if !ok {
		return value.Value{}
	}
	return r.Readings[i].Value
}

// ParseReport reads one JSON report that arrived at now. Attributes it cannot
// take are listed in Refused; the error is for a report that says nothing
// usable at all.
func (d *Dictionary) ParseReport(raw []byte, now int64) (*Report, error) {
	return d.parseReport(raw, "", now, nil)
}

// ParseOwn reads a report that a device makes of itself: who that is need not stand in it, and its source is the
// agent. The caller has proof of the device: what it says is proved.
func (d *Dictionary) ParseOwn(raw []byte, now int64) (*Report, error) {
	var checks siteChecks
	rep, err := d.parseReport(raw, Agent, now, &checks)
	if errors.Is(err, errNobody) {
		err = nil
	}
	if err == nil {
		for i := range rep.Readings {
			rep.Readings[i].Proved = rep.Readings[i].Value.Known()
		}
		checks.name(rep)
	}
	return rep, err
}

// errNobody says that a report does not say which device it is about.
var errNobody = errors.New("the report does not say which device it is about: identity needs an id, a serial " +
	"or a hardware_id, or the report an external_id")

// parseReport reads a report; when speaker is not "", it can be from no other
// source; with checks it may say what the site's own checks did. It is over a screen since a
// report is walked once, and each member is read where it stands.
func (d *Dictionary) parseReport(raw []byte, speaker string, now int64, checks *siteChecks) (*Report, error) {
	if len(raw) > MaxReport {
		return nil, fmt.Errorf("the report of %d bytes is larger than %d", len(raw), MaxReport)
	}
	if raw = bytes.TrimSpace(raw); !json.Valid(raw) {
		var v any
		return nil, jsonError(json.Unmarshal(raw, &v))
	}
	if raw[0] != '{' {
		return nil, fmt.Errorf("%s stands where a report, a JSON object, was expected", kindOf(raw))
	}
	var source, external, observed string
	var id Identity
	var vouch *bool
	var err error
	t := d.build(&Report{})
	defer t.free()
	value.Walk(raw, 0, func(name []byte, at int) (int, bool) {
		if string(name) == "evidence" && raw[at] == '{' { // most of the report: walked once
			return value.Walk(raw, at, func(name []byte, at int) (int, bool) {
				end := value.Skip(raw, at)
				t.take(name, raw[at:end])
				return end, true
			}), true
		}
		end := value.Skip(raw, at)
		v := json.RawMessage(raw[at:end])
		switch string(name) {
		case "source":
			source, err = textOf("source", v)
		case "external_id":
			external, err = textOf("external_id", v)
		case "observed_at":
			observed, err = textOf("observed_at", v)
		case "identity":
			id, err = identity(v)
		case "evidence":
			if string(v) != "null" {
				err = fmt.Errorf("evidence is %s; an object of attributes was expected", kindOf(v))
			}
		case "vouch":
			vouch, err = vouchOf(v)
		case "checks":
			if checks != nil {
				err = checks.read(v)
				break
			}
			fallthrough
		default:
			err = unknownMember(string(name), "source", "external_id", "observed_at", "identity", "evidence", "vouch")
		}
		return end, err == nil
	})
	if err == nil {
		err = t.r.identify(speaker, source, external, observed, id, now)
	}
	if err == nil {
		err = t.finish()
	}
	if err != nil && !errors.Is(err, errNobody) {
		return nil, err
	}
	t.r.Vouch = vouch
	return t.r, err
}

// vouchOf reads whether a source vouches for a device.
func vouchOf(raw json.RawMessage) (*bool, error) {
	switch string(raw) {
	case "null":
		return nil, nil
	case "true", "false":
		vouch := raw[0] == 't'
		return &vouch, nil
	}
	return nil, fmt.Errorf("vouch is %s; true or false was expected", kindOf(raw))
}

func identity(raw json.RawMessage) (id Identity, err error) {
	if raw[0] != '{' {
		return id, fmt.Errorf("identity is %s; an object with id, serial or hardware_id was expected", kindOf(raw))
	}
	for name, v := range value.Members(raw) {
		switch string(name) {
		case "id":
			id.ID, err = textOf("identity.id", v)
		case "serial":
			id.Serial, err = textOf("identity.serial", v)
		case "hardware_id":
			id.HardwareID, err = textOf("identity.hardware_id", v)
		default:
			err = unknownMember("identity."+string(name), "identity.id", "identity.serial", "identity.hardware_id")
		}
		if err != nil {
			return id, err
		}
	}
	return id, nil
}

// textOf reads a member that is a text; null says nothing.
func textOf(name string, raw json.RawMessage) (string, error) {
	if string(raw) == "null" {
		return "", nil
	}
	v, err := value.Decode(text, raw)
	if err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	return v.Str(), nil
}

func unknownMember(name string, known ...string) error {
	if near := condition.Nearest(name, known); near != "" {
		return fmt.Errorf("a report has no member %s; did you mean %s?", name, near)
	}
	return fmt.Errorf("a report has no member %.60s; it may have %s", name, strings.Join(known, ", "))
}

func kindOf(raw json.RawMessage) string {
	switch raw[0] {
	case '{':
		return "an object"
	case '[':
		return "a list"
	case '"':
		return "a text"
	}
	return string(raw[:min(len(raw), 60)])
}

func jsonError(err error) error {
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		return fmt.Errorf("not valid JSON at byte %d: %w", syntax.Offset, err)
	}
	return fmt.Errorf("not valid JSON: %w", err)
}

// identify says who reports, when, and about which device. A speaker that is not
// "" is the source, whatever the report says: an external id is its own.
func (r *Report) identify(speaker, source, external, observed string, id Identity, now int64) error {
	if speaker != "" {
		if source != "" && source != DefaultSource && source != speaker {
			return fmt.Errorf("the token may only report as %s, not as %s", speaker, source)
		}
		source = speaker
	}
	if source == Authority {
		return fmt.Errorf("the source %s is this service itself; say who reports", Authority)
	}
	r.Source, r.ExternalID, r.At, r.Identity = cmp.Or(source, DefaultSource), external, now, id
	for _, m := range [...]struct{ what, text string }{{"source", source}, {"external_id", external},
		{"identity.id", id.ID}, {"identity.serial", id.Serial}, {"identity.hardware_id", id.HardwareID}} {
		if !utf8.ValidString(m.text) {
			return fmt.Errorf("%s is not UTF-8", m.what)
		}
		if len(m.text) > 200 || strings.ContainsAny(m.text, "\x00\r\n") {
			return fmt.Errorf("%s is longer than 200 bytes or has line breaks in it", m.what)
		}
	}
	if observed != "" {
		t, err := value.ParseTime(observed)
		if err != nil {
			return fmt.Errorf("observed_at: %w", err)
		}
		if t.Num() > now+Skew {
			return fmt.Errorf("observed_at %s is %s in the future; the clock of the sender is wrong",
				observed, value.FormatAge(t.Num()-now))
		}
		r.At = t.Num()
	}
	return nil
}

// reportBuilder is a report being filled: a place for each attribute in alphabetical
// order, without a name while it is empty.
type reportBuilder struct {
	d      *Dictionary
	r      *Report
	places []Reading
}

// emptyPlaces holds places that are free again: most reports fill few of them.
var emptyPlaces sync.Pool

func (d *Dictionary) build(r *Report) *reportBuilder {
	if kept, _ := emptyPlaces.Get().(*reportBuilder); kept != nil && len(kept.places) == len(d.list) {
		kept.d, kept.r = d, r
		return kept
	}
	return &reportBuilder{d, r, make([]Reading, len(d.list))}
}

// free gives the places back.
func (t *reportBuilder) free() {
	clear(t.places)
	t.r = nil
	emptyPlaces.Put(t)
}

// place is where the reading of the attribute in a slot stands.
func (t *reportBuilder) place(slot int) *Reading { return &t.places[t.d.rank[slot]] }

// take adds one attribute of a report to its readings or its refusals.
func (t *reportBuilder) take(key []byte, raw json.RawMessage) {
	d, r := t.d, t.r
	if string(raw) == "null" {
		return
	}
	slot, ok := d.index[string(key)]
	if !ok {
		name := string(key)
		msg := "there is no such attribute"
		if near := condition.Nearest(name, d.Names()); near != "" {
			msg += "; did you mean " + near + "?"
		} else if strings.HasPrefix(name, "custom.") {
			msg += "; the rulebook must declare it"
		}
		r.refuse(name, msg)
		return
	}
	a, at := &d.list[slot], t.place(slot)
	switch {
	case a.ByService:
		r.refuse(a.Name, "only the service itself sets this attribute")
		return
	case at.Name != "":
		r.refuse(a.Name, "the attribute is given twice; the first one counts")
		return
	}
	if why, ok := unavailable(raw); ok {
		*at = Reading{Name: a.Name, Unavailable: why}
		return
	}
	v, err := a.decode(raw)
	if err != nil {
		r.refuse(a.Name, err.Error())
		return
	}
	*at = Reading{Name: a.Name, Value: v}
}

func (r *Report) refuse(name, msg string) {
	r.Refused = append(r.Refused, Refusal{name, msg})
}

// unavailable reads {"unavailable": "why"}.
func unavailable(raw json.RawMessage) (why string, ok bool) {
	if raw[0] != '{' {
		return "", false
	}
	for name, v := range value.Members(raw) {
		if string(name) != "unavailable" || ok || v[0] != '"' {
			return "", false
		}
		var err error
		if why, err = textOf("unavailable", v); err != nil {
			return "", false
		}
		ok = true
	}
	return cmp.Or(why, "no reason given"), ok
}

// finish makes identity and evidence tell the same and puts the report in order.
func (t *reportBuilder) finish() error {
	r := t.r
	for _, key := range [...]struct {
		name string
		id   *string
	}{{"serial", &r.Identity.Serial}, {"hardware_id", &r.Identity.HardwareID}} {
		switch at := t.place(t.d.Slot(key.name)); {
		case at.Name == "" && *key.id != "":
			*at = Reading{Name: key.name, Value: value.OfText(*key.id)}
		case at.Name == "" || !at.Value.Known():
		case *key.id == "":
			*key.id = at.Value.Str()
		case at.Value.Str() != *key.id:
			return fmt.Errorf("the %s of the identity and of the evidence differ", key.name)
		}
	}
	r.keys = r.findKeys()
	n := 0
	for i := range t.places {
		if t.places[i].Name != "" {
			n++
		}
	}
	r.Readings = make([]Reading, 0, n)
	for _, x := range t.places {
		if x.Name != "" {
			x.Source, x.At = r.Source, r.At
			r.Readings = append(r.Readings, x)
		}
	}
	slices.SortFunc(r.Refused, func(a, b Refusal) int { return strings.Compare(a.Attribute, b.Attribute) })
	if len(r.keys) == 0 {
		return errNobody
	}
	return nil
}
