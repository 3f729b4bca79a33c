package event

import (
	"ironledger.example/core/ledger"
)

// NoticeSent is one thing of which somebody was told, in a message that may have told of
// others too.
type NoticeSent struct {
	Message string `json:"message"` // the id of the message
	Notice  string `json:"notice"`  // of the rulebook
	On      string `json:"on"`      // the occasion
	What    string `json:"what"`    // what it is about: a device, a source, a person, an enrolment
	Detail  string `json:"detail,omitempty"`
	To      string `json:"to"` // the person, the address or the receiver
	Via     string `json:"via"`
	Subject string `json:"subject"`
	Text    string `json:"text"` // of the part about this
}

// The ways of a notice.
const (
	ViaMail = "mail"
	ViaHook = "hook"
)

// Kind is [ledger.NoticeSent].
func (*NoticeSent) Kind() ledger.Kind { return ledger.NoticeSent }

// About is what it tells of.
func (n *NoticeSent) About() string { return n.What }

// AppendBody appends the body.
func (n *NoticeSent) AppendBody(b []byte) []byte { return appendCanonical(b, n) }

// Gist tells who was told, and on which occasion.
func (n *NoticeSent) Gist() string { return n.On + ", to " + n.To + " by " + n.Via }

// NoticeMuted is somebody who is not reminded until a moment, or again.
type NoticeMuted struct {
	Person string `json:"person"`
	Until  string `json:"until,omitempty"` // "" for from now on again
	Reason string `json:"reason,omitempty"`
}

// Kind is [ledger.NoticeMuted].
func (*NoticeMuted) Kind() ledger.Kind { return ledger.NoticeMuted }

// About is the person.
func (n *NoticeMuted) About() string { return n.Person }

// AppendBody appends the body.
func (n *NoticeMuted) AppendBody(b []byte) []byte { return appendCanonical(b, n) }

// Gist tells until when.
func (n *NoticeMuted) Gist() string {
	text := "reminded again"
	if n.Until != "" {
		text = "not reminded until " + n.Until
	}
	if n.Reason != "" {
		text += ": " + n.Reason
	}
	return text
}

// AlertSeen is an alert that somebody has seen.
type AlertSeen struct {
	Alert string `json:"alert"`
	Note  string `json:"note,omitempty"`
}

// Kind is [ledger.AlertSeen].
func (*AlertSeen) Kind() ledger.Kind { return ledger.AlertSeen }

// About is the alert.
func (a *AlertSeen) About() string { return a.Alert }

// AppendBody appends the body.
func (a *AlertSeen) AppendBody(b []byte) []byte { return appendCanonical(b, a) }

// Gist tells what was said.
func (a *AlertSeen) Gist() string { return a.Note }
