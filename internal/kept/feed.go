package kept

import "ironledger.example/core/feed"

// The states of a feed.
const (
	FeedEnabled = "enabled"
	FeedPaused  = "paused"
)

// Feed is where a partner's inventory is fetched. Moments are in microseconds since the
// Unix epoch.
type Feed struct {
	feed.Settings
	Secret      []byte `json:"secret,omitempty"` // sealed
	SecretAt    int64  `json:"secret_at,omitempty"`
	SecretUntil int64  `json:"secret_until,omitempty"` // when it ends; 0 for who knows
	Status      string `json:"status"`
	Reason      string `json:"reason,omitempty"` // of the status
	By          string `json:"by,omitempty"`     // who set the status
	CreatedAt   int64  `json:"created_at"`
	CreatedBy   string `json:"created_by"`
}

// Heard is a security event of a partner that was taken: it is not taken again.
type Heard struct {
	Source string `json:"source"`
	At     int64  `json:"at"`
}
