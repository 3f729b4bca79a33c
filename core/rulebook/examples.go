package rulebook

import (
	"encoding/json"
	"fmt"

	"github.com/goccy/go-yaml/ast"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
)

var Outcomes = []string{"allow", "deny", "step-up"}

func (l *loader) examples() {
	for _, it := range l.members("examples") {
		e := Example{Where: it.position()}
		hasLevel := false
		ok := it.mapping("an example", map[string]func(field){
			"title":  func(f field) { f.text(&e.Title) },
			"device": func(f field) { l.exampleDevice(f, &e) },
			"at":     func(f field) { v, _ := f.value(value.Of(value.Time)); e.At = v.Num() },
			"user":   func(f field) { f.text(&e.User) },
			"groups": func(f field) { e.Groups = f.texts() },
			"known_person": func(f field) {
				known := true
				f.boolean(&known)
				e.Stranger = !known
			},
			"resource": func(f field) { f.text(&e.Resource) },
			"action":   func(f field) { f.text(&e.Action) },
			"ip":       func(f field) { v, _ := f.value(value.Of(value.Network)); e.IP = v.String() },
			"country":  func(f field) { f.text(&e.Country) },
			"mfa":      func(f field) { e.MFA = new(bool); f.boolean(e.MFA) },
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
		}
		if e.Title == "" {
			e.Title = fmt.Sprintf("example at line %d", e.Where.Line)
		}
		l.rb.Examples = append(l.rb.Examples, e)
	}
}

// exampleDevice reads the attributes of an example as a report, so that they
// pass the same checks as evidence from outside.
func (l *loader) exampleDevice(f field, e *Example) {
	fields, _ := f.fields()
	parts := map[string]json.RawMessage{}
	at := map[string]item{}
	for _, a := range fields {
		switch a.key {
		case "on_roster":
			a.boolean(&e.Facts.OnRoster)
		case "vouched":
			a.boolean(&e.Facts.Vouched)
		case "tags":
			e.Facts.Tags = a.texts()
		case "owner.groups":
			e.Facts.OwnerGroups = a.texts()
		default:
			t := value.Of(value.Text)
			if slot := l.rb.Dict.Slot(a.key); slot >= 0 {
				t = l.rb.Dict.Attributes()[slot].Type
			}
			parts[a.key], at[a.key] = a.json(t), a.keyAt
		}
	}
	raw, err := json.Marshal(map[string]any{"source": "example",
		"identity": map[string]string{"id": "example"}, "evidence": parts})
	if err != nil {
		f.fail("the device cannot be read: %v", err)
		return
	}
	rep, err := l.rb.Dict.ParseReport(raw, e.At)
	if err != nil {
		f.fail("%v", err)
		return
	}
	for _, r := range rep.Refused {
		at[r.Attribute].fail("%s: %s", r.Attribute, r.Message)
	}
	e.Report = rep
}

// json writes a YAML node as the JSON that a value of type t has in a report.
func (it item) json(t value.Type) json.RawMessage {
	switch n := it.n.(type) {
	case *ast.NullNode:
		return json.RawMessage("null")
	case *ast.SequenceNode:
		elem := value.Of(value.Text)
		if t.Kind == value.List {
			elem = *t.Elem
		}
		parts := make([]json.RawMessage, len(n.Values))
		for i, v := range n.Values {
			parts[i] = item{it.r, v}.json(elem)
		}
		raw, _ := json.Marshal(parts) // raw messages made here are valid
		return raw
	case *ast.MappingNode, *ast.MappingValueNode:
		fields, _ := it.fields()
		parts := map[string]json.RawMessage{}
		for _, f := range fields {
			ft := value.Of(value.Text)
			if t.Kind == value.Record {
				if i := t.Record.Index(f.key); i >= 0 {
					ft = t.Record.Fields[i].Type
				}
			}
			parts[f.key] = f.json(ft)
		}
		raw, _ := json.Marshal(parts)
		return raw
	}
	s, ok := it.scalar()
	if !ok {
		return json.RawMessage("null")
	}
	if t.Kind == value.Bool || t.Kind == value.Int {
		if v, err := value.Parse(t, s); err == nil {
			return v.AppendJSON(nil)
		}
	}
	return value.OfText(s).AppendJSON(nil)
}

// Directory gives the groups of the owner in an example.
func (f ExampleFacts) Directory() evidence.Facts {
	vouched := int64(0)
	if f.Vouched {
		vouched = condition.Always
	}
	return evidence.Facts{ID: "example", OnRoster: f.OnRoster, Vouched: vouched,
		Tags:   evidence.ListOf(f.Tags),
		Groups: func(string) *value.Value { return evidence.ListOf(f.OwnerGroups) }}
}
