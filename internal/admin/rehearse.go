package admin

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"ironledger.example/core/condition"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/review"
	"ironledger.example/core/revision"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/state"
)

// coverage tells how far the baselines of a rulebook reach over today's fleet.
func (s *Service) coverage(book *state.Book) *review.FleetCoverage {
	snap, now := s.Snapshot(), s.Micros()
	c := &review.FleetCoverage{Baselines: map[string]int{}, Uncovered: map[string]int{}}
	slot := book.Rulebook.Dict.Slot("platform")
	snap.Fleet.InService(func(d *state.Device) bool {
		c.Devices++
		view := snap.At(d, now).View
		if book.Resolver != snap.Book.Resolver {
			view = book.Resolver.Resolve(d.Record, snap.Facts(d, now), now)
		}
		env, covered := view.Env(now), false
		for _, b := range book.Rulebook.Baselines {
			if b.Applies.Eval(env) != condition.False {
				c.Baselines[b.ID]++
				covered = covered || b.Mode == rulebook.Enforce
			}
		}
		if !covered {
			platform := "of an unknown platform"
			if v := view.Get(slot, now); v.Known() {
				platform = v.String()
			}
			c.Uncovered[platform]++
		}
		return true
	})
	return c
}

// Rehearse works out what a rulebook would do to today's fleet. Nothing is
// changed by it. The error is [rulebook.Problems] when the draft is to blame.
func (s *Service) Rehearse(ctx context.Context, files []rulebook.File) (*rehearsal.Shift, error) {
	book, err := s.Candidate(files)
	if err != nil {
		return nil, err
	}
	snap, now := s.Snapshot(), s.Micros()
	candidate := snap.TryOut(book, snap.People, snap.Roster)
	tally := rehearsal.NewTally(snap.Book.Rulebook, book.Rulebook)
	err = state.Together(ctx, snap.Fleet, func(d *state.Device) rehearsal.Subject {
		d = snap.At(d, now)
		e := snap.Under(candidate, d, now)
		x := subject(snap, d, now)
		x.To = e.Result.Level
		if book.Rulebook.Called(snap.Book.Rulebook.LevelName(x.From)) != book.Rulebook.LevelName(x.To) {
			x.Held, x.Holds = snap.Book.Rules.Binding(&d.Result), book.Rules.Binding(&e.Result)
		}
		return x
	}, tally.Add)
	if err != nil {
		return nil, err
	}
	return tally.Shift(), nil
}

// Weigh says why a rulebook would be held back if it was published now; nothing when it would not. Nothing is changed
// by it. The error is [rulebook.Problems] when the draft is to blame.
func (s *Service) Weigh(ctx context.Context, files []rulebook.File) ([]Impact, error) {
	book, err := s.Candidate(files)
	if err != nil {
		return nil, err
	}
	snap := s.Snapshot()
	impacts, err := s.guard(ctx, snap, snap.TryOut(book, snap.People, snap.Roster), nil, nil)
	return append([]Impact{}, impacts...), err
}

// subject tells who a device is for a comparison.
func subject(snap *state.Snapshot, d *state.Device, now int64) rehearsal.Subject {
	get := func(name string) string {
		if v := d.View.Get(snap.Book.Rulebook.Dict.Slot(name), now); v.Known() {
			return v.String()
		}
		return ""
	}
	x := rehearsal.Subject{Device: d.ID, Name: get("name"), Platform: get("platform"), Owner: get("owner"),
		From: d.Result.Level}
	x.Groups = snap.People.Groups(x.Owner)
	return x
}

// Shadow works out what enforcing the shadow baselines of the rulebook in
// force would do to today's fleet.
func (s *Service) Shadow(ctx context.Context) (*rehearsal.Shift, error) {
	snap, now := s.Snapshot(), s.Micros()
	rules := snap.Book.Rules
	tally := rehearsal.NewTally(snap.Book.Rulebook, snap.Book.Rulebook)
	err := state.Together(ctx, snap.Fleet, func(d *state.Device) rehearsal.Subject {
		d = snap.At(d, now)
		x := subject(snap, d, now)
		if x.To = d.Result.Shadow; x.To != x.From {
			x.Held, x.Holds = rules.Binding(&d.Result), rules.ShadowBinding(&d.Result)
		}
		return x
	}, tally.Add)
	if err != nil {
		return nil, err
	}
	return tally.Shift(), nil
}

// Review checks a rulebook and finds what is likely not meant, for today's
// fleet too. The error is [rulebook.Problems] when it is not right.
func (s *Service) Review(files []rulebook.File) (*rulebook.Rulebook, []review.Remark, error) {
	book, err := s.Candidate(files)
	if err != nil {
		return nil, nil, err
	}
	remarks := review.Of(book.Rulebook, s.coverage(book), s.Micros())
	waivers := map[string]int{}
	s.Snapshot().Fleet.InService(func(d *state.Device) bool {
		for _, w := range d.Waivers {
			if c := book.Limited(w); c.Live(s.Micros()) && !slices.Contains(book.RuleKeys, w.Rule) {
				waivers[w.Rule]++
			}
		}
		return true
	})
	for _, rule := range slices.Sorted(maps.Keys(waivers)) {
		remarks = append(remarks, review.Remark{Kind: "waiver-without-rule", About: rule,
			Message: fmt.Sprintf("%d waivers are for the rule %s, which this rulebook does not have",
				waivers[rule], rule)})
	}
	return book.Rulebook, remarks, nil
}

// CompareRulebooks tells in words what the files change against a version.
func (s *Service) CompareRulebooks(ctx context.Context, version int64,
	files []rulebook.File) ([]revision.Difference, error) {
	old := s.Snapshot().Book.Rulebook
	if version != 0 {
		kept, err := s.Store.Rulebook(ctx, version)
		if err != nil {
			return nil, err
		}
		if old, err = rulebook.Load(kept.Files); err != nil {
			return nil, err
		}
	}
	rb, err := rulebook.Load(files)
	if err != nil {
		return nil, err
	}
	return append([]revision.Difference{}, revision.Compare(old, rb)...), nil
}
