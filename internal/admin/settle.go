package admin

import (
	"context"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// Settle joins an unmatched report to a device, to which its keys point from
// then on, or discards it. The answer lists the keys that move.
func (s *Service) Settle(ctx context.Context, actor, id string, how api.Settlement) (*api.ReportResult, error) {
	if how.DryRun && strings.TrimSpace(how.Reason) == "" {
		how.Reason = "dry run"
	}
	if err := fault.CheckReason(&how.Reason); err != nil {
		return nil, err
	}
	if (how.Device == "") != how.Discard {
		return nil, fault.Input("/device", "say the device to join the report to, or discard it")
	}
	var t api.ReportResult
	apply := func(c *state.Change) error {
		kept := state.Get(c, state.UnmatchedKind, id)
		if kept == nil {
			return fault.NotFound("unmatched report", id)
		}
		u := *kept
		if u.SettledAt != 0 {
			return fault.Inputf("", "%s was settled on %s by %s", id, value.FormatTime(u.SettledAt),
				u.SettledBy)
		}
		u.SettledAt, u.SettledBy, u.Reason = c.Now, actor, how.Reason
		if how.Discard {
			c.Record(actor, &event.ReportDiscarded{Unmatched: id, Source: u.Source, Reason: how.Reason})
		} else if err := join(c, actor, &u, how, &t); err != nil {
			return err
		}
		return c.PutUnmatched(u)
	}
	if how.DryRun {
		err := s.Try(ctx, apply)
		return &t, err
	}
	err := s.Do(ctx, apply)
	return &t, err
}

// join gives an unmatched report, and its keys, to a device.
func join(c *state.Change, actor string, u *state.Unmatched, how api.Settlement, t *api.ReportResult) error {
	d, err := c.Touch(how.Device)
	if err != nil {
		return err
	}
	rep, err := u.Report(c.Base.Book.Rulebook.Dict)
	if err != nil {
		return err
	}
	u.Device = d.ID
	before := d.Record
	keyed := event.DeviceKeyed{Source: u.Source, Reason: how.Reason}
	t.Moved = claim(c, actor, d, rep, how.Reason, &keyed)
	d.Record = d.Record.With(rep)
	d.SeenAt = max(d.SeenAt, rep.At)
	d.Spoken = evidence.With(d.Spoken, evidence.SpokenBy(rep))
	c.Certify(d, &keyed)
	d.Held = c.Admission(d.Keys)
	was := state.Stood(c.Base.Book, c.Device(d.ID))
	c.Record(actor, &event.DeviceSettled{Device: d.ID, Unmatched: u.ID, Source: u.Source, Reason: how.Reason,
		Moved: t.Moved})
	c.RecordKeys(actor, d.ID, &keyed)
	c.Reappraise(d, state.Cause{Kind: event.BySettling, Actor: actor,
		Evidence: func() []event.EvidenceChange { return event.EvidenceChanges(before, rep) }})
	t.Device, t.PreviousLevel, t.Level = d.ID, was.Level, c.Base.Book.Rulebook.LevelName(d.Result.Level)
	return nil
}

// claim makes the keys of a report point at d, and no longer at another device.
func claim(c *state.Change, actor string, d *state.Device, rep *evidence.Report, reason string,
	keyed *event.DeviceKeyed) []event.MovedKey {
	var moved []event.MovedKey
	for _, k := range c.Base.Book.Resolver.KeysOf(rep) {
		id, ok := c.Find(k)
		if k.Kind == evidence.ByID || ok && id == d.ID {
			continue
		}
		if ok {
			other := c.Device(id).Copied()
			lost := event.DeviceKeyed{Source: rep.Source, Reason: reason, To: d.ID}
			c.Lose(other, k, &lost)
			other.View, other.Held = nil, c.Admission(other.Keys)
			c.RecordKeys(actor, id, &lost)
			c.Reappraise(other, state.Cause{Kind: event.BySettling, Actor: actor})
			keyed.From = id
		}
		moved = append(moved, event.MovedKey{Kind: k.Kind, Text: k.Text, From: id, To: d.ID})
		c.Gain(d, k, keyed)
	}
	return moved
}
