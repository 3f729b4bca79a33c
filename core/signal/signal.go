// Package signal tells what happened as security events (RFC 8417): those of the OpenID
// Continuous Access Evaluation Profile 1.0, and one of our own that carries the level.
//
// An entry of the ledger becomes the events that one receiver is given of it. What a
// receiver hears depends on its place in the rulebook alone: which events, in which form
// it is told of devices and people (RFC 9493), and from which level a device counts as
// compliant for who knows two states.
package signal

import (
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
)

// Where the types of events stand.
const (
	caep = "https://schemas.openid.net/secevent/caep/event-type/"
	ours = "https://schemas.ironledger.example/secevent/event-type/"

	// Verification is about the stream itself (SSF 1.0, section 8.1.4.1).
	Verification = "https://schemas.openid.net/secevent/ssf/event-type/verification"
	// Namespace says what the levels of an assurance-level-change are.
	Namespace = "https://schemas.ironledger.example/ladder"
)

// TypeOf is the URI of an event that a rulebook calls by its short name.
func TypeOf(name string) string {
	if name == rulebook.StandingSignal {
		return ours + name
	}
	return caep + name
}

// NameOf is the short name of an event type; "" for one that is not told here.
func NameOf(uri string) string {
	for _, name := range rulebook.SignalNames {
		if TypeOf(name) == uri {
			return name
		}
	}
	return ""
}

// Short is the last part of an event type, by which people call it.
func Short(uri string) string { return uri[strings.LastIndexByte(uri, '/')+1:] }

// Subject names a device, a person or a session (RFC 9493), or several of them at once
// (SSF 1.0, section 3.2).
type Subject struct {
	Format  string   `json:"format"`
	Email   string   `json:"email,omitempty"`
	ID      string   `json:"id,omitempty"`
	Issuer  string   `json:"iss,omitempty"`
	Subject string   `json:"sub,omitempty"`
	Device  *Subject `json:"device,omitempty"`
	User    *Subject `json:"user,omitempty"`
	Session *Subject `json:"session,omitempty"`
}

// Opaque is an id that means something to us alone (RFC 9493, section 3.2.4).
func Opaque(id string) *Subject { return &Subject{Format: "opaque", ID: id} }

// Directory knows whose devices are.
type Directory interface {
	// Owner is the id of the person whose device it is; "" when nobody's.
	Owner(device string) string
	// Serial is the serial of a device; "" when it is not known.
	Serial(device string) string
	// Level is the word for the level that a device stands at now; "" when it is not known.
	Level(device string) string
	// View is what is known of a device now; nil when nothing is.
	View(device string) *evidence.View
	// Reach are the resources that the person whose device it is may come to reach from
	// it while it stands at a level, sorted.
	Reach(device, level string) []string
}

// Signal is an event for a receiver.
type Signal struct {
	Type    string // a URI
	Payload any
	Subject *Subject
	Device  string // the id of the device that it is about; "" for none
	Person  string
	At      int64 // in microseconds since the Unix epoch
}

// Given is what a receiver is given.
type Given struct {
	Rulebook      *rulebook.Rulebook
	Receiver      string   // its id
	Events        []string // short names
	Device        string   // one of rulebook.DeviceForms
	Person        string   // one of rulebook.PersonForms
	CompliantFrom rulebook.Level
	Issuer        string // of the stream, for the form iss_sub
	Directory     Directory

	When  *condition.Program // on the change; nil for whatever happens
	Reach bool               // whether it is told what was lost and gained
	Now   int64              // in microseconds since the Unix epoch, for When
}

// common is what every event of CAEP may say (CAEP 1.0, section 2).
type common struct {
	At          int64             `json:"event_timestamp"` // seconds
	By          string            `json:"initiating_entity,omitempty"`
	ReasonAdmin map[string]string `json:"reason_admin,omitempty"`
	ReasonUser  map[string]string `json:"reason_user,omitempty"`
}

// Compliance is a device-compliance-change (CAEP 1.0, section 3.5).
type Compliance struct {
	common
	Previous string `json:"previous_status"`
	Current  string `json:"current_status"`
}

// Risk is a risk-level-change (CAEP 1.0, section 3.8).
type Risk struct {
	common
	Reason    string `json:"risk_reason,omitempty"`
	Principal string `json:"principal"`
	Previous  string `json:"previous_level,omitempty"`
	Current   string `json:"current_level"`
}

// Assurance is an assurance-level-change (CAEP 1.0, section 3.4).
type Assurance struct {
	common
	Namespace string `json:"namespace"`
	Previous  string `json:"previous_level,omitempty"`
	Current   string `json:"current_level"`
	Direction string `json:"change_direction,omitempty"`
}

// Session is a session-revoked (CAEP 1.0, section 3.1).
type Session struct{ common }

// Standing is our own standing-change.
type Standing struct {
	common
	Previous string   `json:"previous_level,omitempty"`
	Current  string   `json:"current_level"`
	Ladder   []string `json:"ladder"`  // lowest first
	Binding  []string `json:"binding"` // the rules that hold the device down
	Cause    string   `json:"cause"`

	// The resources that it can be used for no longer, and again.
	Lost   []string `json:"lost,omitempty"`
	Gained []string `json:"gained,omitempty"`
}

// Notice is what a web hook is told that the rulebook's notices name.
type Notice struct {
	At      int64  `json:"event_timestamp"` // seconds
	Notice  string `json:"notice"`
	On      string `json:"on"`
	What    string `json:"what"`
	Detail  string `json:"detail,omitempty"`
	Subject string `json:"subject"`
	Text    string `json:"text"`
}

// NoticeType is the type of that.
const NoticeType = ours + "notice"

// Of makes the events of something that happened at a moment, in microseconds since the
// Unix epoch. Of what no receiver hears there are none.
func (g *Given) Of(e event.Event, at int64) []Signal { return g.wanted(e, g.all(e, at)) }

func (g *Given) all(e event.Event, at int64) []Signal {
	switch e := e.(type) {
	case *event.StandingChanged:
		return g.standing(e, at)
	case *event.SessionEnded:
		if !slices.Contains(g.Events, rulebook.SessionSignal) || e.Decision == "" {
			return nil
		}
		s := Session{common{At: at / 1_000_000, By: entity(e.Cause)}}
		s.ReasonUser = ended
		if e.Person == "" { // the entry was redacted
			return []Signal{{TypeOf(rulebook.SessionSignal), s, g.subject("", "", e.Decision), "", "", at}}
		}
		s.ReasonAdmin = map[string]string{"en": fmt.Sprintf("The allow of %s on %s ended (%s): it would now be %s.",
			e.Person, e.Resource, e.Cause, e.Outcome)}
		return []Signal{{TypeOf(rulebook.SessionSignal), s, g.subject(e.Device, e.Person, e.Decision), e.Device,
			e.Person, at}}
	case *event.StatementRevoked:
		if !slices.Contains(g.Events, rulebook.SessionSignal) {
			return nil
		}
		s := Session{common{At: at / 1_000_000, By: entity(e.Cause)}}
		if s.ReasonUser = ended; e.Why != "" {
			s.ReasonAdmin = map[string]string{"en": fmt.Sprintf("The statement %s for %s counts no more: %s.",
				e.Statement, e.Audience, e.Why)}
		}
		person := g.Directory.Owner(e.Device)
		return []Signal{{TypeOf(rulebook.SessionSignal), s, g.subject(e.Device, "", ""), e.Device, person, at}}
	case *event.NoticeSent:
		if e.Via != event.ViaHook || e.To != g.Receiver || g.Receiver == "" {
			return nil
		}
		n := Notice{at / 1_000_000, e.Notice, e.On, e.What, e.Detail, e.Subject, e.Text}
		if rulebook.Occasion(e.On).OfDevice() {
			return []Signal{{NoticeType, n, g.subject(e.What, "", ""), e.What, "", at}}
		}
		return []Signal{{NoticeType, n, Opaque(e.What), "", "", at}}
	}
	return nil
}

// ended is what a person reads whose session ended without a rule to mend.
var ended = map[string]string{
	"en": "What let you in no longer holds. Open it again to see why.",
	"de": "Was Sie eingelassen hat, gilt nicht mehr. Öffnen Sie es erneut, um zu sehen, warum.",
}

// standing makes the events of a standing that changed.
func (g *Given) standing(e *event.StandingChanged, at int64) []Signal {
	rb := g.Rulebook
	from, to := rankOf(rb, e.From), rankOf(rb, e.To)
	person := g.Directory.Owner(e.Device)
	subject := g.subject(e.Device, person, "")
	said := common{At: at / 1_000_000, By: entity(e.Cause)}
	said.ReasonAdmin, said.ReasonUser = g.reasons(e)
	var out []Signal
	tell := func(name string, payload any) {
		if slices.Contains(g.Events, name) {
			out = append(out, Signal{TypeOf(name), payload, subject, e.Device, person, at})
		}
	}
	if was, is := g.compliant(from, e.From), g.compliant(to, e.To); was != is {
		tell(rulebook.ComplianceSignal, Compliance{said, status(was), status(is)})
	}
	if was, is := g.risk(from, e.From), g.risk(to, e.To); was != is {
		r := Risk{common: said, Principal: "DEVICE", Previous: was, Current: is}
		if len(e.Binding) > 0 {
			r.Reason = strings.Join(e.Binding, ", ")
		}
		tell(rulebook.RiskSignal, r)
	}
	if e.From != e.To {
		a := Assurance{common: said, Namespace: Namespace, Previous: e.From, Current: e.To}
		if e.From != "" {
			a.Direction = map[bool]string{true: "increase", false: "decrease"}[to > from]
		}
		tell(rulebook.AssuranceSignal, a)
	}
	tell(rulebook.StandingSignal, Standing{said, e.From, e.To, rb.Ladder, append([]string{}, e.Binding...),
		e.Cause, nil, nil})
	return out
}

// compliant reports whether a device at a level counts as compliant. A device that was
// not seen before did not.
func (g *Given) compliant(l rulebook.Level, level string) bool {
	return level != "" && l >= g.CompliantFrom
}

func status(compliant bool) string {
	if compliant {
		return "compliant"
	}
	return "not-compliant"
}

// risk is the risk of a device at a level; "" for one that was not seen before.
func (g *Given) risk(l rulebook.Level, level string) string {
	switch s := &g.Rulebook.Signals; {
	case level == "":
		return ""
	case l >= s.LowFrom:
		return "LOW"
	case l >= s.MediumFrom:
		return "MEDIUM"
	}
	return "HIGH"
}

// entity is who began what led to a change (CAEP 1.0, section 2).
func entity(cause string) string {
	switch cause {
	case event.ByTime, event.ByRulebook:
		return "policy"
	case event.ByPeople, event.ByRoster, event.ByWaiver, event.ByVouch, event.BySettling, event.ByEnrolment,
		event.ByOrder, event.ByTags:
		return "admin"
	}
	return "system"
}

// reasons says why a device stands as it does: for administrators the rules that hold
// it down, for its person what to do about the first of these, by language.
func (g *Given) reasons(e *event.StandingChanged) (admin, user map[string]string) {
	if len(e.Binding) == 0 {
		return map[string]string{"en": "Nothing holds the device down."}, nil
	}
	var parts []string
	for _, key := range e.Binding {
		part := key
		if i := slices.IndexFunc(e.Changed, func(c event.VerdictChange) bool {
			return c.Rule == key &&
				c.Why != ""
		}); i >= 0 {
			part += " (" + e.Changed[i].Why + ")"
		}
		parts = append(parts, part)
	}
	admin = map[string]string{"en": "Held at " + e.To + " by " + strings.Join(parts, ", ") + "."}
	for _, key := range e.Binding {
		if remedies := posture.RemedyOf(g.Rulebook, key); len(remedies) > 0 {
			user = map[string]string{}
			for language, remedy := range remedies {
				user[language] = strings.TrimSpace(remedy.Title + ". " + remedy.Steps)
			}
			return admin, user
		}
	}
	return admin, nil
}

// subject names what an event is about, in the forms that the receiver is given.
func (g *Given) subject(device, person, session string) *Subject {
	out := &Subject{Format: "complex"}
	if device != "" {
		out.Device = g.device(device)
	}
	if person != "" {
		out.User = g.person(person)
	}
	if session != "" {
		out.Session = Opaque(session)
	}
	if out.User == nil && out.Session == nil && out.Device != nil {
		return out.Device
	}
	return out
}

func (g *Given) device(id string) *Subject {
	switch g.Device {
	case "serial":
		if serial := g.Directory.Serial(id); serial != "" {
			return Opaque(serial)
		}
	case "iss_sub":
		return &Subject{Format: "iss_sub", Issuer: g.Issuer, Subject: id}
	}
	return Opaque(id)
}

func (g *Given) person(id string) *Subject {
	switch g.Person {
	case "email":
		if strings.Contains(id, "@") {
			return &Subject{Format: "email", Email: id}
		}
		return Opaque(id)
	case "opaque":
		return Opaque(id)
	case "iss_sub":
		return &Subject{Format: "iss_sub", Issuer: g.Issuer, Subject: id}
	}
	return nil
}
