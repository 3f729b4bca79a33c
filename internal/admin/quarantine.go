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
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	return each(ctx, s, names, func(c *state.Change, d *state.Device) (kept.Quarantine, error) {
		q := kept.Quarantine{Device: d.ID, Reason: reason, By: actor, At: c.Now}
		e := &event.DeviceQuarantined{Device: d.ID, Reason: reason}
		if lasts != 0 {
			q.Until = c.Now + lasts.Microseconds()
			e.Until = value.FormatTime(q.Until)
		}
		held := q
		d.Quarantine = &held
		c.Record(actor, e)
		c.Reappraise(d, state.Cause{Kind: event.ByOrder, Actor: actor})
		return q, state.Put(c, state.QuarantineKind, d.ID, &held)
	})
}

// Release lifts the orders for devices: all of them or none.
func (s *Service) Release(ctx context.Context, actor string, names []string, reason string) ([]kept.Quarantine,
	error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	return each(ctx, s, names, func(c *state.Change, d *state.Device) (kept.Quarantine, error) {
		if !d.Quarantine.Holds(c.Now) {
			return kept.Quarantine{}, fault.Inputf("/devices", "the device %s is in no quarantine", d.ID)
		}
		was := *d.Quarantine
		d.Quarantine = nil
		state.Drop(c, state.QuarantineKind, d.ID)
		c.Record(actor, &event.DeviceReleased{Device: d.ID, Reason: reason})
		c.Reappraise(d, state.Cause{Kind: event.ByOrder, Actor: actor})
		return was, nil
	})
}

// each does something with each of some devices, once, in one change: with all of them or with none.
func each[T any](ctx context.Context, s *Service, names []string,
	do func(*state.Change, *state.Device) (T, error)) ([]T, error) {
	if err := bounded(names); err != nil {
		return nil, err
	}
	var out []T
	err := s.Do(ctx, func(c *state.Change) (err error) {
		out, err = eachOnce(c, names, do)
		return err
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
func eachOnce[T any](c *state.Change, names []string, do func(*state.Change, *state.Device) (T, error)) ([]T, error) {
	out, done := make([]T, 0, len(names)), make(map[string]bool, len(names))
	for _, name := range names {
		d, err := c.Touch(name)
		if err != nil {
			return nil, err
		}
		if done[d.ID] {
			continue
		}
		done[d.ID] = true
		x, err := do(c, d)
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}
