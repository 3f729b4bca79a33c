package ledger

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// grown is a ledger of so many entries: their lines, the hashes of their tree, and its key.
type grown struct {
	lines    []Line
	hashes   map[int]map[int64]tlog.Hash // by level of tiles
	tree     CompactRange
	signer   note.Signer
	verifier note.Verifier
}

func newGrown(t *testing.T, size int64) *grown {
	t.Helper()
	private, public, err := NewKey("ledger.gullholm.example")
	if err != nil {
		t.Fatal(err)
	}
	g := &grown{hashes: map[int]map[int64]tlog.Hash{0: {}}}
	if g.signer, err = note.NewSigner(private); err != nil {
		t.Fatal(err)
	}
	if g.verifier, err = note.NewVerifier(public); err != nil {
		t.Fatal(err)
	}
	for seq := int64(1); seq <= size; seq++ {
		e := Entry{Seq: seq, At: seq * 1_000_000, Kind: DecisionMade, Actor: "edge", About: fmt.Sprint("d", seq),
			Body: fmt.Appendf(nil, `{"n":%d}`, seq)}
		l := Line{Entry: e, Leaf: Leaf(e.Append(nil))}
		g.lines = append(g.lines, l)
		g.hashes[0][seq-1] = l.Leaf
		g.tree.Add(l.Leaf, func(level int, n int64, h tlog.Hash) {
			if g.hashes[level] == nil {
				g.hashes[level] = map[int64]tlog.Hash{}
			}
			g.hashes[level][n] = h
		})
	}
	return g
}

func (g *grown) read(level int, n int64, width int) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, width)
	for i := range out {
		out[i] = g.hashes[level][n+int64(i)]
	}
	return out, nil
}

// archive writes entries from one on to another, under the head of all.
func (g *grown) archive(t *testing.T, from, to int64) []byte {
	t.Helper()
	left, err := Edge(from-1, g.read)
	if err != nil {
		t.Fatal(err)
	}
	head := Head{Origin: g.verifier.Name(), Size: g.tree.Size(), Root: g.tree.Root()}
	checkpoint, err := head.Sign(g.signer)
	if err != nil {
		t.Fatal(err)
	}
	proof, err := ProveConsistency(to, head.Size, g.read)
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	h := &ArchiveHead{Archive: "ar-1", Origin: g.verifier.Name(), From: from, To: to, Left: left.RootsOf()}
	if err := WriteArchive(&out, h, checkpoint, proof, func(visit func(*Line) error) error {
		for i := from - 1; i < to; i++ {
			if err := visit(&g.lines[i]); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// Any stretch of any ledger makes an archive that proves itself, with what was redacted before it; no byte of it can be
// another.
func TestAnyStretchIsAnArchive(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for _, size := range []int64{1, 2, 7, 255, 256, 257, 700} {
		g := newGrown(t, size)
		for range 12 {
			from := 1 + r.Int64N(size)
			to := from + r.Int64N(size-from+1)
			gone := from - 1 + r.Int64N(to-from+1)
			body := g.lines[gone].Body
			if g.lines[gone].Body = nil; r.IntN(2) == 0 {
				g.lines[gone].Body = body
			}
			file := g.archive(t, from, to)
			n := from
			h, head, err := ReadArchive(bytes.NewReader(file), g.verifier, func(l *Line) error {
				if l.Seq != n || string(l.Body) != string(g.lines[n-1].Body) || l.Leaf != g.lines[n-1].Leaf {
					t.Errorf("entry %d comes back as %+v", n, l.Entry)
				}
				n++
				return nil
			})
			if err != nil || h.From != from || h.To != to || head.Size != size || n != to+1 {
				t.Fatalf("entries %d to %d of %d are read as %+v, %v", from, to, size, h, err)
			}
			g.lines[gone].Body = body
			at := r.IntN(len(file))
			bent := bytes.Clone(file)
			bent[at] ^= 1 << r.IntN(7)
			if _, _, err := ReadArchive(bytes.NewReader(bent), g.verifier, nil); !errors.Is(err, ErrArchive) &&
				!harmless(file, at) {
				t.Errorf("entries %d to %d of %d, byte %d (%q) bent to %q, are taken: %v", from, to, size, at, file[at],
					bent[at], err)
			}
		}
	}
}

// harmless reports whether a byte says nothing that is proved: the archive's own id, which is a name alone, the space
// between lines, the last digit of base64, some of whose bits say nothing (RFC 4648, section 3.5), and what stands beside
// the hash of an entry without its body.
func harmless(file []byte, at int) bool {
	first, _, _ := bytes.Cut(file, []byte("\n"))
	id := bytes.Index(first, []byte("ar-1"))
	line := file[bytes.LastIndexByte(file[:at], '\n')+1:]
	line, _, _ = bytes.Cut(line, []byte("\n"))
	if bytes.HasPrefix(line, []byte(`{"entry":`)) && !bytes.Contains(line, []byte(`"body":`)) {
		return true
	}
	return file[at] == '\n' || at+1 < len(file) && file[at+1] == '=' || at >= id && at < id+4
}

// Whoever visits may stop, and is told why it ended.
func TestAnArchiveIsLeft(t *testing.T) {
	g, enough := newGrown(t, 9), errors.New("enough")
	seen := 0
	_, _, err := ReadArchive(bytes.NewReader(g.archive(t, 2, 8)), g.verifier, func(*Line) error {
		if seen++; seen == 3 {
			return enough
		}
		return nil
	})
	if !errors.Is(err, enough) || errors.Is(err, ErrArchive) || seen != 3 {
		t.Errorf("it ends after %d with %v", seen, err)
	}
}

// An absent body is taken by a verifier only if an entry behind it tells of an archive that may have it.
func TestTheVerifierAndArchives(t *testing.T) {
	const told = `{"archive":"ar-1","before":"","bytes":1,"entries":%d,"file":"f","from":%d,"reason":"r","sha256":"x","to":%d}`
	for name, c := range map[string]struct {
		archive  string // of the absent entries 2 and 3
		told     string // the body of entry 5
		about    string
		problems string // "" for none
	}{
		"as it should be":       {"ar-1", fmt.Sprintf(told, 2, 1, 4), "ar-1", ""},
		"with room for more":    {"ar-1", fmt.Sprintf(told, 4, 1, 4), "ar-1", ""},
		"fewer than are absent": {"ar-1", fmt.Sprintf(told, 1, 1, 4), "ar-1", "which has 1 of the entries"},
		"not that far":          {"ar-1", fmt.Sprintf(told, 2, 1, 2), "ar-1", "of the entries from 1 to 2"},
		"not from there":        {"ar-1", fmt.Sprintf(told, 2, 3, 4), "ar-1", "of the entries from 3 to 4"},
		"another":               {"ar-2", fmt.Sprintf(told, 2, 1, 4), "ar-1", "of which no entry tells"},
		"of the time to come":   {"ar-1", fmt.Sprintf(told, 2, 1, 5), "ar-1", "cannot be read"},
		"about another":         {"ar-1", fmt.Sprintf(told, 2, 1, 4), "ar-9", "cannot be read"},
		"no archive at all":     {"ar-1", `{}`, "ar-1", "cannot be read"},
		"nobody's":              {"", fmt.Sprintf(told, 2, 1, 4), "ar-1", "no entry tells of a redaction"},
	} {
		g := newGrown(t, 4)
		e := Entry{Seq: 5, At: 5_000_000, Kind: Archived, Actor: "astrid", About: c.about, Body: []byte(c.told)}
		g.lines = append(g.lines, Line{Entry: e, Leaf: Leaf(e.Append(nil))})
		for i := 1; i <= 2; i++ {
			g.lines[i].Body, g.lines[i].Archive = nil, c.archive
		}
		w := &Verifier{}
		for i := range g.lines {
			// As an export has it, and comes back.
			var back Line
			if _, err := ParseLine(AppendLine(nil, &g.lines[i]), &back); err != nil || back.Archive != g.lines[i].Archive {
				t.Fatalf("%s: entry %d comes back with %q, %v", name, i+1, back.Archive, err)
			}
			w.Add(&back)
		}
		w.End(nil)
		said := fmt.Sprint(w.Problems)
		if (len(w.Problems) == 0) != (c.problems == "") || !strings.Contains(said, c.problems) {
			t.Errorf("%s: %s; %q was expected", name, said, c.problems)
		}
		if want := map[bool]int{true: 2}[c.problems == ""]; w.Archived != want {
			t.Errorf("%s: %d are archived", name, w.Archived)
		}
	}
	var l Line
	for _, line := range []string{`{"entry":{},"leaf":"x","archive":"ar-1"}`,
		`{"entry":{},"leaf":"x","archive":"../etc"}`} {
		if _, err := ParseLine([]byte(line), &l); err == nil {
			t.Errorf("%s is a line", line)
		}
	}
}
