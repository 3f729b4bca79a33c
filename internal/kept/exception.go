package kept

import (
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
)

// Exception is a dated, reasoned statement by somebody about one device.
type Exception struct {
	ID        string `json:"id"`
	Device    string `json:"device"`
	Reason    string `json:"reason"`
	Author    string `json:"author"`
	At        int64  `json:"at"`    // microseconds since the Unix epoch, as every time here
	Until     int64  `json:"until"` // the moment it ends
	RevokedAt int64  `json:"revoked_at,omitempty"`
	RevokedBy string `json:"revoked_by,omitempty"`
	Revoked   string `json:"revoked,omitempty"` // why
}

// Live reports whether an exception counts at now.
func (g *Exception) Live(now int64) bool { return g.RevokedAt == 0 && now < g.Until }

// state names where an exception stands at now.
func (g *Exception) state(now int64) string {
	switch {
	case g.RevokedAt != 0:
		return "revoked"
	case now >= g.Until:
		return "ended"
	}
	return "live"
}

// Waiver is an exception for one device and one rule.
type Waiver struct {
	Exception
	Rule string `json:"rule"` // baseline/rule
}

// Vouch is a statement that a device is genuine.
type Vouch struct {
	Exception
	// Source is the partner whose word it is, bounded by the rulebook; "" for somebody of the house.
	Source string `json:"source,omitempty"`
}

// Lasts is until when a vouch counts under a rulebook, if nobody ended it.
func (v *Vouch) Lasts(by *evidence.Resolver) int64 {
	if v.Source == "" {
		return v.Until
	}
	return min(v.Until, v.At+by.VouchesFor(v.Source))
}

// End makes an exception one that was revoked.
func (g *Exception) End(actor, reason string, now int64) error {
	if !g.Live(now) {
		return fault.Inputf("", "%s is %s already", g.ID, g.state(now))
	}
	g.RevokedAt, g.RevokedBy, g.Revoked = now, actor, reason
	return nil
}

// Shown is an exception as people see it, of a waiver with its rule.
func (g *Exception) Shown(rule string, now int64) event.Exception {
	out := event.Exception{ID: g.ID, Device: g.Device, Rule: rule, Reason: g.Reason, Author: g.Author,
		At: value.FormatTime(g.At), Until: value.FormatTime(g.Until), State: g.state(now), RevokedBy: g.RevokedBy,
		Revoked: g.Revoked}
	if g.RevokedAt != 0 {
		out.RevokedAt = value.FormatTime(g.RevokedAt)
	}
	return out
}
