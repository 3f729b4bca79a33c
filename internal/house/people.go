// Package house has who there is and which hardware is our own: the directory of people
// and the roster. Both are immutable; the next one shares with it what does not differ.
package house

import (
	"iter"
	"maps"
	"slices"
	"strings"
	"sync"

	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/value"
	"ironledger.example/internal/smalltext"
	"ironledger.example/internal/versioned"
)

// People is the directory: who there is and which groups they are in. It is
// immutable.
type People struct {
	byID     versioned.Map[string, personEntry]
	inGroup  versioned.Map[string, []string] // the ids of those who are in a group, sorted
	Revision int64                           // counts the changes

	sorted func() []directory.Person // everybody, sorted by id: made when first asked for
	texts  func() *smalltext.Texts   // what searches look in, likewise
}

// textOf is what a search looks in of a person.
func textOf(p *directory.Person) []string { return append([]string{p.ID, p.Name}, p.Groups...) }

// personEntry is a person with their groups as evidence has them.
type personEntry struct {
	directory.Person
	groups value.Value
}

func newPersonEntry(p directory.Person) *personEntry { return &personEntry{p, value.OfTexts(p.Groups)} }

// NewPeople is a directory of people.
func NewPeople(list []directory.Person) *People {
	byID, inGroup := make(map[string]personEntry, len(list)), map[string][]string{}
	for _, p := range list {
		byID[p.ID] = *newPersonEntry(p)
	}
	for id, m := range byID {
		for _, g := range m.Groups {
			inGroup[g] = append(inGroup[g], id)
		}
	}
	for g, ids := range inGroup {
		slices.Sort(ids)
		inGroup[g] = slices.Compact(ids)
	}
	return (&People{byID: versioned.Of(byID), inGroup: versioned.Of(inGroup)}).listed()
}

// listed makes the list of a directory that was just put together.
func (p *People) listed() *People {
	p.sorted = sync.OnceValue(func() []directory.Person {
		list := make([]directory.Person, 0, p.byID.Len())
		for _, m := range p.byID.All() {
			list = append(list, m.Person)
		}
		slices.SortFunc(list, func(a, b directory.Person) int { return strings.Compare(a.ID, b.ID) })
		return list
	})
	p.texts = sync.OnceValue(func() *smalltext.Texts {
		var b smalltext.Builder
		for _, x := range p.sorted() {
			b.Add(textOf(&x)...)
		}
		return b.Texts()
	})
	return p
}

// Search yields those whose id, name or groups a text is a part of, in whatever letters, and who are in a group, sorted
// by id; "" for any.
func (p *People) Search(text, group string) iter.Seq[directory.Person] {
	text = strings.ToLower(text)
	return func(yield func(directory.Person) bool) {
		list := p.List()
		if text == "" {
			for _, x := range list {
				if (group == "" || slices.Contains(x.Groups, group)) && !yield(x) {
					return
				}
			}
			return
		}
		for i := range p.texts().With(text) {
			if x := list[i]; (group == "" || slices.Contains(x.Groups, group)) && !yield(x) {
				return
			}
		}
	}
}

// With is the directory with some people otherwise: nil for one who has left.
func (p *People) With(changes map[string]*directory.Person) *People {
	members, groups := make(map[string]*personEntry, len(changes)), map[string]*[]string{}
	in := func(g string) []string { // as it is so far
		if ids, changed := groups[g]; changed {
			return *ids
		}
		ids := slices.Clone(p.Members(g))
		groups[g] = &ids
		return ids
	}
	for _, id := range slices.Sorted(maps.Keys(changes)) {
		var now []string
		if members[id] = nil; changes[id] != nil {
			members[id] = newPersonEntry(*changes[id])
			now = changes[id].Groups
		}
		for _, g := range p.Groups(id) {
			if at, there := slices.BinarySearch(in(g), id); there && !slices.Contains(now, g) {
				*groups[g] = slices.Delete(*groups[g], at, at+1)
			}
		}
		for _, g := range now {
			if at, there := slices.BinarySearch(in(g), id); !there {
				*groups[g] = slices.Insert(*groups[g], at, id)
			}
		}
	}
	for g, ids := range groups {
		if len(*ids) == 0 {
			groups[g] = nil
		}
	}
	return (&People{byID: p.byID.With(members), inGroup: p.inGroup.With(groups), Revision: p.Revision + 1}).listed()
}

// Len is how many people there are.
func (p *People) Len() int { return p.byID.Len() }

// List returns everybody, sorted by id. Nobody may change it.
func (p *People) List() []directory.Person { return p.sorted() }

// Groups are those that a person is in; none of one whom the directory does not know.
func (p *People) Groups(id string) []string {
	if m := p.byID.Get(id); m != nil {
		return m.Groups
	}
	return nil
}

// AllGroups are those that somebody is in, sorted.
func (p *People) AllGroups() []string {
	names := make([]string, 0, p.inGroup.Len())
	for g := range p.inGroup.All() {
		names = append(names, g)
	}
	slices.Sort(names)
	return names
}

// Grouped yields the ids of those who are in each group, sorted.
func (p *People) Grouped() iter.Seq2[string, *[]string] { return p.inGroup.All() }

// Members are the ids of those who are in a group, sorted. Nobody may change it.
func (p *People) Members(group string) []string {
	if ids := p.inGroup.Get(group); ids != nil {
		return *ids
	}
	return nil
}

// Get returns a person, or false.
func (p *People) Get(id string) (directory.Person, bool) {
	if m := p.byID.Get(id); m != nil {
		return m.Person, true
	}
	return directory.Person{}, false
}

// Ask makes a person the one who asks.
func (p *People) Ask(q *access.Request, person string) {
	q.User, q.Groups, q.Known = person, nil, false
	if m := p.byID.Get(person); m != nil {
		q.Groups, q.Known = m.Groups, true
	}
}

// GroupsOf are the groups of a person as evidence has them; nil for one whom the
// directory does not know.
func (p *People) GroupsOf(id string) *value.Value {
	if m := p.byID.Get(id); m != nil {
		return &m.groups
	}
	return nil
}
