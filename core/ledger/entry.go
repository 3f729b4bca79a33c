// Package ledger is the append-only record of what the service decided and
// what was done to it, in a form that shows every later change to it.
//
// An [Entry] has one canonical form in JSON (RFC 8785). Its hash is a leaf of a
// Merkle tree (RFC 6962, section 2.1), whose root and size are signed as a
// [Head] in the form of a checkpoint (C2SP tlog-checkpoint). Whoever keeps a
// head can demand a proof that a later one only added to it. [Verifier] checks a
// whole ledger in one pass, in memory that does not grow with its length, and
// names the entry where something is wrong.
//
// The package does no I/O: entries, hashes and keys come from outside.
package ledger

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"strconv"
	"time"

	"github.com/go-json-experiment/json/jsontext"
	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/value"
)

// Kind says what an entry records.
type Kind string

// The kinds of entry.
const (
	StandingChanged    Kind = "standing.changed"
	DecisionMade       Kind = "decision.made"
	RulebookPublished  Kind = "rulebook.published"
	PeopleImported     Kind = "person.imported"
	PersonRemoved      Kind = "person.removed"
	TokenCreated       Kind = "token.created"
	TokenRevoked       Kind = "token.revoked"
	TokenBounded       Kind = "token.bounded"
	EvidenceRefused    Kind = "evidence.refused"
	EvidenceGone       Kind = "evidence.gone"
	DeviceKeyed        Kind = "device.keyed"   // keys that a device gained or lost
	DeviceSettled      Kind = "device.settled" // a report that was kept aside was joined to a device
	ReportDiscarded    Kind = "device.report-discarded"
	WaiverGranted      Kind = "waiver.granted"
	WaiverApproved     Kind = "waiver.approved"
	WaiverRevoked      Kind = "waiver.revoked"
	VouchGiven         Kind = "vouch.given"
	VouchRevoked       Kind = "vouch.revoked"
	RosterImported     Kind = "roster.imported"
	RosterRemoved      Kind = "roster.removed"
	DeviceEnrolled     Kind = "device.enrolled"
	EnrolmentHeld      Kind = "device.enrolment-held"
	EnrolmentRefused   Kind = "device.enrolment-refused"
	DeviceRetired      Kind = "device.retired"
	DeviceQuarantined  Kind = "device.quarantined" // somebody ordered that it stands at the lowest level
	DeviceTagged       Kind = "device.tagged"      // somebody put words on it, took some off, or noted something
	DevicePurged       Kind = "device.purged"      // what was known of it was removed
	DeviceReleased     Kind = "device.released"    // somebody lifted that
	StreamChanged      Kind = "stream.changed"     // what a receiver is told, or how, changed
	FeedChanged        Kind = "feed.changed"       // where a partner's inventory is fetched, or how that goes, changed
	SignalReceived     Kind = "signal.received"    // a partner's security event did something
	AccessPointChanged Kind = "access-point.changed"
	StayChanged        Kind = "stay.changed"       // an access point was told that something else is granted
	AuthorityChanged   Kind = "authority.changed"  // our own certificate authority became another
	DeviceInvited      Kind = "device.invited"     // a code was made by which a device can ask for a certificate
	CertificateIssued  Kind = "certificate.issued" // by our own authority
	CertificateRefused Kind = "certificate.refused"
	CertificateRevoked Kind = "certificate.revoked"
	CertificateShared  Kind = "certificate.shared"    // it was used in two places at once
	StatementMade      Kind = "statement.made"        // of how a device stands, for others to check
	StatementRevoked   Kind = "statement.revoked"     // what it says is so no more, before it ended
	NoticeSent         Kind = "notice.sent"           // somebody was told of something
	NoticeMuted        Kind = "notice.muted"          // somebody is reminded no more, or again
	AlertSeen          Kind = "alert.seen"            // somebody saw what needs a person
	SessionEnded       Kind = "session.ended"         // an allow that could be relied on no longer can
	SessionsEnded      Kind = "session.ended-by-hand" // somebody ended sessions
	Redacted           Kind = "ledger.redacted"       // the body of an earlier entry was removed
	KeyReplaced        Kind = "ledger.key-replaced"   // heads are signed with another key from here on
	ClockReset         Kind = "ledger.clock-reset"    // time may go back here, once
	StateSealed        Kind = "ledger.state-sealed"   // heads tell of the state from here on
	Marked             Kind = "ledger.marked"         // a moment that no later entry is before
	ReportMade         Kind = "report.made"           // a report on controls was made, and kept
	Archived           Kind = "ledger.archived"       // the bodies of earlier entries are kept in a file
)

// Kinds lists every kind of entry.
var Kinds = []Kind{StandingChanged, DecisionMade, RulebookPublished, PeopleImported, PersonRemoved,
	TokenCreated, TokenRevoked, TokenBounded, EvidenceRefused, EvidenceGone, DeviceKeyed, DeviceSettled,
	ReportDiscarded, WaiverGranted, WaiverApproved, WaiverRevoked, VouchGiven, VouchRevoked, RosterImported,
	RosterRemoved,
	DeviceEnrolled, EnrolmentHeld,
	EnrolmentRefused, DeviceRetired, DeviceQuarantined, DevicePurged, DeviceReleased, DeviceTagged,
	StreamChanged, FeedChanged, SignalReceived, AccessPointChanged, StayChanged, AuthorityChanged, DeviceInvited,
	CertificateIssued,
	CertificateRefused, CertificateRevoked, CertificateShared, StatementMade, StatementRevoked, NoticeSent,
	NoticeMuted, AlertSeen,
	SessionEnded, SessionsEnded, Redacted, KeyReplaced, ClockReset, StateSealed, Marked, ReportMade,
	Archived}

// The actors that are no token: no token may have such a name.
const (
	Clock   = "clock"   // what happened because time passed
	Service = "service" // what the service did by itself, as at its first start
	Signal  = "signal"  // and the source: what a security event of a partner brought
	Device  = "device"  // and its id: what it asked for with its own certificate or code
	Feed    = "feed"    // and the feed's id: what a run of it brought
	// AccessPoint, and its id: who asked, or said, what an access point did.
	AccessPoint = "access-point"
)

// MaxEntry bounds the canonical form of an entry, in bytes: what a bundle of
// entries can hold (C2SP tlog-tiles, log entries).
const MaxEntry = 1<<16 - 1

// Entry is one line of the ledger. Seq counts from 1 and is given when it is
// written; its leaf is number Seq-1 of the tree.
type Entry struct {
	Seq   int64
	At    int64 // when it was written, in microseconds since the Unix epoch; never before the entry before it
	Kind  Kind
	Actor string          // who did it: a token's name, [Clock] or [Service]
	About string          // the id of what it is about
	Body  json.RawMessage // canonical JSON; nil in one that was redacted, or is archived
	// Archive is the id of the archive that holds the body, "" when none does.
	Archive string
}

// ErrTooLarge says that an entry is larger than [MaxEntry].
var ErrTooLarge = errors.New("the entry is larger than the ledger takes")

// Append appends the canonical form of an entry: the form that is hashed. An
// entry whose body is not here is appended without it.
func (e *Entry) Append(b []byte) []byte {
	return append(strconv.AppendInt(e.appendHead(b), e.Seq, 10), '}')
}

// appendHead appends all of the canonical form that stands before the number.
func (e *Entry) appendHead(b []byte) []byte {
	text := func(name, text string) {
		b = append(b, name...)
		b, _ = jsontext.AppendQuote(b, text) // what is not UTF-8 becomes U+FFFD
	}
	text(`{"about":`, e.About)
	text(`,"actor":`, e.Actor)
	b = append(b, `,"at":"`...)
	b = append(AppendTime(b, e.At), '"')
	if e.Body != nil {
		b = append(append(b, `,"body":`...), e.Body...)
	}
	text(`,"kind":`, string(e.Kind))
	return append(b, `,"seq":`...)
}

// timeLayout is RFC 3339 in UTC with microseconds, always six digits: times of
// one ledger sort as text.
const timeLayout = "2006-01-02T15:04:05.000000Z"

// AppendTime appends a moment as entries tell it.
func AppendTime(b []byte, micros int64) []byte {
	return value.Clock(micros).AppendFormat(b, timeLayout)
}

// ParseTime reads what [AppendTime] wrote, and nothing else.
func ParseTime(text string) (int64, error) {
	t, err := time.Parse(timeLayout, text)
	if err != nil || len(text) != len(timeLayout) {
		return 0, fmt.Errorf("%q is no time such as %s", text, timeLayout)
	}
	return t.UnixMicro(), nil
}

// Leaf is the hash of an entry in the tree (RFC 6962, section 2.1), given its
// canonical form.
func Leaf(canonical []byte) tlog.Hash { return tlog.RecordHash(canonical) }

// Prepared is the hash of an entry but for its number, which comes last in the
// canonical form: whoever makes an entry can do most of the work before it is
// known.
type Prepared struct{ sum hash.Hash }

// Prepare hashes an entry but for its number. scratch is room to work in, and
// is returned to be used again.
func (e *Entry) Prepare(scratch []byte) (Prepared, []byte) {
	scratch = e.appendHead(append(scratch[:0], leafPrefix))
	sum := sha256.New()
	sum.Write(scratch) // never fails
	return Prepared{sum}, scratch
}

// leafPrefix tells leaves from nodes (RFC 6962, section 2.1).
const leafPrefix = 0

// Leaf is the hash of the entry with a number. It can be asked for once.
func (p Prepared) Leaf(seq int64) (leaf tlog.Hash) {
	var tail [24]byte
	p.sum.Write(append(strconv.AppendInt(tail[:0], seq, 10), '}'))
	p.sum.Sum(leaf[:0])
	return leaf
}
