package event

import (
	"cmp"
	"strings"

	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
)

// Claims are what a device, or its person, says of it when it asks to be enrolled.
// They decide that, and are evidence of nothing else.
type Claims struct {
	Serial      string `json:"serial,omitempty"`
	HardwareID  string `json:"hardware_id,omitempty"`
	ID          string `json:"id,omitempty"`
	Platform    string `json:"platform,omitempty"`
	Form        string `json:"form,omitempty"`
	Model       string `json:"model,omitempty"`
	Vendor      string `json:"vendor,omitempty"`
	Name        string `json:"name,omitempty"`
	Ownership   string `json:"ownership,omitempty"`
	Owner       string `json:"owner,omitempty"`
	Certificate string `json:"certificate_sha256,omitempty"` // that the connection showed
}

// Same reports whether two claims are of one device with one certificate.
func (c *Claims) Same(o *Claims) bool {
	same := func(kind evidence.KeyKind, a, b string) bool {
		return evidence.Folded(kind, a) == evidence.Folded(kind, b)
	}
	return same(evidence.BySerial, c.Serial, o.Serial) && same(evidence.ByHardware, c.HardwareID, o.HardwareID) &&
		same(evidence.ByID, c.ID, o.ID) && strings.EqualFold(c.Certificate, o.Certificate)
}

// Keys are those that the claims name.
func (c *Claims) Keys() []evidence.Key {
	rep := evidence.Report{Identity: evidence.Identity{ID: c.ID, Serial: c.Serial, HardwareID: c.HardwareID}}
	return rep.Identified().Keys()
}

// Enrolment is a device's request to be known here, and what became of it.
type Enrolment struct {
	ID       string `json:"id"`
	At       int64  `json:"at"`    // in microseconds since the Unix epoch, as DecidedAt
	Actor    string `json:"actor"` // whose token asked
	Claims   Claims `json:"claims"`
	OnRoster bool   `json:"on_roster"`
	// Proven is whether the connection showed a certificate of one of the rulebook's
	// issuers that names the device.
	Proven    bool   `json:"proven,omitempty"`
	State     string `json:"state"`
	Why       string `json:"why"` // why it stands so, in words
	Device    string `json:"device,omitempty"`
	DecidedAt int64  `json:"decided_at,omitempty"`
	DecidedBy string `json:"decided_by,omitempty"`
	Reason    string `json:"reason,omitempty"`
}

// Decided is when an enrolment became what it is.
func (e *Enrolment) Decided() int64 { return max(e.At, e.DecidedAt) }

// About is the device, or the request where there is none yet.
func (e *Enrolment) About() string { return cmp.Or(e.Device, e.ID) }

// AppendBody appends the body.
func (e *Enrolment) AppendBody(b []byte) []byte { return appendCanonical(b, e) }

// Gist tells why.
func (e *Enrolment) Gist() string { return e.Reason }

// DeviceEnrolled is a device that is known here from now on.
type DeviceEnrolled struct{ Enrolment }

// Kind is [ledger.DeviceEnrolled].
func (*DeviceEnrolled) Kind() ledger.Kind { return ledger.DeviceEnrolled }

// EnrolmentHeld is a request that waits for a person.
type EnrolmentHeld struct{ Enrolment }

// Kind is [ledger.EnrolmentHeld].
func (*EnrolmentHeld) Kind() ledger.Kind { return ledger.EnrolmentHeld }

// EnrolmentRefused is a request that was turned down.
type EnrolmentRefused struct{ Enrolment }

// Kind is [ledger.EnrolmentRefused].
func (*EnrolmentRefused) Kind() ledger.Kind { return ledger.EnrolmentRefused }

// DeviceRetired is a device that is no longer one of ours.
type DeviceRetired struct {
	Device string `json:"device"`
	At     int64  `json:"at"` // in microseconds since the Unix epoch
	By     string `json:"by"`
	Reason string `json:"reason"`
	// PurgedAt is when what was known of it was removed, 0 for not yet: in microseconds since the Unix epoch.
	PurgedAt int64 `json:"purged_at,omitempty"`
}

// Kind is [ledger.DeviceRetired].
func (*DeviceRetired) Kind() ledger.Kind { return ledger.DeviceRetired }

// About is the device.
func (r *DeviceRetired) About() string { return r.Device }

// AppendBody appends the body.
func (r *DeviceRetired) AppendBody(b []byte) []byte { return appendCanonical(b, r) }

// Gist tells why.
func (r *DeviceRetired) Gist() string { return r.Reason }

// DevicePurged is a retired device of which everything was removed that was known, but for its keys: by these it is
// told from others should it be reported again.
type DevicePurged struct {
	Device   string `json:"device"`
	Readings int    `json:"readings"` // that were removed
	Reason   string `json:"reason"`
}

// Kind is [ledger.DevicePurged].
func (*DevicePurged) Kind() ledger.Kind { return ledger.DevicePurged }

// About is the device.
func (p *DevicePurged) About() string { return p.Device }

// AppendBody appends the body.
func (p *DevicePurged) AppendBody(b []byte) []byte { return appendCanonical(b, p) }

// Gist tells which device, and why.
func (p *DevicePurged) Gist() string { return p.Device + ": " + p.Reason }
