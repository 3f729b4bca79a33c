package view

import (
	"context"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
)

// DeviceHistory lists what became of a device, newest first: entries before a
// sequence number only, unless it is 0.
func (s *Service) DeviceHistory(ctx context.Context, id string, before int64, limit int) ([]api.HistoryEvent, error) {
	snap := s.Snapshot()
	d := snap.Named(id)
	if d == nil {
		return nil, fault.NotFound("device", id)
	}
	entries, err := s.Store.About(ctx, d.ID, before, limit)
	if err != nil {
		return nil, err
	}
	rb := snap.Book.Rulebook
	out := []api.HistoryEvent{}
	for _, e := range entries {
		ev := api.HistoryEvent{Seq: e.Seq, At: value.FormatTime(e.At), Kind: e.Kind, Actor: e.Actor, Gist: event.Gist(&e),
			Body: e.Body}
		if changed, ok := event.As[*event.StandingChanged](&e); ok {
			if rank, ok := rb.Rank(changed.To); ok {
				ev.Rank = &rank
			}
		}
		out = append(out, ev)
	}
	return out, nil
}
