package admin

import (
	"context"
	"slices"
	"time"

	"ironledger.example/core/event"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// The bounds of what is ordered at once, and for how long.
const (
	MaxOrdered    = 1000
	shortestOrder = time.Minute
	longestOrder  = 400 * 24 * time.Hour
)

// Quarantine orders that devices stand at the lowest level for some time, or until that is lifted (0): all of them or
// none. An order takes the place of one that there is.
func (s *Service) Quarantine(ctx context.Context, actor string, names []string, reason string, lasts time.Duration) (
	[]kept.Quarantine, error) {
	if lasts != 0 && (lasts < shortestOrder || lasts > longestOrder) {
		return nil, fault.Input("/for", "a quarantine lasts a minute to 400 days, or until it is lifted")
	}
	return s.order(ctx, names, &reason, func(c *state.Change, d *state.Device, out *kept.Quarantine) error {
		*out = kept.Quarantine{Device: d.ID, Reason: reason, By: actor, At: c.Now}
		e := &event.DeviceQuarantined{Device: d.ID, Reason: reason}
		if lasts != 0 {
			out.Until = c.Now + lasts.Microseconds()
			e.Until = value.FormatTime(out.Until)
		}
		q := *out
		d.Quarantine = &q
		c.Record(actor, e)
		c.Reappraise(d, state.Cause{Kind: event.ByOrder, Actor: actor})
		return state.Put(c, state.QuarantineKind, d.ID, &q)
	})
}

// Release lifts the orders for devices: all of them or none.
func (s *Service) Release(ctx context.Context, actor string, names []string, reason string) ([]kept.Quarantine,
	error) {
	return s.order(ctx, names, &reason, func(c *state.Change, d *state.Device, out *kept.Quarantine) error {
		if !d.Quarantine.Holds(c.Now) {
			return fault.Inputf("/devices", "the device %s is in no quarantine", d.ID)
		}
		*out, d.Quarantine = *d.Quarantine, nil
		state.Drop(c, state.QuarantineKind, d.ID)
		c.Record(actor, &event.DeviceReleased{Device: d.ID, Reason: reason})
		c.Reappraise(d, state.Cause{Kind: event.ByOrder, Actor: actor})
		return nil
	})
}

// order does something with each of some devices in one change, each once.
func (s *Service) order(ctx context.Context, names []string, reason *string,
	do func(*state.Change, *state.Device, *kept.Quarantine) error) ([]kept.Quarantine, error) {
	if err := fault.CheckReason(reason); err != nil {
		return nil, err
	}
	if len(names) == 0 || len(names) > MaxOrdered {
		return nil, fault.Inputf("/devices", "name 1 to %d devices", MaxOrdered)
	}
	var out []kept.Quarantine
	err := s.Do(ctx, func(c *state.Change) error {
		out = nil
		var done []string
		for _, name := range names {
			old := c.Device(c.Resolve(name))
			if old == nil {
				return fault.NotFound("device", name)
			}
			if slices.Contains(done, old.ID) {
				continue
			}
			done = append(done, old.ID)
			var q kept.Quarantine
			if err := do(c, old.Copied(), &q); err != nil {
				return err
			}
			out = append(out, q)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}
