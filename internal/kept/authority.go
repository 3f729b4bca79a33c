package kept

import (
	"crypto/x509"
	"fmt"
	"maps"
	"slices"
)

// The states of an authority.
const (
	AuthoritySigns  = "signs"  // what is issued now
	AuthorityFormer = "former" // it issues nothing any more; what it issued counts until it ends
	AuthorityAsks   = "asks"   // its certificate is to come from the authority above
)

// Authority is a key that signs certificates of devices, with its own certificate. The key itself is kept apart.
// Moments are in microseconds since the Unix epoch.
type Authority struct {
	ID          string   `json:"id"` // of its key
	State       string   `json:"state"`
	Certificate []byte   `json:"certificate,omitempty"` // DER; empty while it asks
	Above       [][]byte `json:"above,omitempty"`       // the certificates of the authorities above, the next first
	Request     []byte   `json:"request,omitempty"`     // for its certificate, while it asks
	At          int64    `json:"at"`
	By          string   `json:"by"`
}

// Certificate is one that our own authority issued to a device. Moments are in microseconds since the Unix epoch.
type Certificate struct {
	Serial    string `json:"serial"` // in hex
	SHA256    string `json:"sha256"`
	Authority string `json:"authority"`
	Device    string `json:"device"`
	Profile   string `json:"profile"`
	Asked     bool   `json:"asked,omitempty"` // the profile was asked for by its name; a renewal is of the same
	Key       string `json:"key"`             // fingerprint of its public key
	NotBefore int64  `json:"not_before"`
	NotAfter  int64  `json:"not_after"`
	At        int64  `json:"at"`
	By        string `json:"by"`
	Renews    string `json:"renews,omitempty"`  // serial of the one that asked for it
	Renewed   string `json:"renewed,omitempty"` // serial of the one that it asked for
	RevokedAt int64  `json:"revoked_at,omitempty"`
	RevokedBy string `json:"revoked_by,omitempty"`
	Why       string `json:"why,omitempty"` // in a person's words
	Code      int    `json:"code,omitempty"`

	UsedAt   int64    `json:"used_at,omitempty"` // within an hour
	UsedFrom string   `json:"used_from,omitempty"`
	SharedAt int64    `json:"shared_at,omitempty"` // when it was last used in two places at once
	Shared   []string `json:"shared,omitempty"`    // these
}

// ForRoster is the device that an invite is said to be for which is for any on the roster.
const ForRoster = "*"

// Invite lets whoever has its code ask for a certificate for one device, or for those on the roster.
type Invite struct {
	Device   string `json:"device"`
	Left     int    `json:"left,omitempty"`   // for the roster: how many devices it is still for
	Serial   string `json:"serial,omitempty"` // of its hardware, of a device that is not known yet
	Profile  string `json:"profile,omitempty"`
	Hash     []byte `json:"hash"` // SHA-256 of the code
	Until    int64  `json:"until"`
	Attempts int    `json:"attempts,omitempty"` // that were wrong
	At       int64  `json:"at"`
	By       string `json:"by"`
	UsedAt   int64  `json:"used_at,omitempty"`
	UsedFor  string `json:"used_for,omitempty"` // serial of the certificate
}

// Statements are those of a device that others may still rely on. Moments are in microseconds since the Unix epoch.
type Statements struct {
	Device string      `json:"device"`
	List   []Statement `json:"list"` // oldest first
}

// Statement is one of them.
type Statement struct {
	ID          string `json:"id"`
	Audience    string `json:"audience"`
	Level       string `json:"level"`
	Certificate string `json:"certificate,omitempty"` // the SHA-256 of the one whose key it is bound to
	Until       int64  `json:"until"`
}

// Anchors are the certificates of authorities that have one, in the order of their ids.
func Anchors(all map[string]*Authority) (out []*x509.Certificate, err error) {
	for _, id := range slices.Sorted(maps.Keys(all)) {
		if a := all[id]; len(a.Certificate) > 0 {
			cert, err := x509.ParseCertificate(a.Certificate)
			if err != nil {
				return nil, fmt.Errorf("the certificate of the authority %s is damaged: %w", id, err)
			}
			out = append(out, cert)
		}
	}
	return out, nil
}
