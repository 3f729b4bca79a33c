package state

// Seen is an alert that somebody has seen.
type Seen struct {
	ID   string `json:"id"`
	By   string `json:"by"`
	At   int64  `json:"at"` // in microseconds since the Unix epoch
	Note string `json:"note,omitempty"`
}
