package event

import (
	"fmt"
	"strings"

	"ironledger.example/core/ledger"
)

// What became of a feed.
const (
	FeedAdded     = "added"
	FeedUpdated   = "updated"
	FeedStatus    = "status"    // it was paused, or goes on
	FeedFailed    = "failed"    // the first run of several that failed
	FeedRecovered = "recovered" // a run was done again
	FeedGone      = "gone"      // devices that it no longer lists
	FeedHeld      = "held"      // too many to be gone at once
	FeedRemoved   = "removed"
)

// FeedChanged is a feed of a partner's inventory that became another, or what it told of all
// at once.
type FeedChanged struct {
	Feed    string   `json:"feed"`
	Source  string   `json:"source,omitempty"`
	Change  string   `json:"change"`
	Where   string   `json:"where,omitempty"` // it is fetched
	Status  string   `json:"status,omitempty"`
	Secret  bool     `json:"secret,omitempty"`  // whether a secret was given
	Devices int      `json:"devices,omitempty"` // that are gone, or whose readings were taken back
	Some    []string `json:"some,omitempty"`    // of these devices
	Reason  string   `json:"reason,omitempty"`
}

// Kind is [ledger.FeedChanged].
func (*FeedChanged) Kind() ledger.Kind { return ledger.FeedChanged }

// About is the feed.
func (f *FeedChanged) About() string { return f.Feed }

// AppendBody appends the body.
func (f *FeedChanged) AppendBody(b []byte) []byte { return appendCanonical(b, f) }

// Gist tells what changed, and why.
func (f *FeedChanged) Gist() string {
	text := strings.TrimSpace(f.Change + " " + f.Status)
	if f.Devices > 0 {
		text += fmt.Sprintf(", %d devices", f.Devices)
	}
	if f.Reason != "" {
		text += ": " + f.Reason
	}
	return text
}

// SignalReceived is a security event of a partner by which sessions end.
type SignalReceived struct {
	Source string `json:"source"`
	Issuer string `json:"issuer"`
	JTI    string `json:"jti"`
	Event  string `json:"event"` // its short name
	Device string `json:"device,omitempty"`
	Person string `json:"person,omitempty"`
	Reason string `json:"reason,omitempty"`
}

// Kind is [ledger.SignalReceived].
func (*SignalReceived) Kind() ledger.Kind { return ledger.SignalReceived }

// About is whom the event is about.
func (s *SignalReceived) About() string {
	if s.Device != "" {
		return s.Device
	}
	return s.Person
}

// AppendBody appends the body.
func (s *SignalReceived) AppendBody(b []byte) []byte { return appendCanonical(b, s) }

// Gist tells what it did.
func (s *SignalReceived) Gist() string {
	text := s.Event + " by " + s.Source + ": the sessions end"
	if s.Reason != "" {
		text += ": " + s.Reason
	}
	return text
}
