// Package state is the live picture: devices with their evidence and standings,
// people, the roster, the rulebook, exceptions, enrolments and tokens.
//
// A [Snapshot] is the state at a moment. A [Change] is made on top of one, and
// [Snapshot.Apply] gives the next, by which nobody who reads the old one sees a
// difference. Nothing here waits, tells the time or writes: a change says what is to be
// written, and whoever made it durable shows the state that it gives.
package state

import (
	"context"
	"errors"
	"fmt"

	"ironledger.example/core/feed"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/house"
	"ironledger.example/internal/kept"
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
	Tokens *bearer.Set

	Unmatched  unmatchedTable
	Enrolments enrolmentTable
	Searches   table[kept.Search]
	Streams    table[kept.Stream]
	places     table[kept.StreamPlace] // by stream
	Letters    table[kept.Letter]
	Notices    table[kept.Notice]
	Mutes      table[kept.Mute] // by person
	Seen       table[kept.Seen] // by alert
	Feeds      table[kept.Feed]
	FeedPlaces table[feed.Place] // by feed
	Heard      table[kept.Heard] // security events of partners that were taken

	Authorities table[kept.Authority]
	Issued      table[kept.Certificate] // by serial
	Invites     table[kept.Invite]      // by device
	Statements  table[kept.Statements]  // by device
	Quarantines table[kept.Quarantine]  // by device
	Tags        table[kept.Tags]        // by device

	Archives    table[kept.Archive]
	Mappings    table[kept.Mapping] // by source
	noticePlace table[kept.NoticePlace]
	terms       table[kept.TokenTerm] // by token
	tokenUses   table[kept.TokenUses]

	AccessPoints table[kept.AccessPoint]
	Reports      table[kept.Report]
	Stays        table[kept.Stay]

	Waivers table[Waiver]
	Vouches table[Vouch]
	retired table[Retirement] // by device

	// tried is set on a snapshot whose book, people or roster are not in force: no
	// device of its fleet has been appraised under them.
	tried bool
}

// EmptySnapshot is the state before anything has happened.
func EmptySnapshot() *Snapshot {
	return &Snapshot{Book: EmptyBook(), People: house.NewPeople(nil), Roster: house.NewRoster(nil), Fleet: &Fleet{},
		Tokens: bearer.NewSet(nil, nil)}
}

// Load reads the state from disk, but for the devices: see [Snapshot.Restore].
func Load(ctx context.Context, s *store.Store) (*Snapshot, error) {
	snap := EmptySnapshot()
	loads := []func(context.Context, *store.Store, *Snapshot) error{loadBook, loadPeople, loadRoster,
		UnmatchedKind.load,
		EnrolmentKind.load}
	for _, k := range plain {
		loads = append(loads, k.load)
	}
	for _, load := range loads {
		if err := load(ctx, s, snap); err != nil {
			return nil, err
		}
	}
	if err := snap.anchored(); err != nil {
		return nil, err
	}
	snap.Unmatched.index(snap.Unmatched.byID(), nil)
	snap.Enrolments.index(snap.Enrolments.byID())
	tokens, err := s.Tokens(ctx)
	ends := map[string]int64{}
	for id, x := range snap.terms.All() {
		ends[id] = x.EndsAt
	}
	snap.Tokens = bearer.NewSet(tokens, ends)
	return snap, err
}

func loadBook(ctx context.Context, s *store.Store, into *Snapshot) error {
	kept, err := s.Rulebook(ctx, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil // none has been published
	}
	if err != nil {
		return err
	}
	if into.Book, err = CompileBook(kept); err != nil {
		return fmt.Errorf("the published rulebook %d is not readable: %w", kept.Version, err)
	}
	return nil
}

func loadPeople(ctx context.Context, s *store.Store, into *Snapshot) error {
	people, err := s.People(ctx)
	if err != nil {
		return err
	}
	into.People = house.NewPeople(people)
	into.People.Revision, err = s.PeopleRevision(ctx)
	return err
}

func loadRoster(ctx context.Context, s *store.Store, into *Snapshot) error {
	roster, err := store.Documents[RosterEntry](ctx, s, rosterDocument)
	if err != nil {
		return err
	}
	into.Roster = house.NewRoster(roster)
	into.Roster.Revision, err = s.RosterRevision(ctx)
	return err
}

// Apply is the state after a change that was made on top of this one. It is the only
// way in which the state changes.
func (snap *Snapshot) Apply(c *Change) *Snapshot {
	next := *snap
	if h := c.House; h != nil {
		next.Book, next.People, next.Roster = h.book, h.people, h.roster
	}
	next.Fleet = snap.Fleet.with(c)
	next.Unmatched.index(c.unmatched, &snap.Unmatched)
	UnmatchedKind.apply(c, &next)
	next.Enrolments.index(c.enrolments)
	EnrolmentKind.apply(c, &next)
	for _, k := range plain {
		k.apply(c, &next)
	}
	if c.Tokens != nil {
		next.Tokens = c.Tokens
	}
	return &next
}

// SameHouse reports whether two snapshots have the same book, people and roster.
func (snap *Snapshot) SameHouse(other *Snapshot) bool {
	return snap.Book == other.Book && snap.People == other.People && snap.Roster == other.Roster
}
