package kept

// Search is a search of devices that somebody keeps under a name.
type Search struct {
	Name    string   `json:"name"`
	Where   string   `json:"where,omitempty"`
	Q       string   `json:"q,omitempty"`
	Sort    string   `json:"sort,omitempty"`
	Columns []string `json:"columns,omitempty"`
	By      string   `json:"by"`
}
