package ledger

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/go-json-experiment/json/jsontext"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// RFC 8785, sections 3.2.2 and 3.2.3, and appendix B.
func TestCanonicalFormIsThatOfTheRFC(t *testing.T) {
	for _, c := range []struct{ name, in, want string }{
		{"sorted by UTF-16", `{"\u20ac":1,"\r":2,"\ufb33":3,"1":4,"\ud83d\ude00":5,"\u0080":6,"\u00f6":7}`,
			"{\"\\r\":2,\"1\":4,\"\u0080\":6,\"ö\":7,\"€\":1,\"😀\":5,\"\ufb33\":3}"},
		{"literals and strings", `{ "numbers": [333333333.33333329, 1E30, 4.50, 2e-3, 0.000000000000000000000000001], "string": "\u20ac$\u000F\u000aA'\u0042\u0022\u005c\\\"\/", "literals": [null, true, false] }`,
			`{"literals":[null,true,false],"numbers":[333333333.3333333,1e+30,4.5,0.002,1e-27],"string":"€$\u000f\nA'B\"\\\\\"/"}`},
		{"negative zero", `[-0, -0.0]`, `[0,0]`},
		{"limits", `[5e-324, 1.7976931348623157e308, 9007199254740992, 295147905179352830000]`,
			`[5e-324,1.7976931348623157e+308,9007199254740992,295147905179352830000]`},
		{"no escapes for HTML", `"\u003cb\u003e\u0026"`, `"<b>&"`},
	} {
		got, err := Canonical([]byte(c.in))
		if err != nil || string(got) != c.want {
			t.Errorf("%s: %s (%v), want %s", c.name, got, err, c.want)
		}
	}
	for _, bad := range []string{`{"a":1,"a":2}`, `{`, `"\ud800"`, "\"\xff\"", `{}{}`} {
		if got, err := Canonical([]byte(bad)); err == nil {
			t.Errorf("%q has the canonical form %s", bad, got)
		}
	}
}

func TestWhatLooksCanonicalIs(t *testing.T) {
	for _, raw := range []string{`{"a":1,"b":[true,false,null,0,"å"],"c":{}}`, `[]`, `{"a":{"b":[{"c":""}]}}`,
		`"x"`, `8999999999999999`, `["a \"b\" \\ < c"]`} {
		if !plain([]byte(raw)) {
			t.Errorf("%s goes the long way", raw)
		}
	}
	for _, raw := range []string{`{"b":1,"a":1}`, `{"a":1,"a":1}`, `{"a" :1}`, `[1 ]`, `1.0`, `1e3`, `-0`,
		`01`, `9007199254740993`, `12345678901234567`, `"\u0041"`, `"\/"`, `{"a":1`, `[1`, `[1,]`, `{"a":1,}`,
		"\"\xff\"", "\"\x01\"", `{"å":1}`, `nul`, ``, `{}{}`, `[00]`} {
		if plain([]byte(raw)) {
			t.Errorf("%s passes for canonical", raw)
		}
	}
}

func FuzzCanonicalFormIsStable(f *testing.F) {
	f.Add([]byte(`{"a":1,"b":[true,"å"]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		once, err := Canonical(raw)
		if err != nil {
			return
		}
		v := jsontext.Value(once).Clone()
		if err := v.Canonicalize(); err != nil || !bytes.Equal(v, once) {
			t.Errorf("%q becomes %q and then %q (%v)", raw, once, v, err)
		}
	})
}

// made is a ledger in memory.
type made struct {
	lines []Line
	tree  CompactRange
	tiles map[[2]int64]tlog.Hash
	key   note.Signer
	check note.Verifier
}

func makeLedger(t *testing.T, n int) *made {
	t.Helper()
	private, public, err := NewKey("log.gullholm.example")
	if err != nil {
		t.Fatal(err)
	}
	m := &made{tiles: map[[2]int64]tlog.Hash{}}
	if m.key, err = note.NewSigner(private); err == nil {
		m.check, err = note.NewVerifier(public)
	}
	if err != nil {
		t.Fatal(err)
	}
	for i := range n {
		m.add(Entry{At: int64(i) * 1000, Kind: StandingChanged, Actor: "mdm", About: fmt.Sprint("d", i%7),
			Body: fmt.Appendf(nil, `{"device":"d%d","to":"%s"}`, i%7, []string{"strong", "limited"}[i%2])})
	}
	return m
}

func (m *made) add(e Entry) {
	e.Seq = int64(len(m.lines) + 1)
	leaf := Leaf(e.Append(nil))
	m.lines = append(m.lines, Line{Entry: e, Leaf: leaf})
	m.tree.Add(leaf, func(level int, n int64, h tlog.Hash) { m.tiles[[2]int64{int64(level), n}] = h })
}

func (m *made) head() Head {
	return Head{Origin: m.key.Name(), Size: m.tree.Size(), Root: m.tree.Root()}
}

// read reads tiles as a store does: leaves and the levels above them.
func (m *made) read(level int, n int64, width int) ([]tlog.Hash, error) {
	var out []tlog.Hash
	for i := n; i < n+int64(width); i++ {
		if level == 0 && i < int64(len(m.lines)) {
			out = append(out, m.lines[i].Leaf)
		} else if h, known := m.tiles[[2]int64{int64(level), i}]; known {
			out = append(out, h)
		}
	}
	return out, nil
}

func walk(m []Line, head *Head, seen Head, tiles map[[2]int64]tlog.Hash) *Verifier {
	w := &Verifier{Standings: true}
	if tiles != nil {
		w.Tile = func(level int, n int64) (tlog.Hash, bool) {
			h, known := tiles[[2]int64{int64(level), n}]
			return h, known
		}
	}
	w.Expect(seen)
	for i := range m {
		w.Add(&m[i])
	}
	w.End(head)
	return w
}

func TestTreeIsThatOfTheRFC(t *testing.T) {
	m := makeLedger(t, 0)
	var stored []tlog.Hash
	reader := tlog.HashReaderFunc(func(indexes []int64) ([]tlog.Hash, error) {
		out := make([]tlog.Hash, len(indexes))
		for i, x := range indexes {
			out[i] = stored[x]
		}
		return out, nil
	})
	for i := range int64(70_000) {
		if i < 20 || i > 250 && i < 260 || i > 65_530 && i < 65_540 {
			want, err := tlog.TreeHash(i, reader)
			if err != nil || m.tree.Root() != want {
				t.Fatalf("the root of %d leaves is %s, want %s (%v)", i, m.tree.Root(), want, err)
			}
			edge, err := Edge(i, m.read)
			if err != nil || edge.Root() != want || edge.Size() != i || !slices.Equal(edge.roots, m.tree.roots) {
				t.Fatalf("the edge of %d leaves has the root %s (%v)", i, edge.Root(), err)
			}
			for _, n := range []int64{0, i / 3, i - 1} {
				if n < 0 || i == 0 {
					continue
				}
				p, err := tlog.ProveRecord(i, n, TileReader(m.read))
				if err == nil {
					err = tlog.CheckRecord(p, i, want, n, m.lines[n].Leaf)
				}
				if err != nil {
					t.Fatalf("leaf %d of %d: %v", n, i, err)
				}
			}
		}
		m.add(Entry{At: i, Kind: DecisionMade, Body: []byte(`{}`)})
		hashes, err := tlog.StoredHashesForRecordHash(i, m.lines[i].Leaf, reader)
		if err != nil {
			t.Fatal(err)
		}
		stored = append(stored, hashes...)
	}
}

func TestTilePathsAreThoseOfTheSpecification(t *testing.T) {
	for path, want := range map[string]tlog.Tile{
		"tile/0/x001/x234/067":     {H: 8, L: 0, N: 1234067, W: 256},
		"tile/1/000.p/5":           {H: 8, L: 1, N: 0, W: 5},
		"tile/entries/x123/456":    {H: 8, L: -1, N: 123456, W: 256},
		"tile/entries/000.p/255":   {H: 8, L: -1, N: 0, W: 255},
		"tile/8/0/000":             {},
		"tile/data/000":            {},
		"tile/0/1":                 {},
		"tile/0/000.p/256":         {},
		"tile/entries/000.p/0":     {},
		"tile/0/x001/x234/067.p/x": {},
	} {
		got, err := ParseTilePath(path)
		if (err == nil) != (want.H != 0) || err == nil && (got != want || TilePath(got) != path) {
			t.Errorf("%s is %+v (%v), want %+v", path, got, err, want)
		}
	}
}

func TestEveryTamperingIsNamed(t *testing.T) {
	const n = 600
	whole := makeLedger(t, n)
	head, half := whole.head(), Head{Origin: whole.key.Name(), Size: 300}
	part := makeLedger(t, 300)
	half.Root = part.tree.Root()
	redact := func(lines []Line) []Line {
		lines[41].Body = nil
		return lines
	}
	for _, c := range []struct {
		name   string
		change func([]Line) []Line
		head   *Head
		seen   Head
		want   string // what the first problem says; "" for none
	}{
		{"nothing", func(l []Line) []Line { return l }, &head, half, ""},
		{"a body", func(l []Line) []Line { l[56].Body = []byte(`{"to":"strong"}`); return l }, &head, Head{},
			"entry 57: it was changed"},
		{"an actor", func(l []Line) []Line { l[56].Actor = "nobody"; return l }, &head, Head{},
			"entry 57: it was changed"},
		{"a hash", func(l []Line) []Line { l[56].Leaf[3] ^= 1; return l }, &head, Head{},
			"entry 57: it was changed"},
		{"an entry with its hash", func(l []Line) []Line {
			l[56].Body = []byte(`{}`)
			l[56].Leaf = Leaf(l[56].Append(nil))
			return l
		}, &head, Head{}, "entry 1: it or one of those up to entry 256 was changed together with its hash"},
		{"the newest entry with its hash", func(l []Line) []Line {
			l[n-1].Body = []byte(`{}`)
			l[n-1].Leaf = Leaf(l[n-1].Append(nil))
			return l
		}, &head, Head{}, "the 600 entries have the root"},
		{"one removed", func(l []Line) []Line { return slices.Delete(l, 56, 57) }, &head, Head{},
			"entry 57: it is missing"},
		{"several removed", func(l []Line) []Line { return slices.Delete(l, 56, 59) }, &head, Head{},
			"entry 57: it and those up to entry 59 are missing"},
		{"one removed and the rest renumbered", func(l []Line) []Line {
			l = slices.Delete(l, 56, 57)
			for i := 56; i < len(l); i++ {
				l[i].Seq--
			}
			return l
		}, &head, Head{}, "entry 57: it was changed"},
		{"one added", func(l []Line) []Line { return slices.Insert(l, 56, l[55]) }, &head, Head{},
			"entry 56: it stands behind entry 56"},
		{"two in the other order", func(l []Line) []Line { l[56], l[57] = l[57], l[56]; return l }, &head,
			Head{}, "entry 57: it is missing"},
		{"the first removed", func(l []Line) []Line { return l[1:] }, &head, Head{}, "entry 1: it is missing"},
		{"cut below the checkpoint", func(l []Line) []Line { return l[:500] }, &head, Head{},
			"entry 501: the ledger was cut here: the checkpoint is of 600"},
		{"more than the checkpoint", func(l []Line) []Line { return l }, &half, Head{},
			"entry 301: it and those behind it are not in the checkpoint"},
		{"cut, with an older checkpoint", func(l []Line) []Line { return l[:300] }, &half, head,
			"the ledger was cut: it has 300 entries, and had 600"},
		{"another past under a good signature", func(l []Line) []Line { return l }, &head,
			Head{Origin: head.Origin, Size: 300, Root: tlog.Hash{1}}, "history was rewritten: the first 300"},
		{"a body gone without a word", redact, &head, Head{}, "entry 42: its body is gone"},
		{"time runs back", func(l []Line) []Line { l[56].At = l[55].At - 3_600_000_000; return l }, &head,
			Head{}, "entry 57: it is of"},
	} {
		w := walk(c.change(slices.Clone(whole.lines)), c.head, c.seen, whole.tiles)
		switch {
		case c.want == "" && len(w.Problems) > 0:
			t.Errorf("%s: %v", c.name, w.Problems)
		case c.want != "" && (len(w.Problems) == 0 || !strings.HasPrefix(w.Problems[0].String(), c.want)):
			t.Errorf("%s: %v, want %s", c.name, w.Problems, c.want)
		}
	}
}

func TestRedactedBodiesKeepTheirPlace(t *testing.T) {
	m := makeLedger(t, 100)
	l := &m.lines[41]
	body := fmt.Appendf(nil, `{"about":"%s","actor":"%s","at":"%s","entry":42,"kind":"%s","leaf":"%s","reason":"asked to be forgotten"}`, l.About, l.Actor, AppendTime(nil, l.At), l.Kind, l.Leaf)
	l.Body = nil
	m.add(Entry{At: 200_000, Kind: Redacted, Actor: "anna", About: "42", Body: body})
	head := m.head()
	if w := walk(m.lines, &head, Head{}, m.tiles); len(w.Problems) > 0 || w.Redacted != 1 {
		t.Errorf("%v, %d redacted", w.Problems, w.Redacted)
	}
	l.Actor = "somebody else"
	if w := walk(m.lines, &head, Head{}, m.tiles); len(w.Problems) != 1 || w.Problems[0].Seq != 42 {
		t.Errorf("what is left of a redacted entry was changed: %v", w.Problems)
	}
}

func TestExportsAreReadBack(t *testing.T) {
	m := makeLedger(t, 5)
	m.add(Entry{At: 6000, Kind: EvidenceRefused, Actor: "a\"<å>\n", About: "",
		Body: []byte(`{"a":{"entry":[1,"}"]}}`)})
	m.lines[2].Body = nil
	for i := range m.lines {
		var got Line
		text := AppendLine(nil, &m.lines[i])
		checkpoint, err := ParseLine(text, &got)
		if err != nil || checkpoint != nil || got.Leaf != m.lines[i].Leaf ||
			!bytes.Equal(got.Append(nil), m.lines[i].Append(nil)) {
			t.Errorf("%s is read as %+v (%v)", text, got, err)
		}
	}
	head := m.head()
	signed, err := head.Sign(m.key)
	if err != nil {
		t.Fatal(err)
	}
	got, err := ParseLine(AppendLastLine(nil, signed), &Line{})
	if err != nil || !bytes.Equal(got, signed) {
		t.Errorf("the checkpoint is read as %q (%v)", got, err)
	}
	good := string(AppendLine(nil, &m.lines[0]))
	for _, change := range [][2]string{{`"seq":1`, `"seq":"1"`}, {`"seq":1`, `"seq":01`},
		{`"about"`, `"abaut"`}, {`,"kind"`, `,"more":1,"kind"`}, {`"leaf":"`, `"leaf":"x`}, {"}\n", ""},
		{`{"entry"`, `{ "entry"`}, {`00.000000Z`, `00Z`}, {`"seq":1`, `"seq":0`}, {`"mdm"`, `"m\u0064m"`}} {
		if line := strings.Replace(good, change[0], change[1], 1); line == good {
			t.Fatalf("%s is not there", change[0])
		} else if _, err := ParseLine([]byte(line), &Line{}); err == nil {
			t.Errorf("%s is taken", line)
		}
	}
}

func TestProofsAndHeads(t *testing.T) {
	m := makeLedger(t, 1000)
	head := m.head()
	signed, err := head.Sign(m.key)
	if err != nil {
		t.Fatal(err)
	}
	other := makeLedger(t, 1)
	make := func() *Proof {
		p, err := Prove(700, m.lines[699].Append(nil), m.lines[699].Leaf, 1000, signed, m.read)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	if got, err := make().Check(m.check); err != nil || got != head {
		t.Errorf("a good proof: %+v (%v)", got, err)
	}
	if _, err := make().Check(other.check); !errors.Is(err, ErrSignature) {
		t.Errorf("under another key: %v", err)
	}
	for name, change := range map[string]func(*Proof){
		"entry":      func(p *Proof) { p.Entry = strings.Replace(p.Entry, "mdm", "mdx", 1) },
		"leaf":       func(p *Proof) { p.Leaf = m.lines[1].Leaf.String() },
		"number":     func(p *Proof) { p.Seq = 701 },
		"far number": func(p *Proof) { p.Seq = 1001 },
		"a hash":     func(p *Proof) { p.Hashes[3] = p.Hashes[2] },
		"fewer":      func(p *Proof) { p.Hashes = p.Hashes[1:] },
		"no hash":    func(p *Proof) { p.Hashes[0] = "?" },
		"other entry": func(p *Proof) {
			p.Entry, p.Leaf = string(m.lines[1].Append(nil)),
				m.lines[1].Leaf.String()
		},
		"hidden entry": func(p *Proof) { p.Entry, p.Leaf = "", m.lines[1].Leaf.String() },
	} {
		p := make()
		change(p)
		if _, err := p.Check(m.check); !errors.Is(err, ErrProof) {
			t.Errorf("%s: %v", name, err)
		}
	}
	told := m.lines[699].Entry
	if err := make().Shows(&told); err != nil {
		t.Errorf("what the proof holds: %v", err)
	}
	for name, change := range map[string]func(*Entry){
		"actor": func(e *Entry) { e.Actor += "x" }, "about": func(e *Entry) { e.About = "" },
		"kind": func(e *Entry) { e.Kind = TokenCreated }, "time": func(e *Entry) { e.At++ },
		"number": func(e *Entry) { e.Seq++ }, "body": func(e *Entry) { e.Body = json.RawMessage(`{}`) },
		"no body": func(e *Entry) { e.Body = nil },
	} {
		e := told
		change(&e)
		if err := make().Shows(&e); !errors.Is(err, ErrProof) {
			t.Errorf("another %s: %v", name, err)
		}
	}
	hidden := make()
	hidden.Entry = ""
	if err := hidden.Shows(&told); !errors.Is(err, ErrProof) {
		t.Errorf("a body beside the proof of none: %v", err)
	}
	if told.Body = nil; hidden.Shows(&told) != nil {
		t.Error("a redacted entry is not shown")
	}
	steps := make().Path(1000)
	if n := len(make().Hashes); len(steps) != n ||
		steps[0] != (Step{First: 699, Last: 700, BesideFirst: 699, BesideLast: 699,
			Hash: m.lines[698].Leaf.String()}) || steps[n-1].First != 1 || steps[n-1].Last != 1000 ||
		steps[n-1].BesideLast != 512 {
		t.Errorf("%d hashes lead along %+v", n, steps)
	}
	part := makeLedger(t, 300)
	seen := Head{Origin: head.Origin, Size: 300, Root: part.tree.Root()}
	proof, err := ProveConsistency(300, 1000, m.read)
	if err != nil {
		t.Fatal(err)
	}
	if err := CheckConsistency(seen, head, proof); err != nil {
		t.Error(err)
	}
	for name, c := range map[string]struct {
		seen, now Head
	}{"rewritten": {Head{Origin: head.Origin, Size: 300}, head}, "cut": {head, seen},
		"another ledger": {Head{Origin: "other", Size: 300, Root: seen.Root}, head},
		"same size":      {Head{Origin: head.Origin, Size: 1000, Root: seen.Root}, head}} {
		if err := CheckConsistency(c.seen, c.now, proof); err == nil {
			t.Errorf("%s: passes", name)
		}
	}
	for _, bad := range []string{"a b", "a+b", "a\nb", "\xff", strings.Repeat("x", 201)} {
		if _, _, err := NewKey(bad); err == nil {
			t.Errorf("a ledger may be called %q", bad)
		}
	}
	for _, bad := range []string{"", "x\n1\n", "o\n-1\n" + m.lines[0].Leaf.String() + "\n",
		"o\n01\n" + m.lines[0].Leaf.String() + "\n", "o\n1\nxx\n"} {
		if h, err := parseHead(bad); err == nil {
			t.Errorf("%q is the head %+v", bad, h)
		}
	}
}
