package kept

import (
	"net/netip"

	"ironledger.example/core/access"
)

// AccessPoint is an access point or a switch, or several in one range of addresses, that asks who may join. Moments are
// in microseconds since the Unix epoch.
type AccessPoint struct {
	ID          string       `json:"id"`
	Title       string       `json:"title,omitempty"`
	Range       netip.Prefix `json:"range"`                 // from which it sends
	Secret      []byte       `json:"secret,omitempty"`      // sealed
	Certificate string       `json:"certificate,omitempty"` // SHA-256 of the one that it shows over TLS
	Networks    []string     `json:"networks,omitempty"`    // that it may ask about; empty for all
	Told        uint16       `json:"told,omitempty"`        // the port at which it is told of changes; 0: the usual
	At          int64        `json:"at"`
	By          string       `json:"by"`
	Reason      string       `json:"reason,omitempty"`
}

// May reports whether it may ask about a network.
func (a *AccessPoint) May(network string) bool {
	if len(a.Networks) == 0 {
		return true
	}
	for _, n := range a.Networks {
		if n == network {
			return true
		}
	}
	return false
}

// Stay is a device that was let into a network, until its access point says that it left.
type Stay struct {
	ID          string             `json:"id"`
	AccessPoint string             `json:"access_point"`
	From        netip.Addr         `json:"from"`    // the access point's address
	Address     string             `json:"address"` // of the device's interface
	Network     string             `json:"network"`
	Device      string             `json:"device,omitempty"`
	Person      string             `json:"person,omitempty"`
	Name        string             `json:"name"` // that the access point knows the admission by (User-Name)
	Decision    string             `json:"decision"`
	Asked       *access.Evaluation `json:"asked"`
	Granted     *access.Granted    `json:"granted,omitempty"`
	Level       string             `json:"level"`
	Watched     bool               `json:"watched,omitempty"` // a session ends with what it rests on
	At          int64              `json:"at"`
	Until       int64              `json:"until"`             // the access point lets it stay no longer by itself
	Session     string             `json:"session,omitempty"` // as the access point accounts for it
	Port        string             `json:"port,omitempty"`
	HeardAt     int64              `json:"heard_at,omitempty"` // of the access point's last word
	Addresses   []string           `json:"addresses,omitempty"`
	ToldAt      int64              `json:"told_at,omitempty"` // when something else was granted last
	// Untold is since when the access point could not be told that something else is granted, and why; 0: it knows.
	Untold    int64  `json:"untold,omitempty"`
	UntoldWhy string `json:"untold_why,omitempty"`
	// Granting is what it is to be told; nil with Untold set: that the device has to leave.
	Granting *access.Granted `json:"granting,omitempty"`
}
