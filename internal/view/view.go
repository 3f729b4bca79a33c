// Package view shows people what there is: devices and their certificates, people,
// sources, exceptions, the fleet at a glance, and a device's past.
package view

import (
	"context"
	"iter"
	"math"

	"ironledger.example/api"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/past"
	"ironledger.example/internal/tally"
	"ironledger.example/internal/view/find"
	"ironledger.example/internal/view/fold"
)

// Service shows what is in open records.
type Service struct {
	*engine.Engine
	past      *past.Service
	decisions *decision.Service

	find   find.Finder
	ends   fold.Rows[endings]
	heard  fold.Rows[*heardOf]
	latest fold.Rows[map[string]int64]
	moved  *tally.Tally // how many devices changed level
	fallen falls
	turned turns
}

// keptBack is how far back it is kept what entries tell of, in microseconds, until somebody asks for more.
const keptBack = 32 * value.Day

// New is a service over open records.
func New(e *engine.Engine, past *past.Service, decisions *decision.Service) *Service {
	return &Service{Engine: e, past: past, decisions: decisions,
		moved: tally.Of(tally.Moves, tally.Minute, keptBack)}
}

// Devices lists the devices that a query selects.
func (s *Service) Devices(ctx context.Context, q find.Query) (*api.DevicePage, error) {
	snap, now := s.Snapshot(), s.Micros()
	f, err := s.find.Devices(ctx, snap, q, now)
	if err != nil {
		return nil, err
	}
	page := &api.DevicePage{Levels: map[string]int{}, Items: []api.DeviceSummary{}, Total: f.Total, Retired: f.Retired,
		Undecided: f.Undecided}
	for level, n := range f.Levels {
		if n > 0 {
			page.Levels[snap.Book.Rulebook.LevelName(rulebook.Level(level))] = n
		}
	}
	if len(f.Rows) > q.Limit {
		page.Next = f.Rows[q.Limit-1].Cursor.String()
		f.Rows = f.Rows[:q.Limit]
	}
	for _, r := range f.Rows {
		page.Items = append(page.Items, withColumns(snap.Book, r.Device, q.Columns, now))
	}
	return page, nil
}

// AllDevices finds all devices that a search is for, of one moment, whatever its limit and cursor, and yields one after
// the other.
func (s *Service) AllDevices(ctx context.Context, q find.Query) (iter.Seq[api.DeviceSummary], error) {
	snap, now := s.Snapshot(), s.Micros()
	q.Limit, q.Cursor = math.MaxInt32, ""
	f, err := s.find.Devices(ctx, snap, q, now)
	if err != nil {
		return nil, err
	}
	return func(yield func(api.DeviceSummary) bool) {
		for _, r := range f.Rows {
			if !yield(withColumns(snap.Book, r.Device, q.Columns, now)) {
				return
			}
		}
	}, nil
}
