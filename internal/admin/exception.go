package admin

import (
	"context"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// ends checks what is said of an exception, and finds the moment it ends.
func ends(g *api.ExceptionDraft, now, longest int64) (until int64, err error) {
	g.Reason = strings.TrimSpace(g.Reason)
	switch {
	case g.Reason == "":
		return 0, fault.Input("/reason", "a reason is needed: it is what people read when they ask why")
	case len(g.Reason) > fault.MaxReason:
		return 0, fault.Inputf("/reason", "the reason is longer than %d bytes", fault.MaxReason)
	case (g.For == "") == (g.Until == ""):
		return 0, fault.Input("/until", "say when it ends: for (as 14d) or until (RFC 3339), and not both")
	case g.For != "":
		d, err := value.ParseDuration(g.For)
		if err != nil {
			return 0, fault.Input("/for", err.Error())
		}
		until = now + d.Num()
		if d.Num() <= 0 || until < now {
			return 0, fault.Input("/for", g.For+" does not lie in the future")
		}
	default:
		t, err := value.ParseTime(g.Until)
		if err != nil {
			return 0, fault.Input("/until", err.Error())
		}
		if until = t.Num(); until <= now {
			return 0, fault.Input("/until", g.Until+" does not lie in the future")
		}
	}
	if longest > 0 && until-now > longest {
		pointer := "/until"
		if g.For != "" {
			pointer = "/for"
		}
		return 0, fault.Inputf(pointer, "it would live for %s; the rulebook allows %s", value.FormatAge(until-now),
			value.FormatDuration(longest))
	}
	return until, nil
}

// Waive makes an exception for one device and one rule. It takes effect before
// Waive returns.
func (s *Service) Waive(ctx context.Context, actor string, g api.ExceptionDraft) (*api.Exception, error) {
	var w *state.Waiver
	err := s.Do(ctx, func(c *state.Change) error {
		book := c.Base.Book
		until, err := ends(&g, c.Now, book.Rulebook.MaxWaiver)
		if err != nil {
			return err
		}
		if !slices.Contains(book.RuleKeys, g.Rule) {
			return fault.Inputf("/rule", "%q is not a rule of the rulebook in force, as baseline/rule%s",
				g.Rule, fault.Nearest(g.Rule, book.RuleKeys))
		}
		if book.Strict[g.Rule] {
			return fault.Inputf("/rule", "the rulebook lets nobody except a device from %s (waivable: false)",
				g.Rule)
		}
		d, err := c.Touch(g.Device)
		if err != nil {
			return err
		}
		w = &state.Waiver{Exception: state.Exception{ID: "w-" + s.IDs.Next(c.Now), Device: d.ID,
			Reason: g.Reason, Author: actor,
			At: c.Now, Until: until}, Rule: g.Rule}
		if err := state.Put(c, state.WaiverKind, w.ID, w); err != nil {
			return err
		}
		d.Waivers = append(slices.Clip(d.Waivers), w)
		c.Record(actor, &event.WaiverGranted{Exception: c.Base.ShownWaiver(w, c.Now)})
		c.Reappraise(d, state.Cause{Kind: event.ByWaiver, Actor: actor})
		return nil
	})
	if err != nil {
		return nil, err
	}
	shown := s.Snapshot().ShownWaiver(w, s.Micros())
	return &shown, nil
}

// Vouch states that a device is genuine.
func (s *Service) Vouch(ctx context.Context, actor string, g api.ExceptionDraft) (*api.Exception, error) {
	var v *state.Vouch
	err := s.Do(ctx, func(c *state.Change) error {
		until, err := ends(&g, c.Now, 0)
		if err != nil {
			return err
		}
		if g.Rule != "" {
			return fault.Input("/rule", "a vouch is for a device, not for a rule")
		}
		d, err := c.Touch(g.Device)
		if err != nil {
			return err
		}
		v = &state.Vouch{Exception: state.Exception{ID: "v-" + s.IDs.Next(c.Now), Device: d.ID,
			Reason: g.Reason, Author: actor,
			At: c.Now, Until: until}}
		if err := state.Put(c, state.VouchKind, v.ID, v); err != nil {
			return err
		}
		d.Vouches = append(slices.Clip(d.Vouches), v)
		c.Record(actor, &event.VouchGiven{Exception: v.Shown("", c.Now)})
		c.Reappraise(d, state.Cause{Kind: event.ByVouch, Actor: actor})
		return nil
	})
	if err != nil {
		return nil, err
	}
	shown := v.Shown("", s.Micros())
	return &shown, nil
}

// Revoke ends a waiver or a vouch before its time, and takes effect at once.
func (s *Service) Revoke(ctx context.Context, actor, id, reason string) (*api.Exception, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	var out api.Exception
	err := s.Do(ctx, func(c *state.Change) (err error) {
		if w := state.Get(c, state.WaiverKind, id); w != nil {
			out, err = revokeWaiver(c, actor, *w, reason)
			return err
		}
		if v := state.Get(c, state.VouchKind, id); v != nil {
			out, err = revokeVouch(c, actor, *v, reason)
			return err
		}
		return fault.NotFound("waiver or vouch", id)
	})
	return &out, err
}

func revokeWaiver(c *state.Change, actor string, w state.Waiver, reason string) (out api.Exception,
	err error) {
	if err := w.End(actor, reason, c.Now); err != nil {
		return out, err
	}
	d, err := c.Touch(w.Device)
	if err != nil {
		return out, err
	}
	if err := state.Put(c, state.WaiverKind, w.ID, &w); err != nil {
		return out, err
	}
	d.Waivers = slices.Clone(d.Waivers)
	d.Waivers[slices.IndexFunc(d.Waivers, func(x *state.Waiver) bool { return x.ID == w.ID })] = &w
	out = c.Base.ShownWaiver(&w, c.Now)
	c.Record(actor, &event.WaiverRevoked{Exception: out})
	c.Reappraise(d, state.Cause{Kind: event.ByWaiver, Actor: actor})
	return out, nil
}

func revokeVouch(c *state.Change, actor string, v state.Vouch, reason string) (out api.Exception,
	err error) {
	if err := v.End(actor, reason, c.Now); err != nil {
		return out, err
	}
	d, err := c.Touch(v.Device)
	if err != nil {
		return out, err
	}
	if err := state.Put(c, state.VouchKind, v.ID, &v); err != nil {
		return out, err
	}
	d.Vouches = slices.Clone(d.Vouches)
	d.Vouches[slices.IndexFunc(d.Vouches, func(x *state.Vouch) bool { return x.ID == v.ID })] = &v
	out = v.Shown("", c.Now)
	c.Record(actor, &event.VouchRevoked{Exception: out})
	c.Reappraise(d, state.Cause{Kind: event.ByVouch, Actor: actor})
	return out, nil
}
