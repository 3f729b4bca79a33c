// Package event is what can happen: one struct a kind of ledger entry, which owns
// its canonical form, its words, and the events of other systems it is told as.
//
// Whoever changes something makes an event and hands it over with the change;
// whoever needs to know what happened reads the entry back with [Read]. Nobody
// declares the shape of a body a second time.
package event

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"unicode/utf8"

	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
)

// Event is something that happened: the body of an entry, and what it is about.
type Event interface {
	// Kind is that of its entries.
	Kind() ledger.Kind
	// About is the id of what it is about, as the entry has it.
	About() string
	// AppendBody appends the body in canonical JSON (RFC 8785).
	AppendBody(b []byte) []byte
	// Gist tells what happened in a few words, for lists; "" for nothing beside the
	// kind and what it is about.
	Gist() string
}

// told is an event whose body does not say what it is about: its entry does.
type told interface{ tell(about string) }

// MaxBody bounds the body of an entry, in bytes, with room for the rest of it.
// Several changes share a commit: one that is too large must not take the others
// down with it.
const MaxBody = ledger.MaxEntry - 8<<10

// MaxAbout bounds the id of what an entry is about, in bytes.
const MaxAbout = 1000

// Entry makes the ledger entry of an event, which somebody made happen at a moment
// in microseconds since the Unix epoch. Of a body that is larger than an entry can
// be, its size and its hash are recorded.
func Entry(at int64, actor string, e Event) ledger.Entry {
	body := e.AppendBody(make([]byte, 0, 256))
	if len(body) > MaxBody {
		body = appendCanonical(nil, cut{true, fmt.Sprintf("%x", sha256.Sum256(body)), len(body)})
	}
	return entry(at, actor, e, body)
}

func entry(at int64, actor string, e Event, body []byte) ledger.Entry {
	return ledger.Entry{At: at, Kind: e.Kind(), Actor: actor, About: Clipped(e.About(), MaxAbout), Body: body}
}

// cut stands for a body that was too large.
type cut struct {
	Cut    bool   `json:"cut"`
	SHA256 string `json:"sha256"`
	Size   int    `json:"size"`
}

// Clipped shortens a text to so many bytes, at the end of a letter.
func Clipped(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most > 0 && !utf8.RuneStart(text[most]) {
		most--
	}
	return text[:most] + "…"
}

// appendCanonical appends a body that is not written often enough to be written by
// hand.
func appendCanonical(b []byte, v any) []byte {
	raw, err := ledger.Canonical(value.JSON(v))
	if err != nil {
		panic(err) // it is JSON, and no member stands twice in what we write
	}
	return append(b, raw...)
}

// kinds are how the body of each kind is read.
var kinds = map[ledger.Kind]func(body []byte) (Event, error){
	ledger.StandingChanged:    read[StandingChanged],
	ledger.DecisionMade:       read[DecisionMade],
	ledger.SessionEnded:       read[SessionEnded],
	ledger.StreamChanged:      read[StreamChanged],
	ledger.FeedChanged:        read[FeedChanged],
	ledger.SignalReceived:     read[SignalReceived],
	ledger.AccessPointChanged: read[AccessPointChanged],
	ledger.StayChanged:        read[StayChanged],
	ledger.AuthorityChanged:   read[AuthorityChanged],
	ledger.DeviceInvited:      read[DeviceInvited],
	ledger.CertificateIssued:  read[CertificateIssued],
	ledger.CertificateRefused: read[CertificateRefused],
	ledger.CertificateShared:  read[CertificateShared],
	ledger.DeviceQuarantined:  read[DeviceQuarantined],
	ledger.DeviceReleased:     read[DeviceReleased],
	ledger.DevicePurged:       read[DevicePurged],
	ledger.SessionsEnded:      read[SessionsEnded],
	ledger.DeviceTagged:       read[DeviceTagged],
	ledger.StatementMade:      read[StatementMade],
	ledger.StatementRevoked:   read[StatementRevoked],
	ledger.CertificateRevoked: read[CertificateRevoked],
	ledger.NoticeSent:         read[NoticeSent],
	ledger.NoticeMuted:        read[NoticeMuted],
	ledger.AlertSeen:          read[AlertSeen],
	ledger.RulebookPublished:  read[RulebookPublished],
	ledger.PeopleImported:     read[PeopleImported],
	ledger.PersonRemoved:      read[PersonRemoved],
	ledger.RosterImported:     read[RosterImported],
	ledger.RosterRemoved:      read[RosterRemoved],
	ledger.TokenCreated:       read[TokenCreated],
	ledger.TokenRevoked:       read[TokenRevoked],
	ledger.TokenBounded:       read[TokenBounded],
	ledger.EvidenceRefused:    read[EvidenceRefused],
	ledger.EvidenceGone:       read[EvidenceGone],
	ledger.DeviceKeyed:        read[DeviceKeyed],
	ledger.DeviceSettled:      read[DeviceSettled],
	ledger.ReportDiscarded:    read[ReportDiscarded],
	ledger.WaiverGranted:      read[WaiverGranted],
	ledger.WaiverApproved:     read[WaiverApproved],
	ledger.WaiverRevoked:      read[WaiverRevoked],
	ledger.VouchGiven:         read[VouchGiven],
	ledger.VouchRevoked:       read[VouchRevoked],
	ledger.DeviceEnrolled:     read[DeviceEnrolled],
	ledger.EnrolmentHeld:      read[EnrolmentHeld],
	ledger.EnrolmentRefused:   read[EnrolmentRefused],
	ledger.DeviceRetired:      read[DeviceRetired],
	ledger.Redacted:           read[Redacted],
	ledger.KeyReplaced:        read[KeyReplaced],
	ledger.Marked:             read[Marked],
	ledger.ReportMade:         read[ReportMade],
	ledger.ClockReset:         read[ClockReset],
	ledger.StateSealed:        read[StateSealed],
	ledger.Archived:           read[Archived],
}

func read[T any, P interface {
	*T
	Event
}](body []byte) (Event, error) {
	e := P(new(T))
	return e, json.Unmarshal(body, e)
}

// Read returns the event of an entry: nil of one whose body is not here. The error is
// for a kind that is not known, or a body that is not of its kind.
func Read(l *ledger.Entry) (Event, error) {
	if l.Body == nil {
		return nil, nil
	}
	of := kinds[l.Kind]
	if of == nil {
		return nil, fmt.Errorf("entry %d is of the kind %s, which is not known here", l.Seq, l.Kind)
	}
	e, err := of(l.Body)
	if err != nil {
		return nil, fmt.Errorf("entry %d cannot be read: %w", l.Seq, err)
	}
	if t, ok := e.(told); ok {
		t.tell(l.About)
	}
	return e, nil
}

// As reads the event of an entry if it is of one type.
func As[T Event](l *ledger.Entry) (T, bool) {
	e, err := Read(l)
	t, ok := e.(T)
	return t, ok && err == nil
}

// Gist tells in a few words what an entry says, for lists.
func Gist(l *ledger.Entry) string {
	if l.Archive != "" {
		return "in the archive " + l.Archive
	}
	if l.Body == nil {
		return "redacted"
	}
	if e, err := Read(l); err == nil {
		return e.Gist()
	}
	return ""
}

// Notable reports whether an entry is one that people made happen, or that came to
// an end, and not one of the masses: in syslog it is a notice (RFC 5424, section
// 6.2.1), and others are informational.
func Notable(k ledger.Kind) bool { return k != ledger.DecisionMade && k != ledger.StandingChanged }
