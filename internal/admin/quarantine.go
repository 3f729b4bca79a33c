package admin

import (
	"context"
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
	if err := bounded(names); err != nil {
		return nil, err
	}
	var out []kept.Quarantine
	err := s.Do(ctx, func(c *state.Change) error {
		out = nil
		return eachOnce(c, names, func(d *state.Device) error {
			var q kept.Quarantine
			err := do(c, d, &q)
			out = append(out, q)
			return err
		})
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// bounded checks how many devices are named.
func bounded(names []string) error {
	if len(names) == 0 || len(names) > MaxOrdered {
		return fault.Inputf("/devices", "name 1 to %d devices", MaxOrdered)
	}
	return nil
}

// eachOnce does something with a copy of each of some devices, named by their ids, serials or hardware ids: once,
// however often one is named.
func eachOnce(c *state.Change, names []string, do func(*state.Device) error) error {
	done := make(map[string]bool, len(names))
	for _, name := range names {
		d, err := c.Touch(name)
		if err != nil {
			return err
		}
		if done[d.ID] {
			continue
		}
		done[d.ID] = true
		if err := do(d); err != nil {
			return err
		}
	}
	return nil
}
