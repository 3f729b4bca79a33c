package condition

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/value"
)

// oracle evaluates a tree the slow and obvious way, without types, closures or
// short cuts, to hold the compiled program to.
type oracle struct {
	book *book
	vars map[string]value.Value
}

func (o *oracle) truth(n syntax.Node) Tri {
	switch n := n.(type) {
	case *syntax.Logic:
		all := make([]Tri, len(n.Kids))
		for i, k := range n.Kids {
			all[i] = o.truth(k)
		}
		if n.And {
			return slices.Min(all)
		}
		return slices.Max(all)
	case *syntax.Not:
		return -o.truth(n.X)
	case *syntax.Compare:
		return o.compare(n)
	case *syntax.Quantifier:
		return o.quantifier(n)
	case *syntax.Call:
		if n.Fn == "known" {
			return triOf(o.value(n.Arg, nil).Known())
		}
	}
	v := o.value(n, nil)
	if !v.Known() {
		return Unknown
	}
	return triOf(v.IsTrue())
}

func (o *oracle) quantifier(n *syntax.Quantifier) Tri {
	list := o.value(n.Over, nil)
	if !list.Known() {
		return Unknown
	}
	any, all := False, True
	for _, m := range list.Members() {
		o.vars[n.Var] = m
		t := o.truth(n.Body)
		any, all = max(any, t), min(all, t)
	}
	delete(o.vars, n.Var)
	return map[string]Tri{"any": any, "all": all, "none": -any}[n.Fn]
}

// value gives an operand; like is the type of the other side, for barewords.
func (o *oracle) value(n syntax.Node, like *value.Type) value.Value {
	switch n := n.(type) {
	case *syntax.Literal:
		if like != nil && like.Kind == value.Version {
			v, _ := value.ParseVersion(n.Text)
			return v
		}
		return n.Value
	case *syntax.Path:
		if like != nil && like.Kind == value.Enum && like.Enum.Index(n.Name) >= 0 {
			return value.OfEnum(like.Enum, like.Enum.Index(n.Name))
		}
		head, field, dotted := strings.Cut(n.Name, ".")
		if v, ok := o.vars[head]; ok {
			if !dotted {
				return v
			}
			t := o.book.types["volumes"].Elem.Record
			return v.FieldAt(t.Index(field))
		}
		i := slices.Index(o.book.names, n.Name)
		f := o.book.env.Frames[0]
		if f.Cells[i].Until < o.book.env.Now {
			return value.Value{}
		}
		return f.Value(i)
	case *syntax.Call:
		t := o.value(n.Arg, nil)
		if !t.Known() {
			return t
		}
		d := o.book.env.Now - t.Num()
		if n.Fn == "until" {
			d = -d
		}
		return value.OfDuration(d)
	case *syntax.List:
		var out []value.Value
		for _, it := range n.Items {
			out = append(out, o.value(it, like))
		}
		return value.OfList(out)
	}
	panic(fmt.Sprintf("the oracle does not know %T", n))
}

func (o *oracle) compare(n *syntax.Compare) Tri {
	var like *value.Type
	if p, ok := n.L.(*syntax.Path); ok {
		if t, ok := o.book.types[p.Name]; ok {
			like = &t
		}
	}
	a, b := o.value(n.L, nil), o.value(n.R, like)
	if !a.Known() || !b.Known() {
		return Unknown
	}
	switch n.Op {
	case syntax.OpEq:
		return triOf(a.Equal(b))
	case syntax.OpNe:
		return triOf(!a.Equal(b))
	case syntax.OpLt:
		return triOf(a.Compare(b) < 0)
	case syntax.OpLe:
		return triOf(a.Compare(b) <= 0)
	case syntax.OpGt:
		return triOf(a.Compare(b) > 0)
	case syntax.OpGe:
		return triOf(a.Compare(b) >= 0)
	}
	found := False
	for _, m := range b.Members() {
		switch {
		case !m.Known():
			found = max(found, Unknown)
		case m.Equal(a):
			found = True
		}
	}
	if n.Op == syntax.OpNotIn {
		return -found
	}
	return found
}

// random writes a condition of some depth over the names of the test book.
func random(r *rand.Rand, depth int, inVolume bool) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	no := pick("", "", "no.")
	leaves := []func() string{
		func() string { return no + pick("on", "off") },
		func() string { return "known(" + no + pick("on", "score", "patched") + ")" },
		func() string {
			return no + "score " + pick("<", "<=", "==", "!=", ">", ">=") + " " + pick("29", "30", "31")
		},
		func() string {
			return no + "platform " + pick("== macos", "!= linux", "in [macos, linux]", "not in [windows]")
		},
		func() string {
			return no + "threat.level " + pick("<", ">=", "==") + " " + pick("none", "low", "medium")
		},
		func() string {
			return no + "os.version " + pick("<", ">=", "==", ">") + " " + pick("14", "14.6", "14.6.1", "15")
		},
		func() string {
			return pick("age", "until") + "(" + no + "patched) " + pick("<", "<=", ">", ">=", "==") + " " +
				pick("1h", "10d", "12d", "13d")
		},
		func() string { return "score in [" + pick("30", "31") + ", " + pick("no.score", "29", "score") + "]" },
	}
	if inVolume {
		leaves = append(leaves, func() string { return "v." + pick("system", "encrypted") },
			func() string { return "until(v.ends) " + pick("<", ">") + " " + pick("1d", "3d", "9d", "30d") },
			func() string { return `v.name == "root"` })
	}
	if depth == 0 || r.IntN(4) == 0 {
		return leaves[r.IntN(len(leaves))]()
	}
	switch r.IntN(5) {
	case 0:
		return "not (" + random(r, depth-1, inVolume) + ")"
	case 1:
		if !inVolume {
			return pick("any", "all", "none") + " v in " + no + "volumes (" + random(r, depth-1, true) + ")"
		}
		fallthrough
	case 2:
		return "(" + random(r, depth-1, inVolume) + ") or (" + random(r, depth-1, inVolume) + ")"
	}
	return "(" + random(r, depth-1, inVolume) + ") and (" + random(r, depth-1, inVolume) + ")"
}

func TestRandomConditionsAgreeWithTheOracle(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	seen := map[Tri]int{}
	for range 4000 {
		b := newBook(t)
		text := random(r, 4, false)
		p, err := CompileText(text, b)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		want := (&oracle{b, map[string]value.Value{}}).truth(p.Node())
		if got := p.Eval(b.env); got != want {
			t.Fatalf("%s is %v, the oracle says %v", text, got, want)
		}
		printed, err := CompileText(p.String(), b)
		if err != nil || printed.Eval(b.env) != want {
			t.Fatalf("%s prints as %s, which is another (%v)", text, p, err)
		}
		seen[want]++
	}
	for _, v := range []Tri{True, False, Unknown} {
		if seen[v] < 200 {
			t.Errorf("only %d of the random conditions are %v: the test tries too little", seen[v], v)
		}
	}
}

// Between now and the moment that Next names, no condition may change its
// value; only then may it.
func TestNextIsNeverTooLate(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	changed := 0
	for range 3000 {
		b := newBook(t)
		var moments []int64
		for i, v := range b.env.Frames[0].values {
			if s := &b.env.Frames[0].Cells[i]; v.Known() && r.IntN(2) == 0 {
				s.Until = now + r.Int64N(20)*day/2
				moments = append(moments, s.Until, s.Until+1)
			}
		}
		for _, d := range []int64{day / 24, day, 2 * day, 3 * day, 9 * day, 10 * day, 12 * day, 13 * day,
			30 * day} {
			for _, at := range []string{"2026-11-10T08:00:00Z", "2026-11-22", "2026-11-25", "2026-12-01"} {
				moments = append(moments, mustMicros(at)+d, mustMicros(at)+d+1, mustMicros(at)-d,
					mustMicros(at)-d+1)
			}
		}
		text := random(r, 3, false)
		p, err := CompileText(text, b)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		before, next := p.Eval(b.env), p.Next(b.env)
		for _, m := range moments {
			if m <= now || m >= next {
				continue
			}
			later := *b.env
			later.Now = m
			if got := p.Eval(&later); got != before {
				t.Fatalf("%s is %v now and %v after %s, before the next change after %s", text, before, got,
					value.FormatAge(m-now), value.FormatAge(next-now))
			}
		}
		if next < Always {
			later := *b.env
			later.Now = next
			if p.Eval(&later) != before {
				changed++
			}
		}
	}
	if changed < 300 {
		t.Errorf("only %d conditions changed at their moment: the test tries too little", changed)
	}
}
