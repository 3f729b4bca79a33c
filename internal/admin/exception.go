package admin

import (
	"context"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// ends checks what is said of an exception, and finds the moment it ends.
func ends(g *api.ExceptionsDraft, now, longest int64) (until int64, err error) {
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

// Waive makes exceptions for devices and one rule, for all of them or none. They take effect before Waive returns,
// but for those that a second person has to approve.
func (s *Service) Waive(ctx context.Context, by *bearer.Token, g api.ExceptionsDraft) ([]api.Exception, error) {
	return s.except(ctx, &g, func(c *state.Change, d *state.Device) (api.Exception, error) {
		book := c.Base.Book
		until, err := ends(&g, c.Now, book.LongestWaiver(by.Role))
		if err != nil {
			return api.Exception{}, err
		}
		w := &state.Waiver{Exception: state.Exception{ID: "w-" + s.IDs.Next(c.Now), Device: d.ID,
			Reason: g.Reason, Author: by.Name, At: c.Now, Until: until}, Rule: g.Rule, Role: string(by.Role)}
		warning := idle(c.Base, d, g.Rule, c.Now)
		if err := state.Put(c, state.WaiverKind, w.ID, w); err != nil {
			return api.Exception{}, err
		}
		d.Waivers = append(slices.Clip(d.Waivers), w)
		shown := c.Base.ShownWaiver(w, c.Now)
		c.Record(by.Name, &event.WaiverGranted{Exception: shown})
		c.Reappraise(d, state.Cause{Kind: event.ByWaiver, Actor: by.Name})
		shown.Warning = warning
		return shown, nil
	}, func(book *state.Book) error {
		switch {
		case !slices.Contains(book.RuleKeys, g.Rule):
			return fault.Inputf("/rule", "%q is not a rule of the rulebook in force, as baseline/rule%s",
				g.Rule, fault.Nearest(g.Rule, book.RuleKeys))
		case book.Strict[g.Rule]:
			return fault.Inputf("/rule", "the rulebook lets nobody except a device from %s (waivable: false)",
				g.Rule)
		}
		return nil
	})
}

// idle says why a waiver of a rule changes nothing for a device as things are, "" when it does.
func idle(snap *state.Snapshot, d *state.Device, rule string, now int64) string {
	if d.Retired != nil {
		return "the device " + d.ID + " is retired"
	}
	switch old := snap.Fleet.Get(d.ID); {
	case old == nil:
		return ""
	case snap.Verdict(old, rule, now) == posture.None:
		return "the rule " + rule + " is not for the device " + d.ID + ": no baseline with it applies, or it has no " +
			"check for its platform"
	case snap.Verdict(old, rule, now) == posture.Pass:
		return "the device " + d.ID + " passes " + rule + " as it is"
	case snap.Verdict(old, rule, now) == posture.Waived:
		return "the device " + d.ID + " is excepted from " + rule + " already"
	}
	return ""
}

// Vouch states that devices are genuine, of all of them or none.
func (s *Service) Vouch(ctx context.Context, actor string, g api.ExceptionsDraft) ([]api.Exception, error) {
	return s.except(ctx, &g, func(c *state.Change, d *state.Device) (api.Exception, error) {
		until, err := ends(&g, c.Now, 0)
		if err != nil {
			return api.Exception{}, err
		}
		v := &state.Vouch{Exception: state.Exception{ID: "v-" + s.IDs.Next(c.Now), Device: d.ID,
			Reason: g.Reason, Author: actor, At: c.Now, Until: until}}
		if err := state.Put(c, state.VouchKind, v.ID, v); err != nil {
			return api.Exception{}, err
		}
		d.Vouches = append(slices.Clip(d.Vouches), v)
		shown := v.Shown("", c.Now)
		c.Record(actor, &event.VouchGiven{Exception: shown})
		c.Reappraise(d, state.Cause{Kind: event.ByVouch, Actor: actor})
		if d.Retired != nil {
			shown.Warning = "the device " + d.ID + " is retired"
		}
		return shown, nil
	}, func(*state.Book) error {
		if g.Rule != "" {
			return fault.Input("/rule", "a vouch is for a device, not for a rule")
		}
		return nil
	})
}

// except makes an exception for each of some devices in one change, each once, if the rulebook lets it.
func (s *Service) except(ctx context.Context, g *api.ExceptionsDraft,
	one func(*state.Change, *state.Device) (api.Exception, error), allowed func(*state.Book) error) (
	[]api.Exception, error) {
	if err := bounded(g.Devices); err != nil {
		return nil, err
	}
	var out []api.Exception
	err := s.Do(ctx, func(c *state.Change) error {
		if _, err := ends(g, c.Now, 0); err != nil {
			return err
		}
		if err := allowed(c.Base.Book); err != nil {
			return err
		}
		var err error
		out, err = eachOnce(c, g.Devices, one)
		return err
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// Approve makes a waiver count that needs a second person, who is not the one who granted it.
func (s *Service) Approve(ctx context.Context, by *bearer.Token, id, reason string) (*api.Exception, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	var out api.Exception
	err := s.Do(ctx, func(c *state.Change) error {
		old := state.Get(c, state.WaiverKind, id)
		if old == nil {
			return fault.NotFound("waiver", id)
		}
		switch is := c.Base.ShownWaiver(old, c.Now); {
		case is.State != "asked":
			return fault.Inputf("", "%s does not wait for anybody: it is %s", id, is.State)
		case old.Author == by.Name:
			return fault.Inputf("", "%s was granted by %s, and a second person has to approve it", id, old.Author)
		}
		d, err := c.Touch(old.Device)
		if err != nil {
			return err
		}
		w := *old
		w.ApprovedBy, w.ApprovedAt, w.Approved = by.Name, c.Now, reason
		if err := placeWaiver(c, d, &w); err != nil {
			return err
		}
		out = c.Base.ShownWaiver(&w, c.Now)
		c.Record(by.Name, &event.WaiverApproved{Exception: out})
		c.Reappraise(d, state.Cause{Kind: event.ByWaiver, Actor: by.Name})
		return nil
	})
	return &out, err
}

// placeWaiver puts a waiver of a device in the place of what it was.
func placeWaiver(c *state.Change, d *state.Device, w *state.Waiver) error {
	d.Waivers = slices.Clone(d.Waivers)
	i := slices.IndexFunc(d.Waivers, func(x *state.Waiver) bool { return x.ID == w.ID })
	if i < 0 {
		return fault.NotFound("waiver", w.ID)
	}
	d.Waivers[i] = w
	return state.Put(c, state.WaiverKind, w.ID, w)
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
	if err := placeWaiver(c, d, &w); err != nil {
		return out, err
	}
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
