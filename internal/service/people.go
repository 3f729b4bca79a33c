package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/event"
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

// ask makes a person the one who asks.
func (p *People) ask(q *access.Request, person string) {
	q.User, q.Groups, q.Known = person, nil, false
	if i, ok := p.byID[person]; ok {
		q.Groups, q.Known = p.list[i].Groups, true
	}
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

// peoplePlan is a directory that takes the place of another.
type peoplePlan struct {
	ListIntake
	list []directory.Person
	was  houseUndo // of those for whom something changes
	left []string
}

// plan lays a list of people over the directory.
func (p *People) plan(people []directory.Person, whole bool) *peoplePlan {
	in := &peoplePlan{was: houseUndo{}}
	listed := make(map[string]directory.Person, len(people))
	for _, x := range people {
		listed[x.ID] = x // the last one of an id counts
	}
	in.list = make([]directory.Person, 0, len(p.list)+len(listed))
	for _, old := range p.list {
		x, is := listed[old.ID]
		switch {
		case !is && whole:
			in.left, in.was[old.ID] = append(in.left, old.ID), old
			continue
		case is && (old.Name != x.Name || !slices.Equal(old.Groups, x.Groups)):
			in.Changed++
			in.was[old.ID], old = old, x
		}
		in.list = append(in.list, old)
	}
	for _, id := range sortedKeys(listed) {
		if _, known := p.Get(id); !known {
			in.Added++
			in.list, in.was[id] = append(in.list, listed[id]), nil
		}
	}
	in.Removed, in.Unchanged = len(in.left), len(listed)-in.Added-in.Changed
	return in
}

// weigh works out what a plan would change in who reaches what, and what speaks
// against it.
func (s *Service) weighPeople(ctx context.Context, snap *Snapshot, in *peoplePlan) error {
	in.Impacts = nil
	if n := len(snap.People.list); in.Removed > max(fewLeavers, int(mostLeavers*float64(n))) {
		in.Impacts = append(in.Impacts, Impact{Kind: PeopleRemoved, Message: fmt.Sprintf("%d of the %d people of the directory are not in this list", in.Removed, n), Who: in.left})
	}
	return s.weighHouse(ctx, snap, newPeople(slices.Clone(in.list)), snap.Roster, sortedKeys(in.was), &in.ListIntake)
}

// weighHouse does the same for another directory or roster that concerns some
// people.
func (s *Service) weighHouse(ctx context.Context, snap *Snapshot, people *People, roster *Roster, concerned []string, in *ListIntake) error {
	after := snap.tried(snap.Book, people, roster)
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
func (s *Service) weighedOrTried(ctx context.Context, dryRun bool, weigh func(*Snapshot) error, apply func(*change) error) error {
	if dryRun {
		return weigh(s.Snapshot())
	}
	return s.weighed(ctx, weigh, apply)
}

// ImportPeople adds people to the directory, replaces those with the same id,
// and appraises the fleet under it. The error is an [*ImpactError] when that would
// lock people out, or when a whole directory leaves out so many that it is more
// likely to be cut; then nothing has changed.
func (s *Service) ImportPeople(ctx context.Context, actor string, people []directory.Person, how ListImport) (ListIntake, error) {
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
		if err := c.batch.PutPeople(people); err != nil {
			return err
		}
		c.batch.DropPeople(in.left)
		c.record(actor, &event.PeopleImported{Added: in.Added, Changed: in.Changed, Removed: in.Removed,
			People: in.left[:min(len(in.left), event.MaxImpacted)], Accepted: event.Accept(in.Impacts, how.AcceptImpact)})
		c.rebuildPeople(in.list, in.was, actor)
		return nil
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
		list := slices.DeleteFunc(slices.Clone(snap.People.list), func(x directory.Person) bool { return x.ID == id })
		in = &peoplePlan{list: list, was: houseUndo{id: p}, left: []string{id}}
		in.Removed = 1
		if err := s.weighPeople(ctx, snap, in); err != nil {
			return err
		}
		return in.held(&ListImport{DryRun: how.DryRun, AcceptImpact: how.AcceptImpact})
	}
	err := s.weighedOrTried(ctx, how.DryRun, weigh, func(c *change) error {
		p, _ := c.base.People.Get(id) // weigh found them
		c.batch.DropPeople([]string{id})
		c.record(actor, &event.PersonRemoved{Person: id, Name: p.Name, Groups: p.Groups, Reason: how.Reason,
			Accepted: event.Accept(in.Impacts, how.AcceptImpact)})
		c.rebuildPeople(in.list, in.was, actor)
		return nil
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

// rebuildPeople appraises the fleet under another directory, and keeps what the
// people in it were.
func (c *change) rebuildPeople(list []directory.Person, was houseUndo, actor string) {
	next := newPeople(list)
	next.revision = c.base.People.revision + 1
	c.keepHouse(housePeople, next.revision, was)
	c.rebuild(&Snapshot{Book: c.base.Book.renewed(), People: next, Roster: c.base.Roster}, cause{kind: event.ByPeople, actor: actor})
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
