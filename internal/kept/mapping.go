package kept

import "encoding/json"

// Mapping is how the files of a source are read that a person brings in.
type Mapping struct {
	Source  string          `json:"source"`
	Mapping json.RawMessage `json:"mapping"`
	By      string          `json:"by"`
	At      int64           `json:"at"` // microseconds since the Unix epoch
}
