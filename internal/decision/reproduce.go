package decision

import (
	"context"

	"ironledger.example/api"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/past"
	"ironledger.example/internal/store"
)

// ReproduceDecision makes a recorded decision again, from the states it says it
// was made from.
func (s *Service) ReproduceDecision(ctx context.Context, id string) (*api.Reproduction, error) {
	r, err := s.Decision(ctx, id)
	if err != nil {
		return nil, err
	}
	if r.Archive != "" {
		return nil, fault.Inputf("", "what entry %d says is not here: %s", r.Seq, r.Where)
	}
	if r.Redacted {
		return nil, fault.Inputf("", "the body of entry %d was redacted: there is nothing left to compare with", r.Seq)
	}
	b := r.Basis
	if b == nil {
		return nil, fault.Input("", "the decision does not say which states it was made from")
	}
	now := b.Moment
	snap, err := s.past.SnapshotThen(ctx,
		past.Then{Version: r.Rulebook, Device: store.Then{Revision: b.Device},
			People: store.Then{Revision: b.People},
			Roster: store.Then{Revision: b.Roster}})
	if err != nil {
		return nil, err
	}
	q := poseAlone(snap, r.Asked)
	if b.Device > 0 {
		d, err := s.past.DeviceThen(ctx, snap, r.Device, store.Then{Revision: b.Device}, now)
		if err != nil {
			return nil, past.Forgotten(err)
		}
		Place(snap, q.Request, r.Asked, d, now)
	}
	a := answer(snap, r.Asked, q, now)
	a.ID, a.Code, a.Basis = r.ID, r.Code, r.Basis
	out := &api.Reproduction{At: value.FormatTime(now), Rulebook: r.Rulebook, DeviceRevision: b.Device,
		PeopleRevision: b.People, RosterRevision: b.Roster, Differences: []api.Disagreement{}}
	if err := past.Differences(&out.Differences, "", value.JSON(r.Answer), value.JSON(a)); err != nil {
		return nil, err
	}
	out.Same = len(out.Differences) == 0
	return out, nil
}
