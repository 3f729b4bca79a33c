package service

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/event"
	"ironledger.example/core/value"
	"ironledger.example/internal/versioned"
)

// People is the directory: who there is and which groups they are in. It is
// immutable.
type People struct {
	byID     versioned.Map[string, personEntry]
	inGroup  versioned.Map[string, []string] // the ids of those who are in a group, sorted
	revision int64                           // counts the changes

	sorted func() []directory.Person // everybody, sorted by id: made when first asked for
}

// personEntry is a person with their groups as evidence has them.
type personEntry struct {
	directory.Person
	groups value.Value
}

func newPersonEntry(p directory.Person) *personEntry { return &personEntry{p, value.OfTexts(p.Groups)} }

func newPeople(list []directory.Person) *People {
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
	return p
}

// with is the directory with some people otherwise: nil for one who has left.
func (p *People) with(changes map[string]*directory.Person) *People {
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
	return (&People{byID: p.byID.With(members), inGroup: p.inGroup.With(groups), revision: p.revision + 1}).listed()
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

// ask makes a person the one who asks.
func (p *People) ask(q *access.Request, person string) {
	q.User, q.Groups, q.Known = person, nil, false
	if m := p.byID.Get(person); m != nil {
		q.Groups, q.Known = m.Groups, true
	}
}

// groupsOf are the groups of a person as evidence has them; nil for one whom the
// directory does not know.
func (p *People) groupsOf(id string) *value.Value {
	if m := p.byID.Get(id); m != nil {
		return &m.groups
	}
	return nil
}

// ListImport is how a list of people, or of hardware, is taken in.
type ListImport struct {
	// Whole says that the list is the whole directory: who is not in it is removed.
	Whole bool
	// DryRun tells what would change, and changes nothing.
	DryRun bool
	// AcceptImpact is why a list is to be taken although it would lock people out, or
	// most likely is not whole; "" when it is not.
	AcceptImpact string
}

// ListIntake is what became of a list, or would.
type ListIntake struct {
	Added     int         `json:"added"`
	Changed   int         `json:"changed"`
	Unchanged int         `json:"unchanged"`
	Removed   int         `json:"removed"`
	Reach     *ReachShift `json:"reach,omitempty"`   // what changes in who reaches what
	Impacts   []Impact    `json:"impacts,omitempty"` // why it is held back, or would have been
}

// PeopleRemoved is the kind of [Impact] of a whole directory that leaves out more
// people than leave at a time.
const PeopleRemoved = "people-removed"

// A whole directory may leave out a few people, and a share of those there were.
const (
	fewLeavers  = 5
	mostLeavers = 0.2
)

// peoplePlan is what becomes of a directory.
type peoplePlan struct {
	ListIntake
	next *People
	was  houseUndo[directory.Person]  // of those for whom something changes
	puts map[string]*directory.Person // the same as they become; nil for those who leave
	left []string                     // who leave, sorted
}

// plan lays a list of people over the directory.
func (p *People) plan(people []directory.Person, whole bool) *peoplePlan {
	in := &peoplePlan{was: houseUndo[directory.Person]{}, puts: map[string]*directory.Person{}}
	listed := make(map[string]directory.Person, len(people))
	for _, x := range people {
		listed[x.ID] = x // the last one of an id counts
	}
	for id, x := range listed {
		switch old, known := p.Get(id); {
		case !known:
			in.Added++
			in.was[id], in.puts[id] = nil, &x
		case old.Name != x.Name || !slices.Equal(old.Groups, x.Groups):
			in.Changed++
			in.was[id], in.puts[id] = &old, &x
		}
	}
	if whole {
		for _, old := range p.List() {
			if _, is := listed[old.ID]; !is {
				in.leave(old)
			}
		}
	}
	in.Unchanged = len(listed) - in.Added - in.Changed
	in.next = p.with(in.puts)
	return in
}

// leave takes a person out.
func (in *peoplePlan) leave(p directory.Person) {
	in.left, in.was[p.ID], in.puts[p.ID] = append(in.left, p.ID), &p, nil
	in.Removed++
}

// weighPeople works out what a plan would change in who reaches what, and what
// speaks against it.
func (s *Service) weighPeople(ctx context.Context, snap *Snapshot, in *peoplePlan) error {
	in.Impacts = nil
	if n := snap.People.Len(); in.Removed > max(fewLeavers, int(mostLeavers*float64(n))) {
		in.Impacts = append(in.Impacts,
			Impact{Kind: PeopleRemoved, Message: fmt.Sprintf("%d of the %d people of the directory are not in this list", in.Removed, n), Who: in.left})
	}
	return s.weighHouse(ctx, snap, in.next, snap.Roster, slices.Sorted(maps.Keys(in.was)), &in.ListIntake)
}

// weighHouse does the same for another directory or roster that concerns some
// people.
func (s *Service) weighHouse(ctx context.Context, snap *Snapshot, people *People, roster *Roster,
	concerned []string, in *ListIntake) error {
	after := snap.tryOut(snap.Book, people, roster)
	in.Reach = snap.reach(after, concerned, s.micros())
	impacts, err := s.guard(ctx, snap, after, in.Reach)
	in.Impacts = append(in.Impacts, impacts...)
	return err
}

// held is the error of what speaks against a change that nobody accepted.
func (in *ListIntake) held(how *ListImport) error {
	if len(in.Impacts) > 0 && how.AcceptImpact == "" && !how.DryRun {
		return &ImpactError{in.Impacts}
	}
	return nil
}

// weighedOrTried weighs a change of a list and carries it out; of a dry run it
// weighs alone.
func (s *Service) weighedOrTried(ctx context.Context, dryRun bool, weigh func(*Snapshot) error,
	apply func(*change) error) error {
	if dryRun {
		return weigh(s.Snapshot())
	}
	return s.weighed(ctx, weigh, apply)
}

// ImportPeople adds people to the directory, replaces those with the same id,
// and appraises the fleet under it. The error is an [*ImpactError] when that would
// lock people out, or when a whole directory leaves out so many that it is more
// likely to be cut; then nothing has changed.
func (s *Service) ImportPeople(ctx context.Context, actor string, people []directory.Person,
	how ListImport) (ListIntake, error) {
	how.AcceptImpact = event.Clipped(strings.TrimSpace(how.AcceptImpact), maxReason)
	var in *peoplePlan
	weigh := func(snap *Snapshot) error {
		in = snap.People.plan(people, how.Whole)
		if len(in.was) == 0 {
			return nil
		}
		if err := s.weighPeople(ctx, snap, in); err != nil {
			return err
		}
		return in.held(&how)
	}
	err := s.weighedOrTried(ctx, how.DryRun, weigh, func(c *change) error {
		if len(in.was) == 0 {
			return nil
		}
		c.record(actor, &event.PeopleImported{Added: in.Added, Changed: in.Changed, Removed: in.Removed,
			People:   in.left[:min(len(in.left), event.MaxImpacted)],
			Accepted: event.Accept(in.Impacts, how.AcceptImpact)})
		return c.replacePeople(in, actor)
	})
	return in.ListIntake, err
}

// RemovePerson takes a person out of the directory: they are in no group any
// more, as anybody whom the directory does not know. The error is an
// [*ImpactError] when that would lock people out.
func (s *Service) RemovePerson(ctx context.Context, actor, id string, how Removal) (ListIntake, error) {
	if err := how.check(); err != nil {
		return ListIntake{}, err
	}
	var in *peoplePlan
	weigh := func(snap *Snapshot) error {
		p, known := snap.People.Get(id)
		if !known {
			return &NotFoundError{"person", id}
		}
		in = &peoplePlan{was: houseUndo[directory.Person]{}, puts: map[string]*directory.Person{}}
		in.leave(p)
		in.next = snap.People.with(in.puts)
		if err := s.weighPeople(ctx, snap, in); err != nil {
			return err
		}
		return in.held(&ListImport{DryRun: how.DryRun, AcceptImpact: how.AcceptImpact})
	}
	err := s.weighedOrTried(ctx, how.DryRun, weigh, func(c *change) error {
		p, _ := c.base.People.Get(id) // weigh found them
		c.record(actor, &event.PersonRemoved{Person: id, Name: p.Name, Groups: p.Groups, Reason: how.Reason,
			Accepted: event.Accept(in.Impacts, how.AcceptImpact)})
		return c.replacePeople(in, actor)
	})
	if err != nil {
		return ListIntake{}, err
	}
	return in.ListIntake, nil
}

// Removal says why something is removed.
type Removal struct {
	Reason string `json:"reason"`
	// DryRun tells what would change, and changes nothing.
	DryRun bool `json:"dry_run,omitempty"`
	// AcceptImpact is why it is right although it would lock people out.
	AcceptImpact string `json:"accept_impact,omitempty"`
}

func (r *Removal) check() error {
	r.AcceptImpact = event.Clipped(strings.TrimSpace(r.AcceptImpact), maxReason)
	if r.DryRun && strings.TrimSpace(r.Reason) == "" {
		return nil
	}
	return checkReason(&r.Reason)
}

// replacePeople puts another directory in the place of the one there is: what the
// people in it were is kept, and their devices are appraised again.
func (c *change) replacePeople(in *peoplePlan, actor string) error {
	var put []directory.Person
	var devices []string
	for _, id := range slices.Sorted(maps.Keys(in.puts)) {
		if in.puts[id] != nil {
			put = append(put, *in.puts[id])
		}
		devices = append(devices, c.base.Fleet.owners.of(id)...)
	}
	if err := c.batch.PutPeople(put); err != nil {
		return err
	}
	c.batch.DropPeople(in.left)
	keepHouse(c, housePeople, in.next.revision, in.was)
	c.reach = &reached{persons: slices.Sorted(maps.Keys(in.puts))}
	c.rebuild(c.base.Book.renewed(), in.next, c.base.Roster,
		cause{kind: event.ByPeople, actor: actor}, c.base.Fleet.those(devices))
	return nil
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
	out := &PersonPage{ID: id, Name: p.Name, Groups: append([]string{}, p.Groups...), Known: known,
		BreakGlass: slices.Contains(snap.Book.Rulebook.BreakGlass, id), Devices: []Summary{}}
	theirs := snap.devicesOf(id, now)
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
