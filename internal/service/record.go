package service

import (
	"encoding/json"
	"maps"
	"slices"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"

	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/core/ledger"
)

// encode returns an answer as it is recorded, in canonical JSON (RFC 8785), and
// as its enforcer gets it: an [access.Response], which is the record without the
// question and what only we need to know.
//
// Every decision passes here, and encoding/json took longer for the record than
// the gates took to decide: docs/decisions/0018.
func (a *Answer) encode() (record, response json.RawMessage) {
	d := a.Decision
	o := append(make(object, 0, 1536), '{')
	o = appendQuestion(o.name("asked"), a.Asked)
	o = o.text("at", a.At)
	if b := a.Basis; b != nil {
		o = append(o.name("basis"), '{')
		o = o.count("device", b.Device)
		o = o.number("moment", b.Moment).number("people", b.People).number("roster", b.Roster)
		o = append(o, '}')
	}
	own := len(o) + 1 // behind the comma: a response begins with what comes now
	o = o.flag("break_glass", d.BreakGlass).word("code", a.Code).word("device", d.Device)
	o = append(o.name("gates"), '[')
	for i := range d.Gates {
		o = appendRuling(o.element(), &d.Gates[i])
	}
	o = append(o, ']')
	o = o.word("id", a.ID).truth("known_device", d.Known)
	person := len(o)
	o = o.truth("known_person", a.KnownPerson)
	afterPerson := len(o)
	o = o.text("level", d.Level).text("outcome", string(d.Outcome))
	o = o.languages("reason_admin", d.ReasonAdmin).languages("reason_user", d.ReasonUser)
	if len(d.Remedies) > 0 {
		o = append(o.name("remedies"), canonicalJSON(d.Remedies)...)
	}
	book := len(o)
	o = o.number("rulebook", a.Rulebook)
	afterBook := len(o)
	o = o.word("shadow_outcome", string(d.ShadowOutcome))
	if len(d.ToAllow) > 0 {
		o = o.texts("to_allow", d.ToAllow)
	}
	o = append(o.text("valid_until", d.ValidUntil), '}')

	out := append(make([]byte, 0, len(o)), `{"decision":`...)
	out = strconv.AppendBool(out, d.Outcome == access.Allow)
	out = append(out, `,"context":{`...)
	out = append(out, o[own:person]...)
	out = append(out, o[afterPerson:book]...)
	out = append(append(out, o[afterBook:]...), '}')
	return json.RawMessage(o), out
}

// canonicalJSON is mustJSON in canonical form.
func canonicalJSON(v any) json.RawMessage {
	raw, err := ledger.Canonical(mustJSON(v))
	if err != nil {
		panic(err) // it is JSON, and no key stands twice in what we write
	}
	return raw
}

func appendQuestion(o object, e *access.Evaluation) object {
	entity := func(o object, x access.Entity) object {
		return append(append(o, '{').text("id", x.ID).text("type", x.Type), '}')
	}
	o = append(append(append(o, '{').name("action"), '{').text("name", e.Action.Name), '}')
	if c := e.Context; c != nil {
		o = append(o.name("context"), '{')
		if a := c.Auth; a != nil {
			o = append(o.name("auth"), '{').word("at", a.At)
			if len(a.Methods) > 0 {
				o = o.texts("methods", a.Methods)
			}
			if a.MFA != nil {
				o = o.truth("mfa", *a.MFA)
			}
			o = append(o, '}')
		}
		o = o.word("country", c.Country)
		if r := c.Device; r != nil {
			o = append(append(o.name("device"), '{').word("certificate_sha256", r.CertificateSHA256).word("hardware_id", r.HardwareID).word("id", r.ID).word("serial", r.Serial).word("untrusted", r.Untrusted), '}')
		}
		o = append(o.word("ip", c.IP), '}')
	}
	o = entity(o.name("resource"), e.Resource)
	return append(entity(o.name("subject"), e.Subject), '}')
}

func appendRuling(o object, g *access.GateRuling) object {
	o = append(o, '{').text("gate", g.Gate)
	if len(g.Message) > 0 {
		o = o.languages("message", g.Message)
	}
	o = o.text("need", g.Need).count("number", int64(g.Number)).flag("shadow", g.Shadow).word("title", g.Title).text("verdict", g.Verdict)
	o = append(o.name("why"), '[')
	for i := range g.Why {
		o = appendLeaf(o.element(), &g.Why[i])
	}
	return append(o, "]}"...)
}

func appendLeaf(o object, l *condition.Leaf) object {
	o = append(o, '{').word("age", l.Age).text("condition", l.Condition).text("holds", l.Holds.String()).word("observed", l.Observed).word("observed_at", l.At)
	return append(o.word("path", l.Path).text("required", l.Required).word("source", l.Source).word("unknown", l.Unknown), '}')
}

// object is a JSON object under way. Whoever adds to it keeps to the order of
// canonical JSON; flag, count and word leave out what says nothing.
type object []byte

// element makes ready for one more element of a list.
func (o object) element() object {
	if o[len(o)-1] != '[' {
		o = append(o, ',')
	}
	return o
}

// name begins a member of ours.
func (o object) name(name string) object {
	if o[len(o)-1] != '{' {
		o = append(o, ',')
	}
	return append(append(append(o, '"'), name...), `":`...)
}

// language begins a member that an author named.
func (o object) language(tag string) object {
	if o[len(o)-1] != '{' {
		o = append(o, ',')
	}
	return append(o.quote(tag), ':')
}

func (o object) quote(s string) object {
	out, _ := jsontext.AppendQuote([]byte(o), s) // what is not UTF-8 is replaced
	return out
}

func (o object) text(name, s string) object { return o.name(name).quote(s) }

func (o object) word(name, s string) object {
	if s == "" {
		return o
	}
	return o.text(name, s)
}

func (o object) truth(name string, is bool) object { return strconv.AppendBool(o.name(name), is) }

func (o object) flag(name string, is bool) object {
	if !is {
		return o
	}
	return o.truth(name, is)
}

func (o object) number(name string, n int64) object { return strconv.AppendInt(o.name(name), n, 10) }

func (o object) count(name string, n int64) object {
	if n == 0 {
		return o
	}
	return o.number(name, n)
}

func (o object) texts(name string, list []string) object {
	o = append(o.name(name), '[')
	for _, s := range list {
		o = o.element().quote(s)
	}
	return append(o, ']')
}

// languages writes a text in several languages.
func (o object) languages(name string, in map[string]string) object {
	o = append(o.name(name), '{')
	if len(in) == 1 { // as nearly always
		for tag, s := range in {
			o = o.language(tag).quote(s)
		}
		return append(o, '}')
	}
	for _, tag := range slices.Sorted(maps.Keys(in)) {
		o = o.language(tag).quote(in[tag])
	}
	return append(o, '}')
}
