package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
)

// The states of an enrolment.
const (
	Held     = "held"     // waits for a person
	Enrolled = "enrolled" // the device is known here
	Refused  = "refused"
)

// Claims are what a device, or its person, says of it when it asks to be
// enrolled. They decide that, and are evidence of nothing else.
type Claims struct {
	Serial      string `json:"serial,omitempty"`
	HardwareID  string `json:"hardware_id,omitempty"`
	ID          string `json:"id,omitempty"`
	Platform    string `json:"platform,omitempty"`
	Form        string `json:"form,omitempty"`
	Model       string `json:"model,omitempty"`
	Vendor      string `json:"vendor,omitempty"`
	Name        string `json:"name,omitempty"`
	Ownership   string `json:"ownership,omitempty"`
	Owner       string `json:"owner,omitempty"`
	Certificate string `json:"certificate_sha256,omitempty"` // that the connection showed
}

// Enrolment is a device's request to be known here.
type Enrolment struct {
	ID        string `json:"id"`
	At        int64  `json:"at"`
	Actor     string `json:"actor"` // whose token asked
	Claims    Claims `json:"claims"`
	OnRoster  bool   `json:"on_roster"`
	State     string `json:"state"`
	Why       string `json:"why"` // why it stands so, in words
	Device    string `json:"device,omitempty"`
	DecidedAt int64  `json:"decided_at,omitempty"`
	DecidedBy string `json:"decided_by,omitempty"`
	Reason    string `json:"reason,omitempty"`
}

// ShownEnrolment is an enrolment as people see it.
type ShownEnrolment struct {
	Enrolment
	At        string `json:"at"`
	DecidedAt string `json:"decided_at,omitempty"`
}

func (e Enrolment) shown() ShownEnrolment {
	return ShownEnrolment{e, formatTime(e.At), formatTime(e.DecidedAt)}
}

// Retirement is why a device is no longer one of ours.
type Retirement struct {
	Device string `json:"device"`
	At     int64  `json:"at"`
	By     string `json:"by"`
	Reason string `json:"reason"`
}

const (
	enrolmentDocument  = "enrolment"
	retirementDocument = "retirement"
	maxHeld            = 10_000
)

// report turns claims into a report that says no more than they do.
func (c *Claims) report(dict *evidence.Dictionary, now int64) (*evidence.Report, error) {
	said := map[string]string{}
	for name, text := range map[string]string{"platform": c.Platform, "form": c.Form, "model": c.Model, "vendor": c.Vendor, "name": c.Name, "ownership": c.Ownership, "owner": c.Owner} {
		if text != "" {
			said[name] = text
		}
	}
	raw := mustJSON(map[string]any{"source": "enrolment", "identity": map[string]string{"id": c.ID, "serial": c.Serial, "hardware_id": c.HardwareID}, "evidence": said})
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
func (s *Service) Enrol(ctx context.Context, actor string, claims Claims) (*ShownEnrolment, error) {
	if claims.Serial == "" && claims.HardwareID == "" && claims.ID == "" {
		return nil, &InputError{"/serial", "a device that is to be enrolled needs a serial, a hardware_id or an id"}
	}
	var out Enrolment
	err := s.do(ctx, func(c *change) error {
		snap := c.base
		rep, err := claims.report(snap.Book.Rulebook.Dict, c.now)
		if err != nil {
			return err
		}
		id, known, err := evidence.Join(rep, c.find)
		if err != nil {
			return &InputError{"/serial", err.Error()}
		}
		out = Enrolment{ID: s.ids.next(c.now), At: c.now, Actor: actor, Claims: claims, OnRoster: snap.Roster.Has(rep.Keys())}
		old := c.device(id)
		if known && old != nil && old.Retired == nil {
			out.ID, out.State, out.Device, out.Why = "", Enrolled, id, "the device is known here already"
			return nil
		}
		all, err := documents[Enrolment](ctx, s, enrolmentDocument)
		if err != nil {
			return err
		}
		held := 0
		for _, e := range all {
			if e.State == Held {
				if held++; e.Claims.Serial == claims.Serial && e.Claims.HardwareID == claims.HardwareID && e.Claims.ID == claims.ID {
					out = e
					return nil // it waits already
				}
			}
		}
		if held >= maxHeld {
			return &InputError{"", "too many devices wait to be enrolled; settle some first"}
		}
		switch {
		case known:
			out.State, out.Why, out.Device = Held, "the device was retired: "+old.Retired.Reason, id
		case snap.admits(rep, out.OnRoster, c.now):
			out.State, out.Device, out.Why = Enrolled, id, "the rulebook admits it: "+snap.Book.Rulebook.Enrolment.Allow.String()
		case snap.Book.Rulebook.Enrolment.Refuse:
			out.State, out.Why = Refused, "the rulebook does not admit it: "+snap.Book.Rulebook.Enrolment.String()
		default:
			out.State, out.Why = Held, "a person decides: "+snap.Book.Rulebook.Enrolment.String()
		}
		return c.settleEnrolment(actor, &out)
	})
	if err != nil {
		return nil, err
	}
	shown := out.shown()
	return &shown, nil
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
	view := evidence.NewResolver(rb.Dict, policy).Resolve((*evidence.Record)(nil).With(rep), evidence.Facts{OnRoster: onRoster, Groups: snap.People.groupsOf}, now)
	if slot := rb.Dict.Slot("ownership"); onRoster && !view.Value(slot).Known() {
		owned := rb.Dict.Attributes()[slot].Type.Enum
		view.Set(slot, value.OfEnum(owned, owned.Index("company")), condition.Always)
	}
	return rb.Enrolment.Allow.Eval(view.Env(now)) == condition.True
}

// settleEnrolment writes an enrolment down and, when it is one, lets the device in.
func (c *change) settleEnrolment(actor string, e *Enrolment) error {
	if err := c.batch.PutDocument(enrolmentDocument, e.ID, e); err != nil {
		return err
	}
	kinds := map[string]ledger.Kind{Held: ledger.EnrolmentHeld, Enrolled: ledger.DeviceEnrolled, Refused: ledger.EnrolmentRefused}
	c.record(kinds[e.State], actor, cmp.Or(e.Device, e.ID), e)
	if e.State != Enrolled {
		return nil
	}
	rep, err := e.Claims.report(c.base.Book.Rulebook.Dict, c.now)
	if err != nil {
		return err
	}
	old := c.device(e.Device)
	d, was := &Device{ID: e.Device, FirstSeen: c.now}, stood(c.base.Book, old)
	if old != nil {
		d = old.again()
		d.View, d.Retired = nil, nil
		c.batch.DropDocument(retirementDocument, d.ID)
	}
	rep.Readings = nil // claims are no evidence
	c.addKeys(d, rep)
	if k := evidence.Folded(evidence.ByCertificate, e.Claims.Certificate); k.Text != "" {
		if _, taken := c.find(k); !taken && !slices.Contains(d.Keys, k) {
			c.keys[k], d.Keys = d.ID, append(d.Keys, k)
		}
	}
	c.appraise(c.base, d, was, cause{kind: byEnrolment, actor: actor})
	c.keep(c.base.Book, d, was)
	return nil
}

// Enrolments lists requests, the newest first: those of a state, or all for "".
func (s *Service) Enrolments(ctx context.Context, state string) ([]ShownEnrolment, error) {
	if state != "" && state != Held && state != Enrolled && state != Refused {
		return nil, &QueryError{Param: "state", Message: "a state is held, enrolled or refused"}
	}
	all, err := documents[Enrolment](ctx, s, enrolmentDocument)
	out := []ShownEnrolment{}
	for _, e := range slices.Backward(all) {
		if state == "" || e.State == state {
			out = append(out, e.shown())
		}
	}
	return out, err
}

// SettleEnrolment decides about a device that is held: it is taken in, or not.
func (s *Service) SettleEnrolment(ctx context.Context, actor, id string, admit bool, reason string) (*ShownEnrolment, error) {
	if err := checkReason(&reason); err != nil {
		return nil, err
	}
	var out Enrolment
	err := s.do(ctx, func(c *change) error {
		all, err := documents[Enrolment](ctx, s, enrolmentDocument)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(all, func(e Enrolment) bool { return e.ID == id })
		if i < 0 {
			return &NotFoundError{"enrolment", id}
		}
		if out = all[i]; out.State != Held {
			return &InputError{"", fmt.Sprintf("the enrolment %s is %s already", id, out.State)}
		}
		out.State, out.DecidedAt, out.DecidedBy, out.Reason = Refused, c.now, actor, reason
		if admit {
			rep, err := out.Claims.report(c.base.Book.Rulebook.Dict, c.now)
			if err != nil {
				return err
			}
			if out.Device, _, err = evidence.Join(rep, c.find); err != nil {
				return &InputError{"", err.Error()}
			}
			out.State = Enrolled
		}
		return c.settleEnrolment(actor, &out)
	})
	if err != nil {
		return nil, err
	}
	shown := out.shown()
	return &shown, nil
}

// Retire takes a device out of service: to decisions it is unknown from now on,
// and its reports are refused until it is enrolled again.
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
		d := old.again()
		d.Retired = r
		if err := c.batch.PutDocument(retirementDocument, d.ID, r); err != nil {
			return err
		}
		c.record(ledger.DeviceRetired, actor, d.ID, r)
		c.settle(d, cause{kind: byEnrolment, actor: actor})
		return nil
	})
	return r, err
}
