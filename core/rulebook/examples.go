package rulebook

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
)

var Outcomes = []string{"allow", "deny", "step-up"}

func (l *loader) examples() {
	for _, it := range l.members("examples") {
		e := Example{Where: it.position()}
		hasLevel := false
		var device, failing *field
		ok := it.mapping("an example", map[string]func(field){
			"title":       func(f field) { f.text(&e.Title) },
			"device":      func(f field) { device = &f },
			"failing_for": func(f field) { failing = &f },
			"at":          func(f field) { v, _ := f.value(value.Of(value.Time)); e.At = v.Num() },
			"user":        func(f field) { f.text(&e.User) },
			"groups":      func(f field) { e.Groups = f.texts() },
			"known_person": func(f field) {
				known := true
				f.boolean(&known)
				e.Stranger = !known
			},
			"resource":            func(f field) { f.text(&e.Resource) },
			"action":              func(f field) { f.text(&e.Action) },
			"ip":                  func(f field) { v, _ := f.value(value.Of(value.Network)); e.IP = v.String() },
			"country":             func(f field) { f.text(&e.Country) },
			"mfa":                 func(f field) { e.MFA = f.truth() },
			"methods":             func(f field) { e.Methods = f.texts() },
			"auth_at":             func(f field) { e.AuthAt, _ = f.moment() },
			"certificate":         func(f field) { e.Certificate = f.truth() },
			"certificate_profile": func(f field) { e.CertificateProfile = l.profileNamed(f) },
			"certificate_at":      func(f field) { e.CertificateAt, _ = f.moment() },
			"level": func(f field) {
				var lv Level
				l.level(f.item, &lv)
				e.Level, hasLevel = l.rb.Ladder[lv], true
			},
			"outcome": func(f field) {
				if i, ok := f.word("outcome", Outcomes); ok {
					e.Outcome = Outcomes[i]
				}
			},
		})
		switch {
		case !ok:
			continue
		case !hasLevel && e.Outcome == "":
			it.fail("an example needs the level or the outcome it must have")
		case e.Outcome != "" && e.Resource == "":
			it.fail("an example with an outcome needs a resource")
		case failing != nil && device == nil:
			failing.keyAt.fail("failing_for needs a device whose rules fail")
		case (e.CertificateProfile != "" || e.CertificateAt != nil) && (e.Certificate == nil || !*e.Certificate):
			it.fail("an example with certificate_profile or certificate_at needs certificate: true")
		}
		if device != nil {
			l.exampleDevice(*device, failing, &e)
		}
		if e.Title == "" {
			e.Title = fmt.Sprintf("example at line %d", e.Where.Line)
		}
		l.rb.Examples = append(l.rb.Examples, e)
	}
}

// truth reads a truth that may also be left open.
func (it item) truth() *bool {
	out := false
	it.boolean(&out)
	return &out
}

// profileNamed reads the id of a profile of our own authority.
func (l *loader) profileNamed(f field) string {
	var ids []string
	if a := l.rb.Authority; a != nil {
		for _, p := range a.Profiles {
			ids = append(ids, p.ID)
		}
	}
	if i, ok := f.word("profile of the authority", ids); ok {
		return ids[i]
	}
	return ""
}

// Moment is a moment of an example: one that is given, or one that is so far from the
// moment of the example.
type Moment func(at int64) int64

// moment reads an RFC 3339 time, or now, or a distance from the moment of the example as
// -2h or +30d.
func (it item) moment() (Moment, bool) {
	text, ok := it.scalar()
	if !ok {
		return nil, false
	}
	sign, rest := int64(1), text
	switch {
	case text == "now":
		return func(at int64) int64 { return at }, true
	case strings.HasPrefix(text, "-"):
		sign, rest = -1, text[1:]
	case strings.HasPrefix(text, "+"):
		rest = text[1:]
	default:
		v, err := value.Parse(value.Of(value.Time), text)
		if err != nil {
			it.fail("%v, or a distance from the moment of the example, as -2h or +30d", err)
			return nil, false
		}
		return func(int64) int64 { return v.Num() }, true
	}
	d, err := value.ParseDuration(rest)
	if err != nil {
		it.fail("%v; a distance from the moment of the example is written as -2h or +30d", err)
		return nil, false
	}
	return func(at int64) int64 { return at + sign*d.Num() }, true
}

// ExampleDevice is the device of an example.
type ExampleDevice struct {
	// Failing is for how long rules, as baseline/rule, have failed already, in microseconds.
	Failing map[string]int64

	facts        evidence.Facts
	dict         *evidence.Dictionary
	parts        map[string]written
	certificates []certificateAt
}

// written gives a value as the JSON that it has in a report at a moment.
type written func(at int64) json.RawMessage

// certificateAt gives a certificate that an example states by its fields.
type certificateAt func(at int64) value.Value

// Evidence is what is shown and known of the device at a moment: a report, which passes the
// same checks as one from outside, and what the service knows beside it.
func (d *ExampleDevice) Evidence(at int64) (*evidence.Report, evidence.Facts, error) {
	parts := make(map[string]json.RawMessage, len(d.parts))
	for name, w := range d.parts {
		parts[name] = w(at)
	}
	facts := d.facts
	for _, c := range d.certificates {
		facts.Stated = append(facts.Stated, c(at))
	}
	raw, err := json.Marshal(map[string]any{"source": "example",
		"identity": map[string]string{"id": "example"}, "evidence": parts})
	if err != nil {
		return nil, facts, err
	}
	rep, err := d.dict.ParseReport(raw, at)
	if err != nil {
		return nil, facts, err
	}
	for i := range rep.Readings {
		rep.Readings[i].At = at
	}
	return rep, facts, nil
}

// exampleDevice reads the attributes of an example.
func (l *loader) exampleDevice(f field, failing *field, e *Example) {
	d := &ExampleDevice{dict: l.rb.Dict, parts: map[string]written{}, Failing: map[string]int64{}}
	var tags, groups []string
	d.facts.ID = "example"
	fields, _ := f.fields()
	at := map[string]item{}
	for _, a := range fields {
		switch a.key {
		case "on_roster":
			a.boolean(&d.facts.OnRoster)
		case "vouched":
			vouched := false
			if a.boolean(&vouched); vouched {
				d.facts.Vouched = condition.Always
			}
		case "tags":
			tags = a.texts()
		case "owner.groups":
			groups = a.texts()
		default:
			t := value.Of(value.Text)
			if slot := l.rb.Dict.Slot(a.key); slot >= 0 {
				t = l.rb.Dict.Attributes()[slot].Type
			}
			it := a.item
			if a.key == "certs" {
				if it = l.statedCertificates(it, d); it.n == nil {
					continue
				}
			}
			d.parts[a.key], at[a.key] = it.json(t), a.keyAt
		}
	}
	d.facts.Tags = evidence.ListOf(tags)
	d.facts.Groups = func(string) *value.Value { return evidence.ListOf(groups) }
	if failing != nil {
		l.failing(*failing, d)
	}
	rep, _, err := d.Evidence(cmp.Or(e.At, someDay))
	if err != nil {
		f.fail("%v", err)
		return
	}
	for _, r := range rep.Refused {
		at[r.Attribute].fail("%s: %s", r.Attribute, r.Message)
	}
	e.Device = d
}

// someDay is the moment at which the device of an example is read first, when the example
// gives none: 1 January 2026, in microseconds since the Unix epoch.
const someDay = 1_767_225_600_000_000

// failing reads for how long rules have failed.
func (l *loader) failing(f field, d *ExampleDevice) {
	var keys []string
	for _, b := range l.rb.Baselines {
		for _, r := range b.Rules {
			keys = append(keys, b.ID+"/"+r.ID)
		}
	}
	fields, _ := f.fields()
	for _, a := range fields {
		if !slices.Contains(keys, a.key) {
			hint := ""
			if near := condition.Nearest(a.key, keys); near != "" {
				hint = "; did you mean " + near + "?"
			}
			a.keyAt.fail("there is no rule %s, as baseline/rule%s", a.key, hint)
			continue
		}
		var span int64
		a.duration(&span)
		d.Failing[a.key] = span
	}
}

// statedCertificates takes out of a list the certificates that are stated by their fields,
// and returns the rest, without a node when nothing is left.
func (l *loader) statedCertificates(list item, d *ExampleDevice) item {
	seq, ok := list.n.(*ast.SequenceNode)
	if !ok {
		return list
	}
	rest := *seq
	rest.Values = nil
	for _, n := range seq.Values {
		m := item{list.r, n}
		var fields []field
		if m.isMapping() {
			fields, _ = m.fields()
		}
		if !m.isMapping() || slices.ContainsFunc(fields,
			func(f field) bool { return f.key == "pem" || f.key == "der" }) {
			rest.Values = append(rest.Values, n)
			continue
		}
		d.certificates = append(d.certificates, l.statedCertificate(m))
	}
	if len(d.certificates) > 0 && len(rest.Values) == 0 {
		return item{}
	}
	return item{list.r, &rest}
}

func (l *loader) statedCertificate(m item) certificateAt {
	moments, fixed := map[string]Moment{}, map[string]value.Value{}
	handlers := map[string]func(field){}
	for _, x := range certificate.Type.Fields {
		if x.Hidden {
			continue
		}
		switch {
		case x.Type.Kind == value.Time:
			handlers[x.Name] = func(f field) {
				if at, ok := f.moment(); ok {
					moments[x.Name] = at
				}
			}
		case x.Name == "issuer_id":
			handlers[x.Name] = func(f field) { fixed[x.Name] = value.OfText(l.issuerNamed(f)) }
		case x.Name == "profile":
			handlers[x.Name] = func(f field) { fixed[x.Name] = value.OfText(l.profileNamed(f)) }
		case x.Type.Kind == value.List:
			handlers[x.Name] = func(f field) { fixed[x.Name] = value.OfTexts(f.texts()) }
		default:
			handlers[x.Name] = func(f field) {
				if v, ok := f.value(x.Type); ok {
					fixed[x.Name] = v
				}
			}
		}
	}
	m.mapping("a certificate of an example", handlers)
	from, to := moments["not_before"], moments["not_after"]
	if from != nil && to != nil && from(someDay) > to(someDay) {
		m.fail("the certificate ends before it begins")
	}
	return func(at int64) value.Value {
		fields := maps.Clone(fixed)
		for name, moment := range moments {
			fields[name] = value.OfTime(moment(at))
		}
		return certificate.State(fields)
	}
}

// issuerNamed reads the id of an issuer, or of our own authority.
func (l *loader) issuerNamed(f field) string {
	var ids []string
	for _, is := range l.rb.Policy.Issuers {
		ids = append(ids, is.ID)
	}
	if a := l.rb.Authority; a != nil {
		ids = append(ids, a.ID)
	}
	if i, ok := f.word("known issuer", ids); ok {
		return ids[i]
	}
	return ""
}

// json gives a YAML node as the JSON that a value of type t has in a report.
func (it item) json(t value.Type) written {
	fixed := func(raw json.RawMessage) written { return func(int64) json.RawMessage { return raw } }
	switch n := it.n.(type) {
	case *ast.NullNode:
		return fixed(json.RawMessage("null"))
	case *ast.SequenceNode:
		elem := value.Of(value.Text)
		if t.Kind == value.List {
			elem = *t.Elem
		}
		parts := make([]written, len(n.Values))
		for i, v := range n.Values {
			parts[i] = item{it.r, v}.json(elem)
		}
		return func(at int64) json.RawMessage {
			list := make([]json.RawMessage, len(parts))
			for i, w := range parts {
				list[i] = w(at)
			}
			raw, _ := json.Marshal(list) // raw messages made here are valid
			return raw
		}
	case *ast.MappingNode, *ast.MappingValueNode:
		fields, _ := it.fields()
		parts := map[string]written{}
		for _, f := range fields {
			ft := value.Of(value.Text)
			if t.Kind == value.Record {
				if i := t.Record.Index(f.key); i >= 0 {
					ft = t.Record.Fields[i].Type
				}
			}
			parts[f.key] = f.json(ft)
		}
		return func(at int64) json.RawMessage {
			all := make(map[string]json.RawMessage, len(parts))
			for name, w := range parts {
				all[name] = w(at)
			}
			raw, _ := json.Marshal(all)
			return raw
		}
	}
	s, ok := it.scalar()
	switch {
	case !ok:
		return fixed(json.RawMessage("null"))
	case t.Kind == value.Time && (s == "now" || strings.HasPrefix(s, "-") || strings.HasPrefix(s, "+")):
		moment, ok := it.moment()
		if !ok {
			return fixed(json.RawMessage("null"))
		}
		return func(at int64) json.RawMessage {
			return value.OfText(value.FormatTime(moment(at))).AppendJSON(nil)
		}
	case t.Kind == value.Bool || t.Kind == value.Int:
		if v, err := value.Parse(t, s); err == nil {
			return fixed(v.AppendJSON(nil))
		}
	}
	return fixed(value.OfText(s).AppendJSON(nil))
}
