package kept

import (
	"ironledger.example/core/condition"
	"ironledger.example/core/value"
)

// Quarantine is a person's own order that a device stands at the lowest level. Moments are in microseconds since the
// Unix epoch.
type Quarantine struct {
	Device string `json:"device"`
	Reason string `json:"reason"`
	By     string `json:"by"`
	At     int64  `json:"at"`
	Until  int64  `json:"until,omitempty"` // 0: until it is lifted
}

// End is until when it holds; [condition.Always] until it is lifted. That of none is 0.
func (q *Quarantine) End() int64 {
	switch {
	case q == nil:
		return 0
	case q.Until == 0:
		return condition.Always
	}
	return q.Until
}

// Holding is until when it holds if it does at a moment, else 0.
func (q *Quarantine) Holding(now int64) int64 {
	if end := q.End(); end > now {
		return end
	}
	return 0
}

// Holds reports whether it holds at a moment.
func (q *Quarantine) Holds(now int64) bool { return q.End() > now }

// Why says who ordered it and why, in a clause.
func (q *Quarantine) Why() string {
	until := "until it is lifted"
	if q.Until != 0 {
		until = "until " + value.FormatTime(q.Until)
	}
	return "the device " + q.Device + " is in quarantine " + until + ", by " + q.By + ": " + q.Reason
}
