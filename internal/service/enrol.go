package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"slices"

	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/versioned"
)

// The states of an enrolment.
const (
	Held     = "held"     // waits for a person
	Enrolled = "enrolled" // the device is known here
	Refused  = "refused"
)

// Claims are what a device, or its person, says of it when it asks to be enrolled.
type Claims = event.Claims

// Enrolment is a device's request to be known here.
type Enrolment = event.Enrolment

// ShownEnrolment is an enrolment as people see it.
type ShownEnrolment struct {
	Enrolment
	At        string `json:"at"`
	DecidedAt string `json:"decided_at,omitempty"`
}

func shownEnrolment(e Enrolment) ShownEnrolment {
	return ShownEnrolment{e, value.FormatTime(e.At), value.FormatTime(e.DecidedAt)}
}

// Retirement is why a device is no longer one of ours.
type Retirement = event.DeviceRetired

// maxHeld bounds how many devices wait for a person.
const maxHeld = 10_000

// report turns claims into a report that says no more than they do.
func reportOf(c *Claims, dict *evidence.Dictionary, now int64) (*evidence.Report, error) {
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
		return nil, &InputError{"", err.Error()}
	}
	if len(rep.Refused) > 0 {
		return nil, &InputError{"/" + rep.Refused[0].Attribute, rep.Refused[0].Message}
	}
	return rep, nil
}

// Enrol takes a device's request to be known here: the rulebook lets it in, or
// it is held for a person, or refused. A device that is known already is told so.
// shown is the certificate that the connection proved possession of, nil for none.
func (s *Service) Enrol(ctx context.Context, actor string, claims Claims,
	shown *x509.Certificate) (*ShownEnrolment, error) {
	if claims.Serial == "" && claims.HardwareID == "" && claims.ID == "" {
		return nil, &InputError{"/serial", "a device that is to be enrolled needs a serial, a hardware_id or an id"}
	}
	if shown != nil {
		claims.Certificate = fingerprint(shown)
	}
	var out Enrolment
	err := s.do(ctx, func(c *change) (err error) {
		out, err = s.enrol(c, actor, claims, shown)
		return err
	})
	if err != nil {
		return nil, err
	}
	told := shownEnrolment(out)
	return &told, nil
}

func fingerprint(cert *x509.Certificate) string {
	sum := sha256.Sum256(cert.Raw)
	return hex.EncodeToString(sum[:])
}

func (s *Service) enrol(c *change, actor string, claims Claims, shown *x509.Certificate) (Enrolment, error) {
	snap := c.base
	rep, err := reportOf(&claims, snap.Book.Rulebook.Dict, c.now)
	if err != nil {
		return Enrolment{}, err
	}
	keys := snap.Book.Resolver.KeysOf(rep)
	if len(keys) == 0 {
		return Enrolment{}, &InputError{"/serial", evidence.ErrNobody.Error()}
	}
	id, known, err := c.claimedDevice(rep, keys)
	if err != nil {
		return Enrolment{}, err
	}
	out := Enrolment{ID: s.ids.next(c.now), At: c.now, Actor: actor, Claims: claims,
		OnRoster: snap.Roster.Has(keys)}
	old := c.device(id)
	if known && !old.outsider() {
		out.ID, out.State, out.Device, out.Why = "", Enrolled, id, "the device is known here already"
		return out, nil
	}
	held := 0
	for _, e := range all(c, enrolmentKind) {
		if e.State != Held {
			continue
		}
		if held++; e.Claims.Same(&claims) {
			return *e, nil // it waits already
		}
	}
	if held >= maxHeld {
		return Enrolment{}, &InputError{"", "too many devices wait to be enrolled; settle some first"}
	}
	rule := &snap.Book.Rulebook.Enrolment
	proven, why := snap.proves(shown, claims, c.now)
	out.Proven = proven
	switch admitted := snap.admits(rep, out.OnRoster, c.now); {
	case known && old.Retired != nil:
		out.State, out.Why, out.Device = Held, "the device was retired: "+old.Retired.Reason, id
	case known:
		out.State, out.Why, out.Device = Held, "the device is not admitted: "+old.whyOutside(), id
	case admitted && claims.Certificate != "" && !proven:
		out.State, out.Why = Held, "a person decides: a claim proves nothing, and the certificate that the connection showed does not either: "+why
	case admitted:
		out.State, out.Device, out.Why = Enrolled, id, "the rulebook admits it: "+rule.Allow.String()
	case rule.Refuse:
		out.State, out.Why = Refused, "the rulebook does not admit it: "+rule.String()
	default:
		out.State, out.Why = Held, "a person decides: "+rule.String()
	}
	return out, c.decideEnrolment(actor, &out)
}

// claimedDevice is the device that claims point at, or the id that a new one gets.
func (c *change) claimedDevice(rep *evidence.Report, keys []evidence.Key) (id string, known bool, err error) {
	for _, k := range keys {
		device, ok := c.Find(k)
		if ok && known && device != id {
			return "", false, &InputError{"/serial",
				fmt.Sprintf("the claims point at different devices: %s and %s", id, device)}
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
func (snap *Snapshot) proves(shown *x509.Certificate, c Claims, now int64) (bool, string) {
	if shown == nil {
		return false, "its fingerprint alone was told"
	}
	return snap.Book.Resolver.Proves(shown,
		certificate.Device{ID: c.ID, Serial: c.Serial, HardwareID: c.HardwareID}, now)
}

// admits reports whether the rulebook takes a device in by itself. Hardware on
// the roster is the company's unless its claims say otherwise.
func (snap *Snapshot) admits(rep *evidence.Report, onRoster bool, now int64) bool {
	rb := snap.Book.Rulebook
	if rb.Enrolment.Allow == nil {
		return false
	}
	policy := rb.Policy
	policy.Sources = nil // claims are of no source that the rulebook lists
	view := evidence.NewResolver(rb.Dict, policy).Resolve((*evidence.Record)(nil).With(rep),
		evidence.Facts{OnRoster: onRoster, Groups: snap.People.groupsOf}, now)
	if slot := rb.Dict.Slot("ownership"); onRoster && !view.Value(slot).Known() {
		owned := rb.Dict.Attributes()[slot].Type.Enum
		view.Set(slot, value.OfEnum(owned, owned.Index("company")), condition.Always)
	}
	return rb.Enrolment.Allow.Eval(view.Env(now)) == condition.True
}

// decideEnrolment writes an enrolment down and, when it is one, lets the device in.
func (c *change) decideEnrolment(actor string, e *Enrolment) error {
	rep, err := reportOf(&e.Claims, c.base.Book.Rulebook.Dict, c.now)
	if err != nil {
		return err
	}
	keys := c.base.Book.Resolver.KeysOf(rep)
	if err := c.putEnrolment(*e); err != nil {
		return err
	}
	switch e.State {
	case Held:
		c.record(actor, &event.EnrolmentHeld{Enrolment: *e})
	case Enrolled:
		c.record(actor, &event.DeviceEnrolled{Enrolment: *e})
	case Refused:
		c.record(actor, &event.EnrolmentRefused{Enrolment: *e})
	}
	if e.State == Enrolled {
		return c.admit(actor, e, keys)
	}
	for _, k := range keys { // what is known under these keys is not one of ours
		if id, ok := c.Find(k); ok {
			if d := c.device(id); !c.admission(d.Keys).same(d.Held) {
				d = d.copied()
				d.Held = c.admission(d.Keys)
				c.reappraise(d, cause{kind: event.ByEnrolment, actor: actor})
			}
		}
	}
	return nil
}

// admit lets the device of an enrolment in.
func (c *change) admit(actor string, e *Enrolment, keys []evidence.Key) error {
	old := c.device(e.Device)
	d, was := &Device{ID: e.Device, FirstSeen: c.now}, stood(c.base.Book, old)
	if old != nil {
		d = old.copied()
		if d.View = nil; d.Retired != nil {
			drop(c, retirementKind, d.ID)
			d.Retired = nil
		}
	}
	keyed := event.DeviceKeyed{Reason: "enrolment " + e.ID}
	gained := slices.DeleteFunc(slices.Clone(keys), func(k evidence.Key) bool { return k.Kind == evidence.ByID })
	if k := evidence.Folded(evidence.ByCertificate, e.Claims.Certificate); k.Text != "" {
		_, taken := c.Find(k)
		switch byPerson := e.DecidedBy != ""; {
		case taken || c.base.Fleet.ambiguous(k):
		case e.Proven:
			gained = append(gained, k)
		case byPerson:
			gained = append(gained, k, evidence.Key{Kind: evidence.Approved, Text: k.Text})
		}
	}
	for _, k := range gained {
		if owner, ok := c.Find(k); !ok || owner == d.ID {
			c.gain(d, k, &keyed)
		}
	}
	d.Held = c.admission(d.Keys)
	c.appraise(c.base, d, was, cause{kind: event.ByEnrolment, actor: actor})
	c.keep(c.base.Book, d, was)
	c.recordKeys(actor, d.ID, &keyed)
	c.awaited(actor, keys)
	return nil
}

// Admission is why a device that is known of is not admitted: its enrolment waits
// for a person, or was refused.
type Admission struct {
	Enrolment string `json:"enrolment"`
	State     string `json:"state"` // Held or Refused
}

func (a *Admission) same(b *Admission) bool { return a == b || a != nil && b != nil && *a == *b }

// outsider reports whether a device is not one of ours.
func (d *Device) outsider() bool { return d.Retired != nil || d.Held != nil }

// whyOutside says why, in a clause.
func (d *Device) whyOutside() string {
	switch {
	case d.Retired != nil:
		return "the device " + d.ID + " is retired: " + d.Retired.Reason
	case d.Held != nil && d.Held.State == Held:
		return "the device " + d.ID + " waits to be enrolled (" + d.Held.Enrolment + ")"
	case d.Held != nil:
		return "the device " + d.ID + " was refused at enrolment (" + d.Held.Enrolment + ")"
	}
	return ""
}

// enrolmentTable holds the enrolments, and finds the newest by the keys it claims.
type enrolmentTable struct {
	table[Enrolment]
	byKey versioned.Map[evidence.Key, Enrolment]
}

// index finds the newest request by the keys that it claims. None is ever dropped.
func (t *enrolmentTable) index(changes puts[Enrolment]) {
	if len(changes) == 0 {
		return
	}
	byKey := t.byKey.Edit()
	for _, e := range changes {
		for _, k := range e.Claims.Keys() {
			if old := byKey.Get(k); old == nil || old.Decided() < e.Decided() || old.Decided() == e.Decided() &&
				old.ID <= e.ID {
				byKey.Set(k, e)
			}
		}
	}
	t.byKey = byKey.Map()
}

// putEnrolment writes an enrolment down.
func (c *change) putEnrolment(e Enrolment) error {
	if c.claimed == nil {
		c.claimed = map[evidence.Key]*Enrolment{}
	}
	for _, k := range e.Claims.Keys() {
		c.claimed[k] = &e
	}
	return put(c, enrolmentKind, e.ID, &e)
}

// admission says why a device with some keys is not admitted, by the newest
// enrolment that claims one of them; nil when it is, or when none does.
func (t *enrolmentTable) admission(keys []evidence.Key) *Admission {
	if t.byKey.Len() == 0 {
		return nil
	}
	return newestOf(keys, t.byKey.Get)
}

// admission is the same as a change finds it.
func (c *change) admission(keys []evidence.Key) *Admission {
	if len(c.claimed) == 0 {
		return c.base.Enrolments.admission(keys)
	}
	return newestOf(keys, func(k evidence.Key) *Enrolment {
		if e, put := c.claimed[k]; put {
			return e
		}
		return c.base.Enrolments.byKey.Get(k)
	})
}

func newestOf(keys []evidence.Key, find func(evidence.Key) *Enrolment) *Admission {
	newest := &Enrolment{}
	for _, k := range keys {
		if e := find(k); e != nil && (e.Decided() > newest.Decided() || e.Decided() == newest.Decided() &&
			e.ID > newest.ID) {
			newest = e
		}
	}
	if newest.State != Held && newest.State != Refused {
		return nil
	}
	return &Admission{newest.ID, newest.State}
}

// Enrolments lists requests, the newest first: those of a state, or all for "".
func (s *Service) Enrolments(state string) ([]ShownEnrolment, error) {
	if state != "" && state != Held && state != Enrolled && state != Refused {
		return nil, &QueryError{Param: "state", Message: "a state is held, enrolled or refused"}
	}
	out := []ShownEnrolment{}
	for _, e := range slices.Backward(s.Snapshot().Enrolments.list()) {
		if state == "" || e.State == state {
			out = append(out, shownEnrolment(e))
		}
	}
	return out, nil
}

// SettleEnrolment decides about a device that is held: it is taken in, or not.
func (s *Service) SettleEnrolment(ctx context.Context, actor, id string, admit bool,
	reason string) (*ShownEnrolment, error) {
	if err := checkReason(&reason); err != nil {
		return nil, err
	}
	var out Enrolment
	err := s.do(ctx, func(c *change) error {
		kept := get(c, enrolmentKind, id)
		if kept == nil {
			return &NotFoundError{"enrolment", id}
		}
		if out = *kept; out.State != Held {
			return &InputError{"", fmt.Sprintf("the enrolment %s is %s already", id, out.State)}
		}
		out.State, out.DecidedAt, out.DecidedBy, out.Reason = Refused, c.now, actor, reason
		if admit {
			rep, err := reportOf(&out.Claims, c.base.Book.Rulebook.Dict, c.now)
			if err != nil {
				return err
			}
			if out.Device, _, err = c.claimedDevice(rep, c.base.Book.Resolver.KeysOf(rep)); err != nil {
				return err
			}
			out.State = Enrolled
		}
		return c.decideEnrolment(actor, &out)
	})
	if err != nil {
		return nil, err
	}
	shown := shownEnrolment(out)
	return &shown, nil
}

// Retire takes a device out of service: to decisions it is unknown from now on,
// until it is enrolled again. What is reported of it is still kept.
func (s *Service) Retire(ctx context.Context, actor, name, reason string) (*Retirement, error) {
	if err := checkReason(&reason); err != nil {
		return nil, err
	}
	r := &Retirement{By: actor, Reason: reason}
	err := s.do(ctx, func(c *change) error {
		old := c.device(c.resolve(name))
		if old == nil {
			return &NotFoundError{"device", name}
		}
		if old.Retired != nil {
			return &InputError{"", "the device is retired already: " + old.Retired.Reason}
		}
		r.Device, r.At = old.ID, c.now
		d := old.copied()
		d.Retired = r
		if err := put(c, retirementKind, d.ID, r); err != nil {
			return err
		}
		c.record(actor, r)
		c.reappraise(d, cause{kind: event.ByEnrolment, actor: actor})
		return nil
	})
	return r, err
}
