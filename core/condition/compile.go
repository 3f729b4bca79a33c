package condition

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/value"
)

// Name is what a dictionary knows of a name: its type and where an [Env]
// keeps its value.
type Name struct {
	Type  value.Type
	Frame int // which of the frames of the Env
	Slot  int // which slot of the frame
	// Shown is whether a device shows it of itself, so that it may be proved whose word it is.
	Shown bool
}

// Dictionary is the set of names a condition may use. Lookup must give the
// same answer for the same name as long as programs compiled with it are used.
type Dictionary interface {
	Lookup(name string) (Name, bool)
	// Names lists every name, for suggestions.
	Names() []string
}

// Frames is how many frames of slots an [Env] has: one for the device, one
// for the request.
const Frames = 2

// maxVars bounds how deep quantifiers nest.
const maxVars = 8

// Frame has the current values of names, each in its slot. What most
// conditions look at, the [Cell], stands apart from the values: a fleet is far
// larger than the caches, and a frame's cells are a few lines of them.
type Frame struct {
	Cells  []Cell
	values []*value.Value
	room   []value.Value // for those that are set; nil: each finds its own
	proved []uint64      // a bit a slot; nil for none
}

// Cell is the number of a value ([value.Value.Number]) and the last moment the
// value may be used. The zero Cell is a name of which nothing is known.
type Cell struct {
	Number int64
	Until  int64 // microseconds since the Unix epoch; [Always] never ends
}

// NewFrame returns a frame of n slots of which nothing is known, with room for
// values that are set.
func NewFrame(n int) Frame {
	return Frame{make([]Cell, n), make([]*value.Value, n), make([]value.Value, n), nil}
}

// NewView returns a frame of n slots of which nothing is known, for values that
// are kept elsewhere: see [Frame.Point].
func NewView(n int) Frame { return Frame{make([]Cell, n), make([]*value.Value, n), nil, nil} }

// Set gives a slot a value that may be used until a moment. An unknown value is
// of no use at any, so that the cell alone tells whether a value counts.
func (f Frame) Set(slot int, v value.Value, until int64) {
	if f.room == nil {
		f.Point(slot, kept(v), until)
		return
	}
	f.room[slot] = v
	f.Point(slot, &f.room[slot], until)
}

// kept moves a value to a place of its own.
func kept(v value.Value) *value.Value { return &v }

// Point gives a slot a value that is kept elsewhere and does not change.
func (f Frame) Point(slot int, v *value.Value, until int64) {
	f.values[slot] = v
	if f.Cells[slot] = (Cell{}); v.Known() {
		f.Cells[slot] = Cell{v.Number(), until}
	}
}

// Value returns the value of a slot, fresh or not; the zero Value for none.
func (f Frame) Value(slot int) value.Value {
	if v := f.values[slot]; v != nil {
		return *v
	}
	return value.Value{}
}

// Prove says that the value of a slot is the device's own word, by the key of its certificate.
func (f *Frame) Prove(slot int) {
	if f.proved == nil {
		f.proved = make([]uint64, (len(f.Cells)+63)/64)
	}
	f.proved[slot/64] |= 1 << (slot % 64)
}

// Proved reports whether [Frame.Prove] was said of a slot.
func (f Frame) Proved(slot int) bool { return f.proved != nil && f.proved[slot/64]>>(slot%64)&1 == 1 }

// Holds reports whether a slot has the very value that is kept there.
func (f Frame) Holds(slot int, v *value.Value) bool { return f.values[slot] == v }

// Clear makes nothing known of any slot.
func (f Frame) Clear() {
	clear(f.Cells)
	clear(f.values)
	clear(f.proved)
}

// Clone returns a copy that can be set without changing f.
func (f Frame) Clone() Frame {
	g := NewFrame(len(f.Cells))
	copy(g.Cells, f.Cells)
	g.proved = slices.Clone(f.proved)
	for i := range f.values {
		if v := f.values[i]; v != nil {
			g.room[i] = *v
			g.values[i] = &g.room[i]
		}
	}
	return g
}

// Always is the Until of a value that does not go stale.
const Always = int64(1<<63 - 1)

// Env is what a program is evaluated in: the moment and the slots. It must not
// be shared between goroutines while a program runs.
type Env struct {
	Now    int64 // microseconds since the Unix epoch
	Frames [Frames]Frame
	vars   [maxVars]value.Value
	steps  int64 // that one evaluation took: members of lists that were looked at
	all    int64 // and those before it
}

// MaxSteps bounds how many members of lists one evaluation of a condition looks
// at, those in nested quantifiers counted each time. What is not settled by then is
// unknown: too much to work out is no proof of anything.
const MaxSteps = 200_000

// step counts one member of a list; false when there were too many.
func (e *Env) step() bool {
	e.steps++
	return e.steps <= MaxSteps
}

// begin makes ready for an evaluation.
func (e *Env) begin() {
	e.all += e.steps
	e.steps = 0
}

// Exhausted reports whether the last evaluation took too many steps.
func (e *Env) Exhausted() bool { return e.steps > MaxSteps }

// Steps is how many members of lists were looked at in this environment altogether.
func (e *Env) Steps() int64 { return e.all + e.steps }

// known returns the value of a slot if there is one that is still fresh.
func (e *Env) known(frame, slot int) (value.Value, bool) {
	return e.Frames[frame].Value(slot), e.Frames[frame].Cells[slot].Until >= e.Now
}

// Program is a compiled condition. It is immutable and safe to share.
type Program struct {
	root   *expr
	node   syntax.Node
	text   string // of node
	leaves int    // that an explanation makes room for
	loops  bool   // whether it goes over lists
}

// Eval returns the truth of the condition. It does not allocate.
func (p *Program) Eval(env *Env) Tri {
	env.begin()
	return p.root.eval(env)
}

// Func returns Eval as a plain function.
func (p *Program) Func() func(*Env) Tri {
	if p.loops {
		return p.Eval
	}
	return p.root.eval
}

// String prints the condition in the canonical way.
func (p *Program) String() string { return p.text }

// Node returns the tree the program was compiled from.
func (p *Program) Node() syntax.Node { return p.node }

// Reads lists the names whose values the condition depends on, each once.
func (p *Program) Reads() []string { return p.reads(func(*expr) bool { return true }) }

// Opens lists those of [Program.Reads] whose values are looked at, and not only
// their cells.
func (p *Program) Opens() []string { return p.reads(func(e *expr) bool { return !e.shallow }) }

func (p *Program) reads(which func(*expr) bool) []string {
	var names []string
	p.root.walk(func(e *expr) {
		if !which(e) {
			return
		}
		for _, r := range e.reads {
			if !slices.Contains(names, r.name) {
				names = append(names, r.name)
			}
		}
	})
	return names
}

// CompileText parses and compiles a condition. The error is an [*Error] or
// [Errors].
func CompileText(src string, dict Dictionary) (*Program, error) {
	n, err := syntax.Parse(src)
	if err != nil {
		return nil, err
	}
	return Compile(n, src, dict)
}

// Compile checks the types of a tree against dict and compiles it. The error
// is an [Errors] with everything that is wrong.
func Compile(n syntax.Node, src string, dict Dictionary) (*Program, error) {
	c := &compiler{src: src, dict: dict}
	root := c.truth(n)
	if len(c.errs) > 0 {
		return nil, c.errs
	}
	loops := false
	syntax.Walk(n, func(n syntax.Node) {
		_, over := n.(*syntax.Quantifier)
		loops = loops || over
	})
	return &Program{root: root, node: n, text: n.String(), leaves: min(root.print(), 4), loops: loops}, nil
}

// read is a slot that a leaf depends on.
type read struct {
	name        string
	frame, slot int
}

type exprKind uint8

const (
	leafExpr exprKind = iota
	andExpr
	orExpr
	notExpr
	quantExpr
)

// expr is a checked condition. The closures of a tree are built from those of
// its parts; explain and next walk the tree itself.
type expr struct {
	kind  exprKind
	node  syntax.Node
	kids  []*expr
	eval  func(*Env) Tri
	reads []read

	interval *Interval // when it is no more than that
	shallow  bool      // whether cells tell, but for few values

	// of a leaf
	turns   []func(*Env) int64 // when the passing of time alone may turn it
	show    *operand           // what a person calls the observed value
	said    string             // the leaf itself, as text
	denied  string             // the same under a "not"
	want    string             // what it must be, as text
	unwant  string             // the same under a "not"
	against *operand           // the other side of a comparison

	// of a quantifier; its body is kids[0]
	list *operand
	slot int
	fn   string
}

func (e *expr) walk(visit func(*expr)) {
	visit(e)
	for _, k := range e.kids {
		k.walk(visit)
	}
}

// operand is a checked side of a comparison.
type operand struct {
	typ   value.Type
	eval  func(*Env) value.Value // the zero Value when unknown
	reads []read
	konst bool
	value value.Value // of a constant
	slope int64       // how the value moves with now: age +1, until -1
	plain bool        // a single slot read and nothing else
	path  string      // name for people, of a path

	turn func(*Env) int64 // when a condition inside it could turn by time alone; nil if it has none
}

type variable struct {
	name string
	typ  value.Type
	slot int
}

type compiler struct {
	src  string
	dict Dictionary
	vars []variable
	errs syntax.Errors
}

func (c *compiler) fail(n syntax.Node, hint, format string, args ...any) {
	width := 1
	switch n := n.(type) {
	case *syntax.Path:
		width = len(n.Name)
	case *syntax.Literal:
		width = len(n.Text)
	}
	c.failAt(n.Pos(), width, hint, format, args...)
}

func (c *compiler) failAt(pos, width int, hint, format string, args ...any) {
	c.errs = append(c.errs, &syntax.Error{Source: c.src, Offset: pos, Width: width, Hint: hint,
		Message: fmt.Sprintf(format, args...)})
}

// unknownExpr stands for a part that did not compile, so that the rest is
// still checked.
var unknownExpr = &expr{kind: leafExpr, eval: func(*Env) Tri { return Unknown }}

// truth compiles a node that must be true, false or unknown.
func (c *compiler) truth(n syntax.Node) *expr {
	switch n := n.(type) {
	case *syntax.Logic:
		return c.logic(n)
	case *syntax.Not:
		x := c.truth(n.X)
		inner := x.eval
		e := &expr{kind: notExpr, node: n, kids: []*expr{x}, eval: func(e *Env) Tri { return -inner(e) },
			interval: x.interval.not()}
		if e.interval != nil {
			e.eval = e.interval.eval()
		}
		return e
	case *syntax.Compare:
		return c.compare(n)
	case *syntax.Quantifier:
		if n.Fn != "count" {
			return c.quantifier(n)
		}
	case *syntax.Call:
		switch n.Fn {
		case "known":
			return c.knownCall(n)
		case "proved":
			return c.provedCall(n)
		}
	}
	o := c.operand(n, nil)
	if o == nil {
		return unknownExpr
	}
	if o.typ.Kind != value.Bool {
		c.fail(n, "compare it with something", "%s is %s, not a condition", n, articled(o.typ))
		return unknownExpr
	}
	e := &expr{kind: leafExpr, node: n, reads: o.reads, show: o, want: "true", unwant: "false"}
	if o.plain {
		e.interval = intervalOf(syntax.OpEq, o, 1)
		e.eval, e.shallow = e.interval.eval(), true
		return e
	}
	get := o.eval
	e.eval = func(env *Env) Tri {
		v := get(env)
		if !v.Known() {
			return Unknown
		}
		return Tri(2*v.Num() - 1)
	}
	return e
}

func (c *compiler) logic(n *syntax.Logic) *expr {
	e := &expr{kind: orExpr, node: n}
	if n.And {
		e.kind = andExpr
	}
	evals := make([]func(*Env) Tri, len(n.Kids))
	for i, k := range n.Kids {
		kid := c.truth(k)
		e.kids = append(e.kids, kid)
		evals[i] = kid.eval
	}
	// stop is the value that settles the whole: false for and, true for or.
	stop := True
	if n.And {
		stop = False
	}
	if j := e.junction(); j != nil {
		e.eval = j.eval()
		return e
	}
	if len(evals) == 2 {
		a, b := evals[0], evals[1]
		e.eval = func(env *Env) Tri {
			x := a(env)
			if x == stop {
				return stop
			}
			if y := b(env); y == stop || x != Unknown {
				return y
			}
			return Unknown
		}
		return e
	}
	e.eval = func(env *Env) Tri {
		result := -stop
		for _, f := range evals {
			switch t := f(env); t {
			case stop:
				return stop
			case Unknown:
				result = Unknown
			}
		}
		return result
	}
	return e
}

func (c *compiler) knownCall(n *syntax.Call) *expr {
	o := c.operand(n.Arg, nil)
	if o == nil {
		return unknownExpr
	}
	e := &expr{kind: leafExpr, node: n, reads: o.reads, show: o, want: "known", unwant: "not known",
		shallow: o.plain}
	if o.typ.Kind == value.List { // known is one of which every member is
		get := o.eval
		e.shallow = false
		e.eval = func(e *Env) Tri { l := get(e); return triOf(l.Known() && len(l.Perhaps()) == 0) }
		return e
	}
	if o.plain {
		e.interval = &Interval{Slot: o.reads[0].slot, Low: math.MinInt64, High: math.MaxInt64, Inside: True,
			Outside: True, Stale: False, frame: o.reads[0].frame}
		e.eval = e.interval.eval()
		return e
	}
	get := o.eval
	e.eval = func(e *Env) Tri { return triOf(get(e).Known()) }
	return e
}

// provedCall compiles proved(path): whether the value is the device's own word, by the key of its certificate. Of a
// value that is not known nothing is said.
func (c *compiler) provedCall(n *syntax.Call) *expr {
	o := c.operand(n.Arg, nil)
	if o == nil {
		return unknownExpr
	}
	name, ok := c.dict.Lookup(n.Arg.Name)
	if !ok || !name.Shown || !o.plain {
		c.fail(n.Arg, "", "proved takes an attribute that a device reports; %s is none", n.Arg.Name)
		return unknownExpr
	}
	f, s := name.Frame, name.Slot
	e := &expr{kind: leafExpr, node: n, reads: o.reads, show: &operand{typ: value.Of(value.Text), path: n.Arg.Name},
		want: "proved by the device's certificate", unwant: "not proved by the device's certificate"}
	e.show.eval = func(e *Env) value.Value {
		switch v, ok := e.known(f, s); {
		case !ok:
			return value.Value{}
		case e.Frames[f].Proved(s):
			return value.OfText(v.String() + ", proved")
		default:
			return value.OfText(v.String() + ", not proved")
		}
	}
	e.eval = func(e *Env) Tri {
		if _, ok := e.known(f, s); !ok {
			return Unknown
		}
		return triOf(e.Frames[f].Proved(s))
	}
	return e
}

func (c *compiler) quantifier(n *syntax.Quantifier) *expr {
	list, body, slot := c.over(n)
	if list == nil || body == nil {
		return unknownExpr
	}
	members, test := list.eval, body.eval
	// stop is the body's value that settles the answer, and found the answer then.
	stop, found := True, True
	switch n.Fn {
	case "all":
		stop, found = False, False
	case "none":
		found = False
	}
	e := &expr{kind: quantExpr, node: n, kids: []*expr{body}, reads: list.reads, list: list, slot: slot, fn: n.Fn,
		show: list, want: n.String(), unwant: "not " + n.String()}
	e.eval = func(env *Env) Tri {
		l := members(env)
		if !l.Known() {
			return Unknown
		}
		result := -found
		for _, m := range l.Members() {
			if !env.step() {
				return Unknown
			}
			env.vars[slot] = m
			switch test(env) {
			case stop:
				return found
			case Unknown:
				result = Unknown
			}
		}
		for _, m := range l.Perhaps() {
			if !env.step() {
				return Unknown
			}
			env.vars[slot] = m
			if test(env) != -stop { // it would count, if it is one
				result = Unknown
			}
		}
		return result
	}
	return e
}

// over compiles the list and the body of a quantifier and returns the slot of
// its variable. The body of a bare count is nil.
func (c *compiler) over(n *syntax.Quantifier) (*operand, *expr, int) {
	list := c.operand(n.Over, nil)
	if list == nil {
		return nil, nil, 0
	}
	if list.typ.Kind != value.List {
		c.fail(n.Over, "", "%s is %s; %s goes over a list", n.Over.Name, articled(list.typ), n.Fn)
		return nil, nil, 0
	}
	if len(c.vars) == maxVars {
		c.failAt(n.At, len(n.Fn), "", "quantifiers are nested more than %d deep", maxVars)
		return nil, nil, 0
	}
	if n.Body == nil {
		return list, nil, 0
	}
	slot := len(c.vars)
	c.vars = append(c.vars, variable{n.Var, *list.typ.Elem, slot})
	body := c.truth(n.Body)
	c.vars = c.vars[:slot]
	return list, body, slot
}

func articled(t value.Type) string {
	switch t.Kind {
	case value.Bool:
		return "true or false"
	case value.Int:
		return "a whole number"
	case value.Text:
		return "text"
	case value.Enum:
		return "one of " + strings.Join(t.Enum.Words, ", ")
	case value.Network:
		return "an address or network"
	}
	return "a " + t.String()
}
