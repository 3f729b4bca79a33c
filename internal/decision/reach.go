package decision

import (
	"cmp"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/state"
)

// Actions lists what the rulebook speaks of doing: the actions of its gates and
// those that its conditions compare with, and "open".
func Actions(b *state.Book) []string {
	all := []string{"open"}
	add := func(p *condition.Program) {
		if p != nil {
			syntax.Walk(p.Node(), func(n syntax.Node) {
				if c, ok := n.(*syntax.Compare); ok {
					if path, ok := c.L.(*syntax.Path); ok && path.Name == "action" {
						all = append(all, syntax.Texts(c.R)...)
					}
				}
			})
		}
	}
	for _, g := range b.Rulebook.Gates {
		if g.Mode != rulebook.Draft {
			all = append(all, g.What.Actions...)
			add(g.When)
			add(g.Need)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// Find answers a search of AuthZEN 1.0: whatever would be allowed now in place
// of what is left open. Nothing is recorded: finding is not asking.
func (s *Service) Find(kind access.SearchKind, e *access.Evaluation) []access.Found {
	snap, now := s.Snapshot(), s.Micros()
	trial, out := snap.Book.Gates.Evaluator(), []access.Found{}
	q := Pose(snap, e, now).Request
	switch kind {
	case access.SearchAction:
		for _, q.Action = range Actions(snap.Book) {
			if trial.Evaluate(q, now).Outcome == access.Allow {
				out = append(out, access.Found{Name: q.Action})
			}
		}
	case access.SearchResource:
		for _, r := range snap.Book.Rulebook.Resources {
			if q.Resource = r.ID; trial.Evaluate(q, now).Outcome == access.Allow {
				out = append(out, access.Found{Type: e.Resource.Type, ID: r.ID})
			}
		}
	case access.SearchSubject:
		if e.Subject.Type == "device" {
			snap.Fleet.All(func(d *state.Device) bool {
				d = snap.At(d, now)
				if Place(snap, q, e, d, now); trial.Evaluate(q, now).Outcome == access.Allow {
					out = append(out, access.Found{Type: "device", ID: d.ID})
				}
				return true
			})
			break
		}
		for _, p := range snap.People.List() {
			if snap.People.Ask(q, p.ID); trial.Evaluate(q, now).Outcome == access.Allow {
				out = append(out, access.Found{Type: e.Subject.Type, ID: p.ID})
			}
		}
	}
	slices.SortFunc(out, func(a, b access.Found) int {
		return cmp.Or(strings.Compare(a.ID, b.ID), strings.Compare(a.Name, b.Name))
	})
	return out
}

func rankOf(o access.Outcome) int {
	return slices.Index([]access.Outcome{access.Deny, access.StepUp, access.Allow}, o)
}

// WhatReaches works out what a person can get to from a device now. Of actions
// beside the one asked about only those are told whose answer differs.
func (s *Service) WhatReaches(e *access.Evaluation) []api.ReachResource {
	snap, now := s.Snapshot(), s.Micros()
	trial, out := snap.Book.Gates.Evaluator(), []api.ReachResource{}
	q := Pose(snap, e, now).Request
	actions := Actions(snap.Book)
	some := func(list []string) []string { return append([]string{}, list...) }
	for _, r := range snap.Book.Rulebook.Resources {
		tell := func() {
			d := snap.Book.Gates.Decide(q, now)
			out = append(out, api.ReachResource{Resource: r.ID, Title: r.Title, Tags: some(r.Tags), Action: q.Action,
				Outcome: d.Outcome, Gates: some(trial.Matched()), Stops: some(trial.Stops()), ToAllow: some(d.ToAllow)})
		}
		q.Resource, q.Action = r.ID, e.Action.Name
		usual := trial.Evaluate(q, now).Outcome
		tell()
		for _, q.Action = range actions {
			if q.Action != e.Action.Name && trial.Evaluate(q, now).Outcome != usual {
				tell()
			}
		}
	}
	return out
}

// groups lists the groups that people are in or that gates speak of.
func groups(snap *state.Snapshot) []string {
	all := snap.People.AllGroups()
	for _, g := range snap.Book.Rulebook.Gates {
		all = append(append(all, g.Who.Groups...), g.Who.ExceptGroups...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// GateCoverage says for each group and resource what it takes, and what the
// rulebook has for each platform.
func (s *Service) GateCoverage() *access.Coverage {
	snap, now := s.Snapshot(), s.Micros()
	c := snap.Book.Gates.Cover(groups(snap))
	slot, count := snap.Book.Rulebook.Dict.Slot("platform"), map[string]int{}
	snap.Fleet.InService(func(d *state.Device) bool {
		if v := snap.At(d, now).View.Get(slot, now); v.Known() {
			count[v.String()]++
		}
		return true
	})
	for i := range c.Platforms {
		c.Platforms[i].Devices = count[c.Platforms[i].Platform]
	}
	return c
}

// ResourceAt returns the resource that an address belongs to: the one with the
// longest URL that the address begins with, or "".
func ResourceAt(b *state.Book, url string) string {
	best, length := "", 0
	for _, r := range b.Rulebook.Resources {
		base := strings.TrimSuffix(r.URL, "/")
		if len(base) > length && (url == base || strings.HasPrefix(url, base+"/") ||
			strings.HasPrefix(url, base+"?")) {
			best, length = r.ID, len(base)
		}
	}
	return best
}
