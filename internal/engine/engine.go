// Package engine has the one writer of the state: it carries out changes, makes them
// durable, and only then lets them be seen.
//
// While one change is on its way to the disk the next is worked out on top of the
// state that it will give. The writer wakes too when a device's standing can next
// change by the passing of time. At a start the state is read from the records.
package engine

import (
	"container/heap"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"ironledger.example/core/value"
	"ironledger.example/internal/ids"
	"ironledger.example/internal/keyfile"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
)

// Options are what a service is opened with.
type Options struct {
	Dir    string           // where the records are kept
	Log    *slog.Logger     // nil: slog.Default()
	Now    func() time.Time // nil: the machine's clock, kept from running back
	Origin string           // the name of a new ledger; "" makes one up
	// NewKey and ResetClock are the reasons for going on with a new ledger key
	// in place of one that is lost, and for letting time go back; "" not to.
	NewKey, ResetClock string
	// Witness is shown each change that readers are about to see; nil for nobody.
	Witness func(*state.Change)
}

// Engine is the open records and the one writer. Its methods are safe for
// concurrent use.
type Engine struct {
	Store *store.Store
	Log   *slog.Logger
	Key   keyfile.Pair // of the ledger
	IDs   ids.Maker

	snap    atomic.Pointer[state.Snapshot]
	shown   shown // up to which entry snap has everything
	now     func() time.Time
	clock   *steadyClock // nil: a clock that was given
	release func() error // lets another process have the records
	witness func(*state.Change)

	jobs   chan *Job
	dueNow atomic.Int64 // the length of due, for others than the writer
	quit   chan struct{}
	done   chan struct{}
	chores sync.WaitGroup // what runs beside the writer until quit

	// The writer's own.
	companion Companion
	due       dueHeap
	failing   bool            // whether the last commit failed
	underWay  *commitUnderWay // the change that is being committed
}

// Open reads the records and brings every standing up to the present moment. The
// error is [*store.TamperError] for records that were altered. Nothing is changed
// before [Engine.Start].
func Open(ctx context.Context, o Options) (*Engine, error) {
	e := &Engine{Log: o.Log, now: o.Now, witness: o.Witness, jobs: make(chan *Job, 1024),
		quit: make(chan struct{}), done: make(chan struct{})}
	if e.Log == nil {
		e.Log = slog.Default()
	}
	release, err := lock(filepath.Join(o.Dir, "ironledger.lock"))
	if err != nil {
		return nil, err
	}
	e.release = release
	if e.Key, err = openKey(o); err != nil {
		return nil, errors.Join(err, release())
	}
	if e.Store, err = store.Open(ctx, DatabasePath(o.Dir),
		store.Options{Key: e.Key, Log: e.Log, NewKey: o.NewKey, ResetClock: o.ResetClock}); err != nil {
		return nil, errors.Join(err, release())
	}
	if e.now == nil {
		e.clock = newSteadyClock(value.Clock(e.Store.Newest()))
		e.now = e.clock.now
		if ahead := e.clock.ahead(); ahead > time.Second {
			e.Log.Warn("the machine's clock stands before the newest entry of the ledger; time goes on from "+
				"that entry", "by", ahead.Round(time.Second))
		}
	}
	if err := e.load(ctx); err != nil {
		return nil, e.GiveUp(ctx, err)
	}
	return e, nil
}

// GiveUp closes records that cannot be served, because of an error, and returns
// what to tell: what cannot be read may have been altered.
func (e *Engine) GiveUp(ctx context.Context, err error) error {
	var altered *store.TamperError
	if tampered := e.Store.Altered(ctx); errors.As(tampered, &altered) {
		err = tampered
	}
	return errors.Join(err, e.Store.Close(), e.release())
}

// Start begins to carry out changes, with a companion that takes part in each.
func (e *Engine) Start(companion Companion) {
	e.companion = companion
	HaveRead() // by whoever made ready for it
	go e.writer()
}

func (e *Engine) load(ctx context.Context) error {
	snap, err := state.Load(ctx, e.Store)
	if err != nil {
		return err
	}
	atMost, err := e.Store.DevicesAtMost(ctx)
	if err != nil {
		return err
	}
	defer keepAll(atMost)()
	digest, batch, err := e.restore(ctx, snap)
	if err != nil {
		return err
	}
	if err := e.Store.Adopt(ctx, digest); err != nil {
		return err
	}
	if err := e.Store.Commit(batch); err != nil {
		return err
	}
	snap.Fleet.All(func(d *state.Device) bool {
		if x, is := nextDue(d, nil); is {
			e.due = append(e.due, x)
		}
		return true
	})
	heap.Init(&e.due)
	e.snap.Store(snap)
	e.shown.raise(e.Store.Sealed().Size)
	e.Log.Info("records read", "devices", snap.Fleet.Len(), "people", snap.People.Len(), "rulebook",
		snap.Book.Info.Version)
	return nil
}

// DatabasePath and KeyPath are the files in the folder of the records.
func DatabasePath(dir string) string { return filepath.Join(dir, "ironledger.db") }
func KeyPath(dir string) string      { return filepath.Join(dir, "ledger.key") }

// openKey reads the ledger's key, and makes it at the first start.
func openKey(o Options) (keyfile.Pair, error) {
	key, err := keyfile.Read(KeyPath(o.Dir))
	if !errors.Is(err, keyfile.ErrNone) {
		return key, err
	}
	if info, statErr := os.Stat(DatabasePath(o.Dir)); statErr == nil && info.Size() > 0 && o.NewKey == "" {
		return key, fmt.Errorf("%w; bring it back from a backup, or go on with another one: serve "+
			"--new-ledger-key REASON", err)
	}
	return keyfile.Make(KeyPath(o.Dir), o.Origin)
}

// Close finishes what is under way and closes the records.
func (e *Engine) Close() error {
	close(e.quit)
	<-e.done
	e.chores.Wait()
	return errors.Join(e.Store.Close(), e.release())
}

// Snapshot returns the state as it is now.
func (e *Engine) Snapshot() *state.Snapshot { return e.snap.Load() }

// Ready reports whether the service can read and write its records.
func (e *Engine) Ready(ctx context.Context) error {
	if t := e.Store.Trouble(); t != nil {
		return t
	}
	return e.Store.Ping(ctx)
}

// Now is the moment by the service's clock.
func (e *Engine) Now() time.Time { return e.now() }

// Micros is the same in the microseconds that values use.
func (e *Engine) Micros() int64 { return value.Micros(e.now()) }

// ClockAhead is how far the told time is before that of the machine's clock, which
// was set back.
func (e *Engine) ClockAhead() time.Duration {
	if e.clock == nil {
		return 0
	}
	return e.clock.ahead()
}

// Chore runs something beside the writer until it ends. It is to end with
// [Engine.UntilQuit].
func (e *Engine) Chore(run func()) { e.chores.Go(run) }

// RecordsSize is how many bytes the records in a folder take, with what of them is still in the write-ahead log.
func RecordsSize(dir string) (bytes int64, err error) {
	for _, suffix := range []string{"", "-wal"} {
		info, err := os.Stat(DatabasePath(dir) + suffix)
		if errors.Is(err, fs.ErrNotExist) && suffix != "" {
			continue
		}
		if err != nil {
			return 0, err
		}
		bytes += info.Size()
	}
	return bytes, nil
}
