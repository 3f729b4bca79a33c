package event

import (
	"cmp"
	"fmt"
	"strings"

	"ironledger.example/core/ledger"
)

// What becomes of our own authority.
const (
	AuthorityMade      = "made"
	AuthorityImported  = "imported"
	AuthorityAsked     = "asked" // the authority above for a certificate
	AuthorityInstalled = "installed"
	AuthorityDropped   = "dropped"
	AuthorityServes    = "serves" // it gave the service its own certificate
)

// AuthorityChanged is our own certificate authority that became another.
type AuthorityChanged struct {
	Authority string `json:"authority"`
	Change    string `json:"change"`
	Subject   string `json:"subject,omitempty"`
	SHA256    string `json:"sha256,omitempty"` // of its certificate
	Until     string `json:"until,omitempty"`  // its certificate counts
	Former    string `json:"former,omitempty"` // the authority whose place it takes
	Reason    string `json:"reason,omitempty"`
}

// Kind is [ledger.AuthorityChanged].
func (*AuthorityChanged) Kind() ledger.Kind { return ledger.AuthorityChanged }

// About is the authority.
func (a *AuthorityChanged) About() string { return a.Authority }

// AppendBody appends the body.
func (a *AuthorityChanged) AppendBody(b []byte) []byte { return appendCanonical(b, a) }

// Gist tells what became of it.
func (a *AuthorityChanged) Gist() string {
	text := strings.TrimSpace(a.Change + " " + a.Subject)
	if a.Former != "" {
		text += ", in place of " + a.Former
	}
	if a.Reason != "" {
		text += ": " + a.Reason
	}
	return text
}

// DeviceInvited is a code by which one device can ask for a certificate, or some of the roster, which was made, or
// spoilt by wrong ones.
type DeviceInvited struct {
	Device  string `json:"device,omitempty"`  // "" for the roster
	Devices int    `json:"devices,omitempty"` // of the roster, for how many
	Serial  string `json:"serial,omitempty"`
	Profile string `json:"profile,omitempty"`
	Until   string `json:"until,omitempty"`
	Spoilt  int    `json:"spoilt,omitempty"` // after so many wrong codes
}

// Kind is [ledger.DeviceInvited].
func (*DeviceInvited) Kind() ledger.Kind { return ledger.DeviceInvited }

// About is the device, or the roster.
func (d *DeviceInvited) About() string { return cmp.Or(d.Device, "roster") }

// AppendBody appends the body.
func (d *DeviceInvited) AppendBody(b []byte) []byte { return appendCanonical(b, d) }

// Gist tells of which device, and until when.
func (d *DeviceInvited) Gist() string {
	switch {
	case d.Spoilt > 0:
		return fmt.Sprintf("%s: its code is void after %d wrong ones", d.About(), d.Spoilt)
	case d.Device == "":
		return fmt.Sprintf("%d devices of the roster until %s", d.Devices, d.Until)
	}
	return d.Device + " until " + d.Until
}

// CertificateIssued is a certificate that our own authority gave a device.
type CertificateIssued struct {
	Device    string `json:"device"`
	Serial    string `json:"serial"`
	SHA256    string `json:"sha256"`
	Authority string `json:"authority"`
	Profile   string `json:"profile"`
	Key       string `json:"key"` // the SHA-256 of its public key
	Until     string `json:"until"`
	Renews    string `json:"renews,omitempty"` // the serial of the certificate by which it was asked for
}

// Kind is [ledger.CertificateIssued].
func (*CertificateIssued) Kind() ledger.Kind { return ledger.CertificateIssued }

// About is the device.
func (c *CertificateIssued) About() string { return c.Device }

// AppendBody appends the body.
func (c *CertificateIssued) AppendBody(b []byte) []byte { return appendCanonical(b, c) }

// Gist tells of which device, and until when.
func (c *CertificateIssued) Gist() string {
	text := fmt.Sprintf("%s, %s until %s", c.Device, c.Profile, c.Until)
	if c.Renews != "" {
		text += ", renewed"
	}
	return text
}

// CertificateRefused is a certificate that a device asked for and was not given.
type CertificateRefused struct {
	Device  string `json:"device"`
	Profile string `json:"profile,omitempty"`
	Why     string `json:"why"`
}

// Kind is [ledger.CertificateRefused].
func (*CertificateRefused) Kind() ledger.Kind { return ledger.CertificateRefused }

// About is the device.
func (c *CertificateRefused) About() string { return c.Device }

// AppendBody appends the body.
func (c *CertificateRefused) AppendBody(b []byte) []byte { return appendCanonical(b, c) }

// Gist tells of which device, and why.
func (c *CertificateRefused) Gist() string { return c.Device + ": " + c.Why }

// CertificateRevoked is a certificate of a device that our own authority took back.
type CertificateRevoked struct {
	Device string `json:"device"`
	Serial string `json:"serial"`
	SHA256 string `json:"sha256"`
	Code   string `json:"code"` // a reason of RFC 5280, section 5.3.1
	Reason string `json:"reason,omitempty"`
}

// Kind is [ledger.CertificateRevoked].
func (*CertificateRevoked) Kind() ledger.Kind { return ledger.CertificateRevoked }

// About is the device.
func (c *CertificateRevoked) About() string { return c.Device }

// AppendBody appends the body.
func (c *CertificateRevoked) AppendBody(b []byte) []byte { return appendCanonical(b, c) }

// Gist tells of which device, and why.
func (c *CertificateRevoked) Gist() string {
	return strings.TrimSuffix(fmt.Sprintf("%s, %s: %s", c.Device, c.Code, c.Reason), ": ")
}

// StatementMade is a statement of how a device stands, which others rely on without asking.
type StatementMade struct {
	Device      string `json:"device"`
	Statement   string `json:"statement"` // its id
	Audience    string `json:"audience"`
	Level       string `json:"level"`
	Until       string `json:"until"`
	Certificate string `json:"certificate,omitempty"` // the SHA-256 of the one whose key it is bound to
}

// Kind is [ledger.StatementMade].
func (*StatementMade) Kind() ledger.Kind { return ledger.StatementMade }

// About is the device.
func (s *StatementMade) About() string { return s.Device }

// AppendBody appends the body.
func (s *StatementMade) AppendBody(b []byte) []byte { return appendCanonical(b, s) }

// Gist tells of which device, for whom, and what it says.
func (s *StatementMade) Gist() string {
	return fmt.Sprintf("%s at %s, for %s until %s", s.Device, s.Level, s.Audience, s.Until)
}

// StatementRevoked is a statement of which something is so no more, though it has not ended.
type StatementRevoked struct {
	Device    string `json:"device"`
	Statement string `json:"statement"`
	Audience  string `json:"audience"`
	Level     string `json:"level"` // at which the device stands now
	Why       string `json:"why"`
	Cause     string `json:"cause"`
}

// Kind is [ledger.StatementRevoked].
func (*StatementRevoked) Kind() ledger.Kind { return ledger.StatementRevoked }

// About is the device.
func (s *StatementRevoked) About() string { return s.Device }

// AppendBody appends the body.
func (s *StatementRevoked) AppendBody(b []byte) []byte { return appendCanonical(b, s) }

// Gist tells of which device, for whom, and why.
func (s *StatementRevoked) Gist() string {
	return fmt.Sprintf("%s, for %s: %s", s.Device, s.Audience, s.Why)
}

// CertificateShared is a certificate that was used in two places at once: somebody may have copied its key.
type CertificateShared struct {
	Device string   `json:"device"`
	Serial string   `json:"serial"`
	From   []string `json:"from"` // addresses or networks
}

// Kind is [ledger.CertificateShared].
func (*CertificateShared) Kind() ledger.Kind { return ledger.CertificateShared }

// About is the device.
func (c *CertificateShared) About() string { return c.Device }

// AppendBody appends the body.
func (c *CertificateShared) AppendBody(b []byte) []byte { return appendCanonical(b, c) }

// Gist tells of which device, and where.
func (c *CertificateShared) Gist() string {
	return c.Device + ", to and fro between " + strings.Join(c.From, " and ")
}
