package kept

import "ironledger.example/core/rulebook"

// The states of a notice.
const (
	NoticeWaits   = "waiting" // for its moment, for others that go along, or to be sent again
	NoticeSending = "sending" // it may be with its recipient already
	NoticeSent    = "sent"
	NoticeHealed  = "healed" // nobody was told: it no longer held
	NoticeMuted   = "muted"  // nobody was told: the person wants no reminders
	NoticeFailed  = "failed" // nobody could be told
)

// Notice is something of which somebody is to be told, or was.
type Notice struct {
	ID     string            `json:"id"`     // made of all that tells it from others, so that it is found once
	Notice string            `json:"notice"` // of the rulebook
	On     rulebook.Occasion `json:"on"`
	What   string            `json:"what"` // what it is about: a device, a source, a person, an enrolment
	Device string            `json:"device,omitempty"`
	Person string            `json:"person,omitempty"` // whose device it is, or who used an account
	Detail string            `json:"detail,omitempty"` // a rule, a certificate, a resource
	Ref    string            `json:"ref,omitempty"`    // the waiver, the certificate's sum, the decision
	From   string            `json:"from,omitempty"`   // levels
	To     string            `json:"to,omitempty"`
	Rules  []string          `json:"rules,omitempty"` // that hold the device down

	Mail     string `json:"mail,omitempty"` // the address; "" for none, or a hook
	Hook     string `json:"hook,omitempty"`
	Language string `json:"language"`

	// Moments are in microseconds since the Unix epoch.
	At    int64 `json:"at"`              // when it happened, or was found
	Seq   int64 `json:"seq,omitempty"`   // the entry of the ledger that tells of it; 0 for what was found
	Until int64 `json:"until,omitempty"` // when what it reminds of ends
	Due   int64 `json:"due"`             // when it is sent

	State   string `json:"state"`
	Why     string `json:"why,omitempty"` // it is not sent
	Tries   int    `json:"tries,omitempty"`
	Message string `json:"message,omitempty"` // the id of the message that it is a part of
	SentAt  int64  `json:"sent_at,omitempty"`
}

// Recipient is who is told: an address, or a receiver.
func (n *Notice) Recipient() string {
	if n.Hook != "" {
		return "hook " + n.Hook
	}
	return n.Mail
}

// NoticePlace is the entry of the ledger up to which notices were made of all.
type NoticePlace struct {
	Seq int64 `json:"seq"`
}

// Mute is a person who is not reminded until a moment.
type Mute struct {
	Person string `json:"person"`
	Until  int64  `json:"until"` // in microseconds since the Unix epoch
	By     string `json:"by"`
	Reason string `json:"reason,omitempty"`
	At     int64  `json:"at"`
}
