// Package ledger is the append-only record of what the service decided and
// what was done to it.
package ledger

import "encoding/json"

// Kind says what an entry records.
type Kind string

// The kinds of entry.
const (
	StandingChanged   Kind = "standing.changed"
	DecisionMade      Kind = "decision.made"
	RulebookPublished Kind = "rulebook.published"
	PeopleImported    Kind = "person.imported"
	TokenCreated      Kind = "token.created"
	TokenRevoked      Kind = "token.revoked"
	EvidenceRefused   Kind = "evidence.refused"
	DeviceSettled     Kind = "device.settled" // a report that was kept aside was joined to a device
	ReportDiscarded   Kind = "device.report-discarded"
	WaiverGranted     Kind = "waiver.granted"
	WaiverRevoked     Kind = "waiver.revoked"
	VouchGiven        Kind = "vouch.given"
	VouchRevoked      Kind = "vouch.revoked"
	RosterImported    Kind = "roster.imported"
	RosterRemoved     Kind = "roster.removed"
	DeviceEnrolled    Kind = "device.enrolled"
	EnrolmentHeld     Kind = "device.enrolment-held"
	EnrolmentRefused  Kind = "device.enrolment-refused"
	DeviceRetired     Kind = "device.retired"
	SessionEnded      Kind = "session.ended" // an allow that could be relied on no longer can
)

// Clock is the actor of what happened because time passed.
const Clock = "clock"

// Entry is one line of the ledger. Seq is given when it is written.
type Entry struct {
	Seq   int64           `json:"seq"`
	At    int64           `json:"at"` // microseconds since the Unix epoch
	Kind  Kind            `json:"kind"`
	Actor string          `json:"actor"` // who did it: a token's name, a source, the clock
	About string          `json:"about"` // the id of what it is about
	Body  json.RawMessage `json:"body"`
}
