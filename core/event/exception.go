package event

import (
	"strings"

	"ironledger.example/core/ledger"
)

// Exception is a waiver or a vouch as it stood when somebody gave or ended it.
type Exception struct {
	ID        string `json:"id"`
	Device    string `json:"device"`
	Rule      string `json:"rule,omitempty"` // of a waiver
	Reason    string `json:"reason"`
	Author    string `json:"author"`
	At        string `json:"at"`
	Until     string `json:"until"`
	State     string `json:"state"` // asked, live, ended or revoked
	RevokedAt string `json:"revoked_at,omitempty"`
	RevokedBy string `json:"revoked_by,omitempty"`
	Revoked   string `json:"revoked,omitempty"` // why
	// ApprovedBy is the second person who approved a waiver.
	ApprovedBy string `json:"approved_by,omitempty"`
	ApprovedAt string `json:"approved_at,omitempty"`
	Approved   string `json:"approved,omitempty"` // why
	// Verdict is what the rule says of the device now, of a waiver that is live.
	Verdict string `json:"verdict,omitempty"`
	// Warning is what speaks against a waiver that was just granted: it changes nothing now.
	Warning string `json:"warning,omitempty"`
}

// About is the device.
func (x *Exception) About() string { return x.Device }

// AppendBody appends the body.
func (x *Exception) AppendBody(b []byte) []byte { return appendCanonical(b, x) }

// Gist tells from what, and why.
func (x *Exception) Gist() string { return strings.Trim(x.Rule+": "+x.Reason, ": ") }

// WaiverGranted is a device that is excepted from a rule from here on.
type WaiverGranted struct{ Exception }

// Kind is [ledger.WaiverGranted].
func (*WaiverGranted) Kind() ledger.Kind { return ledger.WaiverGranted }

// WaiverApproved is a waiver that a second person approved: it counts from here on.
type WaiverApproved struct{ Exception }

// Kind is [ledger.WaiverApproved].
func (*WaiverApproved) Kind() ledger.Kind { return ledger.WaiverApproved }

// WaiverRevoked is a waiver that somebody ended.
type WaiverRevoked struct{ Exception }

// Kind is [ledger.WaiverRevoked].
func (*WaiverRevoked) Kind() ledger.Kind { return ledger.WaiverRevoked }

// VouchGiven is a statement that a device is genuine.
type VouchGiven struct{ Exception }

// Kind is [ledger.VouchGiven].
func (*VouchGiven) Kind() ledger.Kind { return ledger.VouchGiven }

// VouchRevoked is a vouch that somebody ended.
type VouchRevoked struct{ Exception }

// Kind is [ledger.VouchRevoked].
func (*VouchRevoked) Kind() ledger.Kind { return ledger.VouchRevoked }
