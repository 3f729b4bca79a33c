package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/rowhash"
)

// The state is sealed. Of each table whose rows can change an answer there is a
// digest, which is kept up with every row that is written and stands in the signed
// head. A start reads the rows anyway: it compares, and refuses to go on from a
// state that was altered while nobody wrote it.
//
// Other tables have a check of their own: see [Guarded].

// sealed is a table of the state.
type sealed int

// The tables of the state, in the order in which they stand in its hash.
const (
	devicesTable sealed = iota
	peopleTable
	documentsTable
	rulebooksTable
	tokensTable
	cookiesTable
	houseTable
	sealedTables // how many there are
)

// tables are their names, their columns, and how many of these are the key.
var tables = [sealedTables]struct {
	name    string
	columns []string
	key     int
}{
	devicesTable: {"devices", []string{"id", "keys", "evidence", "level", "since", "failing", "first_seen",
		"seen_at", "refused", "spoken", "revision", "past"}, 1},
	peopleTable:    {"people", []string{"id", "name", "groups"}, 1},
	documentsTable: {"documents", []string{"kind", "id", "body"}, 2},
	rulebooksTable: {"rulebooks", []string{"version", "at", "author", "message", "digest", "files"}, 1},
	tokensTable:    {"tokens", []string{"id", "name", "role", "hash", "created_at", "created_by", "revoked_at"}, 1},
	cookiesTable:   {"sessions", []string{"hash", "token", "expires_at"}, 1},
	houseTable:     {"house_past", []string{"what", "revision", "at", "undo"}, 2},
}

// Guarded says, for every table of the schema, what keeps an alteration of it from
// changing an answer.
func Guarded() map[string]string {
	out := map[string]string{
		"entries":      "the tree: each entry is compared with its hash when it is read, sessions with the signed root",
		"tiles":        "the tree: hashes lead to the signed root",
		"head":         "its signature",
		"codes":        "the decision that a code leads to tells its code",
		"mentions":     "the entries: a verification holds it against their bodies, a search what it finds",
		"mention_runs": "as mentions",
		"device_past":  "a chain of hashes that ends in the row of the device",
	}
	for _, t := range tables {
		out[t.name] = "the state in the signed head"
	}
	return out
}

// rowHash is the hash of a row, BLAKE2b (RFC 7693) with 256 bits: of the name of its table and of each value with its
// kind and length.
func (t sealed) rowHash(values []any) tlog.Hash {
	return rowhash.Of(func(b []byte) []byte {
		b = rowhash.AppendText(b, 't', tables[t].name)
		for _, v := range values {
			b = rowhash.AppendValue(b, v)
		}
		return b
	})
}

// Hash is the hash of a device's row in the state.
func (d *DeviceRow) Hash() tlog.Hash {
	// It is rowHash of values, at a restart of a hundred thousand rows and more.
	return rowhash.Of(func(b []byte) []byte {
		b = rowhash.AppendText(b, 't', tables[devicesTable].name)
		for _, text := range [...]string{d.ID, d.Keys, d.Evidence, d.Level} {
			b = rowhash.AppendText(b, 't', text)
		}
		b = rowhash.AppendText(rowhash.AppendNumber(b, d.Since), 't', d.Failing)
		b = rowhash.AppendNumber(rowhash.AppendNumber(b, d.FirstSeen), d.SeenAt)
		b = rowhash.AppendText(rowhash.AppendText(b, 't', d.Refused), 't', d.Spoken)
		return rowhash.AppendBlob(rowhash.AppendNumber(b, d.Revision), d.Past)
	})
}

func (d *DeviceRow) values() []any {
	return []any{d.ID, d.Keys, d.Evidence, d.Level, d.Since, d.Failing, d.FirstSeen, d.SeenAt, d.Refused,
		d.Spoken, d.Revision, d.Past}
}

// Link is the hash of the newest step of a device's past, which its row keeps:
// of the step and of the link before it.
func Link(device string, step PastStep, before []byte) []byte {
	var b []byte
	for _, v := range []any{device, step.Revision, step.At, step.Undo, before} {
		b = rowhash.AppendValue(b, v)
	}
	sum := sha256.Sum256(b)
	return sum[:]
}

// state is the digests of the tables. The zero state is that of empty ones.
type state struct {
	digests [sealedTables]ledger.Digest
	stale   [sealedTables]bool // the digest has changed since sums
	known   bool               // whether the rest is worked out
	sums    [sealedTables]tlog.Hash
	sum     tlog.Hash
	told    string
}

func (s *state) add(t sealed, row tlog.Hash) {
	s.digests[t].Add(row)
	s.stale[t], s.known = true, false
}

func (s *state) remove(t sealed, row tlog.Hash) {
	s.digests[t].Remove(row)
	s.stale[t], s.known = true, false
}

func (s *state) set(t sealed, d ledger.Digest) {
	s.digests[t] = d
	s.stale[t], s.known = true, false
}

// hash is what the head tells of the state; the sums are told one by one beside it.
// Only what has changed is worked out again.
func (s *state) hash() (tlog.Hash, string) {
	if s.known {
		return s.sum, s.told
	}
	var b []byte
	sums := map[string]string{}
	for t := range sealedTables {
		if s.stale[t] || s.sums[t] == (tlog.Hash{}) {
			s.sums[t], s.stale[t] = s.digests[t].Sum(), false
		}
		b = append(rowhash.AppendText(b, 't', tables[t].name), s.sums[t][:]...)
		sums[tables[t].name] = s.sums[t].String()
	}
	text, _ := json.Marshal(sums) // texts alone
	s.sum, s.told, s.known = sha256.Sum256(b), string(text), true
	return s.sum, s.told
}

// differs names the tables whose digests are not those that were kept.
func (s *state) differs(kept string) []string {
	var sums map[string]string
	if json.Unmarshal([]byte(kept), &sums) != nil {
		return nil
	}
	var out []string
	for t := range sealedTables {
		if sum := s.digests[t].Sum(); sums[tables[t].name] != sum.String() {
			out = append(out, tables[t].name)
		}
	}
	return out
}

// rowOp is a row that is put, or dropped.
type rowOp struct {
	table  sealed
	values []any // all columns of one that is put; the key of one that is dropped
	drop   bool
	// expired drops the console sessions that ended before the moment in values.
	expired bool
}

func (b *Batch) put(t sealed, values ...any) {
	b.rows = append(b.rows, rowOp{table: t, values: values})
}
func (b *Batch) drop(t sealed, key ...any) {
	b.rows = append(b.rows, rowOp{table: t, values: key, drop: true})
}
func (b *Batch) expire(before int64) {
	b.rows = append(b.rows, rowOp{table: cookiesTable, values: []any{before}, expired: true})
}

// rowWriter writes rows of the state and keeps the digests up. Its statements are
// prepared once for a transaction.
type rowWriter struct {
	tx                   *sql.Tx
	into                 *state
	selects, puts, drops [sealedTables]*sql.Stmt
}

func (w *rowWriter) prepare(at *[sealedTables]*sql.Stmt, t sealed, query string) (*sql.Stmt, error) {
	if at[t] != nil {
		return at[t], nil
	}
	stmt, err := w.tx.Prepare(query)
	at[t] = stmt
	return stmt, err
}

func (w *rowWriter) close() {
	for _, list := range []*[sealedTables]*sql.Stmt{&w.selects, &w.puts, &w.drops} {
		for _, stmt := range list {
			if stmt != nil {
				stmt.Close()
			}
		}
	}
}

func (w *rowWriter) write(op rowOp) error {
	t := &tables[op.table]
	if op.expired {
		rows, err := w.tx.Query("SELECT hash FROM sessions WHERE expires_at < ?", op.values...)
		if err != nil {
			return err
		}
		gone, err := scanRows(rows, 1)
		if err != nil {
			return err
		}
		for _, key := range gone {
			if err := w.write(rowOp{table: op.table, values: key, drop: true}); err != nil {
				return err
			}
		}
		return nil
	}
	where := strings.Join(t.columns[:t.key], " = ? AND ") + " = ?"
	old, err := w.prepare(&w.selects, op.table,
		"SELECT "+strings.Join(t.columns, ", ")+" FROM "+t.name+" WHERE "+where)
	if err != nil {
		return err
	}
	rows, err := old.Query(op.values[:t.key]...)
	if err != nil {
		return err
	}
	was, err := scanRows(rows, len(t.columns))
	if err != nil {
		return err
	}
	for _, row := range was {
		w.into.remove(op.table, op.table.rowHash(row))
	}
	if op.drop {
		stmt, err := w.prepare(&w.drops, op.table, "DELETE FROM "+t.name+" WHERE "+where)
		if err == nil {
			_, err = stmt.Exec(op.values...)
		}
		return err
	}
	set := make([]string, 0, len(t.columns))
	for _, c := range t.columns[t.key:] {
		set = append(set, c+" = excluded."+c)
	}
	stmt, err := w.prepare(&w.puts, op.table,
		"INSERT INTO "+t.name+" ("+strings.Join(t.columns, ", ")+") VALUES (?"+strings.Repeat(",?",
			len(t.columns)-1)+
			") ON CONFLICT ("+strings.Join(t.columns[:t.key], ", ")+") DO UPDATE SET "+strings.Join(set, ", "))
	if err == nil {
		_, err = stmt.Exec(op.values...)
	}
	if err == nil {
		w.into.add(op.table, op.table.rowHash(op.values))
	}
	return err
}

// scanRows reads rows with so many columns, as they are hashed.
func scanRows(rows *sql.Rows, columns int) ([][]any, error) {
	defer rows.Close()
	var out [][]any
	for rows.Next() {
		row := make([]any, columns)
		into := make([]any, columns)
		for i := range row {
			into[i] = &row[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		out = append(out, row)
	}
	return out, rows.Err()
}

// digestOf reads a table and works its digest out.
func digestOf(ctx context.Context, db querier, t sealed) (d ledger.Digest, n int, err error) {
	rows, err := db.QueryContext(ctx, "SELECT "+strings.Join(tables[t].columns, ", ")+" FROM "+tables[t].name)
	if err != nil {
		return d, 0, fmt.Errorf("read the table %s: %w", tables[t].name, err)
	}
	defer rows.Close()
	row, into := make([]any, len(tables[t].columns)), make([]any, len(tables[t].columns))
	for i := range row {
		into[i] = &row[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return d, n, fmt.Errorf("read the table %s: %w", tables[t].name, err)
		}
		d.Add(t.rowHash(row))
		n++
	}
	return d, n, rows.Err()
}

// Adopt compares the state on disk with the one in the signed head, and makes the
// store ready to write. devices is the digest of the devices' rows, which the caller
// has read. The error is a [*TamperError] that names what was altered.
func (s *Store) Adopt(ctx context.Context, devices ledger.Digest) error {
	s.state.set(devicesTable, devices)
	for t := range sealedTables {
		if t == devicesTable {
			continue
		}
		d, _, err := digestOf(ctx, s.read, t)
		if err != nil {
			return err
		}
		s.state.set(t, d)
	}
	head := s.Sealed().Head
	if head.State == (tlog.Hash{}) {
		return s.sealState(ctx)
	}
	if err := s.compare(ctx, s.read, &s.state, head.State); err != nil {
		return err
	}
	s.adopted = true
	for _, f := range s.pending { // what was asked for when the store was opened
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

// Altered compares the state on disk with the one in the signed head, and changes
// nothing. The error is a [*TamperError] that names what was altered.
func (s *Store) Altered(ctx context.Context) error {
	v, err := s.View(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = v.Close() }() // it only read
	if head := s.Sealed().Head; head.State != (tlog.Hash{}) {
		_, err = v.State(ctx, head)
	}
	return err
}

// AdoptAll does what Adopt does for a caller that does not read the devices itself.
func (s *Store) AdoptAll(ctx context.Context) error {
	d, _, err := digestOf(ctx, s.read, devicesTable)
	if err != nil {
		return err
	}
	return s.Adopt(ctx, d)
}

func (s *Store) compare(ctx context.Context, db querier, now *state, want tlog.Hash) error {
	var kept string
	if err := db.QueryRowContext(ctx, "SELECT state FROM head").Scan(&kept); err != nil {
		return fmt.Errorf("read the head of the ledger: %w", err)
	}
	if got, told := now.hash(); got == want && told == kept {
		return nil
	}
	what := now.differs(kept)
	if len(what) == 0 {
		what = []string{"the table head"}
	}
	return &TamperError{Message: "the state is not the one that was signed: " + strings.Join(what,
		", ") + " was altered while nobody wrote it"}
}

// sealState begins to seal the state of records from before it was sealed. That
// happens once, in the start that brings them up to date, and is an entry; records
// that have been sealed are not sealed anew.
func (s *Store) sealState(ctx context.Context) error {
	if !s.upgraded {
		return &TamperError{Message: "its head does not tell of the state"}
	}
	err := s.Proven(ctx, 1, func(e ledger.Entry) error {
		if e.Kind == ledger.StateSealed {
			return &TamperError{Message: fmt.Sprintf("entry %d tells that the state is sealed, and its head does not",
				e.Seq)}
		}
		return nil
	})
	if err != nil {
		return err
	}
	s.adopted = true
	if err := s.mark(max(s.sealer.last, time.Now().UnixMicro()),
		&event.StateSealed{Reason: "the records are from before the state was sealed"}); err != nil {
		return err
	}
	for _, f := range s.pending {
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

// fresh makes the first head of records that hold nothing. Records that hold
// something and have no head are broken: nothing is signed to make them fit.
func (s *Store) fresh(ctx context.Context) error {
	for _, name := range append(slices.Collect(func(yield func(string) bool) {
		for _, t := range tables {
			if !yield(t.name) {
				return
			}
		}
	}), "entries", "tiles", "codes", "device_past") {
		var n int64
		if err := s.read.QueryRowContext(ctx,
			"SELECT count(*) FROM (SELECT 1 FROM "+name+" LIMIT 1)").Scan(&n); err != nil {
			return fmt.Errorf("read the table %s: %w", name, err)
		}
		if n > 0 {
			return &TamperError{Message: "its head is gone, and the table " + name + " holds something"}
		}
	}
	tx, err := s.write.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("begin the ledger: %w", err)
	}
	var head *Sealed
	if _, err = tx.ExecContext(ctx, "INSERT INTO head (id, size, checkpoint) VALUES (1, 0, '')"); err == nil {
		head, err = s.putHead(tx, s.sealer.seal(nil, &s.state), nil)
	}
	if err == nil {
		err = tx.Commit()
	}
	if err != nil {
		return errors.Join(fmt.Errorf("begin the ledger: %w", err), ignoreDone(tx.Rollback()))
	}
	s.announce(head)
	return nil
}

// State compares the whole state with the one in the view's head, and returns how
// many rows it has. The error is a [*TamperError] that names what was altered.
func (v *View) State(ctx context.Context, head ledger.Head) (rows int, err error) {
	var now state
	for t := range sealedTables {
		d, n, err := digestOf(ctx, v.tx, t)
		if err != nil {
			return rows, err
		}
		now.set(t, d)
		rows += n
	}
	if head.State == (tlog.Hash{}) {
		return rows, &TamperError{Message: "its head does not tell of the state"}
	}
	return rows, (&Store{}).compare(ctx, v.tx, &now, head.State)
}
