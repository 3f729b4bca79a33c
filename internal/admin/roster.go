package admin

import (
	"context"
	"maps"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/core/event"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// ImportRoster adds entries to the roster or replaces those of the same id,
// and appraises the fleet under it. The error is an [*ImpactError] when that would
// lock people out; then nothing has changed.
func (s *Service) ImportRoster(ctx context.Context, actor string, hardware []directory.Hardware,
	how ListImport) (*api.ListIntake, error) {
	return s.carryOut(ctx, actor, how, func(snap *state.Snapshot) (*listPlan, error) {
		now := s.Micros()
		in, puts := planRoster(snap.Roster, hardware, actor, now)
		return replaceRoster(snap, in, actor, now, puts, func(in *api.ListIntake, accepted event.Accepted) event.Event {
			return &event.RosterImported{Added: in.Added, Changed: in.Changed, Accepted: accepted}
		}), nil
	})
}

// planRoster lays a list of hardware over the roster: what changes, and the entries
// as they become.
func planRoster(r *state.Roster, hardware []directory.Hardware, actor string, now int64) (in api.ListIntake,
	puts map[string]*state.RosterEntry) {
	puts = map[string]*state.RosterEntry{}
	for _, h := range hardware {
		e := &state.RosterEntry{ID: h.ID(), Serial: h.Serial, HardwareID: h.HardwareID, Note: h.Note}
		old := r.Get(e.ID)
		if again := puts[e.ID]; again != nil { // the same id earlier in the list
			old = again
		}
		switch {
		case old == nil:
			in.Added++
		case old.Serial != e.Serial || old.HardwareID != e.HardwareID || old.Note != e.Note:
			in.Changed++
		default:
			in.Unchanged++
			continue
		}
		e.At, e.By = now, actor
		puts[e.ID] = e
	}
	return in, puts
}

// replaceRoster is the plan to make entries as given, nil for those that are taken
// off. It concerns the owners of the devices that they speak of.
func replaceRoster(snap *state.Snapshot, in api.ListIntake, actor string, now int64,
	puts map[string]*state.RosterEntry, tell func(*api.ListIntake, event.Accepted) event.Event) *listPlan {
	plan := &listPlan{ListIntake: in, tell: tell, put: func(c *state.Change) error {
		return c.ReplaceRoster(puts, state.Cause{Kind: event.ByRoster, Actor: actor})
	}}
	if len(puts) == 0 {
		return plan
	}
	next, owner, owners := snap.Roster.With(puts), snap.Book.Rulebook.Dict.Slot("owner"), map[string]bool{}
	plan.touched.Devices = snap.Roster.DevicesOf(maps.Keys(puts), next, snap.Fleet.Find)
	for _, id := range plan.touched.Devices {
		if who := snap.At(snap.Fleet.Get(id), now).View.Get(owner, now); who.Known() {
			owners[who.Str()] = true
		}
	}
	plan.concerned, plan.after = slices.Sorted(maps.Keys(owners)), snap.TryOut(snap.Book, snap.People, next)
	return plan
}

// RemoveRoster takes an entry, named by its id, off the roster. The error is an
// [*ImpactError] when that would lock people out.
func (s *Service) RemoveRoster(ctx context.Context, actor, id string, how api.Removal) (*api.ListIntake, error) {
	if err := checkRemoval(&how); err != nil {
		return nil, err
	}
	id = strings.ToLower(id)
	return s.carryOut(ctx, actor, removing(&how), func(snap *state.Snapshot) (*listPlan, error) {
		e := snap.Roster.Get(id)
		if e == nil {
			return nil, fault.NotFound("roster entry", id)
		}
		return replaceRoster(snap, api.ListIntake{Removed: 1}, actor, s.Micros(),
			map[string]*state.RosterEntry{id: nil},
			func(_ *api.ListIntake, accepted event.Accepted) event.Event {
				return &event.RosterRemoved{Entry: id, Serial: e.Serial, HardwareID: e.HardwareID,
					Reason: how.Reason, Accepted: accepted}
			}), nil
	})
}
