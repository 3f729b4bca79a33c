package rulebook

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook/tree"
	"ironledger.example/core/value"
)

var Outcomes = []string{"allow", "deny", "step-up"}

func (l *loader) examples() {
	for _, it := range l.members("examples") {
		e := Example{Where: it.Position()}
		hasLevel := false
		var device, failing *tree.Field
		ok := it.Mapping("an example", map[string]func(tree.Field){
			"title":       func(f tree.Field) { f.Text(&e.Title) },
			"device":      func(f tree.Field) { device = &f },
			"failing_for": func(f tree.Field) { failing = &f },
			"at":          func(f tree.Field) { v, _ := f.Value(value.Of(value.Time)); e.At = v.Num() },
			"user":        func(f tree.Field) { f.Text(&e.User) },
			"groups":      func(f tree.Field) { e.Groups = f.Texts() },
			"known_person": func(f tree.Field) {
				known := true
				f.Boolean(&known)
				e.Stranger = !known
			},
			"resource":            func(f tree.Field) { f.Text(&e.Resource) },
			"action":              func(f tree.Field) { f.Text(&e.Action) },
			"ip":                  func(f tree.Field) { v, _ := f.Value(value.Of(value.Network)); e.IP = v.String() },
			"country":             func(f tree.Field) { f.Text(&e.Country) },
			"mfa":                 func(f tree.Field) { e.MFA = f.Truth() },
			"methods":             func(f tree.Field) { e.Methods = f.Texts() },
			"auth_at":             func(f tree.Field) { e.AuthAt, _ = f.Moment() },
			"certificate":         func(f tree.Field) { e.Certificate = f.Truth() },
			"certificate_profile": func(f tree.Field) { e.CertificateProfile = l.profileNamed(f) },
			"certificate_at":      func(f tree.Field) { e.CertificateAt, _ = f.Moment() },
			"proof":               func(f tree.Field) { e.Proof = chosen(f, "proof", Proofs.Enum.Words) },
			"grant":               func(f tree.Field) { f.Text(&e.Grant); e.Outcome = cmp.Or(e.Outcome, "allow") },
			"level": func(f tree.Field) {
				var lv Level
				l.level(f.Item, &lv)
				e.Level, hasLevel = l.rb.Ladder[lv], true
			},
			"outcome": func(f tree.Field) {
				if i, ok := f.Word("outcome", Outcomes); ok {
					e.Outcome = Outcomes[i]
				}
			},
		})
		switch {
		case !ok:
			continue
		case !hasLevel && e.Outcome == "":
			it.Fail("an example needs the level or the outcome it must have")
		case e.Outcome != "" && e.Resource == "":
			it.Fail("an example with an outcome needs a resource")
		case e.Grant != "" && !l.granted(it, &e):
		case failing != nil && device == nil:
			failing.KeyAt.Fail("failing_for needs a device whose rules fail")
		case (e.CertificateProfile != "" || e.CertificateAt != nil) && (e.Certificate == nil || !*e.Certificate):
			it.Fail("an example with certificate_profile or certificate_at needs certificate: true")
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

// granted checks the grant that an example names: it says more than the outcome.
func (l *loader) granted(it tree.Item, e *Example) bool {
	n := l.rb.Network(e.Resource)
	switch {
	case n == nil:
		it.Fail("an example with a grant needs a resource that is a network")
	case e.Outcome != "allow":
		it.Fail("an example with a grant has the outcome allow, not %s", e.Outcome)
	case !slices.ContainsFunc(n.Grants, func(g Grant) bool { return g.ID == e.Grant }):
		it.Fail("the network %s has no grant %s", n.ID, e.Grant)
	default:
		return true
	}
	return false
}

// profileNamed reads the id of a profile of our own authority.
func (l *loader) profileNamed(f tree.Field) string {
	var ids []string
	if a := l.rb.Authority; a != nil {
		for _, p := range a.Profiles {
			ids = append(ids, p.ID)
		}
	}
	if i, ok := f.Word("profile of the authority", ids); ok {
		return ids[i]
	}
	return ""
}

// ExampleDevice is the device of an example.
type ExampleDevice struct {
	// Failing is for how long rules, as baseline/rule, have failed already, in microseconds.
	Failing map[string]int64

	facts        evidence.Facts
	dict         *evidence.Dictionary
	parts        map[string]tree.Written
	certificates []certificateAt
}

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
func (l *loader) exampleDevice(f tree.Field, failing *tree.Field, e *Example) {
	d := &ExampleDevice{dict: l.rb.Dict, parts: map[string]tree.Written{}, Failing: map[string]int64{}}
	var tags, groups []string
	d.facts.ID = "example"
	fields, _ := f.Fields()
	at := map[string]tree.Item{}
	for _, a := range fields {
		switch a.Key {
		case "on_roster":
			a.Boolean(&d.facts.OnRoster)
		case "vouched":
			vouched := false
			if a.Boolean(&vouched); vouched {
				d.facts.Vouched = condition.Always
			}
		case "tags":
			tags = a.Texts()
		case "owner.groups":
			groups = a.Texts()
		default:
			t := value.Of(value.Text)
			if slot := l.rb.Dict.Slot(a.Key); slot >= 0 {
				t = l.rb.Dict.Attributes()[slot].Type
			}
			it := a.Item
			if a.Key == "certs" {
				if it = l.statedCertificates(it, d); it.Absent() {
					continue
				}
			}
			d.parts[a.Key], at[a.Key] = it.JSON(t), a.KeyAt
		}
	}
	d.facts.Tags = evidence.ListOf(tags)
	d.facts.Groups = func(string) *value.Value { return evidence.ListOf(groups) }
	if failing != nil {
		l.failing(*failing, d)
	}
	rep, _, err := d.Evidence(cmp.Or(e.At, someDay))
	if err != nil {
		f.Fail("%v", err)
		return
	}
	for _, r := range rep.Refused {
		at[r.Attribute].Fail("%s: %s", r.Attribute, r.Message)
	}
	e.Device = d
}

// someDay is the moment at which the device of an example is read first, when the example
// gives none: 1 January 2026, in microseconds since the Unix epoch.
const someDay = 1_767_225_600_000_000

// failing reads for how long rules have failed.
func (l *loader) failing(f tree.Field, d *ExampleDevice) {
	var keys []string
	for _, b := range l.rb.Baselines {
		for _, r := range b.Rules {
			keys = append(keys, b.ID+"/"+r.ID)
		}
	}
	fields, _ := f.Fields()
	for _, a := range fields {
		if !slices.Contains(keys, a.Key) {
			hint := ""
			if near := condition.Nearest(a.Key, keys); near != "" {
				hint = "; did you mean " + near + "?"
			}
			a.KeyAt.Fail("there is no rule %s, as baseline/rule%s", a.Key, hint)
			continue
		}
		var span int64
		a.Duration(&span)
		d.Failing[a.Key] = span
	}
}

// statedCertificates takes out of a list the certificates that are stated by their fields, and
// returns the list of the rest, absent when nothing is left.
func (l *loader) statedCertificates(list tree.Item, d *ExampleDevice) tree.Item {
	stated, rest := list.Partition(func(m tree.Item) bool {
		if !m.IsMapping() {
			return false
		}
		fields, _ := m.Fields()
		return !slices.ContainsFunc(fields, func(f tree.Field) bool { return f.Key == "pem" || f.Key == "der" })
	})
	for _, m := range stated {
		d.certificates = append(d.certificates, l.statedCertificate(m))
	}
	return rest
}

func (l *loader) statedCertificate(m tree.Item) certificateAt {
	moments, fixed := map[string]tree.Moment{}, map[string]value.Value{}
	handlers := map[string]func(tree.Field){}
	for _, x := range certificate.Type.Fields {
		if x.Hidden {
			continue
		}
		switch {
		case x.Type.Kind == value.Time:
			handlers[x.Name] = func(f tree.Field) {
				if at, ok := f.Moment(); ok {
					moments[x.Name] = at
				}
			}
		case x.Name == "issuer_id":
			handlers[x.Name] = func(f tree.Field) { fixed[x.Name] = value.OfText(l.issuerNamed(f)) }
		case x.Name == "profile":
			handlers[x.Name] = func(f tree.Field) { fixed[x.Name] = value.OfText(l.profileNamed(f)) }
		case x.Type.Kind == value.List:
			handlers[x.Name] = func(f tree.Field) { fixed[x.Name] = value.OfTexts(f.Texts()) }
		default:
			handlers[x.Name] = func(f tree.Field) {
				if v, ok := f.Value(x.Type); ok {
					fixed[x.Name] = v
				}
			}
		}
	}
	m.Mapping("a certificate of an example", handlers)
	from, to := moments["not_before"], moments["not_after"]
	if from != nil && to != nil && from(someDay) > to(someDay) {
		m.Fail("the certificate ends before it begins")
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
func (l *loader) issuerNamed(f tree.Field) string {
	var ids []string
	for _, is := range l.rb.Policy.Issuers {
		ids = append(ids, is.ID)
	}
	if a := l.rb.Authority; a != nil {
		ids = append(ids, a.ID)
	}
	if i, ok := f.Word("known issuer", ids); ok {
		return ids[i]
	}
	return ""
}
