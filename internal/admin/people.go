package admin

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/core/event"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// PeopleRemoved is the kind of [Impact] of a whole directory that leaves out more
// people than leave at a time.
const PeopleRemoved = "people-removed"

// A whole directory may leave out a few people, and a share of those there were.
const (
	fewLeavers  = 5
	mostLeavers = 0.2
)

// ImportPeople adds people to the directory, replaces those with the same id,
// and appraises the fleet under it. The error is an [*ImpactError] when that would
// lock people out, or when a whole directory leaves out so many that it is more
// likely to be cut; then nothing has changed.
func (s *Service) ImportPeople(ctx context.Context, actor string, people []directory.Person,
	how ListImport) (*api.ListIntake, error) {
	return s.carryOut(ctx, actor, how, func(snap *state.Snapshot) (*listPlan, error) {
		in, puts := planPeople(snap.People, people, how.Whole)
		left := slices.DeleteFunc(slices.Sorted(maps.Keys(puts)), func(id string) bool { return puts[id] != nil })
		if n := snap.People.Len(); len(left) > max(fewLeavers, int(mostLeavers*float64(n))) {
			in.Impacts = append(in.Impacts, Impact{Kind: PeopleRemoved, Who: left, Message: fmt.Sprintf(
				"%d of the %d people of the directory are not in this list", len(left), n)})
		}
		return replacePeople(snap, in, actor, puts, func(in *api.ListIntake, accepted event.Accepted) event.Event {
			return &event.PeopleImported{Added: in.Added, Changed: in.Changed, Removed: in.Removed,
				People: left[:min(len(left), event.MaxImpacted)], Accepted: accepted}
		}), nil
	})
}

// planPeople lays a list of people over the directory: what changes, and the people
// as they become, nil for those who leave.
func planPeople(p *state.People, people []directory.Person, whole bool) (in api.ListIntake,
	puts map[string]*directory.Person) {
	listed := make(map[string]directory.Person, len(people))
	for _, x := range people {
		listed[x.ID] = x // the last one of an id counts
	}
	puts = map[string]*directory.Person{}
	for id, x := range listed {
		switch old, known := p.Get(id); {
		case !known:
			in.Added++
			puts[id] = &x
		case !old.Equal(&x):
			in.Changed++
			puts[id] = &x
		}
	}
	in.Unchanged = len(listed) - in.Added - in.Changed
	if whole {
		for _, old := range p.List() {
			if _, is := listed[old.ID]; !is {
				in.Removed++
				puts[old.ID] = nil
			}
		}
	}
	return in, puts
}

// replacePeople is the plan to make people as given.
func replacePeople(snap *state.Snapshot, in api.ListIntake, actor string, puts map[string]*directory.Person,
	tell func(*api.ListIntake, event.Accepted) event.Event) *listPlan {
	persons := slices.Sorted(maps.Keys(puts))
	plan := &listPlan{ListIntake: in, concerned: persons, tell: tell,
		touched: decision.Touched{Persons: persons, Devices: snap.Fleet.OwnedBy(persons)},
		put: func(c *state.Change) error {
			return c.ReplacePeople(puts, state.Cause{Kind: event.ByPeople, Actor: actor})
		}}
	if len(puts) > 0 {
		plan.after = snap.TryOut(snap.Book, snap.People.With(puts), snap.Roster)
	}
	return plan
}

// RemovePerson takes a person out of the directory: they are in no group any
// more, as anybody whom the directory does not know. The error is an
// [*ImpactError] when that would lock people out.
func (s *Service) RemovePerson(ctx context.Context, actor, id string, how api.Removal) (*api.ListIntake, error) {
	if err := checkRemoval(&how); err != nil {
		return nil, err
	}
	return s.carryOut(ctx, actor, removing(&how), func(snap *state.Snapshot) (*listPlan, error) {
		p, known := snap.People.Get(id)
		if !known {
			return nil, fault.NotFound("person", id)
		}
		return replacePeople(snap, api.ListIntake{Removed: 1}, actor, map[string]*directory.Person{id: nil},
			func(_ *api.ListIntake, accepted event.Accepted) event.Event {
				return &event.PersonRemoved{Person: id, Name: p.Name, Groups: p.Groups, Reason: how.Reason,
					Accepted: accepted}
			}), nil
	})
}
