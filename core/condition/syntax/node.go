// Package syntax is the text of conditions and its tree: it reads a condition, tells
// where one stops making sense, and prints a tree in the one canonical way. It knows
// no names and no types: those are the compiler's.
package syntax

import (
	"strconv"
	"strings"

	"ironledger.example/core/value"
)

// Node is a part of a condition; it knows where it stood and prints itself in
// the canonical way, so that parsing what it prints gives the same tree.
type Node interface {
	// Pos is the byte offset of the node in its source.
	Pos() int
	String() string
	rank() int // how tightly it binds: 0 or, 1 and, 2 not, 3 comparison, 4 operand
}

// Logic joins two or more conditions with "and" or "or".
type Logic struct {
	And  bool
	Kids []Node
	At   int
}

// Not negates a condition.
type Not struct {
	X  Node
	At int
}

// Compare sets two operands against each other.
type Compare struct {
	Op   Op
	L, R Node
	At   int // of the operator
}

// Literal is a value written out.
type Literal struct {
	Text  string // as written
	Value value.Value
	At    int
}

// Path is a name with dots, a variable of a quantifier or a bareword; which of
// them is known only when types are checked.
type Path struct {
	Name string
	At   int
}

// Call is known(path), proved(path), age(path) or until(path).
type Call struct {
	Fn  string
	Arg *Path
	At  int
}

// List is a list written out.
type List struct {
	Items []Node
	At    int
}

// Quantifier is any, all, none or count over the members of a list. Body is
// nil for a count without a condition.
type Quantifier struct {
	Fn   string
	Var  string
	Over *Path
	Body Node
	At   int
}

// Op is a comparison operator.
type Op string

// The comparison operators of the language.
const (
	OpEq      Op = "=="
	OpNe      Op = "!="
	OpLt      Op = "<"
	OpLe      Op = "<="
	OpGt      Op = ">"
	OpGe      Op = ">="
	OpIn      Op = "in"
	OpNotIn   Op = "not in"
	OpHas     Op = "contains"
	OpStarts  Op = "starts with"
	OpEnds    Op = "ends with"
	OpMatches Op = "matches"
)

// inverse maps an operator to the one that holds exactly when it does not.
var inverse = map[Op]Op{OpEq: OpNe, OpNe: OpEq, OpLt: OpGe, OpGe: OpLt, OpGt: OpLe, OpLe: OpGt, OpIn: OpNotIn,
	OpNotIn: OpIn}

// mirror maps an operator to the one that holds with its sides exchanged.
var mirror = map[Op]Op{OpEq: OpEq, OpNe: OpNe, OpLt: OpGt, OpGt: OpLt, OpLe: OpGe, OpGe: OpLe, OpIn: OpHas,
	OpHas: OpIn}

// Inverse is the operator that holds exactly when this one does not; false when the
// language has none.
func (o Op) Inverse() (Op, bool) {
	inv, ok := inverse[o]
	return inv, ok
}

// Mirror is the operator that holds with the sides of this one exchanged; false when
// the language has none.
func (o Op) Mirror() (Op, bool) {
	turned, ok := mirror[o]
	return turned, ok
}

// Pos implements [Node]; so do its namesakes below.
func (n *Logic) Pos() int      { return n.Kids[0].Pos() }
func (n *Not) Pos() int        { return n.At }
func (n *Compare) Pos() int    { return n.L.Pos() }
func (n *Literal) Pos() int    { return n.At }
func (n *Path) Pos() int       { return n.At }
func (n *Call) Pos() int       { return n.At }
func (n *List) Pos() int       { return n.At }
func (n *Quantifier) Pos() int { return n.At }

func (n *Logic) rank() int {
	if n.And {
		return 1
	}
	return 0
}
func (n *Not) rank() int        { return 2 }
func (n *Compare) rank() int    { return 3 }
func (n *Literal) rank() int    { return 4 }
func (n *Path) rank() int       { return 4 }
func (n *Call) rank() int       { return 4 }
func (n *List) rank() int       { return 4 }
func (n *Quantifier) rank() int { return 4 }

// Bracket prints a node, in brackets if it binds less tightly than so much.
func Bracket(n Node, atLeast int) string {
	if n.rank() < atLeast {
		return "(" + n.String() + ")"
	}
	return n.String()
}

// String prints the canonical form; so do its namesakes below.
func (n *Logic) String() string {
	word, parts := " or ", make([]string, len(n.Kids))
	if n.And {
		word = " and "
	}
	for i, k := range n.Kids {
		parts[i] = Bracket(k, n.rank()+1)
	}
	return strings.Join(parts, word)
}

func (n *Not) String() string { return "not " + Bracket(n.X, 2) }

func (n *Compare) String() string {
	return Bracket(n.L, 4) + " " + string(n.Op) + " " + Bracket(n.R, 4)
}

func (n *Literal) String() string {
	if n.Value.Kind() == value.Text {
		return strconv.Quote(n.Value.Str())
	}
	return n.Text
}

func (n *Path) String() string { return n.Name }

func (n *Call) String() string { return n.Fn + "(" + n.Arg.Name + ")" }

func (n *List) String() string {
	parts := make([]string, len(n.Items))
	for i, it := range n.Items {
		parts[i] = it.String()
	}
	return "[" + strings.Join(parts, ", ") + "]"
}

func (n *Quantifier) String() string {
	s := n.Fn + " " + n.Var + " in " + n.Over.Name
	if n.Body != nil {
		s += " (" + n.Body.String() + ")"
	}
	return s
}
