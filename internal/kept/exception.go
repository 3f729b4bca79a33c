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

// Waiver is an exception for one device and one rule, as it is kept. Whether it counts, the rulebook says too: see
// [Counting].
type Waiver struct {
	Exception
	Rule string `json:"rule"`           // baseline/rule
	Role string `json:"role,omitempty"` // of whoever granted it
	// ApprovedBy is the second person, where one approved it; "" for none.
	ApprovedBy string `json:"approved_by,omitempty"`
	ApprovedAt int64  `json:"approved_at,omitempty"`
	Approved   string `json:"approved,omitempty"` // why
}

// Live is not for waivers: a [Counting] is, of which the rulebook was asked.
func (*Waiver) Live(_ onlyCounting) {}

// onlyCounting is what nobody has.
type onlyCounting struct{ _ [0]func() }

// Counting is a waiver as far as a rulebook lets it count.
type Counting struct {
	of    Waiver
	asked bool
}

// CountingOf is a waiver of which a rulebook says that it lives until a moment at most, in microseconds since the Unix
// epoch, and whether a second person must approve it.
func CountingOf(w *Waiver, until int64, approve bool) Counting {
	c := Counting{*w, approve && w.ApprovedAt == 0}
	c.of.Until = min(w.Until, until)
	return c
}

// Until is the moment at which it ends.
func (c *Counting) Until() int64 { return c.of.Until }

// Asked reports whether it counts for nothing as long as no second person has approved it.
func (c *Counting) Asked() bool { return c.asked }

// Live reports whether it counts at now.
func (c *Counting) Live(now int64) bool { return !c.asked && c.of.Exception.Live(now) }

// Shown is the waiver as people see it at now.
func (c *Counting) Shown(now int64) event.Exception {
	out := c.of.Exception.Shown(c.of.Rule, now)
	if c.asked && out.State == "live" {
		out.State = "asked"
	}
	if c.of.ApprovedAt != 0 {
		out.ApprovedBy, out.ApprovedAt, out.Approved = c.of.ApprovedBy, value.FormatTime(c.of.ApprovedAt), c.of.Approved
	}
	return out
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
