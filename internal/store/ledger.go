package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/ledger"
)

// gone is the body that stands in the place of one that was redacted.
const gone = "null"

const lineColumns = "seq, at, kind, actor, about, body, leaf"

func scanLine(scan func(...any) error, l *ledger.Line) error {
	var kind, actor, about, body, leaf sql.RawBytes
	if err := scan(&l.Seq, &l.At, &kind, &actor, &about, &body, &leaf); err != nil {
		return fmt.Errorf("read the ledger: %w", err)
	}
	if len(leaf) != tlog.HashSize {
		return fmt.Errorf("read the ledger: the hash of entry %d has %d bytes", l.Seq, len(leaf))
	}
	l.Kind, l.Actor, l.About = ledger.Kind(intern(kind, string(l.Kind))), intern(actor, l.Actor),
		intern(about, l.About)
	copy(l.Leaf[:], leaf)
	if l.Body, l.Canonical = append(l.Body[:0], body...), nil; string(body) == gone {
		l.Body = nil
	}
	return nil
}

// intern spares a copy of a text that is the same as the one before.
func intern(raw []byte, last string) string {
	if string(raw) == last {
		return last
	}
	return string(raw)
}

// Lines visits the entries from one on to another, oldest first, until visit
// returns an error. The line is the same one each time.
func (s *Store) Lines(ctx context.Context, from, to int64, visit func(*ledger.Line) error) error {
	return lines(ctx, s.read, from, to, visit)
}

func lines(ctx context.Context, db querier, from, to int64, visit func(*ledger.Line) error) error {
	rows, err := db.QueryContext(ctx,
		"SELECT "+lineColumns+" FROM entries WHERE seq BETWEEN ? AND ? ORDER BY seq", from, to)
	if err != nil {
		return fmt.Errorf("read the ledger: %w", err)
	}
	defer rows.Close()
	var l ledger.Line
	for rows.Next() {
		if err := scanLine(rows.Scan, &l); err != nil {
			return err
		}
		if err := visit(&l); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("read the ledger behind entry %d: %w", l.Seq, err)
	}
	return nil
}

// tiles reads tiles for [tlog.TileHashReader], which checks them.
type tiles struct{ ledger.TileReader }

func (t tiles) Height() int                     { return ledger.TileHeight }
func (t tiles) SaveTiles([]tlog.Tile, [][]byte) {}
func (t tiles) ReadTiles(list []tlog.Tile) ([][]byte, error) {
	out := make([][]byte, len(list))
	for i, x := range list {
		var err error
		if out[i], err = t.Tile(x); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Proven visits the entries from one on to the last, oldest first, and checks that
// each is in the tree whose head is signed. The error is a [*TamperError] when one
// is not, or when a body is gone without a redaction.
func (s *Store) Proven(ctx context.Context, from int64, visit func(ledger.Entry) error) error {
	return s.proven(ctx, s.Sealed().Head, from, math.MaxInt64, visit)
}

// ProvenBetween does as [Store.Proven] for the entries from one on to another.
func (s *Store) ProvenBetween(ctx context.Context, from, to int64, visit func(ledger.Entry) error) error {
	return s.proven(ctx, s.Sealed().Head, from, to, visit)
}

func (s *Store) proven(ctx context.Context, head ledger.Head, from, last int64,
	visit func(ledger.Entry) error) error {
	last = min(last, head.Size)
	proved := tlog.TileHashReader(tlog.Tree{N: head.Size, Hash: head.Root}, tiles{s.Tiles(ctx)})
	redacted := map[int64]bool{}
	for ; from <= last; from += ledger.TileWidth {
		to := min(from+ledger.TileWidth-1, last)
		indexes := make([]int64, 0, ledger.TileWidth)
		for seq := from; seq <= to; seq++ {
			indexes = append(indexes, tlog.StoredHashIndex(0, seq-1))
		}
		leaves, err := proved.ReadHashes(indexes)
		if err != nil {
			return &TamperError{fmt.Sprintf("the tree of entries %d to %d: %s", from, to, err)}
		}
		next := from
		err = s.Lines(ctx, from, to, func(l *ledger.Line) error {
			if l.Seq != next {
				return &TamperError{fmt.Sprintf("entry %d is missing", next)}
			}
			next++
			switch {
			case l.Body == nil:
				redacted[l.Seq] = true
			case ledger.Leaf(l.Append(nil)) != leaves[l.Seq-from]:
				return &TamperError{fmt.Sprintf("entry %d was changed", l.Seq)}
			case l.Kind == ledger.Redacted:
				var r ledger.Redaction
				if json.Unmarshal(l.Body, &r) == nil {
					delete(redacted, r.Entry)
				}
			}
			e := l.Entry
			e.Body = slices.Clone(l.Body)
			return visit(e)
		})
		if err == nil && next <= to {
			err = &TamperError{fmt.Sprintf("entry %d is missing", next)}
		}
		if err != nil {
			return err
		}
	}
	for seq := range redacted {
		told, err := s.redactedBehind(ctx, head, seq, last)
		if err != nil {
			return err
		}
		if told {
			continue
		}
		return &TamperError{fmt.Sprintf("the body of entry %d is gone, and no redaction tells why", seq)}
	}
	return nil
}

// redactedBehind reports whether the redaction of an entry is told of behind what was
// looked at, up to last, in an entry that is in the tree itself.
func (s *Store) redactedBehind(ctx context.Context, head ledger.Head, seq, last int64) (bool, error) {
	if last >= head.Size {
		return false, nil
	}
	about, err := s.About(ctx, fmt.Sprint(seq), 0, 10)
	if err != nil {
		return false, err
	}
	for _, e := range about {
		if e.Kind != ledger.Redacted || e.Seq <= last || e.Seq > head.Size {
			continue
		}
		told := false
		err := s.proven(ctx, head, e.Seq, e.Seq, func(e ledger.Entry) error {
			var r ledger.Redaction
			told = e.Kind == ledger.Redacted && json.Unmarshal(e.Body, &r) == nil && r.Entry == seq
			return nil
		})
		if err != nil || told {
			return told, err
		}
	}
	return false, nil
}

// Line reads one entry.
func (s *Store) Line(ctx context.Context, seq int64) (l ledger.Line, err error) {
	found := false
	err = s.Lines(ctx, seq, seq, func(x *ledger.Line) error { l, found = *x, true; return nil })
	if err == nil && !found {
		err = ErrNotFound
	}
	return l, err
}

// about selects the numbers of the entries about something, each part by an
// index of its own.
const about = `SELECT seq FROM entries WHERE about = ? AND kind = 'decision.made'
	UNION ALL SELECT seq FROM entries WHERE about = ? AND kind = 'evidence.refused'
	UNION ALL SELECT seq FROM entries WHERE about = ? AND kind <> 'decision.made' AND kind <> 'evidence.refused'`

// Mentions visits the kind and the subject of the entries from one on to another,
// each pair once.
func (s *Store) Mentions(ctx context.Context, from, to int64, visit func(kind ledger.Kind, about string)) error {
	rows, err := s.read.QueryContext(ctx,
		"SELECT DISTINCT kind, about FROM entries WHERE seq BETWEEN ? AND ?", from, to)
	if err != nil {
		return fmt.Errorf("read the ledger: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var kind, about string
		if err := rows.Scan(&kind, &about); err != nil {
			return fmt.Errorf("read the ledger: %w", err)
		}
		visit(ledger.Kind(kind), about)
	}
	return rows.Err()
}

// LineQuery selects entries, newest first.
type LineQuery struct {
	Kind, Actor, About string // "" for any; a kind may end in a dot, as "waiver."
	Device, Person     string // that an entry is about or speaks of
	Since, Until       int64  // microseconds since the Unix epoch; 0 for no bound
	Before             int64  // those before this entry only; 0 for all
	Limit              int
}

// Search finds entries, newest first.
func (s *Store) Search(ctx context.Context, q LineQuery) ([]ledger.Line, error) {
	where, args := []string{"1"}, []any{}
	add := func(clause string, values ...any) { where, args = append(where, clause), append(args, values...) }
	switch {
	case strings.HasSuffix(q.Kind, "."):
		add("substr(kind, 1, ?) = ?", len(q.Kind), q.Kind)
	case q.Kind != "":
		add("kind = ?"+amongRareKinds(ledger.Kind(q.Kind)), q.Kind)
	}
	if q.Actor != "" {
		add("actor = ?", q.Actor)
	}
	if q.About != "" {
		add("seq IN ("+about+")", q.About, q.About, q.About)
	}
	if q.Device != "" {
		add("(kind <> 'decision.made' AND about = ? OR json_extract(body, '$.device') = ?)", q.Device, q.Device)
	}
	if q.Person != "" {
		add("(json_extract(body, '$.asked.subject.id') = ? OR json_extract(body, '$.person') = ?)", q.Person,
			q.Person)
	}
	if q.Since != 0 {
		first, err := s.before(ctx, q.Since)
		if err != nil {
			return nil, err
		}
		add("seq > ? AND at >= ?", first, q.Since)
	}
	if q.Until != 0 {
		add("at < ?", q.Until)
	}
	if q.Before != 0 {
		add("seq < ?", q.Before)
	}
	rows, err := s.read.QueryContext(ctx, "SELECT "+lineColumns+" FROM entries WHERE "+strings.Join(where,
		" AND ")+" ORDER BY seq DESC LIMIT ?", append(args, q.Limit)...)
	if err != nil {
		return nil, fmt.Errorf("search the ledger: %w", err)
	}
	defer rows.Close()
	var out []ledger.Line
	for rows.Next() {
		var l ledger.Line
		if err := scanLine(rows.Scan, &l); err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, rows.Err()
}

// Redact removes the body of an entry. Its hash stays.
func (b *Batch) Redact(seq int64) {
	b.redacted = append(b.redacted, seq)
}

func redact(tx *sql.Tx, seq int64) error {
	// What is freed is written over, whatever that costs.
	if _, err := tx.Exec("PRAGMA secure_delete = ON"); err != nil {
		return err
	}
	done, err := tx.Exec("UPDATE entries SET body = ? WHERE seq = ? AND body <> ?", gone, seq, gone)
	if err != nil {
		return err
	}
	if _, err := tx.Exec("PRAGMA secure_delete = FAST"); err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n != 1 {
		return errors.Join(ErrNotFound, err)
	}
	return nil
}

// Scrub moves everything out of the write-ahead log, so that what was removed
// is not left there.
func (s *Store) Scrub(ctx context.Context) error {
	var busy, pages, moved int
	if err := s.write.QueryRowContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &pages,
		&moved); err != nil {
		return fmt.Errorf("empty the write-ahead log: %w", err)
	}
	if busy != 0 {
		return errors.New("empty the write-ahead log: a reader is in the way; it will be emptied with a later commit")
	}
	return nil
}

// querier is what reads: the database or a transaction.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// View is the records at one moment: what is committed later does not show.
type View struct {
	tx   *sql.Tx
	Size int64 // entries
	// Checkpoint is the signed head.
	Checkpoint []byte
}

// View begins to read the records as they are now. Somebody must Close it.
func (s *Store) View(ctx context.Context) (*View, error) {
	tx, err := s.read.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return nil, fmt.Errorf("read the ledger: %w", err)
	}
	v := &View{tx: tx}
	if err := tx.QueryRowContext(ctx, "SELECT size, checkpoint FROM head").Scan(&v.Size,
		&v.Checkpoint); err != nil {
		return nil, errors.Join(fmt.Errorf("read the head of the ledger: %w", err), tx.Rollback())
	}
	return v, nil
}

// Close ends the view.
func (v *View) Close() error { return v.tx.Rollback() }

// Lines visits entries as [Store.Lines] does.
func (v *View) Lines(ctx context.Context, from, to int64, visit func(*ledger.Line) error) error {
	return lines(ctx, v.tx, from, to, visit)
}

// Tile reads a hash above the leaves, for [ledger.Verifier].
func (s *Store) Tile(ctx context.Context) func(level int, n int64) (tlog.Hash, bool) {
	return func(level int, n int64) (h tlog.Hash, known bool) {
		var raw []byte
		if err := s.read.QueryRowContext(ctx, "SELECT hash FROM tiles WHERE level = ? AND n = ?", level,
			n).Scan(&raw); err != nil || len(raw) != tlog.HashSize {
			return h, true // one that is missing is none that agrees
		}
		return tlog.Hash(raw), true
	}
}

// Levels visits the level of every device.
func (v *View) Levels(ctx context.Context, visit func(device, level string)) error {
	rows, err := v.tx.QueryContext(ctx, "SELECT id, level FROM devices")
	if err != nil {
		return fmt.Errorf("read devices: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var id, level string
		if err := rows.Scan(&id, &level); err != nil {
			return fmt.Errorf("read devices: %w", err)
		}
		visit(id, level)
	}
	return rows.Err()
}

// Sound has SQLite check the file itself; the error tells what is wrong.
func (v *View) Sound(ctx context.Context) error {
	rows, err := v.tx.QueryContext(ctx, "PRAGMA quick_check(5)")
	if err != nil {
		return fmt.Errorf("check the database file: %w", err)
	}
	defer rows.Close()
	var wrong []string
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return fmt.Errorf("check the database file: %w", err)
		}
		if text != "ok" {
			wrong = append(wrong, text)
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("check the database file: %w", err)
	}
	if len(wrong) > 0 {
		return fmt.Errorf("the database file is damaged: %s", strings.Join(wrong, "; "))
	}
	return nil
}
