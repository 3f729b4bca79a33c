// Package mention finds the entries of the ledger whose bodies speak of a device or a person. For each run of entries
// the records keep who is spoken of in which, so that a search asks once a run and need not read the bodies of all. It
// only says where to look: what is found is held against the body itself.
package mention

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/value"
)

// Run is of how many entries the mentions are kept together: entry 1 to Run are run 0.
const Run = 4096

// slice is how many mentions are written in one transaction, so that others do not wait long.
const slice = 2048

// Device and Person are what mentions of them are kept under.
func Device(id string) string { return "d:" + id }
func Person(id string) string { return "p:" + id }

// The condition under which a body speaks of the one given, for a query over entries.
const (
	SpeaksOfDevice = "json_extract(body, '$.device') = ?"
	SpeaksOfPerson = "(json_extract(body, '$.asked.subject.id') = ? OR json_extract(body, '$.person') = ?)"
)

// present is true of the bodies that are here.
const present = "substr(body, 1, 1) = '{'"

// next is the first run that is not kept yet, whatever rows were taken out or put in: those before it are there without
// a gap, and none is of entries that are still to come.
var next = fmt.Sprintf(`min((SELECT min(run) FROM (SELECT 0 AS run UNION ALL SELECT run + 1 FROM mention_runs)
	WHERE run NOT IN (SELECT run FROM mention_runs)), (SELECT coalesce(max(seq), 0) / %d FROM entries))`, Run)

// candidates selects the numbers of the entries that are known to speak of somebody, and of those nobody looked at yet.
var candidates = fmt.Sprintf(`SELECT m.seq FROM mention_runs AS r CROSS JOIN mentions AS m ON m.run = r.run AND m.who = ?
	WHERE r.run < %s UNION ALL SELECT seq FROM entries WHERE seq > %[1]s * %d`, next, Run)

// Candidates selects the numbers of the entries that may speak of a [Device] or a [Person]: those that are known to, and
// those that nobody looked at yet, unless it is plain that they do not: reading their JSON takes longer.
func Candidates(who string) (query string, args []any) {
	if id := who[len(Device("")):]; id != "" && plain(id) {
		return candidates + " AND instr(body, ?) > 0", []any{who, id}
	}
	return candidates, []any{who}
}

// plain reports whether an id stands in JSON as it is.
func plain(id string) bool {
	return !strings.ContainsFunc(id, func(r rune) bool {
		return !('a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9' || strings.ContainsRune("@._+-:", r))
	})
}

// Querier is what reads: the database or a transaction.
type Querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// one is that an entry speaks of someone.
type one struct {
	who string
	seq int64
}

// bounds are the first and the last entry of a run.
func bounds(run int64) (first, last int64) { return run*Run + 1, (run + 1) * Run }

// Next is the first run that is not kept yet.
func Next(ctx context.Context, db Querier) (run int64, err error) {
	err = db.QueryRowContext(ctx, "SELECT "+next).Scan(&run)
	return run, err
}

// said reads whom the entries of a run speak of, in order and once each.
func said(ctx context.Context, db Querier, run int64) (out []one, err error) {
	first, last := bounds(run)
	rows, err := db.QueryContext(ctx, "SELECT seq, body FROM entries WHERE seq BETWEEN ? AND ? AND "+present, first, last)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var body sql.RawBytes
	var seq int64
	for rows.Next() {
		if err := rows.Scan(&seq, &body); err != nil {
			return nil, err
		}
		spoken(body, func(who string) { out = append(out, one{who, seq}) })
	}
	slices.SortFunc(out, func(a, b one) int { return cmp.Or(strings.Compare(a.who, b.who), cmp.Compare(a.seq, b.seq)) })
	return slices.Compact(out), rows.Err()
}

// spoken tells whom a body speaks of, as [SpeaksOfDevice] and [SpeaksOfPerson] find them, and quicker.
func spoken(body []byte, tell func(who string)) {
	told := func(raw []byte, of func(string) string) {
		if id := value.Spelt(raw); id != nil {
			tell(of(string(id)))
		}
	}
	for name, raw := range value.Members(body) {
		switch string(name) {
		case "device":
			told(raw, Device)
		case "person":
			told(raw, Person)
		case "asked":
			told(value.Member(value.Member(raw, "subject"), "id"), Person)
		}
	}
}

// kept reads whom they speak of as it is kept.
func kept(ctx context.Context, db Querier, run int64) (out []one, err error) {
	rows, err := db.QueryContext(ctx, "SELECT who, seq FROM mentions WHERE run = ? ORDER BY who, seq", run)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var m one
		if err := rows.Scan(&m.who, &m.seq); err != nil {
			return nil, err
		}
		out = append(out, m)
	}
	return out, rows.Err()
}

// Part is some of the mentions of a run, to be written in one transaction.
type Part struct {
	run  int64
	of   []one
	last bool
	anew bool // the run and those behind it are dropped
}

// Anew drops what is kept of a run and of those behind it.
func Anew(run int64) *Part { return &Part{run: run, anew: true} }

// Parts reads what a run of entries says, all of which must be there, for it to be written part by part.
func Parts(ctx context.Context, db Querier, run int64) ([]Part, error) {
	all, err := said(ctx, db, run)
	if err != nil {
		return nil, fmt.Errorf("read who entries speak of: %w", err)
	}
	var out []Part
	for of := range slices.Chunk(all, slice) {
		out = append(out, Part{run: run, of: of})
	}
	return append(out, Part{run: run, last: true}), nil
}

// Write writes a part; with the last the run is kept. It may be called again when what it shares a transaction with
// cannot be written.
func (p *Part) Write(tx *sql.Tx) error {
	if p.anew {
		_, err := tx.Exec("DELETE FROM mention_runs WHERE run >= ?", p.run)
		if err == nil {
			_, err = tx.Exec("DELETE FROM mentions WHERE run >= ?", p.run)
		}
		return err
	}
	for of := range slices.Chunk(p.of, 256) {
		args := make([]any, 0, 3*len(of))
		for _, m := range of {
			args = append(args, p.run, m.who, m.seq)
		}
		if _, err := tx.Exec("INSERT OR IGNORE INTO mentions (run, who, seq) VALUES (?,?,?)"+
			strings.Repeat(",(?,?,?)", len(of)-1), args...); err != nil {
			return err
		}
	}
	if !p.last {
		return nil
	}
	first, last := bounds(p.run)
	if err := Forget(tx, first, last); err != nil { // what was redacted since it was read
		return err
	}
	if _, err := tx.Exec("DELETE FROM mention_runs WHERE run > ?", p.run); err != nil { // that nobody has kept
		return err
	}
	_, err := tx.Exec("INSERT OR IGNORE INTO mention_runs (run) VALUES (?)", p.run)
	return err
}

// Forget drops the mentions by entries, from one on to another, whose bodies are not here any more.
func Forget(tx *sql.Tx, from, to int64) error {
	_, err := tx.Exec(`DELETE FROM mentions WHERE run BETWEEN (?1 - 1) / ?3 AND (?2 - 1) / ?3 AND seq IN (
		SELECT seq FROM entries WHERE seq BETWEEN ?1 AND ?2 AND NOT `+present+`)`, from, to, Run)
	return err
}

// ErrWrong is that the mentions kept are not what the entries say.
var ErrWrong = errors.New("who they speak of was kept otherwise than they say, so that searches by device or person " +
	"missed some of them; it is made anew")

// Check holds what is kept of a run against the entries; of one that is not kept there is nothing to say.
func Check(ctx context.Context, db Querier, run int64) error {
	if next, err := Next(ctx, db); err != nil || run >= next {
		return err
	}
	say, err := said(ctx, db, run)
	var keep []one
	if err == nil {
		keep, err = kept(ctx, db, run)
	}
	if err != nil {
		return fmt.Errorf("read who entries speak of: %w", err)
	}
	if !slices.Equal(say, keep) {
		first, last := bounds(run)
		return fmt.Errorf("entries %d to %d: %w", first, last, ErrWrong)
	}
	return nil
}
