// Package heard tells what a partner's security events say of our devices and people: a
// checked security event token (RFC 8417) becomes reports, and sessions that end.
package heard

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/signal"
	"ironledger.example/core/value"
)

// What a token may be.
const (
	MaxToken  = 64 << 10 // bytes
	MaxEvents = 20
	MaxAge    = 7 * value.Day // a transmitter sends again what could not be delivered
)

// The codes of what is wrong with a token (RFC 8935, section 2.4).
const (
	InvalidRequest  = "invalid_request"
	InvalidKey      = "invalid_key"
	InvalidIssuer   = "invalid_issuer"
	InvalidAudience = "invalid_audience"
)

// Error is what is wrong with a token.
type Error struct{ Code, Description string }

func (e *Error) Error() string { return e.Code + ": " + e.Description }

// Refuse is an error with a code.
func Refuse(code, format string, args ...any) *Error {
	return &Error{code, fmt.Sprintf(format, args...)}
}

// audience is one text, or several.
type audience []string

// UnmarshalJSON reads both forms (RFC 7519, section 4.1.3).
func (a *audience) UnmarshalJSON(raw []byte) error {
	var one string
	if json.Unmarshal(raw, &one) == nil {
		*a = audience{one}
		return nil
	}
	return json.Unmarshal(raw, (*[]string)(a))
}

// Token is what a token says.
type Token struct {
	Issuer   string                     `json:"iss"`
	ID       string                     `json:"jti"`
	At       float64                    `json:"iat"` // seconds
	Happened float64                    `json:"toe"` // seconds; 0 when it is not said
	Audience audience                   `json:"aud"`
	Subject  *signal.Subject            `json:"sub_id"`
	Events   map[string]json.RawMessage `json:"events"`
	Expires  *float64                   `json:"exp"`
}

// Parse reads the claims of a token whose signature was checked. The error is an [*Error].
func Parse(claims []byte) (*Token, error) {
	var t Token
	if err := json.Unmarshal(claims, &t); err != nil {
		return nil, Refuse(InvalidRequest, "the claims are not those of a security event token: %v", err)
	}
	switch {
	case t.ID == "" || len(t.ID) > 500:
		return nil, Refuse(InvalidRequest, "jti is missing or longer than 500 bytes")
	case len(t.Events) == 0 || len(t.Events) > MaxEvents:
		return nil, Refuse(InvalidRequest, "events is missing, or has more than %d", MaxEvents)
	}
	if _, unnamed := t.Events[""]; unnamed {
		return nil, Refuse(InvalidRequest, "an event has no name (RFC 8417, section 2.2: a URI)")
	}
	return &t, nil
}

// Check finds what is wrong with a token for whom we hear, at now. The error is an [*Error].
func (t *Token) Check(h *rulebook.Heard, now int64) error {
	at := micros(t.At)
	switch {
	case t.Issuer != h.Issuer:
		return Refuse(InvalidIssuer, "the issuer is %.200q", t.Issuer)
	case !slices.Contains(t.Audience, h.Audience):
		return Refuse(InvalidAudience, "it is for %.200q, and not for %s", []string(t.Audience), h.Audience)
	case t.At <= 0:
		return Refuse(InvalidRequest, "iat is missing")
	case at > now+evidence.Skew:
		return Refuse(InvalidRequest, "iat is %s in the future", value.FormatAge(at-now))
	case at < now-MaxAge:
		return Refuse(InvalidRequest, "iat is %s ago", value.FormatAge(now-at))
	case t.Expires != nil && micros(*t.Expires) <= now:
		return Refuse(InvalidRequest, "it has ended")
	}
	return nil
}

// micros is a moment in seconds as one in microseconds; milliseconds, as some write, are told by
// their size.
func micros(seconds float64) int64 {
	const centuries = 1e11 // seconds
	if seconds > centuries {
		seconds /= 1000
	}
	if seconds > centuries || seconds < 0 {
		return 1 << 62
	}
	return int64(seconds * 1e6)
}

// Key is how a partner names a device or a person; the one of the two that is not "" counts.
type Key struct{ Device, Person string }

// Effect is what an event does.
type Effect struct {
	Event  string           // its short name
	Report *evidence.Report // what it says of a device; nil for nothing
	Revoke *Key             // whose sessions end; nil for nobody's
	Reason string           // as the partner says, for administrators
	// Nothing is why it does nothing.
	Nothing string
}

// Verification and its like are events of the Shared Signals Framework that say nothing of anybody
// (SSF 1.0, sections 8.1.4 and 8.1.5).
const framework = "https://schemas.openid.net/secevent/ssf/event-type/"

// payload is what events may say (CAEP 1.0, sections 2 and 3).
type payload struct {
	At        float64         `json:"event_timestamp"`
	Subject   *signal.Subject `json:"subject"` // where the token has none
	Principal string          `json:"principal"`
	Status    string          `json:"current_status"`
	Level     string          `json:"current_level"`
	Reason    json.RawMessage `json:"reason_admin"`
}

// Effects are what the events of a token do, in the order of their names. The error is an [*Error].
func (t *Token) Effects(h *rulebook.Heard, dict *evidence.Dictionary, now int64) ([]Effect, error) {
	var out []Effect
	for _, uri := range slices.Sorted(maps.Keys(t.Events)) {
		e := Effect{Event: signal.NameOf(uri)}
		if e.Event == "" {
			e.Event, e.Nothing = event(uri), "nothing is made of such an event here"
			if strings.HasPrefix(uri, framework) {
				e.Nothing = "it is about the stream"
			}
			out = append(out, e)
			continue
		}
		var p payload
		if err := json.Unmarshal(t.Events[uri], &p); err != nil {
			return nil, Refuse(InvalidRequest, "the event %s cannot be read: %v", e.Event, err)
		}
		if p.Subject == nil {
			p.Subject = t.Subject
		}
		if p.Subject == nil {
			return nil, Refuse(InvalidRequest, "the event %s has no subject", e.Event)
		}
		e.Reason = reason(p.Reason)
		if err := t.effect(&e, &p, h, dict, now); err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// event is a type that nobody knows, as a text that is short, and none that is empty.
func event(uri string) string {
	name := cmp.Or(signal.Short(strings.TrimRight(uri, "/")), uri)
	return strings.ToValidUTF8(name[:min(len(name), 100)], "")
}

// reason is the text for administrators, in English or in what there is.
func reason(raw json.RawMessage) string {
	var text string
	if json.Unmarshal(raw, &text) == nil {
		return text
	}
	var by map[string]string
	if json.Unmarshal(raw, &by) != nil || len(by) == 0 {
		return ""
	}
	if en, is := by["en"]; is {
		return en
	}
	return by[slices.Sorted(maps.Keys(by))[0]]
}

// effect is what one event does.
func (t *Token) effect(e *Effect, p *payload, h *rulebook.Heard, dict *evidence.Dictionary, now int64) error {
	k := keyOf(p.Subject)
	if e.Event == rulebook.SessionSignal {
		if k == (Key{}) {
			e.Nothing = "it names neither a device nor a person"
			return nil
		}
		e.Revoke = &k
		return nil
	}
	said := map[string]string{rulebook.ComplianceSignal: p.Status, rulebook.RiskSignal: p.Level}[e.Event]
	i := slices.IndexFunc(h.Map, func(m rulebook.HeardEvent) bool { return m.Event == e.Event })
	switch {
	case i < 0:
		e.Nothing = "the rulebook makes nothing of it"
		return nil
	case p.Principal != "" && !strings.EqualFold(p.Principal, "device"):
		e.Nothing = "it is about another than a device"
		return nil
	case k.Device == "" && p.Subject.Format == "email":
		e.Nothing = "it names no device"
		return nil
	}
	m := h.Map[i]
	v, known := m.Words[said]
	if !known {
		return Refuse(InvalidRequest, "%.100q is not a word of %s; there are %s", said, e.Event,
			strings.Join(rulebook.HeardSignals[e.Event], ", "))
	}
	if k.Device == "" { // a subject that is one thing, of which the event says that it is a device
		k.Device = k.Person
	}
	if k.Device == "" {
		return Refuse(InvalidRequest, "the subject of %s names no device that we could know", e.Event)
	}
	raw, err := json.Marshal(report(h, m, v, k.Device, t.moment(p)))
	if err != nil {
		return Refuse(InvalidRequest, "%v", err)
	}
	if e.Report, err = dict.ParseReport(raw, now); err != nil {
		return Refuse(InvalidRequest, "the event %s: %v", e.Event, err)
	}
	return nil
}

// moment is when an event happened, as it or its token says.
func (t *Token) moment(p *payload) int64 {
	for _, at := range []float64{p.At, t.Happened} {
		if at > 0 {
			return micros(at)
		}
	}
	return micros(t.At)
}

// report is what an event says of a device, as a report.
func report(h *rulebook.Heard, m rulebook.HeardEvent, v value.Value, device string, at int64) map[string]any {
	out := map[string]any{"source": h.Source, "observed_at": time.UnixMicro(at).UTC().Format(time.RFC3339Nano)}
	if h.Device == rulebook.HeardNames[0] {
		out[h.Device] = device
	} else {
		out["identity"] = map[string]string{h.Device: device}
	}
	if m.Attribute == rulebook.Vouched {
		out["vouch"] = v.IsTrue()
		return out
	}
	out["evidence"] = map[string]json.RawMessage{m.Attribute: v.AppendJSON(nil)}
	return out
}

// keyOf is whom a subject names (RFC 9493; SSF 1.0, section 3.2). A subject that is one thing
// is a person, unless the event makes it a device.
func keyOf(s *signal.Subject) (k Key) {
	if s.Format == "complex" {
		return Key{name(s.Device), name(s.User)}
	}
	return Key{Person: name(s)}
}

// name is what a subject is called.
func name(s *signal.Subject) string {
	if s == nil {
		return ""
	}
	switch s.Format {
	case "opaque":
		return s.ID
	case "email":
		return s.Email
	case "iss_sub":
		return s.Subject
	}
	return ""
}

// ErrReplayed says that a token was taken before.
var ErrReplayed = errors.New("the token was taken before")
