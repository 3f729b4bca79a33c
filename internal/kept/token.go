package kept

// TokenTerm is when a bearer token ends by itself.
type TokenTerm struct {
	ID     string `json:"id"`
	EndsAt int64  `json:"ends_at"` // in microseconds since the Unix epoch
}

// TokenUses is when bearer tokens were last used, by id, as far as that was kept: in microseconds since the Unix epoch.
type TokenUses map[string]int64
