package event

import (
	"fmt"

	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
)

// ByAnswer is the cause of a session that ended as the same question got another
// answer. The other causes are those of standings: standing itself, or what changed
// for the whole fleet.
const (
	ByAnswer   = "answer"
	ByStanding = "standing"
	ByPartner  = "partner" // who was told so by a source's security event
)

// SessionEnded is an allow that could be relied on and no longer can.
type SessionEnded struct {
	Decision string `json:"decision"`
	Person   string `json:"person"`
	Device   string `json:"device,omitempty"`
	Resource string `json:"resource"`
	Enforcer string `json:"enforcer"`
	Level    string `json:"level,omitempty"` // of the device, now
	Outcome  string `json:"outcome"`         // what the same question is answered now
	Cause    string `json:"cause"`
	By       string `json:"by,omitempty"` // of an earlier allow, the one that took its place
}

// Kind is [ledger.SessionEnded].
func (*SessionEnded) Kind() ledger.Kind { return ledger.SessionEnded }

// About is the decision.
func (s *SessionEnded) About() string { return s.Decision }

// AppendBody appends the body: a change for the whole fleet ends many at once.
func (s *SessionEnded) AppendBody(b []byte) []byte {
	o := value.Object(b).Open().Word("by", s.By).Text("cause", s.Cause).Text("decision",
		s.Decision).Word("device", s.Device)
	o = o.Text("enforcer", s.Enforcer).Word("level", s.Level).Text("outcome", s.Outcome)
	return o.Text("person", s.Person).Text("resource", s.Resource).Close()
}

// Gist tells whose access it was, to what, and why it ended.
func (s *SessionEnded) Gist() string { return fmt.Sprintf("%s, %s: %s", s.Person, s.Resource, s.Cause) }
