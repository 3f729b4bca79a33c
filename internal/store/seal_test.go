package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/directory"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/keyfile"
)

// fill commits n entries, many at a time.
func fill(t *testing.T, s *Store, n int) {
	t.Helper()
	var wg sync.WaitGroup
	for part := range slices.Chunk(make([]int, n), 37) {
		wg.Go(func() {
			b := &Batch{}
			for range part {
				b.Entries = append(b.Entries, ledger.Entry{At: int64(len(part)), Kind: ledger.EvidenceRefused,
					Actor: "mdm", Body: json.RawMessage(`{"a":"<å>","z":1}`)})
			}
			if err := s.Commit(b); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
}

func verify(t *testing.T, s *Store) *ledger.Verifier {
	t.Helper()
	ctx := context.Background()
	v, err := s.View(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer v.Close()
	w := &ledger.Verifier{Tile: s.Tile(ctx)}
	if err := v.Lines(ctx, 1, v.Size, func(l *ledger.Line) error { w.Add(l); return nil }); err != nil {
		t.Fatal(err)
	}
	head, err := ledger.OpenHead(v.Checkpoint, s.sealer.key.Verifier)
	if err != nil {
		t.Fatal(err)
	}
	w.End(&head)
	return w
}

// The check is written with golang.org/x/mod/sumdb alone: what it reads are the
// public key, the checkpoint and the canonical entries.
func TestIndependentCheckAcceptsTheLedger(t *testing.T) {
	s := openStore(t, filepath.Join(t.TempDir(), "s.db"))
	defer s.Close()
	fill(t, s, 1500)
	verifier, err := note.NewVerifier(s.sealer.key.Public)
	if err != nil {
		t.Fatal(err)
	}
	signed, err := note.Open(s.Sealed().Checkpoint, note.VerifierList(verifier))
	if err != nil {
		t.Fatal(err)
	}
	var stored []tlog.Hash
	reader := tlog.HashReaderFunc(func(indexes []int64) ([]tlog.Hash, error) {
		out := make([]tlog.Hash, len(indexes))
		for i, x := range indexes {
			out[i] = stored[x]
		}
		return out, nil
	})
	n := int64(0)
	if err := s.Lines(context.Background(), 1, 1500, func(l *ledger.Line) error {
		hashes, err := tlog.StoredHashes(n, l.Append(nil), reader)
		stored = append(stored, hashes...)
		n++
		return err
	}); err != nil {
		t.Fatal(err)
	}
	root, err := tlog.TreeHash(n, reader)
	if err != nil {
		t.Fatal(err)
	}
	if want := fmt.Sprintf("log.gullholm.example\n1500\n%s\nstate ", root); !strings.HasPrefix(signed.Text, want) {
		t.Errorf("signed is %q, want %q", signed.Text, want)
	}
	// tlog checks what it reads from tiles against the tree by itself.
	tiles := tlog.TileHashReader(tlog.Tree{N: n, Hash: root}, tileReader{s})
	for _, i := range []int64{0, 255, 256, 1279, 1280, 1499} {
		if h, err := tiles.ReadHashes([]int64{tlog.StoredHashIndex(0, i)}); err != nil ||
			h[0] != stored[tlog.StoredHashIndex(0, i)] {
			t.Errorf("leaf %d from its tiles: %v", i, err)
		}
	}
}

type tileReader struct{ s *Store }

func (tileReader) Height() int                         { return ledger.TileHeight }
func (tileReader) SaveTiles(_ []tlog.Tile, _ [][]byte) {}
func (r tileReader) ReadTiles(tiles []tlog.Tile) (out [][]byte, err error) {
	for _, t := range tiles {
		data, err := r.s.Tiles(context.Background()).Tile(t)
		if err != nil {
			return nil, err
		}
		out = append(out, data)
	}
	return out, nil
}

func TestLedgerGoesOnAfterReopening(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	for i, n := range []int{3, 300, 0, 700} {
		s := openStore(t, path)
		fill(t, s, n)
		if w := verify(t, s); len(w.Problems) > 0 {
			t.Errorf("after opening it %d times: %v", i+1, w.Problems)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
	if info, err := os.Stat(path + ".key"); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key file: %v (%v)", info.Mode(), err)
	}
	if err := os.Chmod(path+".key", 0o640); err != nil {
		t.Fatal(err)
	}
	if _, err := keyfile.Read(path + ".key"); err == nil || !strings.Contains(err.Error(), "others may read") {
		t.Errorf("a key that others may read: %v", err)
	}
}

func TestTimeNeverRunsBackInTheLedger(t *testing.T) {
	s := openStore(t, filepath.Join(t.TempDir(), "s.db"))
	defer s.Close()
	for _, at := range []int64{5, 3, 9} {
		if err := s.Commit(&Batch{Entries: []ledger.Entry{{At: at, Kind: ledger.EvidenceRefused,
			Body: json.RawMessage(`{}`)}}}); err != nil {
			t.Fatal(err)
		}
	}
	var at []int64
	if err := s.Lines(context.Background(), 1, 3,
		func(l *ledger.Line) error { at = append(at, l.At); return nil }); err != nil ||
		!slices.Equal(at, []int64{5, 5, 9}) {
		t.Errorf("the times are %v (%v)", at, err)
	}
}

// tamper changes a closed database behind the store's back.
func tamper(t *testing.T, path, statement string, args ...any) {
	t.Helper()
	db, err := sql.Open("sqlite", dsn(path))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if done, err := db.Exec(statement, args...); err != nil {
		t.Fatal(err)
	} else if n, _ := done.RowsAffected(); n == 0 {
		t.Fatalf("%s changes nothing", statement)
	}
}

func TestTamperedLedgersAreFound(t *testing.T) {
	for _, c := range []struct {
		name, statement string
		opens           bool
		want            string
	}{
		{"an old body", `UPDATE entries SET body = '{}' WHERE seq = 57`, true, "entry 57: it was changed"},
		{"an old entry removed", `DELETE FROM entries WHERE seq = 57`, true, "entry 57: it is missing"},
		{"an old hash", `UPDATE entries SET leaf = zeroblob(32) WHERE seq = 57`, true, "entry 57: it was changed"},
		{"a tile", `UPDATE tiles SET hash = zeroblob(32) WHERE level = 1 AND n = 0`, false, "have the root"},
		{"a body gone", `UPDATE entries SET body = 'null' WHERE seq = 57`, true, "entry 57: its body is gone"},
		{"the tail cut", `DELETE FROM entries WHERE seq > 590`, false,
			"its newest entry is 590, and 600 entries were signed"},
		{"one more", `INSERT INTO entries SELECT 601, at, kind, actor, about, body, leaf FROM entries WHERE seq = 600`, false, "its newest entry is 601"},
		{"the newest hash", `UPDATE entries SET leaf = zeroblob(32) WHERE seq = 600`, false, "have the root"},
		{"the head", `DELETE FROM head`, false, "its head is gone"},
		{"the head's size", `UPDATE head SET checkpoint = replace(checkpoint, '600', '599')`, false,
			"not signed by the key"},
	} {
		path := filepath.Join(t.TempDir(), "s.db")
		s := openStore(t, path)
		fill(t, s, 600)
		key := s.sealer.key
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		tamper(t, path, c.statement)
		s, err := Open(context.Background(), path, Options{Key: key})
		var bad *TamperError
		switch {
		case c.opens && err != nil, !c.opens && !errors.As(err, &bad):
			t.Errorf("%s: opening it says %v", c.name, err)
		case !c.opens && !strings.Contains(err.Error(), c.want):
			t.Errorf("%s: opening it says %v, want %s", c.name, err, c.want)
		case c.opens:
			if w := verify(t, s); len(w.Problems) == 0 || !strings.HasPrefix(w.Problems[0].String(), c.want) {
				t.Errorf("%s: %v, want %s", c.name, w.Problems, c.want)
			}
		}
		if err == nil {
			s.Close()
		}
	}
}

func TestAnotherKeyNeedsAReason(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	s := openStore(t, path)
	fill(t, s, 10)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	key, err := keyfile.Make(path+".other", "log.gullholm.example")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := keyfile.Make(path+".other", ""); err == nil {
		t.Error("a key file is overwritten")
	}
	if _, err := Open(context.Background(), path, Options{Key: key}); err == nil ||
		!strings.Contains(err.Error(), "not signed") {
		t.Errorf("another key: %v", err)
	}
	s, err = Open(context.Background(), path, Options{Key: key, NewKey: "the old one was lost"})
	if err == nil {
		err = s.AdoptAll(context.Background())
	}
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if l, err := s.Line(context.Background(), 11); err != nil || l.Kind != ledger.KeyReplaced ||
		!strings.Contains(string(l.Body), "lost") {
		t.Errorf("entry 11 is %+v (%v)", l, err)
	}
	if w := verify(t, s); len(w.Problems) > 0 {
		t.Error(w.Problems)
	}
}

// Nothing is hashed or signed anew to make it fit.
func TestAForgedHistoryIsNotSigned(t *testing.T) {
	for _, statements := range [][]string{
		{`DELETE FROM head`, `DELETE FROM tiles`, `UPDATE entries SET leaf = zeroblob(32), body = '{"a": 2}'`},
		{`DELETE FROM head`, `DELETE FROM tiles`, `DELETE FROM entries`},
		{`UPDATE head SET state = '{}', checkpoint = replace(checkpoint, 'state ', 'stale ')`},
		{`DELETE FROM goose_db_version WHERE version_id > 6`, `DELETE FROM head`},
	} {
		path := filepath.Join(t.TempDir(), "s.db")
		s := openStore(t, path)
		fill(t, s, 300)
		var b Batch
		b.PutToken(Token{ID: "t", Name: "n", Role: "admin", Hash: []byte{1}})
		if err := s.Commit(&b); err != nil {
			t.Fatal(err)
		}
		key := s.sealer.key
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		for _, statement := range statements {
			tamper(t, path, statement)
		}
		s, err := Open(context.Background(), path, Options{Key: key})
		if err == nil {
			err = errors.Join(s.AdoptAll(context.Background()), s.Close())
		}
		if err == nil {
			t.Errorf("after %q it opens", statements)
		}
	}
}

// A table that nothing guards could be altered to change an answer: whoever adds
// one says what guards it.
func TestEveryTableIsGuarded(t *testing.T) {
	s := openStore(t, filepath.Join(t.TempDir(), "s.db"))
	defer s.Close()
	rows, err := s.read.Query("SELECT name FROM sqlite_master WHERE type = 'table'")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	guarded := Guarded()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			t.Fatal(err)
		}
		if guarded[name] == "" && name != "goose_db_version" && name != "sqlite_sequence" {
			t.Errorf("nothing guards the table %s", name)
		}
	}
	for t2 := range sealedTables { // and each column of a table of the state is in its digest
		var columns []string
		names, err := s.read.Query("SELECT name FROM pragma_table_info(?)", tables[t2].name)
		if err != nil {
			t.Fatal(err)
		}
		for names.Next() {
			var name string
			if err := names.Scan(&name); err != nil {
				t.Fatal(err)
			}
			columns = append(columns, name)
		}
		names.Close()
		for _, c := range columns {
			if !slices.Contains(tables[t2].columns, c) {
				t.Errorf("the column %s of %s is not in its digest", c, tables[t2].name)
			}
		}
	}
}

// The digests that are kept up are those of what is there.
func TestTheStateIsKeptUp(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	s := openStore(t, path)
	ctx := context.Background()
	commit := func(fill func(b *Batch)) {
		t.Helper()
		var b Batch
		fill(&b)
		if err := s.Commit(&b); err != nil {
			t.Fatal(err)
		}
	}
	row := DeviceRow{ID: "d", Keys: "[]", Evidence: "{}", Level: "strong", Failing: "{}", Refused: "[]",
		Spoken: "[]", Revision: 1}
	for i := range 50 {
		commit(func(b *Batch) {
			b.PutToken(Token{ID: fmt.Sprint("t", i%7), Name: "n", Role: "admin", Hash: []byte{byte(i % 7)},
				RevokedAt: int64(i)})
			b.PutSession([]byte{byte(i)}, "t0", int64(i-5), int64(i))
			if err := b.PutDocument("waiver", fmt.Sprint(i%5), i); err != nil {
				t.Fatal(err)
			}
			b.DropDocument("waiver", fmt.Sprint((i+3)%5))
			b.PutPeoplePast(int64(i+1), 1, "{}")
			if err := b.PutPeople([]directory.Person{{ID: "p", Name: fmt.Sprint(i)}, {ID: "q"},
				{ID: "p", Name: "again"}}); err != nil {
				t.Fatal(err)
			}
			b.DropPeople([]string{"q", "nobody"})
			next := row
			next.Was, next.Sealed, next.SeenAt = row.Sealed, tlog.Hash{}, int64(i)
			if i > 0 {
				next.Revision, next.Undo = row.Revision+1, "{}"
				next.Before = row.Past
				next.Past = Link("d", PastStep{Revision: next.Revision, Undo: "{}"}, row.Past)
			}
			next.Past = append([]byte{}, next.Past...)
			next.Sealed = next.Hash()
			row = next
			b.Devices = []DeviceRow{row}
		})
		if i%20 == 0 { // and over a restart
			if err := s.Close(); err != nil {
				t.Fatal(err)
			}
			s = openStore(t, path)
		}
	}
	defer s.Close()
	v, err := s.View(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer v.Close()
	head, err := ledger.OpenHead(v.Checkpoint, s.sealer.key.Verifier)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := v.State(ctx, head); err != nil || n < 60 {
		t.Errorf("the state of %d rows: %v", n, err)
	}
}

func TestLargeEntriesAreRefusedAlone(t *testing.T) {
	s := openStore(t, filepath.Join(t.TempDir(), "s.db"))
	defer s.Close()
	body := json.RawMessage(`{"a":"` + strings.Repeat("x", ledger.MaxEntry) + `"}`)
	b := &Batch{Entries: []ledger.Entry{{Kind: ledger.EvidenceRefused, Body: body}}}
	if err := s.Commit(b); !errors.Is(err, ledger.ErrTooLarge) {
		t.Errorf("a large entry: %v", err)
	}
	if s.Trouble() != nil {
		t.Error("it brings the store into trouble")
	}
	fill(t, s, 1)
}
