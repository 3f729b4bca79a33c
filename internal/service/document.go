package service

import (
	"context"
	"maps"
	"slices"

	"ironledger.example/internal/store"
	"ironledger.example/internal/versioned"
)

// table holds the documents of a kind. It is immutable.
type table[T any] struct{ versioned.Map[string, T] }

// list returns the documents in the order of their ids.
func (t table[T]) list() []T {
	byID := t.byID()
	out := make([]T, 0, len(byID))
	for _, id := range slices.Sorted(maps.Keys(byID)) {
		out = append(out, *byID[id])
	}
	return out
}

func (t table[T]) byID() map[string]*T { return maps.Collect(t.All()) }

// puts are documents as a change leaves them; nil for those that are no longer there.
type puts[T any] map[string]*T

// kind is how documents are kept: under which name on disk, where in a snapshot, and
// where in a change.
type kind[T any] struct {
	name string
	in   func(*Snapshot) *table[T]
	of   func(*change) *puts[T]
}

// The kinds of documents. Those of unmatched reports and enrolments are put by
// putUnmatched and putEnrolment, which keep up what finds them.
var (
	unmatchedKind = kind[Unmatched]{"unmatched",
		func(s *Snapshot) *table[Unmatched] { return &s.Unmatched.table },
		func(c *change) *puts[Unmatched] { return &c.unmatched }}
	enrolmentKind = kind[Enrolment]{"enrolment",
		func(s *Snapshot) *table[Enrolment] { return &s.Enrolments.table },
		func(c *change) *puts[Enrolment] { return &c.enrolments }}
	searchKind = kind[Search]{"search",
		func(s *Snapshot) *table[Search] { return &s.searches },
		func(c *change) *puts[Search] { return &c.searches }}
	waiverKind = kind[Waiver]{"waiver",
		func(s *Snapshot) *table[Waiver] { return &s.waivers },
		func(c *change) *puts[Waiver] { return &c.waivers }}
	vouchKind = kind[Vouch]{"vouch",
		func(s *Snapshot) *table[Vouch] { return &s.vouches },
		func(c *change) *puts[Vouch] { return &c.vouches }}
	retirementKind = kind[Retirement]{"retirement", // by device
		func(s *Snapshot) *table[Retirement] { return &s.retired },
		func(c *change) *puts[Retirement] { return &c.retired }}
)

// load reads the documents from disk.
func (k kind[T]) load(ctx context.Context, s *store.Store, into *Snapshot) error {
	all, err := store.Documents[T](ctx, s, k.name)
	k.in(into).Map = versioned.Of(all)
	return err
}

// apply lays what a change puts over the documents of a snapshot.
func (k kind[T]) apply(c *change, to *Snapshot) {
	t := k.in(to)
	t.Map = t.With(*k.of(c))
}

// get reads a document as a change finds it, nil for none. Nobody may alter it.
func get[T any](c *change, k kind[T], id string) *T {
	if v, put := (*k.of(c))[id]; put {
		return v
	}
	return k.in(c.base).Get(id)
}

// all reads the documents of a kind as a change finds them, by id.
func all[T any](c *change, k kind[T]) map[string]*T {
	out := k.in(c.base).byID()
	for id, v := range *k.of(c) {
		if v == nil {
			delete(out, id)
		} else {
			out[id] = v
		}
	}
	return out
}

// put writes a document as a part of a change.
func put[T any](c *change, k kind[T], id string, v *T) error {
	if err := c.batch.PutDocument(k.name, id, v); err != nil {
		return err
	}
	k.lay(c, id, v)
	return nil
}

// drop removes a document as a part of a change.
func drop[T any](c *change, k kind[T], id string) {
	c.batch.DropDocument(k.name, id)
	k.lay(c, id, nil)
}

func (k kind[T]) lay(c *change, id string, v *T) {
	p := k.of(c)
	if *p == nil {
		*p = puts[T]{}
	}
	(*p)[id] = v
}
