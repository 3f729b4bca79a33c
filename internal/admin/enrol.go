package admin

import (
	"cmp"
	"context"
	"crypto/x509"
	"slices"

	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/authority"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/state"
)

// maxHeld bounds how many devices wait for a person.
const maxHeld = 10_000

// reportOf turns claims into a report that says no more than they do.
func reportOf(c *state.Claims, dict *evidence.Dictionary, now int64) (*evidence.Report, error) {
	said := map[string]string{}
	for name, text := range map[string]string{"platform": c.Platform, "form": c.Form, "model": c.Model,
		"vendor": c.Vendor, "name": c.Name, "ownership": c.Ownership, "owner": c.Owner} {
		if text != "" {
			said[name] = text
		}
	}
	raw := value.JSON(map[string]any{"source": "enrolment",
		"identity": map[string]string{"id": c.ID, "serial": c.Serial, "hardware_id": c.HardwareID},
		"evidence": said})
	rep, err := dict.ParseReport(raw, now)
	if err != nil {
		return nil, fault.Input("", err.Error())
	}
	if len(rep.Refused) > 0 {
		return nil, fault.Input("/"+rep.Refused[0].Attribute, rep.Refused[0].Message)
	}
	return rep, nil
}

// Enrol takes a device's request to be known here: the rulebook lets it in, or
// it is held for a person, or refused. A device that is known already is told so.
// shown is the certificate that the connection proved possession of, nil for none.
func (s *Service) Enrol(ctx context.Context, actor string, claims state.Claims,
	shown *x509.Certificate) (*state.Enrolment, error) {
	if claims.Serial == "" && claims.HardwareID == "" && claims.ID == "" {
		return nil, fault.Input("/serial", "a device that is to be enrolled needs a serial, a hardware_id or an id")
	}
	if shown != nil {
		claims.Certificate = state.Fingerprint(shown)
	}
	var out state.Enrolment
	err := s.Do(ctx, func(c *state.Change) (err error) {
		out, err = s.enrol(c, actor, claims, shown)
		return err
	})
	if err != nil {
		return nil, err
	}
	return &out, nil
}

func (s *Service) enrol(c *state.Change, actor string, claims state.Claims,
	shown *x509.Certificate) (state.Enrolment, error) {
	snap := c.Base
	rep, err := reportOf(&claims, snap.Book.Rulebook.Dict, c.Now)
	if err != nil {
		return state.Enrolment{}, err
	}
	keys := snap.Book.Resolver.KeysOf(rep)
	if len(keys) == 0 {
		return state.Enrolment{}, fault.Input("/serial", evidence.ErrNobody.Error())
	}
	id, known, err := claimedDevice(c, rep, keys)
	if err != nil {
		return state.Enrolment{}, err
	}
	out := state.Enrolment{ID: s.IDs.Next(c.Now), At: c.Now, Actor: actor, Claims: claims,
		OnRoster: snap.Roster.Has(keys)}
	old := c.Device(id)
	if known && !old.Outsider() {
		out.ID, out.State, out.Device, out.Why = "", state.Enrolled, id, "the device is known here already"
		return out, nil
	}
	held := 0
	for _, e := range state.All(c, state.EnrolmentKind) {
		if e.State != state.Held {
			continue
		}
		if held++; e.Claims.Same(&claims) {
			return *e, nil // it waits already
		}
	}
	if held >= maxHeld {
		return state.Enrolment{}, fault.Input("", "too many devices wait to be enrolled; settle some first")
	}
	rule := &snap.Book.Rulebook.Enrolment
	proven, why := proves(snap, shown, claims, c.Now)
	out.Proven = proven
	switch admitted := admits(snap, rep, out.OnRoster, c.Now); {
	case known && old.Retired != nil:
		out.State, out.Why, out.Device = state.Held, "the device was retired: "+old.Retired.Reason, id
	case known:
		out.State, out.Why, out.Device = state.Held, "the device is not admitted: "+old.WhyOutside(), id
	case admitted && claims.Certificate != "" && !proven:
		out.State, out.Why = state.Held,
			"a person decides: a claim proves nothing, and the certificate that the connection showed does not "+
				"either: "+why
	case admitted:
		out.State, out.Device, out.Why = state.Enrolled, id, "the rulebook admits it: "+rule.Allow.String()
	case rule.Refuse:
		out.State, out.Why = state.Refused, "the rulebook does not admit it: "+rule.String()
	default:
		out.State, out.Why = state.Held, "a person decides: "+rule.String()
	}
	return out, decideEnrolment(c, actor, &out)
}

// claimedDevice is the device that claims point at, or the id that a new one gets.
func claimedDevice(c *state.Change, rep *evidence.Report, keys []evidence.Key) (id string, known bool, err error) {
	for _, k := range keys {
		device, ok := c.Find(k)
		if ok && known && device != id {
			return "", false, fault.Inputf("/serial", "the claims point at different devices: %s and %s", id,
				device)
		}
		if ok {
			id, known = device, true
		}
	}
	if known {
		return id, true, nil
	}
	return cmp.Or(rep.Identity.ID, rep.Identity.Serial, rep.Identity.HardwareID), false, nil
}

// proves reports whether a certificate that a connection showed is one of the
// rulebook's issuers, valid now, and names the device that the claims say; or why
// it does not.
func proves(snap *state.Snapshot, shown *x509.Certificate, c state.Claims, now int64) (bool, string) {
	if shown == nil {
		return false, "its fingerprint alone was told"
	}
	return snap.Book.Resolver.Proves(shown,
		certificate.Device{ID: c.ID, Serial: c.Serial, HardwareID: c.HardwareID}, now)
}

// admits reports whether the rulebook takes a device in by itself. Hardware on
// the roster is the company's unless its claims say otherwise.
func admits(snap *state.Snapshot, rep *evidence.Report, onRoster bool, now int64) bool {
	rb := snap.Book.Rulebook
	if rb.Enrolment.Allow == nil {
		return false
	}
	policy := rb.Policy
	policy.Sources = nil // claims are of no source that the rulebook lists
	view := evidence.NewResolver(rb.Dict, policy).Resolve((*evidence.Record)(nil).With(rep),
		evidence.Facts{OnRoster: onRoster, Groups: snap.People.GroupsOf}, now)
	if slot := rb.Dict.Slot("ownership"); onRoster && !view.Value(slot).Known() {
		owned := rb.Dict.Attributes()[slot].Type.Enum
		view.Set(slot, value.OfEnum(owned, owned.Index("company")), condition.Always)
	}
	return rb.Enrolment.Allow.Eval(view.Env(now)) == condition.True
}

// decideEnrolment writes an enrolment down and, when it is one, lets the device in.
func decideEnrolment(c *state.Change, actor string, e *state.Enrolment) error {
	rep, err := reportOf(&e.Claims, c.Base.Book.Rulebook.Dict, c.Now)
	if err != nil {
		return err
	}
	keys := c.Base.Book.Resolver.KeysOf(rep)
	if err := c.PutEnrolment(*e); err != nil {
		return err
	}
	switch e.State {
	case state.Held:
		c.Record(actor, &event.EnrolmentHeld{Enrolment: *e})
	case state.Enrolled:
		c.Record(actor, &event.DeviceEnrolled{Enrolment: *e})
	case state.Refused:
		c.Record(actor, &event.EnrolmentRefused{Enrolment: *e})
	}
	if e.State == state.Enrolled {
		return admit(c, actor, e, keys)
	}
	for _, k := range keys { // what is known under these keys is not one of ours
		if id, ok := c.Find(k); ok {
			if d := c.Device(id); !c.Admission(d.Keys).Same(d.Held) {
				d = d.Copied()
				d.Held = c.Admission(d.Keys)
				c.Reappraise(d, state.Cause{Kind: event.ByEnrolment, Actor: actor})
			}
		}
	}
	return nil
}

// admit lets the device of an enrolment in.
func admit(c *state.Change, actor string, e *state.Enrolment, keys []evidence.Key) error {
	d := c.Reported(e.Device)
	if d.Retired != nil {
		state.Drop(c, state.RetirementKind, d.ID)
		d.Retired = nil
	}
	keyed := event.DeviceKeyed{Reason: "enrolment " + e.ID}
	gained := slices.DeleteFunc(slices.Clone(keys), func(k evidence.Key) bool { return k.Kind == evidence.ByID })
	if k := evidence.Folded(evidence.ByCertificate, e.Claims.Certificate); k.Text != "" {
		_, taken := c.Find(k)
		switch byPerson := e.DecidedBy != ""; {
		case taken || c.Base.Fleet.Ambiguous(k):
		case e.Proven:
			gained = append(gained, k)
		case byPerson:
			gained = append(gained, k, evidence.Key{Kind: evidence.Approved, Text: k.Text})
		}
	}
	for _, k := range gained {
		if owner, ok := c.Find(k); !ok || owner == d.ID {
			c.Gain(d, k, &keyed)
		}
	}
	d.Held = c.Admission(d.Keys)
	c.Reappraise(d, state.Cause{Kind: event.ByEnrolment, Actor: actor})
	c.RecordKeys(actor, d.ID, &keyed)
	intake.Awaited(c, actor, keys)
	return nil
}

// DecideEnrolment decides about a device that is held: it is taken in, or not.
func (s *Service) DecideEnrolment(ctx context.Context, actor, id string, admit bool,
	reason string) (*state.Enrolment, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	var out state.Enrolment
	err := s.Do(ctx, func(c *state.Change) error {
		kept := state.Get(c, state.EnrolmentKind, id)
		if kept == nil {
			return fault.NotFound("enrolment", id)
		}
		if out = *kept; out.State != state.Held {
			return fault.Inputf("", "the enrolment %s is %s already", id, out.State)
		}
		out.State, out.DecidedAt, out.DecidedBy, out.Reason = state.Refused, c.Now, actor, reason
		if admit {
			rep, err := reportOf(&out.Claims, c.Base.Book.Rulebook.Dict, c.Now)
			if err != nil {
				return err
			}
			if out.Device, _, err = claimedDevice(c, rep, c.Base.Book.Resolver.KeysOf(rep)); err != nil {
				return err
			}
			out.State = state.Enrolled
		}
		return decideEnrolment(c, actor, &out)
	})
	if err != nil {
		return nil, err
	}
	return &out, nil
}

// Retire takes devices out of service, all of them or none: to decisions they are unknown from now on,
// until they are enrolled again. What is reported of them is still kept.
func (s *Service) Retire(ctx context.Context, actor string, names []string,
	reason string) ([]state.Retirement, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	return each(ctx, s, names, func(c *state.Change, d *state.Device) (state.Retirement, error) {
		if d.Retired != nil {
			return state.Retirement{}, fault.Inputf("/devices", "the device %s is retired already: %s", d.ID,
				d.Retired.Reason)
		}
		r := &state.Retirement{Device: d.ID, At: c.Now, By: actor, Reason: reason}
		d.Retired = r
		if err := state.Put(c, state.RetirementKind, d.ID, r); err != nil {
			return *r, err
		}
		c.Record(actor, r)
		c.Reappraise(d, state.Cause{Kind: event.ByEnrolment, Actor: actor})
		_, err := authority.RevokeOf(c, d.ID, "", actor, "cessationOfOperation", reason)
		return *r, err
	})
}
