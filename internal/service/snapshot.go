package service

import (
	"context"

	"ironledger.example/internal/store"
)

// Snapshot is the state at a moment: all that answers are made from, but for the
// sessions and alarms that decisions add by themselves. It is immutable; the next one
// shares with it what does not differ.
type Snapshot struct {
	Book   *Book
	People *People
	Roster *Roster
	Fleet  *Fleet
	Tokens *tokenSet

	Unmatched  unmatchedTable
	Enrolments enrolmentTable
	searches   table[Search]
	waivers    table[Waiver]
	vouches    table[Vouch]
	retired    table[Retirement] // by device

	// tried is set on a snapshot whose book, people or roster are not in force: no
	// device of its fleet has been appraised under them.
	tried bool
}

// emptySnapshot is the state before anything has happened.
func emptySnapshot() *Snapshot {
	return &Snapshot{Book: emptyBook(), People: newPeople(nil), Roster: newRoster(nil), Fleet: &Fleet{},
		Tokens: newTokenSet(nil)}
}

// load reads the documents and the tokens from disk.
func (snap *Snapshot) load(ctx context.Context, s *store.Store) error {
	for _, load := range []func(context.Context, *store.Store, *Snapshot) error{unmatchedKind.load,
		enrolmentKind.load, searchKind.load, waiverKind.load, vouchKind.load, retirementKind.load} {
		if err := load(ctx, s, snap); err != nil {
			return err
		}
	}
	snap.Unmatched.index(snap.Unmatched.byID(), nil)
	snap.Enrolments.index(snap.Enrolments.byID())
	tokens, err := s.Tokens(ctx)
	snap.Tokens = newTokenSet(tokens)
	return err
}

// apply is the state after a change that was made on top of this one. It is the only
// way in which the state changes.
func (snap *Snapshot) apply(c *change) *Snapshot {
	next := *snap
	if c.next != nil {
		next.Book, next.People, next.Roster = c.next.Book, c.next.People, c.next.Roster
	}
	next.Fleet = snap.Fleet.with(c)
	next.Unmatched.index(c.unmatched, &snap.Unmatched)
	unmatchedKind.apply(c, &next)
	next.Enrolments.index(c.enrolments)
	enrolmentKind.apply(c, &next)
	searchKind.apply(c, &next)
	waiverKind.apply(c, &next)
	vouchKind.apply(c, &next)
	retirementKind.apply(c, &next)
	if c.tokens != nil {
		next.Tokens = c.tokens
	}
	return &next
}

// sameHouse reports whether two snapshots have the same book, people and roster.
func (snap *Snapshot) sameHouse(other *Snapshot) bool {
	return snap.Book == other.Book && snap.People == other.People && snap.Roster == other.Roster
}
