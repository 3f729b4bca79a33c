package view

import (
	"context"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/past"
	"ironledger.example/internal/store"
)

// RehearseDevice tells how a device would stand under a rulebook, or nil when
// there is no such device.
func (s *Service) RehearseDevice(files []rulebook.File, id string) (*api.Device, error) {
	book, err := s.Candidate(files)
	if err != nil {
		return nil, err
	}
	snap, now := s.Snapshot(), s.Micros()
	d := snap.Named(id)
	if d == nil {
		return nil, fault.NotFound("device", id)
	}
	candidate := snap.TryOut(book, snap.People, snap.Roster)
	return detail(candidate, snap.Under(candidate, snap.At(d, now), now), now), nil
}

// DeviceAt computes how a device stood at a moment, and compares it with the
// change of standing that was recorded last by then.
func (s *Service) DeviceAt(ctx context.Context, name string, at int64) (*api.PastDevice, error) {
	present := s.Snapshot().Named(name)
	if present == nil {
		return nil, fault.NotFound("device", name)
	}
	switch {
	case at > s.Micros():
		return nil, fault.Input("/at", value.FormatTime(at)+" has not come yet")
	case at < present.FirstSeen:
		return nil, fault.Inputf("/at", "%s was first seen at %s", present.ID, value.FormatTime(present.FirstSeen))
	}
	books, err := s.Store.Rulebooks(ctx)
	if err != nil {
		return nil, err
	}
	t := past.Then{Device: store.Then{Revision: -1, At: at}, People: store.Then{Revision: -1, At: at},
		Roster: store.Then{Revision: -1, At: at}}
	for _, b := range books { // newest first
		if b.At <= at {
			t.Version = b.Version
			break
		}
	}
	snap, err := s.past.SnapshotThen(ctx, t)
	if err != nil {
		return nil, err
	}
	d, err := s.past.DeviceThen(ctx, snap, present.ID, t.Device, at)
	if err != nil {
		return nil, past.Forgotten(err)
	}
	out := &api.PastDevice{Device: *detail(snap, d, at),
		Reproduction: api.Reproduction{At: value.FormatTime(at), Rulebook: t.Version, DeviceRevision: d.Revision,
			PeopleRevision: snap.People.Revision, RosterRevision: snap.Roster.Revision,
			Differences: []api.Disagreement{}}}
	recorded, err := s.Store.StandingAt(ctx, present.ID, at)
	if err != nil {
		return nil, err
	}
	if changed, ok := event.As[*event.StandingChanged](&recorded); ok {
		if level := out.Standing.Level; changed.To != level {
			out.Reproduction.Differences = append(out.Reproduction.Differences,
				api.Disagreement{Pointer: "/standing/level", Recorded: value.JSON(changed.To),
					Computed: value.JSON(level)})
		}
	}
	out.Reproduction.Same = len(out.Reproduction.Differences) == 0
	return out, nil
}
