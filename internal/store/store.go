// Package store keeps the records in one SQLite file, through database/sql.
//
// All writing goes through [Store.Commit]: whoever calls it waits until its
// batch is durable, and batches that wait at the same time share a commit. Each
// commit seals its entries: it adds their hashes to the tree of the ledger and
// signs the new head, in the same transaction.
//
// When the disk fails, the store is in trouble: every commit fails at once, until
// writing works again, which the store finds out by itself.
package store

import (
	"cmp"
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"github.com/pressly/goose/v3"
	"golang.org/x/mod/sumdb/tlog"
	"modernc.org/sqlite" // and its driver "sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/keyfile"
	"ironledger.example/internal/store/bulk"
	"ironledger.example/internal/store/mention"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is an open database.
type Store struct {
	write, read *sql.DB
	done        chan struct{}
	log         *slog.Logger
	entries     *bulk.Inserter
	devices     *bulk.Inserter
	past        *bulk.Inserter
	codes       *bulk.Inserter
	tiles       *bulk.Inserter
	head        *sql.Stmt

	mu      sync.Mutex
	commits Commits
	waiting []*group      // the last one takes more
	company int           // how many write at the same time, as far as is known
	landed  time.Time     // when the last group landed
	stood   int           // how many waited then
	gap     time.Duration // between two that came, in the group before
	closed  bool
	wake    chan struct{}

	sealer   sealer // the committer's own, as is state
	state    state
	adopted  bool           // whether the state was compared with the head
	pending  []func() error // to be done once the state is adopted
	upgraded bool           // whether the records are from before the state was sealed
	opened   int64          // the time of the newest entry when the store was opened
	sealed   atomic.Pointer[Sealed]
	grown    atomic.Pointer[chan struct{}]
	trouble  atomic.Pointer[TroubleError]
}

// commit is a batch on its way to the disk.
type commit struct {
	batch *Batch
	err   error // once its group has landed
}

// group is batches that share a commit.
type group struct {
	commits []*commit
	landed  chan struct{} // closed once they are durable, or are not going to be
}

// Batch is what must become durable together.
type Batch struct {
	Entries []ledger.Entry
	Devices []DeviceRow
	Codes   []Code

	prepared []ledger.Prepared // of Entries
	rows     []rowOp           // of the state, beside devices
	redacted []int64           // entries whose bodies go
	Away     *Away             // bodies that an archive holds; nil for none
	forget   *forgetting       // a slice of the past of devices that goes
	mentions *mention.Part     // of who entries speak of
}

// at is the time of the first entry, 0 for none.
func (b *Batch) at() int64 {
	if len(b.Entries) == 0 {
		return 0
	}
	return b.Entries[0].At
}

// Empty reports whether there is nothing to write.
func (b *Batch) Empty() bool {
	return b.Len() == 0 && b.forget == nil && b.Away == nil && b.mentions == nil
}

// Len is how many things are to be written.
func (b *Batch) Len() int {
	return len(b.Entries) + len(b.Devices) + len(b.Codes) + len(b.rows) + len(b.redacted)
}

// DeviceRow is a device as it is kept; see the table for the forms.
type DeviceRow struct {
	ID, Keys, Evidence, Level, Failing, Refused, Spoken string
	Since, FirstSeen, SeenAt                            int64

	Revision int64  // counts the changes of the device, from 1
	At       int64  // of the change
	Undo     string // leads back to the revision before; "" for the first
	Purged   bool   // what led back to the revisions before is removed with it
	Past     []byte // the link of the past that ends in this row: see [Link]
	Before   []byte // the one before it
	// Was and Sealed are the hashes of the row before and of this one: see Hash.
	Was, Sealed tlog.Hash
}

// Code is the short name of a decision, for a help desk.
type Code struct{ Code, Decision string }

// ErrCodeTaken says that a batch has a code that another decision has.
var ErrCodeTaken = errors.New("the code is that of another decision")

// TroubleError says that nothing can be recorded at present.
type TroubleError struct {
	Since time.Time
	Err   error
}

func (e *TroubleError) Error() string { return "the records cannot be written: " + e.Err.Error() }
func (e *TroubleError) Unwrap() error { return e.Err }

// Options are what a store is opened with.
type Options struct {
	Key keyfile.Pair
	Log *slog.Logger // nil: slog.Default()
	// NewKey and ResetClock are the reasons for going on with another key, and
	// for letting time go back; "" not to.
	NewKey, ResetClock string
}

// busy is how long a commit waits for another process that has the database
// locked, in milliseconds.
const busy = 2000

// Open opens the database file, makes it if needed, and brings it up to date.
// The error is a [*TamperError] when the ledger in it is not the one that was
// signed.
func Open(ctx context.Context, path string, o Options) (*Store, error) {
	if o.Log == nil {
		o.Log = slog.Default()
	}
	if err := private(path, o.Log); err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	dsn := dsn(path) + fmt.Sprintf("?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=wal_autocheckpoint(8000)&_pragma=journal_size_limit(67108864)&_pragma=cache_size(-8192)&_pragma=busy_timeout(%d)&_pragma=foreign_keys(ON)&_pragma=secure_delete(FAST)", busy)
	write, err := sql.Open("sqlite", dsn+"&_txlock=immediate")
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	write.SetMaxOpenConns(1)
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	version := int64(0)
	goose, err := goose.NewProvider(goose.DialectSQLite3, write, files)
	if err == nil {
		version, err = goose.GetDBVersion(ctx)
	}
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
	s := &Store{write: write, read: read, log: o.Log, wake: make(chan struct{}, 1), done: make(chan struct{}),
		upgraded: version > 0 && version < stateVersion}
	if err = s.prepare(ctx); err == nil {
		err = s.unseal(ctx, o)
		s.opened = s.sealer.last
	}
	if err == nil { // SQLite opens a file that cannot be written without a word
		if err = s.probe(); err != nil {
			err = &TroubleError{time.Now(), err}
		}
	}
	if err != nil {
		return nil, errors.Join(err, write.Close(), read.Close())
	}
	go s.run()
	return s, nil
}

// private makes sure that the files of the records are their owner's alone. SQLite
// gives those beside the first its mode.
func private(path string, log *slog.Logger) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err == nil {
		return f.Close()
	}
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	for _, name := range []string{path, path + "-wal", path + "-shm"} {
		info, err := os.Stat(name)
		if errors.Is(err, fs.ErrNotExist) || err == nil && info.Mode().Perm()&0o077 == 0 ||
			runtime.GOOS == "windows" {
			continue
		}
		if err == nil {
			log.Warn("others could read the records until now; find out whether they did", "file", name,
				"mode", fmt.Sprintf("%04o", info.Mode().Perm()))
			err = os.Chmod(name, 0o600)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// stateVersion is the version of the schema from which on the state is sealed.
const stateVersion = 7

// dsn names a database file for the driver.
func dsn(path string) string { return "file:" + (&url.URL{Path: path}).EscapedPath() }

func (s *Store) prepare(ctx context.Context) (err error) {
	for _, in := range []struct {
		into  **bulk.Inserter
		head  string
		width int
		tail  string
	}{
		{&s.entries, "INSERT INTO entries (seq, at, kind, actor, about, body, leaf)", 7, ""},
		{&s.devices, "INSERT INTO devices (id, keys, evidence, level, since, failing, first_seen, seen_at, " +
			"refused, spoken, revision, past)", 12,
			" ON CONFLICT (id) DO UPDATE SET keys = excluded.keys, evidence = excluded.evidence, level = " +
				"excluded.level, since = excluded.since, failing = excluded.failing, seen_at = " +
				"excluded.seen_at, refused = excluded.refused, spoken = excluded.spoken, revision = " +
				"excluded.revision, past = excluded.past"},
		{&s.past, "INSERT INTO device_past (device, revision, at, undo, before)", 5, ""},
		{&s.codes, "INSERT INTO codes (code, decision)", 2, ""},
		{&s.tiles, "INSERT INTO tiles (level, n, hash)", 3, ""},
	} {
		if *in.into, err = bulk.New(ctx, s.write, in.head, in.width, in.tail); err != nil {
			return err
		}
	}
	if s.head, err = s.write.PrepareContext(ctx,
		"UPDATE head SET size = ?, checkpoint = ?, state = ? WHERE id = 1"); err != nil {
		return fmt.Errorf("prepare the head: %w", err)
	}
	return nil
}

// Close waits for the commits under way and closes the database. Nobody may
// call Commit afterwards.
func (s *Store) Close() error {
	s.mu.Lock()
	s.closed = true
	s.mu.Unlock()
	s.rouse()
	<-s.done
	if s.write == s.read {
		return s.read.Close()
	}
	return errors.Join(s.read.Close(), s.write.Close())
}

// Commit makes a batch durable. When it returns an error, nothing of the
// batch was written; a [*TroubleError] says that it is not the batch's fault.
func (s *Store) Commit(b *Batch) error {
	if err := b.prepare(); err != nil {
		return err
	}
	if t := s.trouble.Load(); t != nil {
		return t
	}
	if !s.adopted {
		return errors.New("the state of the records has not been compared with what was signed")
	}
	c := &commit{batch: b}
	g := s.join(c)
	<-g.landed
	return c.err
}

// maxShared bounds how many batches share a commit.
const maxShared = 512

// A commit waits for company if the fewest at least are to be expected, as long
// as somebody comes within every stretch of patience, and no longer than most.
// Enough need not wait for the others unless these come as quick as they can
// be written: then the cores have nothing else to do, and one commit for all is
// the cheapest. Otherwise some are written while others make ready.
const (
	fewest   = 4
	patience = time.Millisecond
	most     = 3 * time.Millisecond
	enough   = 32
	quick    = 16 * time.Microsecond
)

// join adds a batch to the group that is written next.
func (s *Store) join(c *commit) *group {
	s.mu.Lock()
	defer s.mu.Unlock()
	last := len(s.waiting) - 1
	if last < 0 || len(s.waiting[last].commits) == maxShared {
		s.waiting = append(s.waiting, &group{landed: make(chan struct{})})
		last++
	}
	g := s.waiting[last]
	g.commits = append(g.commits, c)
	if n := len(g.commits); n == 1 || s.ready(n) {
		s.rouse()
	}
	return g
}

// ready reports whether a group of n need not wait for more.
func (s *Store) ready(n int) bool {
	return s.company < fewest || n >= s.company || n >= enough && s.pace(n) > quick
}

// pace is how long it took each time until one more came to a group that is n
// now. While none has come since the last group landed, it is what it was before.
func (s *Store) pace(n int) time.Duration {
	if n > s.stood {
		return time.Since(s.landed) / time.Duration(n-s.stood)
	}
	return s.gap
}

// rouse lets the committer look again.
func (s *Store) rouse() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// next takes the group that is written next; nil when none is ready yet.
func (s *Store) next(patient bool) (g *group, closed bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.waiting) == 0 || patient && len(s.waiting) == 1 && !s.ready(len(s.waiting[0].commits)) {
		return nil, s.closed && len(s.waiting) == 0
	}
	g, s.waiting = s.waiting[0], s.waiting[1:]
	s.gap = s.pace(len(g.commits))
	return g, false
}

// inLine is how many batches wait in the group that is written next.
func (s *Store) inLine() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.standing()
}

// standing is inLine for who holds the lock.
func (s *Store) standing() int {
	if len(s.waiting) == 0 {
		return 0
	}
	return len(s.waiting[0].commits)
}

// served notes that a group of n has landed: they are about to come back. A
// small group among larger ones does not mean that the others are gone for good.
func (s *Store) served(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.landed, s.stood = time.Now(), s.standing()
	s.company = min(max(n+s.stood, s.company*3/4), maxShared)
}

// run writes one group after the other. Those whom a commit served are likely to
// be back in a moment with more: the next one waits for company, but not long,
// so that one commit serves many. A lone writer waits for nobody.
func (s *Store) run() {
	defer close(s.done)
	patient := time.NewTimer(patience)
	defer patient.Stop()
	var since time.Time // when the waiting began
	for waiting, came := false, 0; ; {
		g, closed := s.next(waiting)
		if g != nil {
			began := time.Now()
			s.commitAll(g.commits)
			s.count(len(g.commits), time.Since(began))
			s.served(len(g.commits))
			close(g.landed)
			patient.Reset(patience)
			waiting, came, since = true, 0, time.Now()
			continue
		}
		if closed {
			return
		}
		var retry <-chan time.Time
		if s.trouble.Load() != nil {
			retry = time.After(retryEvery)
		}
		select {
		case <-s.wake:
		case <-patient.C:
			n := s.inLine()
			if waiting = n > came && time.Since(since) < most; waiting {
				came = n
				patient.Reset(patience)
			}
		case <-retry:
			s.note(s.probe())
		}
	}
}

// Commits is how many commits there were since the start, of how many batches, and how long they took.
type Commits struct {
	Groups, Batches int64
	Took            time.Duration
}

func (s *Store) count(batches int, took time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.commits.Groups++
	s.commits.Batches += int64(batches)
	s.commits.Took += took
}

// Commits tells how many commits there were.
func (s *Store) Commits() Commits {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.commits
}

// retryEvery is how often a store in trouble tries whether it can write.
const retryEvery = 250 * time.Millisecond

func (s *Store) commitAll(commits []*commit) {
	var err error
	if t := s.trouble.Load(); t != nil {
		err = t
	} else if err = s.writeAll(commits); !s.note(err) && err != nil &&
		len(commits) > 1 { // find out whose batch is to blame
		for _, c := range commits {
			err := c.batch.prepare()
			if err == nil {
				err = s.writeAll([]*commit{c})
			}
			s.note(err)
			c.err = s.told(err)
		}
		return
	}
	for _, c := range commits {
		c.err = s.told(err)
	}
}

// note takes in how writing went, and reports whether the store is in trouble:
// whether it was the disk that failed, and not what was to be written.
func (s *Store) note(err error) bool {
	before := s.trouble.Load()
	switch {
	case err == nil:
		if before != nil {
			s.trouble.Store(nil)
			s.log.Info("the records can be written again", "after",
				time.Since(before.Since).Round(time.Millisecond))
		}
		return false
	case !isTrouble(err):
		return before != nil
	case before == nil:
		s.trouble.Store(&TroubleError{time.Now(), err})
		s.log.Error("the records cannot be written: nothing is granted until they can", "error", err)
	}
	return true
}

// told is an error of writing as callers get it.
func (s *Store) told(err error) error {
	if t := s.trouble.Load(); t != nil && isTrouble(err) {
		return t
	}
	return err
}

// isTrouble reports whether an error is the disk's, and not that of what was
// to be written.
func isTrouble(err error) bool {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return false
	}
	switch e.Code() & 0xff {
	case sqlite3.SQLITE_CONSTRAINT, sqlite3.SQLITE_TOOBIG, sqlite3.SQLITE_MISMATCH, sqlite3.SQLITE_RANGE,
		sqlite3.SQLITE_ERROR:
		return false
	}
	return true
}

// probe writes something that changes nothing.
func (s *Store) probe() error {
	if _, err := s.write.Exec("UPDATE head SET size = size WHERE id = 1"); err != nil {
		return fmt.Errorf("try to write: %w", err)
	}
	return nil
}

// Trouble tells why nothing can be recorded at present, nil when it can.
func (s *Store) Trouble() *TroubleError { return s.trouble.Load() }

func (s *Store) writeAll(group []*commit) error {
	tx, err := s.write.Begin()
	if err != nil {
		return fmt.Errorf("begin: %w", err)
	}
	next, state := s.sealer.clone(), s.state
	sealed, err := s.writeGroup(tx, group, next, &state)
	if err != nil {
		return errors.Join(err, ignoreDone(tx.Rollback()))
	}
	if err := tx.Commit(); err != nil {
		return errors.Join(fmt.Errorf("commit: %w", err), ignoreDone(tx.Rollback()))
	}
	s.sealer, s.state = *next, state
	if sealed != nil {
		s.announce(sealed)
	}
	return nil
}

// announce shows a new head to readers and wakes those who wait for one.
func (s *Store) announce(sealed *Sealed) {
	s.sealed.Store(sealed)
	next := make(chan struct{})
	if before := s.grown.Swap(&next); before != nil {
		close(*before)
	}
}

// Grown is closed when the ledger grows next.
func (s *Store) Grown() <-chan struct{} { return *s.grown.Load() }

// ignoreDone drops the error of a rollback that SQLite has done by itself, as it
// does when the disk is full.
func ignoreDone(err error) error {
	var e *sqlite.Error
	if errors.Is(err, sql.ErrTxDone) || errors.As(err, &e) && e.Code()&0xff == sqlite3.SQLITE_ERROR {
		return nil
	}
	return err
}

// groupRows are the rows that a group of batches adds to the large tables.
type groupRows struct {
	entries, devices, past, codes []any
	leaves                        []tlog.Hash
	altered                       bool        // whether a row of the state differs
	purged                        []DeviceRow // whose past goes
}

func (s *Store) writeGroup(tx *sql.Tx, group []*commit, seal *sealer, state *state) (*Sealed, error) {
	// What was made first goes first, so that few entries need a later time than
	// their own.
	slices.SortStableFunc(group, func(a, b *commit) int { return cmp.Compare(a.batch.at(), b.batch.at()) })
	g, err := s.gather(tx, group, seal, state)
	if err != nil {
		return nil, err
	}
	// The tree grows and its head is signed while the rows are written.
	signed := make(chan *Sealed, 1)
	if len(g.leaves) > 0 || g.altered {
		go func() {
			for _, c := range group {
				for i := range c.batch.Devices {
					d := &c.batch.Devices[i]
					if d.Was != (tlog.Hash{}) {
						state.remove(devicesTable, d.Was)
					}
					state.add(devicesTable, d.Sealed)
				}
			}
			signed <- seal.seal(g.leaves, state)
		}()
	}
	if len(g.purged) > 0 { // what is freed is written over, whatever that costs
		if _, err := tx.Exec("PRAGMA secure_delete = ON"); err != nil {
			return nil, err
		}
	}
	for _, rows := range []struct {
		what string
		into *bulk.Inserter
		args []any
	}{{"entries", s.entries, g.entries}, {"devices", s.devices, g.devices}, {"the past of devices", s.past, g.past},
		{"codes", s.codes, g.codes}} {
		if err := rows.into.Insert(tx, rows.args); err != nil {
			var e *sqlite.Error
			if rows.into == s.codes && errors.As(err, &e) && e.Code()&0xff == sqlite3.SQLITE_CONSTRAINT {
				return nil, fmt.Errorf("%w: %w", ErrCodeTaken, err)
			}
			return nil, fmt.Errorf("write %s: %w", rows.what, err)
		}
	}
	if err := dropPast(tx, g.purged); err != nil {
		return nil, fmt.Errorf("purge devices: %w", err)
	}
	if len(g.leaves) == 0 && !g.altered {
		return nil, nil
	}
	return s.putHead(tx, <-signed, seal.tiles)
}

// gather writes the small rows of a group, and collects the many.
func (s *Store) gather(tx *sql.Tx, group []*commit, seal *sealer, state *state) (*groupRows, error) {
	n, m := 0, 0
	for _, c := range group {
		n, m = n+len(c.batch.Entries), m+len(c.batch.Devices)
	}
	g := &groupRows{entries: make([]any, 0, n*s.entries.Width), devices: make([]any, 0, m*s.devices.Width),
		leaves: make([]tlog.Hash, 0, n), altered: m > 0}
	rows := &rowWriter{tx: tx, into: state}
	defer rows.close()
	for _, c := range group {
		for _, op := range c.batch.rows {
			if err := rows.write(op); err != nil {
				return nil, fmt.Errorf("write %s: %w", tables[op.table].name, err)
			}
			g.altered = true
		}
		if c.batch.Away != nil {
			if err := c.batch.Away.write(tx); err != nil {
				return nil, fmt.Errorf("let bodies go that an archive holds: %w", err)
			}
		}
		for _, seq := range c.batch.redacted {
			if err := redact(tx, seq); err != nil {
				return nil, fmt.Errorf("redact entry %d: %w", seq, err)
			}
		}
		if c.batch.forget != nil {
			if err := c.batch.forget.write(tx); err != nil {
				return nil, fmt.Errorf("forget the past of devices: %w", err)
			}
		}
		if c.batch.mentions != nil {
			if err := c.batch.mentions.Write(tx); err != nil {
				return nil, fmt.Errorf("write who entries speak of: %w", err)
			}
		}
		for i := range c.batch.Entries {
			e := c.batch.Entries[i]
			g.leaves = append(g.leaves, seal.number(&e, c.batch.prepared[i]))
			leaf := &g.leaves[len(g.leaves)-1]
			// Nobody changes the body any more, and SQLite makes a copy of its own.
			body := unsafe.String(unsafe.SliceData(e.Body), len(e.Body))
			g.entries = append(g.entries, e.Seq, e.At, string(e.Kind), e.Actor, e.About, body, leaf[:])
		}
		for _, x := range c.batch.Codes {
			g.codes = append(g.codes, x.Code, x.Decision)
		}
		for _, d := range c.batch.Devices {
			g.devices = append(g.devices, d.values()...)
			if d.Purged {
				g.purged = append(g.purged, d)
			}
			if d.Undo != "" {
				g.past = append(g.past, d.ID, d.Revision, d.At, d.Undo, d.Before)
			}
		}
	}
	return g, nil
}

// putHead writes a signed head and the tiles that became full with it.
func (s *Store) putHead(tx *sql.Tx, head *Sealed, tiles []any) (*Sealed, error) {
	if err := s.tiles.Insert(tx, tiles); err != nil {
		return nil, fmt.Errorf("write tiles: %w", err)
	}
	if _, err := tx.Stmt(s.head).Exec(head.Size, string(head.Checkpoint), head.Sums); err != nil {
		return nil, fmt.Errorf("write the head of the ledger: %w", err)
	}
	return head, nil
}
