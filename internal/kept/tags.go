package kept

import "ironledger.example/core/value"

// Tags are words that people put on a device, and what they noted of it.
type Tags struct {
	Device string   `json:"device"`
	List   []string `json:"tags,omitempty"` // in order
	Note   string   `json:"note,omitempty"`
	Owner  string   `json:"owner,omitempty"` // whose it is where no source says so
	By     string   `json:"by"`              // who changed them last
	At     int64    `json:"at"`              // microseconds since the Unix epoch
}

// Value is the list of tags, nil for none.
func (t *Tags) Value() *value.Value {
	if t == nil || len(t.List) == 0 {
		return nil
	}
	v := value.OfTexts(t.List)
	return &v
}

// Owned is the owner that was set by hand, "" for none.
func (t *Tags) Owned() string {
	if t == nil {
		return ""
	}
	return t.Owner
}
