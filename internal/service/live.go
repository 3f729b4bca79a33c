package service

import (
	"context"
	"fmt"
	"slices"
	"sync/atomic"

	"ironledger.example/core/condition"
	"ironledger.example/internal/store"
)

// live is the state as readers see it. Once it is loaded it changes by apply alone,
// but for what decisions add, which do not pass through the writer: sessions, and
// the uses of break-glass accounts.
type live struct {
	snap     atomic.Pointer[Snapshot]
	tokens   atomic.Pointer[tokenSet]
	sessions sessions // allows that may still be relied on

	unmatched  unmatchedTable
	enrolments enrolmentTable
	searches   table[Search]
	waivers    table[*Waiver]
	vouches    table[*Vouch]
	retired    table[*Retirement] // by device
	alarms     table[Emergency]
	byKind     map[string]documents
}

func newLive() *live {
	l := &live{}
	l.unmatched.kind, l.unmatched.moved = unmatchedDocument, l.unmatched.index
	l.enrolments.kind, l.enrolments.moved = enrolmentDocument, l.enrolments.index
	l.searches.kind, l.alarms.kind = searchDocument, emergencyDocument
	l.waivers.kind, l.vouches.kind, l.retired.kind = waiverDocument, vouchDocument, retirementDocument
	l.byKind = map[string]documents{}
	for _, t := range []documents{&l.unmatched, &l.enrolments, &l.searches, &l.waivers, &l.vouches,
		&l.retired, &l.alarms} {
		l.byKind[t.name()] = t
	}
	return l
}

// load reads the documents and the tokens from disk.
func (l *live) load(ctx context.Context, s *store.Store) error {
	for _, kind := range sortedKeys(l.byKind) {
		if err := l.byKind[kind].load(ctx, s); err != nil {
			return err
		}
	}
	tokens, err := s.Tokens(ctx)
	if err != nil {
		return err
	}
	l.tokens.Store(newTokenSet(tokens))
	return nil
}

// apply makes a change, which has become durable, the state that readers see. It is
// the only way in which that state changes. due is told of devices that are to be
// looked at at another moment than before.
func (l *live) apply(c *change, due func(*Device)) {
	snap := l.snap.Load()
	if c.next != nil {
		snap = &Snapshot{Book: c.next.Book, People: c.next.People, Roster: c.next.Roster, Fleet: snap.Fleet}
	}
	show := func(d *Device) {
		if old := snap.Fleet.show(d); d.Wake < condition.Always && (old == nil || old.Wake != d.Wake) {
			due(d)
		}
	}
	for _, p := range c.rebuilt {
		for _, d := range p.devices {
			show(d)
		}
	}
	for _, d := range c.order {
		show(d)
	}
	for k, v := range c.documents {
		t := l.byKind[k.kind]
		if t == nil {
			panic(fmt.Sprintf("there is no table of %s", k.kind)) // put and drop ask for one
		}
		t.land(k.id, v)
	}
	if c.tokens != nil {
		l.tokens.Store(c.tokens)
	}
	for _, s := range c.ended {
		l.sessions.remove(s)
	}
	for _, r := range c.redacted {
		l.sessions.forget(r.about)
	}
	if c.next != nil {
		l.snap.Store(snap) // now that nothing can be found that does not hold under its book
	}
}

// show makes a device the one that readers find, and returns what it was. Only
// apply calls it.
func (f *Fleet) show(d *Device) (old *Device) {
	if old = f.put(d); old == nil {
		return nil
	}
	for _, k := range old.Keys {
		if !slices.Contains(d.Keys, k) {
			f.keys.CompareAndDelete(k, d.ID)
		}
	}
	return old
}
