package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/directory"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
)

// People is the directory: who there is and which groups they are in.
type People struct {
	list     []directory.Person // sorted by id
	byID     map[string]int
	groups   []value.Value // of each, as evidence has them
	revision int64         // counts the changes
}

func newPeople(list []directory.Person) *People {
	p := &People{list: list, byID: make(map[string]int, len(list))}
	slices.SortFunc(p.list, func(a, b directory.Person) int { return cmp.Compare(a.ID, b.ID) })
	p.groups = make([]value.Value, len(p.list))
	for i, x := range p.list {
		p.byID[x.ID], p.groups[i] = i, value.OfTexts(x.Groups)
	}
	return p
}

// List returns everybody, sorted by id.
func (p *People) List() []directory.Person { return p.list }

// Get returns a person, or false.
func (p *People) Get(id string) (directory.Person, bool) {
	i, ok := p.byID[id]
	if !ok {
		return directory.Person{}, false
	}
	return p.list[i], true
}

// Groups returns the groups of a person; none for one the directory does not know.
func (p *People) Groups(id string) []string {
	if i, ok := p.byID[id]; ok {
		return p.list[i].Groups
	}
	return nil
}

// groupsOf is Groups as evidence has them; nil for a person whom the directory
// does not know.
func (p *People) groupsOf(id string) *value.Value {
	if i, ok := p.byID[id]; ok {
		return &p.groups[i]
	}
	return nil
}

// PeopleImport is how a list of people is taken in.
type PeopleImport struct {
	// Whole says that the list is the whole directory: who is not in it is removed.
	Whole bool
	// AcceptImpact is why a list is to be taken although most likely it is not
	// whole; "" when it is not.
	AcceptImpact string
}

// PeopleIntake is what became of a list of people.
type PeopleIntake struct{ Added, Changed, Unchanged, Removed int }

// PeopleRemoved is the kind of [Impact] of a whole directory that leaves out more
// people than leave at a time.
const PeopleRemoved = "people-removed"

// A whole directory may leave out a few people, and a share of those there were.
const (
	fewLeavers  = 5
	mostLeavers = 0.2
)

// ImportPeople adds people to the directory, replaces those with the same id,
// and appraises the fleet under it. The error is an [*ImpactError] when a whole
// directory leaves out so many that it is more likely to be cut; then nothing
// has changed.
func (s *Service) ImportPeople(ctx context.Context, actor string, people []directory.Person, how PeopleImport) (in PeopleIntake, err error) {
	how.AcceptImpact = clipped(strings.TrimSpace(how.AcceptImpact), maxReason)
	err = s.doAlone(ctx, func(c *change) error {
		in = PeopleIntake{}
		before := c.base.People
		was, listed := houseUndo{}, make(map[string]directory.Person, len(people))
		for _, p := range people {
			listed[p.ID] = p // the last one of an id counts
		}
		next := make([]directory.Person, 0, len(before.list)+len(listed))
		var left []string
		for _, old := range before.list {
			p, is := listed[old.ID]
			switch {
			case !is && how.Whole:
				left, was[old.ID] = append(left, old.ID), old
				continue
			case is && (old.Name != p.Name || !slices.Equal(old.Groups, p.Groups)):
				in.Changed++
				was[old.ID], old = old, p
			}
			next = append(next, old)
		}
		for id, p := range listed {
			if _, known := before.Get(id); !known {
				in.Added++
				next, was[id] = append(next, p), nil
			}
		}
		in.Removed, in.Unchanged = len(left), len(listed)-in.Added-in.Changed
		if len(was) == 0 {
			return nil
		}
		body := map[string]any{"added": in.Added, "changed": in.Changed}
		if in.Removed > 0 {
			body["removed"], body["people"] = in.Removed, left[:min(len(left), maxImpacted)]
		}
		if in.Removed > max(fewLeavers, int(mostLeavers*float64(len(before.list)))) {
			if how.AcceptImpact == "" {
				return &ImpactError{[]Impact{{PeopleRemoved, fmt.Sprintf("%d of the %d people of the directory are not in this list", in.Removed, len(before.list)), left}}}
			}
			body["accept_impact"] = how.AcceptImpact
		}
		c.batch.PutPeople(people)
		c.batch.DropPeople(left)
		c.record(ledger.PeopleImported, actor, "people", body)
		c.rebuildPeople(next, was, actor)
		return nil
	})
	return in, err
}

// RemovePerson takes a person out of the directory: they are in no group any
// more, as anybody whom the directory does not know.
func (s *Service) RemovePerson(ctx context.Context, actor, id, reason string) error {
	if err := checkReason(&reason); err != nil {
		return err
	}
	return s.doAlone(ctx, func(c *change) error {
		p, known := c.base.People.Get(id)
		if !known {
			return &NotFoundError{"person", id}
		}
		c.batch.DropPeople([]string{id})
		c.record(ledger.PersonRemoved, actor, id, map[string]any{"groups": p.Groups, "name": p.Name, "person": id, "reason": reason})
		c.rebuildPeople(slices.DeleteFunc(slices.Clone(c.base.People.list), func(x directory.Person) bool { return x.ID == id }), houseUndo{id: p}, actor)
		return nil
	})
}

// rebuildPeople appraises the fleet under another directory, and keeps what the
// people in it were.
func (c *change) rebuildPeople(list []directory.Person, was houseUndo, actor string) {
	next := newPeople(list)
	next.revision = c.base.People.revision + 1
	c.keepHouse(housePeople, next.revision, was)
	c.rebuild(&Snapshot{Book: c.base.Book.renewed(), People: next, Roster: c.base.Roster}, cause{kind: byPeople, actor: actor})
}

// PersonPage is a person and the devices that are theirs.
type PersonPage struct {
	ID         string    `json:"id"`
	Name       string    `json:"name"`
	Groups     []string  `json:"groups"`
	Known      bool      `json:"known"` // whether the directory knows them
	BreakGlass bool      `json:"break_glass"`
	Devices    []Summary `json:"devices"` // whose owner they are, the least trusted first
	More       int       `json:"more"`    // devices that are not told
}

// maxPersonDevices bounds how many devices of a person are told.
const maxPersonDevices = 100

// Person tells of a person, of one whom the directory does not know, too: such
// people ask for access, and own devices.
func (s *Service) Person(id string) *PersonPage {
	snap, now := s.Snapshot(), s.micros()
	p, known := snap.People.Get(id)
	out := &PersonPage{ID: id, Name: p.Name, Groups: append([]string{}, p.Groups...), Known: known, BreakGlass: slices.Contains(snap.Book.Rulebook.BreakGlass, id), Devices: []Summary{}}
	owner := snap.Book.Rulebook.Dict.Slot("owner")
	var theirs []*Device
	snap.Fleet.All(func(d *Device) bool {
		if d = snap.at(d, now); d.View.Get(owner, now).Str() == id {
			theirs = append(theirs, d)
		}
		return true
	})
	slices.SortFunc(theirs, func(a, b *Device) int {
		return cmp.Or(cmp.Compare(a.Result.Level, b.Result.Level), strings.Compare(a.ID, b.ID))
	})
	shown := theirs[:min(len(theirs), maxPersonDevices)]
	for _, d := range shown {
		out.Devices = append(out.Devices, snap.Book.Summary(d, now))
	}
	out.More = len(theirs) - len(shown)
	return out
}
