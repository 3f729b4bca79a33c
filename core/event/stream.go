package event

import (
	"strings"

	"ironledger.example/core/ledger"
)

// What became of a stream.
const (
	StreamCreated  = "created"
	StreamUpdated  = "updated"
	StreamRemoved  = "removed"
	StreamSubjects = "subjects" // one was added or removed
	StreamStatus   = "status"   // it was enabled, paused or disabled
	StreamKey      = "key"      // of all streams: signed with another key from here on
	StreamSecret   = "secret"   // signed with another secret from here on
	StreamResent   = "resent"   // events that were given up are sent again
	StreamDropped  = "dropped"  // events that were given up were dropped
)

// StreamChanged is a stream of events to a receiver that became another.
type StreamChanged struct {
	Stream   string   `json:"stream"`
	Receiver string   `json:"receiver,omitempty"`
	Change   string   `json:"change"`
	Endpoint string   `json:"endpoint,omitempty"` // where events are sent; "" when they are fetched
	Events   []string `json:"events,omitempty"`   // short names
	Subject  string   `json:"subject,omitempty"`  // added, or removed, as "+ device d-1"
	Status   string   `json:"status,omitempty"`
	Letters  int      `json:"letters,omitempty"` // how many events that were given up are gone
	Reason   string   `json:"reason,omitempty"`
}

// Kind is [ledger.StreamChanged].
func (*StreamChanged) Kind() ledger.Kind { return ledger.StreamChanged }

// About is the stream.
func (s *StreamChanged) About() string { return s.Stream }

// AppendBody appends the body.
func (s *StreamChanged) AppendBody(b []byte) []byte { return appendCanonical(b, s) }

// Gist tells what changed, and why.
func (s *StreamChanged) Gist() string {
	text := strings.TrimSpace(s.Receiver + " " + s.Change + " " + s.Status + s.Subject)
	if s.Reason != "" {
		text += ": " + s.Reason
	}
	return text
}
