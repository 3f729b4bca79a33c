package mapping

import (
	"errors"
	"fmt"
	"strings"

	"ironledger.example/core/directory"
	"ironledger.example/core/value"
)

// ofPeople are the members of a person that a mapping can give.
var ofPeople = []string{"id", "name", "groups", "mail", "language"}

// OfPeople reports whether the items are people, and no devices.
func (m *Mapping) OfPeople() bool { return len(m.person) > 0 }

// checkPerson reads what says where the members of a person stand.
func (m *Mapping) checkPerson(w map[string]writtenField, wrong func(string, ...any)) {
	for _, name := range ofPeople {
		f, given := w[name]
		if !given {
			continue
		}
		checked, err := f.check(value.Of(value.Text))
		if err != nil {
			wrong("person.%s: %w", name, err)
		}
		m.person = append(m.person, named{name, value.Of(value.Text), checked})
	}
	if len(m.person) < len(w) {
		wrong("person: there are %s", strings.Join(ofPeople, ", "))
	}
	if _, given := w["id"]; !given {
		wrong("person: say where the id stands")
	}
}

// Person turns an item into a person. Groups are a list of texts, or one text in which
// semicolons part them. The error is for an item of which no person can be made: a person
// without the groups that are theirs could be let in, or shut out.
func (m *Mapping) Person(item []byte) (p directory.Person, err error) {
	x, err := object(item)
	if err != nil {
		return p, err
	}
	texts := map[string]*string{"id": &p.ID, "name": &p.Name, "mail": &p.Mail, "language": &p.Language}
	for i := range m.person {
		f := &m.person[i]
		if to := texts[f.name]; to != nil {
			if *to, err = f.key(x); err != nil {
				return p, fmt.Errorf("%s: %w", f.name, err)
			}
			continue
		}
		if p.Groups, err = f.groups(x); err != nil {
			return p, fmt.Errorf("groups: %w", err)
		}
	}
	if p.ID == "" {
		return p, errors.New("the item has no id")
	}
	return p, nil
}

// groups reads a list of groups. A group for which there are words and none that fits is
// left out: the mapping says which ones count.
func (f *field) groups(item any) (out []string, err error) {
	if f.is != "" {
		return strings.Split(f.is, ";"), nil
	}
	x, found := f.from.in(item)
	if !found || x == nil {
		return nil, nil
	}
	var said []string
	switch v := x.(type) {
	case string:
		said = strings.Split(v, ";")
	case []any:
		for _, g := range v {
			text, is := g.(string)
			if !is {
				return nil, fmt.Errorf("%s stands where the name of a group was expected", quoted(scalar(g)))
			}
			said = append(said, text)
		}
	default:
		return nil, fmt.Errorf("%s stands where a list of groups was expected", quoted(scalar(x)))
	}
	for _, g := range said {
		g = strings.TrimSpace(g)
		if f.words != nil {
			g = f.words[g]
		}
		if g != "" {
			out = append(out, g)
		}
	}
	return out, nil
}
