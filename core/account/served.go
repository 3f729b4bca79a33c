package account

import (
	"strings"

	"ironledger.example/core/event"
	"ironledger.example/core/rulebook"
)

// Served tells what a rulebook has that may serve controls: its rules, by their keys in the order given, and its gates
// that do.
func Served(rb *rulebook.Rulebook, keys []string) (rules []event.PublishedRule, gates []event.PublishedGate) {
	baselines := map[string]*rulebook.Baseline{}
	for i := range rb.Baselines {
		baselines[rb.Baselines[i].ID] = &rb.Baselines[i]
	}
	for _, key := range keys {
		r := event.PublishedRule{Rule: key}
		id, _, _ := strings.Cut(key, "/")
		if b, of := baselines[id], rb.Rule(key); b != nil && of != nil {
			r.Controls, r.Shadow = b.Serves(of), b.Mode != rulebook.Enforce
		}
		rules = append(rules, r)
	}
	for _, g := range rb.Gates {
		if g.Mode != rulebook.Draft && len(g.Controls) > 0 {
			gates = append(gates, event.PublishedGate{Gate: g.ID, Controls: g.Controls, Shadow: g.Mode != rulebook.Enforce})
		}
	}
	return rules, gates
}
