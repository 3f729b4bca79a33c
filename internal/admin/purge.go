package admin

import (
	"context"
	"fmt"
	"time"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// Purged is a device of which what was known is removed.
type Purged = event.DevicePurged

// Purge removes what is known of retired devices, of all that are named or none: their evidence and its past, waivers,
// vouches, tags and notes. Their keys stay, by which they are known as retired should they be reported again; the
// ledger keeps its entries.
func (s *Service) Purge(ctx context.Context, actor string, names []string, reason string) ([]Purged, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	out, err := each(ctx, s, names, func(c *state.Change, d *state.Device) (Purged, error) {
		if d.Retired == nil {
			return Purged{}, fault.Inputf("/devices", "the device %s is in service: retire it first", d.ID)
		}
		p := Purged{Device: d.ID, Readings: d.Record.Len(), Reason: reason}
		c.Record(actor, &p)
		return p, c.Purge(d, state.Cause{Kind: event.ByEnrolment, Actor: actor})
	})
	if err != nil {
		return nil, err
	}
	if err := s.Store.Scrub(ctx); err != nil {
		s.Log.Warn("after a purge", "error", err)
	}
	return out, nil
}

// purgePause is how often it is looked for devices whose time has come.
const purgePause = 10 * time.Minute

// Purging purges retired devices whose time to be kept is over, as the rulebook says, until the records are closed.
func (s *Service) Purging() {
	s.Regularly(purgePause, "devices whose time to be kept is over are kept still", s.purgeDue)
}

// purgeDue purges the devices whose time is over, a part at a time.
func (s *Service) purgeDue(ctx context.Context) error {
	snap, now := s.Snapshot(), s.Micros()
	keep := snap.Book.Rulebook.KeepRetired
	if keep == 0 {
		return nil
	}
	var due []string
	snap.Fleet.All(func(d *state.Device) bool {
		if d.Retired != nil && d.Retired.PurgedAt == 0 && now-d.Retired.At >= keep {
			due = append(due, d.ID)
		}
		return len(due) < MaxOrdered
	})
	if len(due) == 0 {
		return nil
	}
	_, err := s.Purge(ctx, ledger.Clock, due, fmt.Sprintf("retired for more than %s, as the rulebook says",
		value.FormatDuration(keep)))
	return err
}
