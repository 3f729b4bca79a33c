package event

import (
	"encoding/json"
	"fmt"
	"strconv"

	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
)

// DecisionMade is a decision as it is recorded and shown.
type DecisionMade struct {
	Asked *access.Evaluation `json:"asked"`
	At    string             `json:"at"`
	// Basis is what a recorded decision rests on; nil in a trial.
	Basis *Basis `json:"basis,omitempty"`
	Code  string `json:"code,omitempty"` // what a person reads to the help desk
	ID    string `json:"id,omitempty"`
	// KnownPerson tells whether the directory knows the person.
	KnownPerson bool  `json:"known_person"`
	Rulebook    int64 `json:"rulebook"` // the version that decided

	*access.Decision

	response json.RawMessage // as Record made it; nil before
}

// Response is what an enforcer gets of a recorded decision: an [access.Response] in
// JSON.
func (d *DecisionMade) Response() json.RawMessage { return d.response }

// Basis says which states a decision was made from, so that it can be made
// again. The rulebook's version stands beside it.
type Basis struct {
	Device int64 `json:"device,omitempty"` // the revision of the device; 0: none was known
	Moment int64 `json:"moment"`           // in microseconds since the Unix epoch
	People int64 `json:"people"`           // the revision of the directory
	Roster int64 `json:"roster"`           // the revision of the roster
}

// Kind is [ledger.DecisionMade].
func (*DecisionMade) Kind() ledger.Kind { return ledger.DecisionMade }

// About is the id of the decision.
func (d *DecisionMade) About() string { return d.ID }

// AppendBody appends the body.
func (d *DecisionMade) AppendBody(b []byte) []byte {
	o, _ := d.append(b)
	return o
}

// Gist tells the outcome, who asked, and for what.
func (d *DecisionMade) Gist() string {
	if d.Decision == nil || d.Asked == nil {
		return ""
	}
	return fmt.Sprintf("%s: %s, %s %s", d.Outcome, d.Asked.Subject.ID, d.Asked.Action.Name, d.Asked.Resource.ID)
}

// Record makes the entry of a decision, and with it what its enforcer gets: the body
// without the question and without what only we need to know. A decision is recorded
// whole or not at all: the entry may be larger than the ledger takes.
func (d *DecisionMade) Record(at int64, actor string) ledger.Entry {
	body, of := d.append(make([]byte, 0, 1536))
	out := append(make([]byte, 0, len(body)), `{"decision":`...)
	out = strconv.AppendBool(out, d.Outcome == access.Allow)
	out = append(out, `,"context":{`...)
	out = append(out, body[of.own:of.person]...)
	out = append(out, body[of.afterPerson:of.book]...)
	d.response = append(append(out, body[of.afterBook:]...), '}')
	return entry(at, actor, d, body)
}

// marks are places in the body of a decision: where the enforcer's part of it
// begins, and around what is left out of that.
type marks struct{ own, person, afterPerson, book, afterBook int }

func (d *DecisionMade) append(b []byte) (o value.Object, of marks) {
	o = value.Object(b).Open()
	o = appendQuestion(o.Name("asked"), d.Asked)
	o = o.Text("at", d.At)
	if x := d.Basis; x != nil {
		o = o.Name("basis").Open().Count("device", x.Device).Number("moment", x.Moment)
		o = o.Number("people", x.People).Number("roster", x.Roster).Close()
	}
	of.own = len(o) + 1 // behind the comma: an answer begins with what comes now
	o = o.Flag("break_glass", d.BreakGlass).Word("code", d.Code).Word("device", d.Device).List("gates")
	for i := range d.Gates {
		o = appendRuling(o.Element(), &d.Gates[i])
	}
	o = o.EndList()
	if d.Grant != nil {
		o = appendCanonical(o.Name("grant"), d.Grant)
	}
	o = o.Word("id", d.ID).Truth("known_device", d.Known)
	of.person = len(o)
	o = o.Truth("known_person", d.KnownPerson)
	of.afterPerson = len(o)
	o = o.Text("level", d.Level).Text("outcome", string(d.Outcome))
	o = o.Languages("reason_admin", d.ReasonAdmin).Languages("reason_user", d.ReasonUser)
	if len(d.Remedies) > 0 {
		o = appendCanonical(o.Name("remedies"), d.Remedies)
	}
	of.book = len(o)
	o = o.Number("rulebook", d.Rulebook)
	of.afterBook = len(o)
	o = o.Word("shadow_outcome", string(d.ShadowOutcome))
	if len(d.ToAllow) > 0 {
		o = o.Texts("to_allow", d.ToAllow)
	}
	return o.Text("valid_until", d.ValidUntil).Close(), of
}

func appendQuestion(o value.Object, e *access.Evaluation) value.Object {
	entity := func(o value.Object, x access.Entity) value.Object {
		return o.Open().Text("id", x.ID).Text("type", x.Type).Close()
	}
	o = o.Open().Name("action").Open().Text("name", e.Action.Name).Close()
	if c := e.Context; c != nil {
		o = o.Name("context").Open()
		if a := c.Auth; a != nil {
			o = o.Name("auth").Open().Word("at", a.At)
			if len(a.Methods) > 0 {
				o = o.Texts("methods", a.Methods)
			}
			if a.MFA != nil {
				o = o.Truth("mfa", *a.MFA)
			}
			o = o.Close()
		}
		o = o.Word("country", c.Country)
		if r := c.Device; r != nil {
			o = o.Name("device").Open().Word("certificate_sha256", r.CertificateSHA256).Word("hardware_id",
				r.HardwareID)
			o = o.Word("id", r.ID).Word("serial", r.Serial).Word("untrusted", r.Untrusted).Close()
		}
		o = o.Word("ip", c.IP)
		if n := c.Network; n != nil {
			o = o.Name("network").Open().Word("address", n.Address).Word("at", n.At).Word("called", n.Called)
			o = o.Flag("claimed", n.Claimed).Word("port", n.Port).Close()
		}
		o = o.Word("proof", c.Proof).Close()
	}
	o = entity(o.Name("resource"), e.Resource)
	return entity(o.Name("subject"), e.Subject).Close()
}

func appendRuling(o value.Object, g *access.GateRuling) value.Object {
	o = o.Open().Text("gate", g.Gate)
	if len(g.Message) > 0 {
		o = o.Languages("message", g.Message)
	}
	o = o.Text("need", g.Need).Count("number", int64(g.Number)).Flag("shadow", g.Shadow)
	o = o.Word("title", g.Title).Text("verdict", g.Verdict).List("why")
	for i := range g.Why {
		o = appendLeaf(o.Element(), &g.Why[i])
	}
	return o.EndList().Close()
}

func appendLeaf(o value.Object, l *condition.Leaf) value.Object {
	o = o.Open().Word("age", l.Age).Text("condition", l.Condition).Text("holds", l.Holds.String())
	o = o.Word("observed", l.Observed).Word("observed_at", l.At).Word("path", l.Path).Text("required", l.Required)
	return o.Word("source", l.Source).Word("unknown", l.Unknown).Close()
}
