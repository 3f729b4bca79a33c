// Package kept is the documents that the state keeps of receivers, notices, alerts and feeds:
// what they are, and nothing of what is done with them.
package kept

// Seen is an alert that somebody has seen.
type Seen struct {
	ID   string `json:"id"`
	By   string `json:"by"`
	At   int64  `json:"at"` // in microseconds since the Unix epoch
	Note string `json:"note,omitempty"`
}
