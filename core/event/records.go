package event

import (
	"fmt"

	"ironledger.example/core/ledger"
)

// Redacted is the body of an earlier entry that was removed.
type Redacted struct{ ledger.Redaction }

// Kind is [ledger.Redacted].
func (*Redacted) Kind() ledger.Kind { return ledger.Redacted }

// About is the number of the entry.
func (r *Redacted) About() string { return fmt.Sprint(r.Entry) }

// AppendBody appends the body.
func (r *Redacted) AppendBody(b []byte) []byte { return appendCanonical(b, r) }

// Gist tells which, and why.
func (r *Redacted) Gist() string { return fmt.Sprintf("entry %d: %s", r.Entry, r.Reason) }

// Archived are bodies of earlier entries that are kept in a file from here on.
type Archived struct{ ledger.Archival }

// Kind is [ledger.Archived].
func (*Archived) Kind() ledger.Kind { return ledger.Archived }

// About is the archive.
func (a *Archived) About() string { return a.Archive }

// AppendBody appends the body.
func (a *Archived) AppendBody(b []byte) []byte { return appendCanonical(b, a) }

// Gist tells which, where, and why.
func (a *Archived) Gist() string {
	return fmt.Sprintf("entries %d to %d in %s: %s", a.From, a.To, a.File, a.Reason)
}

// records is what the records tell of themselves.
type records struct{}

// About is the ledger.
func (records) About() string { return "ledger" }

// KeyReplaced is another key that signs heads from here on.
type KeyReplaced struct {
	records
	Key    string `json:"key"`           // the public key, as verifiers take it
	Before string `json:"origin_before"` // the name of the ledger before
	Reason string `json:"reason"`
}

// Kind is [ledger.KeyReplaced].
func (*KeyReplaced) Kind() ledger.Kind { return ledger.KeyReplaced }

// AppendBody appends the body.
func (k *KeyReplaced) AppendBody(b []byte) []byte { return appendCanonical(b, k) }

// Gist tells why.
func (k *KeyReplaced) Gist() string { return k.Reason }

// ClockReset is time that may go back here, once.
type ClockReset struct {
	records
	Newest string `json:"newest_before"` // the time of the entry before
	Reason string `json:"reason"`
}

// Kind is [ledger.ClockReset].
func (*ClockReset) Kind() ledger.Kind { return ledger.ClockReset }

// AppendBody appends the body.
func (c *ClockReset) AppendBody(b []byte) []byte { return appendCanonical(b, c) }

// Gist tells why.
func (c *ClockReset) Gist() string { return c.Reason }

// StateSealed is from where on heads tell of the state.
type StateSealed struct {
	records
	Reason string `json:"reason"`
}

// Kind is [ledger.StateSealed].
func (*StateSealed) Kind() ledger.Kind { return ledger.StateSealed }

// AppendBody appends the body.
func (s *StateSealed) AppendBody(b []byte) []byte { return appendCanonical(b, s) }

// Gist tells why.
func (s *StateSealed) Gist() string { return s.Reason }

// Marked is a moment that no later entry is before: what is told of the time before it can be told again.
type Marked struct {
	records
	Reason string `json:"reason"`
}

// Kind is [ledger.Marked].
func (*Marked) Kind() ledger.Kind { return ledger.Marked }

// AppendBody appends the body.
func (m *Marked) AppendBody(b []byte) []byte { return appendCanonical(b, m) }

// Gist tells why.
func (m *Marked) Gist() string { return m.Reason }

// ReportMade is a report on controls that was made as the rulebook says, and kept.
type ReportMade struct {
	ID     string `json:"id"`
	Report string `json:"report"` // of the rulebook
	From   string `json:"from"`
	To     string `json:"to"`
	SHA256 string `json:"sha256"` // of the report
	Size   int64  `json:"size"`   // how many entries it was made from
}

// Kind is [ledger.ReportMade].
func (*ReportMade) Kind() ledger.Kind { return ledger.ReportMade }

// About is the report.
func (r *ReportMade) About() string { return r.ID }

// AppendBody appends the body.
func (r *ReportMade) AppendBody(b []byte) []byte { return appendCanonical(b, r) }

// Gist tells which, and of which period.
func (r *ReportMade) Gist() string { return fmt.Sprintf("%s, %s to %s", r.Report, r.From, r.To) }
