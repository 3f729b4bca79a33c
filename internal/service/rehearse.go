package service

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"ironledger.example/core/rehearsal"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/store"
)

// candidate compiles files as if they were to be published.
func (s *Service) candidate(files []rulebook.File) (*Book, error) {
	book, err := compileBook(&store.Rulebook{Files: files})
	if err == nil {
		book.inherit(s.Snapshot().Book)
	}
	return book, err
}

// under is the standing of a device under a candidate, at now.
func (snap *Snapshot) under(candidate *Snapshot, d *Device, now int64) *Device {
	e := candidate.at(d, now)
	if candidate.Book.Rulebook.LevelName(e.Result.Level) != snap.Book.Rulebook.LevelName(d.Result.Level) {
		e.Since = now // it would begin when the candidate is published
	}
	return e
}

// Rehearse works out what a rulebook would do to today's fleet. Nothing is
// changed by it. The error is [rulebook.Problems] when the draft is to blame.
func (s *Service) Rehearse(files []rulebook.File) (*rehearsal.Shift, error) {
	book, err := s.candidate(files)
	if err != nil {
		return nil, err
	}
	snap, now := s.Snapshot(), s.micros()
	candidate := snap.tryOut(book, snap.People, snap.Roster)
	tally := rehearsal.NewTally(snap.Book.Rulebook, book.Rulebook)
	snap.Fleet.All(func(d *Device) bool {
		d = snap.at(d, now)
		e := snap.under(candidate, d, now)
		x := snap.subject(d, now)
		x.To = e.Result.Level
		if snap.Book.Rulebook.LevelName(x.From) != book.Rulebook.LevelName(x.To) {
			x.Held, x.Holds = snap.Book.Rules.Binding(&d.Result), book.Rules.Binding(&e.Result)
		}
		tally.Add(x)
		return true
	})
	return tally.Shift(), nil
}

// subject tells who a device is for a comparison.
func (snap *Snapshot) subject(d *Device, now int64) rehearsal.Subject {
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
func (s *Service) Shadow() *rehearsal.Shift {
	snap, now := s.Snapshot(), s.micros()
	rules := snap.Book.Rules
	tally := rehearsal.NewTally(snap.Book.Rulebook, snap.Book.Rulebook)
	snap.Fleet.All(func(d *Device) bool {
		d = snap.at(d, now)
		x := snap.subject(d, now)
		if x.To = d.Result.Shadow; x.To != x.From {
			x.Held, x.Holds = rules.Binding(&d.Result), rules.ShadowBinding(&d.Result)
		}
		tally.Add(x)
		return true
	})
	return tally.Shift()
}

// RehearseDevice tells how a device would stand under a rulebook, or nil when
// there is no such device.
func (s *Service) RehearseDevice(files []rulebook.File, id string) (*Detail, error) {
	book, err := s.candidate(files)
	if err != nil {
		return nil, err
	}
	snap, now := s.Snapshot(), s.micros()
	d := snap.named(id)
	if d == nil {
		return nil, &NotFoundError{"device", id}
	}
	candidate := snap.tryOut(book, snap.People, snap.Roster)
	return candidate.detail(snap.under(candidate, snap.at(d, now), now), now), nil
}

// Review checks a rulebook and finds what is likely not meant, for today's
// fleet too. The error is [rulebook.Problems] when it is not right.
func (s *Service) Review(files []rulebook.File) (*rulebook.Rulebook, []rulebook.Remark, error) {
	book, err := s.candidate(files)
	if err != nil {
		return nil, nil, err
	}
	remarks := book.Rulebook.Review(s.Coverage(book), s.micros())
	waivers := map[string]int{}
	s.Snapshot().Fleet.All(func(d *Device) bool {
		for _, w := range d.Waivers {
			if w := book.limited(w); w.live(s.micros()) && !slices.Contains(book.ruleKeys, w.Rule) {
				waivers[w.Rule]++
			}
		}
		return true
	})
	for _, rule := range slices.Sorted(maps.Keys(waivers)) {
		remarks = append(remarks, rulebook.Remark{Kind: "waiver-without-rule", About: rule,
			Message: fmt.Sprintf("%d waivers are for the rule %s, which this rulebook does not have",
				waivers[rule], rule)})
	}
	return book.Rulebook, remarks, nil
}

// CompareRulebooks tells in words what the files change against a version.
func (s *Service) CompareRulebooks(ctx context.Context, version int64,
	files []rulebook.File) ([]rulebook.Difference, error) {
	old := s.Snapshot().Book.Rulebook
	if version != 0 {
		kept, err := s.store.Rulebook(ctx, version)
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
	return append([]rulebook.Difference{}, rulebook.Compare(old, rb)...), nil
}

// raised tells of each gate that is no longer in shadow what the shadow recorded.
func (s *Service) raised(ctx context.Context, old, rb *rulebook.Rulebook) ([]string, error) {
	mode := map[string]rulebook.Mode{}
	for _, g := range old.Gates {
		mode[g.ID] = g.Mode
	}
	out := []string{}
	var week map[string]GateWeek
	for _, g := range rb.Gates {
		if g.Mode != rulebook.Enforce || mode[g.ID] != rulebook.Shadow {
			continue
		}
		if week == nil {
			var err error
			if week, err = s.gateWeek(ctx); err != nil {
				return nil, err
			}
		}
		w := week[g.ID]
		out = append(out, fmt.Sprintf("in shadow, the gate %s would have denied %d requests of the last week and asked for a second factor in %d; %d met it", g.ID, w.Denied, w.SteppedUp, w.Met))
	}
	return out, nil
}

// Search is a search of devices that somebody keeps under a name.
type Search struct {
	Name    string   `json:"name"`
	Where   string   `json:"where,omitempty"`
	Text    string   `json:"q,omitempty"`
	Sort    string   `json:"sort,omitempty"`
	Columns []string `json:"columns,omitempty"`
	By      string   `json:"by"`
}

// Searches lists the searches that are kept, by name.
func (s *Service) Searches() []Search { return s.Snapshot().searches.list() }

// maxSearches bounds how many searches are kept.
const maxSearches = 500

// KeepSearch keeps a search under its name, in place of one of the same name.
func (s *Service) KeepSearch(ctx context.Context, actor string, q Search) (*Search, error) {
	switch {
	case q.Name == "" || len(q.Name) > 100:
		return nil, &InputError{"/name", "a search needs a name of at most 100 bytes"}
	case len(q.Columns) > 40:
		return nil, &InputError{"/columns", "there are more than 40 columns"}
	}
	snap := s.Snapshot()
	if _, err := snap.Book.matcher(DeviceQuery{Where: q.Where, Text: q.Text}, s.micros()); err != nil {
		return nil, err
	}
	if err := snap.Book.checkColumns(q.Columns); err != nil {
		return nil, err
	}
	q.By = actor
	err := s.do(ctx, func(c *change) error {
		if get(c, searchKind, q.Name) == nil && len(all(c, searchKind)) >= maxSearches {
			return &InputError{"/name", "there are 500 searches already; drop one first"}
		}
		return put(c, searchKind, q.Name, &q)
	})
	return &q, err
}

// DropSearch forgets a search.
func (s *Service) DropSearch(ctx context.Context, name string) error {
	return s.do(ctx, func(c *change) error {
		if get(c, searchKind, name) == nil {
			return &NotFoundError{"search", name}
		}
		drop(c, searchKind, name)
		return nil
	})
}
