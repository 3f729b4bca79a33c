package event

import (
	"cmp"
	"strings"

	"ironledger.example/core/ledger"
)

// DeviceQuarantined is a person's own order that a device stands at the lowest level.
type DeviceQuarantined struct {
	Device string `json:"device"`
	Reason string `json:"reason"`
	Until  string `json:"until,omitempty"` // "": until it is lifted
}

// Kind is [ledger.DeviceQuarantined].
func (*DeviceQuarantined) Kind() ledger.Kind { return ledger.DeviceQuarantined }

// About is the device.
func (d *DeviceQuarantined) About() string { return d.Device }

// AppendBody appends the body.
func (d *DeviceQuarantined) AppendBody(b []byte) []byte { return appendCanonical(b, d) }

// Gist tells which device, until when, and why.
func (d *DeviceQuarantined) Gist() string {
	if d.Until == "" {
		return d.Device + " until it is lifted: " + d.Reason
	}
	return d.Device + " until " + d.Until + ": " + d.Reason
}

// DeviceReleased is such an order that somebody lifted.
type DeviceReleased struct {
	Device string `json:"device"`
	Reason string `json:"reason"`
}

// Kind is [ledger.DeviceReleased].
func (*DeviceReleased) Kind() ledger.Kind { return ledger.DeviceReleased }

// About is the device.
func (d *DeviceReleased) About() string { return d.Device }

// AppendBody appends the body.
func (d *DeviceReleased) AppendBody(b []byte) []byte { return appendCanonical(b, d) }

// Gist tells which device, and why.
func (d *DeviceReleased) Gist() string { return d.Device + ": " + d.Reason }

// SessionsEnded is that somebody ended sessions: those of which all is so that it says.
type SessionsEnded struct {
	Device   string `json:"device,omitempty"`
	Person   string `json:"person,omitempty"`
	Resource string `json:"resource,omitempty"`
	Reason   string `json:"reason"`
}

// Kind is [ledger.SessionsEnded].
func (*SessionsEnded) Kind() ledger.Kind { return ledger.SessionsEnded }

// About is the device, the person or the resource.
func (s *SessionsEnded) About() string { return cmp.Or(s.Device, s.Person, s.Resource) }

// AppendBody appends the body.
func (s *SessionsEnded) AppendBody(b []byte) []byte { return appendCanonical(b, s) }

// Gist tells whose, and why.
func (s *SessionsEnded) Gist() string {
	var whose []string
	for _, x := range []string{s.Person, s.Device, s.Resource} {
		if x != "" {
			whose = append(whose, x)
		}
	}
	return "of " + strings.Join(whose, ", ") + ": " + s.Reason
}

// DeviceTagged is what people put on a device, took off it, or noted of it, and whose they say
// it is.
type DeviceTagged struct {
	Device  string   `json:"device"`
	Added   []string `json:"added,omitempty"`
	Removed []string `json:"removed,omitempty"`
	Note    string   `json:"note,omitempty"`  // as it is now, when it changed
	Owner   *string  `json:"owner,omitempty"` // as it is now, "" for nobody; nil when it did not change
}

// Kind is [ledger.DeviceTagged].
func (*DeviceTagged) Kind() ledger.Kind { return ledger.DeviceTagged }

// About is the device.
func (d *DeviceTagged) About() string { return d.Device }

// AppendBody appends the body.
func (d *DeviceTagged) AppendBody(b []byte) []byte { return appendCanonical(b, d) }

// Gist tells which device, and what changed.
func (d *DeviceTagged) Gist() string {
	parts := []string{d.Device}
	for _, t := range d.Added {
		parts = append(parts, "+"+t)
	}
	for _, t := range d.Removed {
		parts = append(parts, "-"+t)
	}
	switch {
	case d.Owner == nil:
	case *d.Owner == "":
		parts = append(parts, "without an owner of its own")
	default:
		parts = append(parts, "of "+*d.Owner)
	}
	if d.Note != "" {
		parts = append(parts, d.Note)
	}
	return strings.Join(parts, " ")
}
