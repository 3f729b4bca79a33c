// Package store keeps the records in one SQLite file, through database/sql.
//
// All writing goes through [Store.Commit]: whoever calls it waits until its
// batch is durable, and batches that wait at the same time share a commit.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"strings"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"ironledger.example/core/ledger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is an open database.
type Store struct {
	write, read *sql.DB
	commits     chan *commit
	done        chan struct{}
	seq         int64 // of the newest entry; the committer's own
	entries     *inserter
	devices     *inserter
}

type commit struct {
	batch *Batch
	err   chan error
}

// Batch is what must become durable together.
type Batch struct {
	Entries []ledger.Entry
	Devices []DeviceRow
	// Exec is anything else; it runs first.
	Exec []func(*sql.Tx) error
}

// Empty reports whether there is nothing to write.
func (b *Batch) Empty() bool { return len(b.Entries)+len(b.Devices)+len(b.Exec) == 0 }

// DeviceRow is a device as it is kept; see the table for the forms.
type DeviceRow struct {
	ID, Keys, Evidence, Level, Failing, Refused string
	Since, FirstSeen, SeenAt                    int64
}

// Open opens the database file, makes it if needed, and brings it up to date.
func Open(ctx context.Context, path string) (*Store, error) {
	dsn := "file:" + (&url.URL{Path: path}).EscapedPath() + "?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=wal_autocheckpoint(8000)&_pragma=cache_size(-65536)&_pragma=busy_timeout(5000)&_pragma=foreign_keys(ON)&_txlock=immediate"
	write, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	write.SetMaxOpenConns(1)
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	goose, err := goose.NewProvider(goose.DialectSQLite3, write, files)
	if err == nil {
		_, err = goose.Up(ctx)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("prepare %s: %w", path, err), write.Close())
	}
	read, err := sql.Open("sqlite", dsn+"&_pragma=query_only(ON)")
	if err != nil {
		return nil, errors.Join(err, write.Close())
	}
	s := &Store{write: write, read: read, commits: make(chan *commit, 4096), done: make(chan struct{})}
	if s.entries, err = newInserter(ctx, write, "INSERT INTO entries (seq, at, kind, actor, about, body)", 6, ""); err == nil {
		s.devices, err = newInserter(ctx, write, "INSERT INTO devices (id, keys, evidence, level, since, failing, first_seen, seen_at, refused)", 9,
			" ON CONFLICT (id) DO UPDATE SET keys = excluded.keys, evidence = excluded.evidence, level = excluded.level, since = excluded.since, failing = excluded.failing, seen_at = excluded.seen_at, refused = excluded.refused")
	}
	if err != nil {
		return nil, errors.Join(err, write.Close(), read.Close())
	}
	if err := read.QueryRowContext(ctx, "SELECT coalesce(max(seq), 0) FROM entries").Scan(&s.seq); err != nil {
		return nil, errors.Join(fmt.Errorf("read %s: %w", path, err), write.Close(), read.Close())
	}
	go s.run()
	return s, nil
}

// Close waits for the commits under way and closes the database. Nobody may
// call Commit afterwards.
func (s *Store) Close() error {
	close(s.commits)
	<-s.done
	return errors.Join(s.read.Close(), s.write.Close())
}

// Commit makes a batch durable. When it returns an error, nothing of the
// batch was written.
func (s *Store) Commit(b *Batch) error {
	c := &commit{b, make(chan error, 1)}
	s.commits <- c
	return <-c.err
}

// maxShared bounds how many batches share a commit.
const maxShared = 512

// A commit waits at most so many steps for as many batches as the one before
// it had.
const (
	maxPatience  = 3
	patienceStep = 500 * time.Microsecond
)

func (s *Store) run() {
	defer close(s.done)
	group := make([]*commit, 0, maxShared)
	for first := range s.commits {
		group = s.gather(append(group[:0], first), len(group))
		err := s.writeAll(group)
		if err != nil && len(group) > 1 { // find out whose batch is to blame
			for _, c := range group {
				c.err <- s.writeAll([]*commit{c})
			}
			continue
		}
		for _, c := range group {
			c.err <- err
		}
	}
}

// gather adds the batches that wait. When the commit before was shared by
// several, their writers are likely to be back in a moment with more: it gives
// way to them a few times before it goes ahead, so that one commit serves many.
// A lone writer waits for nobody.
func (s *Store) gather(group []*commit, before int) []*commit {
	for patience := 0; len(group) < maxShared; {
		select {
		case c, ok := <-s.commits:
			if !ok {
				return group
			}
			group = append(group, c)
		default:
			if patience++; len(group) >= before || patience > maxPatience {
				return group
			}
			time.Sleep(patienceStep)
		}
	}
	return group
}

func (s *Store) writeAll(group []*commit) error {
	tx, err := s.write.Begin()
	if err != nil {
		return fmt.Errorf("begin: %w", err)
	}
	seq := s.seq
	if err := s.writeGroup(tx, group, &seq); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("commit: %w", err)
	}
	s.seq = seq
	return nil
}

func (s *Store) writeGroup(tx *sql.Tx, group []*commit, seq *int64) error {
	var entries, devices []any
	for _, c := range group {
		for _, f := range c.batch.Exec {
			if err := f(tx); err != nil {
				return err
			}
		}
		for _, e := range c.batch.Entries {
			*seq++
			entries = append(entries, *seq, e.At, string(e.Kind), e.Actor, e.About, string(e.Body))
		}
		for _, d := range c.batch.Devices {
			devices = append(devices, d.ID, d.Keys, d.Evidence, d.Level, d.Since, d.Failing, d.FirstSeen, d.SeenAt, d.Refused)
		}
	}
	if err := s.entries.insert(tx, entries); err != nil {
		return fmt.Errorf("write entries: %w", err)
	}
	if err := s.devices.insert(tx, devices); err != nil {
		return fmt.Errorf("write devices: %w", err)
	}
	return nil
}

// inserter inserts rows of one table, many to a statement.
type inserter struct {
	width int
	stmts []*sql.Stmt // for the numbers of rows in insertSizes
}

// insertSizes are how many rows a statement takes, largest first.
var insertSizes = []int{256, 32, 4, 1}

func newInserter(ctx context.Context, db *sql.DB, head string, width int, tail string) (*inserter, error) {
	in := &inserter{width: width}
	row := "(?" + strings.Repeat(",?", width-1) + ")"
	for _, n := range insertSizes {
		stmt, err := db.PrepareContext(ctx, head+" VALUES "+row+strings.Repeat(","+row, n-1)+tail)
		if err != nil {
			return nil, fmt.Errorf("prepare %s: %w", head, err)
		}
		in.stmts = append(in.stmts, stmt)
	}
	return in, nil
}

// insert inserts the rows that args hold, one value after the other.
func (in *inserter) insert(tx *sql.Tx, args []any) error {
	for i, n := range insertSizes {
		if len(args) < n*in.width {
			continue
		}
		stmt := tx.Stmt(in.stmts[i])
		for len(args) >= n*in.width {
			if _, err := stmt.Exec(args[:n*in.width]...); err != nil {
				return err
			}
			args = args[n*in.width:]
		}
	}
	return nil
}
