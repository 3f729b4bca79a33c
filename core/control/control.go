// Package control has the catalogues of written controls that rules and gates serve, and reads those that others
// publish.
package control

import (
	"regexp"
	"slices"
)

// Control is something that an organisation has to hold to, as its catalogue words it.
type Control struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	Group string `json:"group,omitempty"` // the title of the group that it stands in
	Text  string `json:"text,omitempty"`
	// Statement is the id of its statement in an OSCAL catalogue, "" for one of our own.
	Statement string `json:"statement,omitempty"`
}

// Catalogue is the controls that a rulebook answers to, in the order of their catalogues.
type Catalogue struct {
	Title    string    `json:"title,omitempty"`
	Version  string    `json:"version,omitempty"`
	Controls []Control `json:"controls"`
}

// Control is the one of an id, nil for none.
func (c *Catalogue) Control(id string) *Control {
	if i := slices.IndexFunc(c.Controls, func(x Control) bool { return x.ID == id }); i >= 0 {
		return &c.Controls[i]
	}
	return nil
}

// IDs lists the ids.
func (c *Catalogue) IDs() []string {
	out := make([]string, len(c.Controls))
	for i, x := range c.Controls {
		out[i] = x.ID
	}
	return out
}

// The bounds of a catalogue.
const (
	MaxControls = 10_000
	MaxTitle    = 500   // bytes of a title
	MaxText     = 8_000 // bytes of what a control says
	MaxFile     = 64 << 20
)

// ID is what the id of a control looks like: a token of OSCAL, in ASCII.
var ID = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9._-]{0,99}$`)
