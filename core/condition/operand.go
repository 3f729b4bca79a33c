package condition

import (
	"slices"
	"strings"

	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/value"
)

// operand compiles one side of a comparison. want, when not nil, is the type
// that stands on the other side: it gives barewords and numbers their meaning.
func (c *compiler) operand(n syntax.Node, want *value.Type) *operand {
	switch n := n.(type) {
	case *syntax.Literal:
		return c.literal(n, want)
	case *syntax.Path:
		return c.path(n, want)
	case *syntax.Call:
		return c.call(n)
	case *syntax.List:
		return c.list(n, want)
	case *syntax.Quantifier:
		if n.Fn == "count" {
			return c.count(n)
		}
	}
	x := c.truth(n)
	if x == unknownExpr {
		return nil
	}
	test, reads := x.eval, []read(nil)
	x.walk(func(e *expr) { reads = append(reads, e.reads...) })
	turn := func(e *Env) int64 { _, at := x.next(e); return at }
	return &operand{typ: value.Of(value.Bool), reads: reads, turn: turn, eval: func(e *Env) value.Value {
		switch test(e) {
		case True:
			return value.OfBool(true)
		case False:
			return value.OfBool(false)
		}
		return value.Value{}
	}}
}

func constant(t value.Type, v value.Value) *operand {
	return &operand{typ: t, konst: true, value: v, eval: func(*Env) value.Value { return v }}
}

func (c *compiler) literal(n *syntax.Literal, want *value.Type) *operand {
	kind := n.Value.Kind()
	if want != nil && kind != want.Kind {
		switch {
		case kind == value.Int && want.Kind == value.Version,
			kind == value.Version && want.Kind == value.Network:
			if v, err := value.Parse(*want, n.Text); err == nil {
				return constant(*want, v)
			}
		case kind == value.Text && want.Kind != value.List:
			if _, err := value.Parse(*want, n.Value.Str()); err == nil {
				c.fail(n, "write "+n.Value.Str()+" without quotes", "%s is text, where %s was expected", n,
					articled(*want))
				return nil
			}
		}
	}
	return constant(value.Of(kind), n.Value)
}

func (c *compiler) path(n *syntax.Path, want *value.Type) *operand {
	if n.Name == "true" || n.Name == "false" {
		return constant(value.Of(value.Bool), value.OfBool(n.Name == "true"))
	}
	if o := c.variable(n); o != nil {
		return o
	}
	if want != nil && want.Kind == value.Enum {
		if i := want.Enum.Index(n.Name); i >= 0 {
			return constant(*want, value.OfEnum(want.Enum, i))
		}
	}
	if name, ok := c.dict.Lookup(n.Name); ok {
		f, s := name.Frame, name.Slot
		return &operand{typ: name.Type, plain: true, path: n.Name, reads: []read{{n.Name, f, s}},
			eval: func(e *Env) value.Value {
				if v, ok := e.known(f, s); ok {
					return v
				}
				return value.Value{}
			}}
	}
	c.unknownName(n, want)
	return nil
}

func (c *compiler) unknownName(n *syntax.Path, want *value.Type) {
	head, field, dotted := strings.Cut(n.Name, ".")
	for _, v := range c.vars {
		if v.name == head && dotted {
			hint := ""
			if v.typ.Kind == value.Record {
				hint = didYouMean(field, fieldNames(v.typ.Record))
			}
			c.fail(n, hint, "%s has no field %s", articled(v.typ), field)
			return
		}
	}
	if want != nil && want.Kind == value.Enum {
		c.fail(n, didYouMean(n.Name, append(slices.Clone(want.Enum.Words), c.dict.Names()...)),
			"%s is not one of %s", n.Name, strings.Join(want.Enum.Words, ", "))
		return
	}
	names := c.dict.Names()
	for _, v := range c.vars {
		names = append(names, v.name)
	}
	hint := didYouMean(n.Name, names)
	if want != nil && want.Kind == value.Text && hint == "" {
		hint = "text stands in quotes"
	}
	c.fail(n, hint, "there is no name %s", n.Name)
}

func fieldNames(r *value.RecordType) []string {
	var names []string
	for _, f := range r.Fields {
		if !f.Hidden {
			names = append(names, f.Name)
		}
	}
	return names
}

// variable compiles a name bound by a quantifier, or a field of it.
func (c *compiler) variable(n *syntax.Path) *operand {
	head, field, dotted := strings.Cut(n.Name, ".")
	for _, v := range slices.Backward(c.vars) {
		if v.name != head {
			continue
		}
		slot := v.slot
		if !dotted {
			return &operand{typ: v.typ, path: n.Name, eval: func(e *Env) value.Value { return e.vars[slot] }}
		}
		if v.typ.Kind != value.Record {
			return nil
		}
		i := v.typ.Record.Index(field)
		if i < 0 || v.typ.Record.Fields[i].Hidden {
			return nil
		}
		return &operand{typ: v.typ.Record.Fields[i].Type, path: n.Name,
			eval: func(e *Env) value.Value { return e.vars[slot].FieldAt(i) }}
	}
	return nil
}

func (c *compiler) call(n *syntax.Call) *operand {
	switch n.Fn {
	case "proved":
		x := c.provedCall(n)
		test := x.eval
		return &operand{typ: value.Of(value.Bool), reads: x.reads, eval: func(e *Env) value.Value {
			t := test(e)
			if t == Unknown {
				return value.Value{}
			}
			return value.OfBool(t == True)
		}}
	case "known":
		x := c.knownCall(n)
		test := x.eval
		return &operand{typ: value.Of(value.Bool), reads: x.reads,
			eval: func(e *Env) value.Value { return value.OfBool(test(e) == True) }}
	}
	o := c.operand(n.Arg, nil)
	if o == nil {
		return nil
	}
	if o.typ.Kind != value.Time {
		c.fail(n.Arg, "", "%s is %s; %s takes a time", n.Arg.Name, articled(o.typ), n.Fn)
		return nil
	}
	slope := int64(1)
	if n.Fn == "until" {
		slope = -1
	}
	get := o.eval
	return &operand{typ: value.Of(value.Duration), reads: o.reads, slope: slope, path: n.Arg.Name,
		eval: func(e *Env) value.Value {
			t := get(e)
			if !t.Known() {
				return t
			}
			return value.OfDuration(slope * (e.Now - t.Num()))
		}}
}

func (c *compiler) list(n *syntax.List, want *value.Type) *operand {
	var elem *value.Type
	if want != nil && want.Kind == value.List {
		elem = want.Elem
	}
	o := &operand{konst: true}
	items := make([]*operand, 0, len(n.Items))
	for _, it := range n.Items {
		x := c.operand(it, elem)
		if x == nil {
			return nil
		}
		if elem != nil && !x.typ.Same(*elem) && !(x.typ.Kind == value.Network && elem.Kind == value.Text) {
			c.fail(it, "", "%s is %s in a list of %s", it, articled(x.typ), *elem)
			return nil
		}
		if elem == nil || elem.Kind == value.Text && x.typ.Kind == value.Network {
			elem = &x.typ
		}
		o.konst = o.konst && x.konst
		o.reads = append(o.reads, x.reads...)
		items = append(items, x)
	}
	if elem == nil {
		t := value.Of(value.Text)
		elem = &t
	}
	o.typ = value.ListOf(*elem)
	gather := func(e *Env) value.Value {
		members := make([]value.Value, len(items))
		for i, it := range items {
			members[i] = it.eval(e)
		}
		return value.OfList(members)
	}
	if o.konst {
		fixed := gather(nil)
		o.value = fixed
		o.eval = func(*Env) value.Value { return fixed }
		return o
	}
	o.eval = gather
	return o
}

func (c *compiler) count(n *syntax.Quantifier) *operand {
	list, body, slot := c.over(n)
	if list == nil || n.Body != nil && body == nil {
		return nil
	}
	members := list.eval
	o := &operand{typ: value.Of(value.Int), reads: list.reads, path: n.Over.Name}
	if body == nil {
		o.eval = func(e *Env) value.Value {
			l := members(e)
			if !l.Known() || len(l.Perhaps()) > 0 {
				return value.Value{}
			}
			return value.OfInt(int64(len(l.Members())))
		}
		return o
	}
	body.walk(func(e *expr) { o.reads = append(o.reads, e.reads...) })
	test := body.eval
	o.turn = func(e *Env) int64 {
		at, l := Always, members(e)
		for _, m := range slices.Concat(l.Members(), l.Perhaps()) {
			if !e.step() {
				return Always
			}
			e.vars[slot] = m
			_, t := body.next(e)
			at = min(at, t)
		}
		return at
	}
	o.eval = func(e *Env) value.Value {
		l := members(e)
		if !l.Known() {
			return l
		}
		n := int64(0)
		for _, m := range l.Members() {
			if !e.step() {
				return value.Value{}
			}
			e.vars[slot] = m
			switch test(e) {
			case True:
				n++
			case Unknown:
				return value.Value{}
			}
		}
		for _, m := range l.Perhaps() {
			if !e.step() {
				return value.Value{}
			}
			e.vars[slot] = m
			if test(e) != False {
				return value.Value{}
			}
		}
		return value.OfInt(n)
	}
	return o
}
