package event

import (
	"fmt"

	"ironledger.example/core/ledger"
)

// What became of an access point.
const (
	AccessPointAdded   = "added"
	AccessPointRemoved = "removed"
)

// AccessPointChanged is an access point or a switch that may ask who joins a network, or may no longer.
type AccessPointChanged struct {
	AccessPoint string   `json:"access_point"`
	Change      string   `json:"change"`
	Range       string   `json:"range,omitempty"`       // from which it sends
	Certificate string   `json:"certificate,omitempty"` // SHA-256 of the one that it shows
	Networks    []string `json:"networks,omitempty"`    // that it may ask about; none for all
	Reason      string   `json:"reason,omitempty"`
}

// Kind is [ledger.AccessPointChanged].
func (*AccessPointChanged) Kind() ledger.Kind { return ledger.AccessPointChanged }

// About is the access point.
func (a *AccessPointChanged) About() string { return a.AccessPoint }

// AppendBody appends the body.
func (a *AccessPointChanged) AppendBody(b []byte) []byte { return appendCanonical(b, a) }

// Gist tells what changed, and why.
func (a *AccessPointChanged) Gist() string {
	text := a.Change
	if a.Range != "" {
		text += ", at " + a.Range
	}
	if a.Reason != "" {
		text += ": " + a.Reason
	}
	return text
}

// How an access point takes it that something else is granted.
const (
	StayMoved  = "moved"  // the device stays, with what is granted now (CoA, RFC 5176)
	StayLeft   = "left"   // it had to leave
	StayUntold = "untold" // the access point could not be told
)

// StayChanged is an access point that was told, or could not be told, that a device which is on a network is granted
// something else.
type StayChanged struct {
	Decision    string `json:"decision"` // by which it is
	AccessPoint string `json:"access_point"`
	Network     string `json:"network"`
	Device      string `json:"device,omitempty"`
	Person      string `json:"person,omitempty"`
	Address     string `json:"address,omitempty"`
	From        string `json:"from,omitempty"` // what it was granted
	To          string `json:"to,omitempty"`   // what it is; "" for nothing
	How         string `json:"how"`
	Why         string `json:"why,omitempty"`   // it could not be told
	Until       string `json:"until,omitempty"` // the admission ends by itself then
}

// Kind is [ledger.StayChanged].
func (*StayChanged) Kind() ledger.Kind { return ledger.StayChanged }

// About is the decision.
func (s *StayChanged) About() string { return s.Decision }

// AppendBody appends the body.
func (s *StayChanged) AppendBody(b []byte) []byte { return appendCanonical(b, s) }

// Gist tells who was moved, from where to where.
func (s *StayChanged) Gist() string {
	who, to := s.Device, s.To
	if who == "" {
		who = s.Address
	}
	if to == "" {
		to = "nothing"
	}
	text := fmt.Sprintf("%s on %s: %s, from %s to %s", who, s.Network, s.How, s.From, to)
	if s.Why != "" {
		text += ": " + s.Why
	}
	return text
}
