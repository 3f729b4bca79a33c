package syntax

import "ironledger.example/core/value"

// Walk visits a node and all that stands in it.
func Walk(n Node, visit func(Node)) {
	visit(n)
	switch n := n.(type) {
	case *Logic:
		for _, k := range n.Kids {
			Walk(k, visit)
		}
	case *Not:
		Walk(n.X, visit)
	case *Compare:
		Walk(n.L, visit)
		Walk(n.R, visit)
	case *List:
		for _, it := range n.Items {
			Walk(it, visit)
		}
	case *Quantifier:
		if n.Body != nil {
			Walk(n.Body, visit)
		}
	}
}

// Texts lists the texts that stand in a node.
func Texts(n Node) []string {
	var out []string
	Walk(n, func(n Node) {
		if l, ok := n.(*Literal); ok && l.Value.Kind() == value.Text {
			out = append(out, l.Value.Str())
		}
	})
	return out
}
