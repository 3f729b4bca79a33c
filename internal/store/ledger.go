package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"strings"

	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/proven"
	"ironledger.example/internal/store/mention"
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
	if l.Body, l.Canonical = append(l.Body[:0], body...), nil; !isHere(body) {
		l.Body = nil
	}
	l.Archive = archiveOf(body)
	return nil
}

// present is true of the bodies that are here: objects all of them.
const present = "substr(body, 1, 1) = '{'"

func isHere(body []byte) bool { return len(body) > 0 && body[0] == '{' }

// archiveOf is the archive that holds a body, in whose place its id stands as a JSON text.
func archiveOf(body []byte) string {
	if n := len(body); n > 2 && body[0] == '"' && body[n-1] == '"' {
		return string(body[1 : n-1])
	}
	return ""
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

// Proven visits the entries from one on to the last, oldest first, and checks that
// each is in the tree whose head is signed. The error is a [*TamperError] when one
// is not, or when a body is gone and no entry tells why.
func (s *Store) Proven(ctx context.Context, from int64, visit func(ledger.Entry) error) error {
	return s.ProvenBetween(ctx, from, math.MaxInt64, visit)
}

// ProvenBetween does as [Store.Proven] for the entries from one on to another.
func (s *Store) ProvenBetween(ctx context.Context, from, to int64, visit func(ledger.Entry) error) error {
	return proven.Between(ctx, s, s.Sealed().Head, from, to, visit)
}

// ProvenAhead does as [Store.Proven], with all processors.
func (s *Store) ProvenAhead(ctx context.Context, from int64, visit func(ledger.Entry) error) error {
	return proven.Ahead(ctx, s, s.Sealed().Head, from, math.MaxInt64, visit)
}

// RootAt is the root of the tree as it was with so many entries.
func (s *Store) RootAt(ctx context.Context, size int64) (tlog.Hash, error) {
	return proven.Root(ctx, s, s.Sealed().Head, size)
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
		candidates, of := mention.Candidates(mention.Device(q.Device))
		add("(kind <> 'decision.made' AND about = ? OR "+mention.SpeaksOfDevice+")", q.Device, q.Device)
		add("seq IN ("+candidates+" UNION ALL "+about+")", append(of, q.Device, q.Device, q.Device)...)
	}
	if q.Person != "" {
		candidates, of := mention.Candidates(mention.Person(q.Person))
		add(mention.SpeaksOfPerson+" AND seq IN ("+candidates+")", append([]any{q.Person, q.Person}, of...)...)
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
	if err == nil {
		err = mention.Forget(tx, seq, seq)
	}
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

// Away has the bodies of entries give way to the id of the archive that holds them: of those
// from one on to another, as far as [Store.Archivable] counts them.
type Away struct {
	Archive  string
	From, To int64
	Last     int64 // of all that the archive has
}

// archivable selects bodies that may be kept in an archive alone: not those that tell of the
// records themselves, nor what says last, up to ?3, how a device stands.
const archivable = " seq BETWEEN ?1 AND ?2 AND " + present + ` AND kind NOT IN ('ledger.redacted', 'ledger.key-replaced',
	'ledger.clock-reset', 'ledger.state-sealed', 'ledger.archived') AND NOT (kind = 'standing.changed' AND seq = (
		SELECT max(seq) FROM entries AS newest WHERE newest.about = entries.about AND newest.kind = 'standing.changed'
		AND newest.kind <> 'decision.made' AND newest.kind <> 'evidence.refused' AND newest.seq <= ?3))`

// Archivable counts the entries from one on to the last whose bodies an archive of them may hold alone.
func (s *Store) Archivable(ctx context.Context, from, last int64) (n int, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT count(*) FROM entries WHERE"+archivable, from, last, last).Scan(&n)
	return n, err
}

// write takes the entries out and puts them in again without the bodies: altered where they
// stand, they would leave their pages half empty, where nothing else comes to stand.
func (a *Away) write(tx *sql.Tx) error {
	for _, x := range []struct {
		statement string
		args      []any
	}{
		{"CREATE TEMP TABLE IF NOT EXISTS staying (seq INTEGER PRIMARY KEY, at, kind, actor, about, body, leaf)", nil},
		{"INSERT INTO staying SELECT seq, at, kind, actor, about, CASE WHEN" + archivable +
			" THEN ?4 ELSE body END, leaf FROM entries WHERE seq BETWEEN ?1 AND ?2",
			[]any{a.From, a.To, a.Last, `"` + a.Archive + `"`}},
		{"DELETE FROM entries WHERE seq BETWEEN ? AND ?", []any{a.From, a.To}},
		{"INSERT INTO entries (" + lineColumns + ") SELECT " + lineColumns + " FROM staying ORDER BY seq", nil},
		{"DELETE FROM staying", nil},
	} {
		if _, err := tx.Exec(x.statement, x.args...); err != nil {
			return err
		}
	}
	return mention.Forget(tx, a.From, a.To)
}

// newEntries is of how many of the newest entries the mean size is taken.
const newEntries = 2000

// Space is how many bytes within the file of the records nothing stands in, and how many the
// texts of a new entry have on average; 0 while there are none.
func (s *Store) Space(ctx context.Context) (free int64, mean float64, err error) {
	var size, pages int64
	err = errors.Join(s.read.QueryRowContext(ctx, "PRAGMA page_size").Scan(&size),
		s.read.QueryRowContext(ctx, "PRAGMA freelist_count").Scan(&pages),
		s.read.QueryRowContext(ctx, "SELECT coalesce(avg(length(kind) + length(actor) + length(about) + length(body)), 0) "+
			"FROM (SELECT kind, actor, about, body FROM entries ORDER BY seq DESC LIMIT ?)", newEntries).Scan(&mean))
	if err != nil {
		return 0, 0, fmt.Errorf("measure the records: %w", err)
	}
	return size * pages, mean, nil
}

// Before returns the number of the last entry before a moment, 0 for none.
func (s *Store) Before(ctx context.Context, moment int64) (int64, error) {
	return s.before(ctx, moment)
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
