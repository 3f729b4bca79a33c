// Package mapping turns the items of a partner's inventory, in words of its own, into
// reports in ours: where each attribute stands in an item, which words mean what, in which
// units and forms numbers and times are written.
//
// A mapping guesses nothing. What an item does not have is not said; what it has in a form
// that the mapping does not know is a reading that is unavailable, with the reason: that
// is not the device's fault, and an administrator sees it on its page.
package mapping

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/core/yamltext"
)

// MaxSize bounds a mapping, in bytes.
const MaxSize = 256 << 10

// Mapping is a checked mapping. It is immutable.
type Mapping struct {
	items    pointer // to the list of items in a document; empty when the document is the list
	source   string
	observed *field // when an item was observed; nil for when it arrives
	identity []named
	evidence []named
	person   []named // of people in place of devices
	vouch    *field  // whether the partner vouches for the device; nil when it does not say
}

// Nested reports whether the items are a list within a document: it is JSON then.
func (m *Mapping) Nested() bool { return len(m.items) > 0 }

// Source is the source that the reports name; "" for none.
func (m *Mapping) Source() string { return m.source }

// Observes reports whether the items say when they were observed.
func (m *Mapping) Observes() bool { return m.observed != nil }

// named is what becomes of a field.
type named struct {
	name string // the key or the attribute
	typ  value.Type
	field
}

// field is where a value stands in an item, and how it is read.
type field struct {
	from  pointer
	words map[string]string // the partner's words, and ours
	form  string            // of a time
	unit  string            // of a duration
	each  []named           // of a list of things: their members
	is    string            // a fixed text in place of from
}

// The forms of times, beside layouts as 2006-01-02 15:04.
const (
	formRFC3339    = "rfc3339"
	formUnix       = "unix"
	formUnixMillis = "unix-ms"
)

// units are those of durations, in microseconds.
var units = map[string]float64{"ms": 1000, "s": 1e6, "m": 60e6, "h": 3600e6, "d": 86400e6}

// written is a mapping as it is written.
type written struct {
	Items    string                  `yaml:"items"`
	Source   string                  `yaml:"source"`
	Observed *writtenField           `yaml:"observed_at"`
	Identity map[string]writtenField `yaml:"identity"`
	Evidence map[string]writtenField `yaml:"evidence"`
	Person   map[string]writtenField `yaml:"person"`
	Vouch    *writtenField           `yaml:"vouch"`
}

// writtenField is a pointer or a column, or a mapping with more.
type writtenField struct {
	From  string                  `yaml:"from"`
	Is    any                     `yaml:"is"`    // a text, or a number or a truth as YAML has them
	Words map[string]any          `yaml:"words"` // likewise
	Form  string                  `yaml:"form"`
	Unit  string                  `yaml:"unit"`
	Each  map[string]writtenField `yaml:"each"`
}

// UnmarshalYAML reads a field that is a text alone as where it stands.
func (f *writtenField) UnmarshalYAML(unmarshal func(any) error) error {
	if unmarshal(&f.From) == nil {
		return nil
	}
	type plain writtenField
	return unmarshal((*plain)(f))
}

// keys are the keys by which a device is told from others.
var keys = []string{"external_id", "id", "serial", "hardware_id"}

// Load reads a mapping, for the attributes of a dictionary. The error says what is wrong,
// and where.
func Load(text string, dict *evidence.Dictionary) (m *Mapping, err error) {
	if len(text) > MaxSize {
		return nil, fmt.Errorf("the mapping is larger than %d bytes", MaxSize)
	}
	if line := yamltext.TooDeep(text); line > 0 {
		return nil, fmt.Errorf("line %d: brackets or lists are nested more than %d deep", line, yamltext.MaxNest)
	}
	defer func() {
		if bad := recover(); bad != nil { // the YAML reader lost its way in hostile text
			m, err = nil, errors.New("this is not readable as YAML")
		}
	}()
	var w written
	if err := yaml.UnmarshalWithOptions([]byte(text), &w, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("not a mapping: %w", err)
	}
	return check(&w, dict)
}

func check(w *written, dict *evidence.Dictionary) (*Mapping, error) {
	m := &Mapping{source: w.Source}
	var errs []error
	wrong := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	var err error
	if m.items, err = parsePointer(w.Items); err != nil || w.Items != "" && !strings.HasPrefix(w.Items, "/") {
		wrong("items: %q is not a JSON Pointer (RFC 6901), as /value", w.Items)
	}
	switch {
	case w.Person != nil && (w.Identity != nil || w.Evidence != nil || w.Observed != nil || w.Vouch != nil ||
		w.Source != ""):
		wrong("person: a mapping of people says nothing of devices")
	case w.Person != nil:
		m.checkPerson(w.Person, wrong)
	case len(w.Identity) == 0:
		wrong("identity: say where a key stands; there are %s", strings.Join(keys, ", "))
	}
	for _, name := range slices.Sorted(maps.Keys(w.Identity)) {
		if !slices.Contains(keys, name) {
			wrong("identity: %s is not a key; there are %s", name, strings.Join(keys, ", "))
			continue
		}
		f, err := w.Identity[name].check(value.Of(value.Text))
		if err != nil {
			wrong("identity.%s: %w", name, err)
		}
		m.identity = append(m.identity, named{name, value.Of(value.Text), f})
	}
	for _, name := range slices.Sorted(maps.Keys(w.Evidence)) {
		typ, err := typeOf(dict, name)
		if err != nil {
			wrong("evidence: %w", err)
			continue
		}
		f, err := w.Evidence[name].check(typ)
		if err != nil {
			wrong("evidence.%s: %w", name, err)
		}
		m.evidence = append(m.evidence, named{name, typ, f})
	}
	if w.Vouch != nil {
		f, err := w.Vouch.check(value.Of(value.Bool))
		if err != nil {
			wrong("vouch: %w", err)
		}
		m.vouch = &f
	}
	if w.Observed != nil {
		f, err := w.Observed.check(value.Of(value.Time))
		if err != nil {
			wrong("observed_at: %w", err)
		}
		m.observed = &f
	}
	if len(errs) > 0 {
		return nil, errors.Join(errs...)
	}
	return m, nil
}

// setByService are the attributes that no report may set.
var setByService = []string{"on_roster", "vouched", "owner.groups", "certs.issued", "tags"}

// typeOf is the type of an attribute. Of one that a rulebook declares, and that the
// dictionary does not know, nothing is known.
func typeOf(dict *evidence.Dictionary, name string) (value.Type, error) {
	if slices.Contains(setByService, name) {
		return value.Type{}, fmt.Errorf("%s is set by the service alone", name)
	}
	if n, ok := dict.Lookup(name); ok {
		return n.Type, nil
	}
	if strings.HasPrefix(name, "custom.") {
		return value.Type{}, nil
	}
	if near := condition.Nearest(name, dict.Names()); near != "" {
		return value.Type{}, fmt.Errorf("%s is not an attribute; did you mean %s?", name, near)
	}
	return value.Type{}, fmt.Errorf("%s is not an attribute", name)
}

// check reads a field that gives a value of a type.
func (w writtenField) check(typ value.Type) (f field, err error) {
	f = field{form: w.Form, unit: w.Unit}
	if w.Is != nil {
		f.is = fmt.Sprint(w.Is)
	}
	for said, word := range w.Words {
		if f.words == nil {
			f.words = map[string]string{}
		}
		switch word.(type) {
		case string, bool, int64, uint64:
			f.words[said] = fmt.Sprint(word)
		default:
			return f, fmt.Errorf("the word for %s is a text, a whole number, true or false", said)
		}
	}
	switch {
	case (w.From == "") == (w.Is == nil):
		return f, errors.New("say from where (from), or what it is (is)")
	case w.Is != nil && (w.Words != nil || w.Form != "" || w.Unit != "" || w.Each != nil):
		return f, errors.New("what it is goes with nothing else")
	}
	if f.from, err = parsePointer(w.From); err != nil {
		return f, err
	}
	if f.unit != "" && units[f.unit] == 0 {
		return f, fmt.Errorf("%q is not a unit; there are "+
			"%s", f.unit, strings.Join(slices.Sorted(maps.Keys(units)), ", "))
	}
	if f.unit != "" && typ.Kind != value.Duration && typ != (value.Type{}) {
		return f, errors.New("a unit goes with a duration")
	}
	if f.form != "" && typ.Kind != value.Time && typ != (value.Type{}) {
		return f, errors.New("a form goes with a time")
	}
	if w.Each == nil {
		return f, nil
	}
	if typ.Kind != value.List {
		return f, errors.New("each goes with a list")
	}
	for _, name := range slices.Sorted(maps.Keys(w.Each)) {
		of, err := memberType(typ, name)
		if err != nil {
			return f, err
		}
		member, err := w.Each[name].check(of)
		if err != nil {
			return f, fmt.Errorf("each.%s: %w", name, err)
		}
		f.each = append(f.each, named{name, of, member})
	}
	return f, nil
}

// memberType is the type of a member of the things in a list.
func memberType(list value.Type, name string) (value.Type, error) {
	if list.Elem == nil || list.Elem.Record == nil {
		return value.Type{}, errors.New("each goes with a list of things that have members")
	}
	if name == "pem" { // how certificates are reported
		return value.Of(value.Text), nil
	}
	var names []string
	for _, f := range list.Elem.Record.Fields {
		if f.Name == name {
			return f.Type, nil
		}
		names = append(names, f.Name)
	}
	return value.Type{}, fmt.Errorf("each.%s: there are %s", name, strings.Join(names, ", "))
}
