// Package service holds the live fleet in memory and carries out the use
// cases: taking evidence, publishing rulebooks, answering requests.
//
// Readers (decisions, lists) load an immutable [Snapshot] and take no lock.
// One goroutine, the writer, applies every change: it works on copies, makes
// them durable together with their ledger entries, and only then lets them be
// seen. The same goroutine wakes when a device's standing can next change by
// the passing of time.
package service

import (
	"cmp"
	"container/heap"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ironledger.example/core/condition"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
)

// Options are what a service is opened with.
type Options struct {
	Dir        string           // where the records are kept
	AdminToken string           // the first administrator's token, of a first start; "" to make one
	Log        *slog.Logger     // nil: slog.Default()
	Now        func() time.Time // nil: the machine's clock, kept from running back
	Origin     string           // the name of a new ledger; "" makes one up
	// NewKey and ResetClock are the reasons for going on with a new ledger key
	// in place of one that is lost, and for letting time go back; "" not to.
	NewKey, ResetClock string
	// NewAdmin is the reason for making another administrator's token, as when all
	// are lost; "" not to.
	NewAdmin string
	// KeepPast is how long the past of evidence is kept; 0 for DefaultKeepPast.
	KeepPast time.Duration
}

// DefaultKeepPast is how long the past of evidence is kept, for computing past
// standings and decisions again.
const DefaultKeepPast = 90 * 24 * time.Hour

// Service is an open service. Its methods are safe for concurrent use.
type Service struct {
	snap     atomic.Pointer[Snapshot]
	sessions sessions // allows that may still be relied on
	alarms   alarms
	store    *store.Store
	log      *slog.Logger
	now      func() time.Time
	jobs     chan *job
	quit     chan struct{}
	release  func() error // lets another process have the records
	done     chan struct{}
	chores   sync.WaitGroup  // what runs beside the writer until quit
	due      dueHeap         // the writer's own, as are failing and underWay
	failing  bool            // whether the last commit failed
	underWay *commitUnderWay // the change that is being committed

	clock    *steadyClock // nil: a clock that was given
	key      store.Key    // of the ledger
	keepPast time.Duration
	books    pastBooks
	verified verification

	ticketKey []byte

	ids     ids
	newCode func() string // makes the codes of refusals
	witness func(*change) // is shown what is applied, in tests; nil: nobody

	// FirstToken is the administrator's token made at the first start, "" when
	// there was one already or it was given.
	FirstToken string
}

// Open reads the records and brings every standing up to the present moment.
func Open(ctx context.Context, o Options) (*Service, error) {
	s := &Service{newCode: newCode, log: o.Log, now: o.Now, jobs: make(chan *job, 1024),
		quit: make(chan struct{}), done: make(chan struct{})}
	if s.log == nil {
		s.log = slog.Default()
	}
	s.keepPast = cmp.Or(o.KeepPast, DefaultKeepPast)
	release, err := lock(filepath.Join(o.Dir, "ironledger.lock"))
	if err != nil {
		return nil, err
	}
	s.release = release
	if s.key, err = openKey(o); err != nil {
		return nil, errors.Join(err, release())
	}
	if s.store, err = store.Open(ctx, DatabasePath(o.Dir),
		store.Options{Key: s.key, Log: s.log, NewKey: o.NewKey, ResetClock: o.ResetClock}); err != nil {
		return nil, errors.Join(err, release())
	}
	if s.now == nil {
		s.clock = newSteadyClock(value.Clock(s.store.Newest()))
		s.now = s.clock.now
		if ahead := s.clock.ahead(); ahead > time.Second {
			s.log.Warn("the machine's clock stands before the newest entry of the ledger; time goes on from that entry", "by", ahead.Round(time.Second))
		}
	}
	if err := s.load(ctx, &o); err != nil {
		// What cannot be read may have been altered: that is what to tell then.
		var altered *store.TamperError
		if tampered := s.store.Altered(ctx); errors.As(tampered, &altered) {
			err = tampered
		}
		return nil, errors.Join(err, s.store.Close(), release())
	}
	go s.writer()
	s.chores.Go(s.tidy)
	return s, nil
}

func (s *Service) load(ctx context.Context, o *Options) error {
	snap := emptySnapshot()
	if err := cmp.Or(snap.load(ctx, s.store), s.alarms.load(ctx, s.store)); err != nil {
		return err
	}
	people, err := s.store.People(ctx)
	if err != nil {
		return err
	}
	kept, err := s.store.Rulebook(ctx, 0)
	switch {
	case err == nil:
		if snap.Book, err = compileBook(kept); err != nil {
			return fmt.Errorf("the published rulebook %d is not readable: %w", kept.Version, err)
		}
	case !errors.Is(err, store.ErrNotFound):
		return err
	}
	roster, err := store.Documents[RosterEntry](ctx, s.store, rosterDocument)
	if err != nil {
		return err
	}
	snap.People, snap.Roster = newPeople(people), newRoster(roster)
	if snap.People.revision, err = s.store.HouseRevision(ctx, housePeople); err != nil {
		return err
	}
	if snap.Roster.revision, err = s.store.HouseRevision(ctx, houseRoster); err != nil {
		return err
	}
	atMost, err := s.store.DevicesAtMost(ctx)
	if err != nil {
		return err
	}
	defer keepAll(atMost)()
	restored, err := s.restore(ctx, snap)
	if err != nil {
		return err
	}
	if err := s.store.Adopt(ctx, restored.digest); err != nil {
		return err
	}
	if err := s.firstTokens(snap, o.AdminToken, strings.TrimSpace(o.NewAdmin)); err != nil {
		return err
	}
	if err := s.store.Commit(&restored.batch); err != nil {
		return err
	}
	s.due = restored.due
	heap.Init(&s.due)
	s.snap.Store(snap)
	if err := s.restoreSessions(ctx); err != nil {
		return err
	}
	if err := s.loadTicketKey(ctx); err != nil {
		return err
	}
	s.log.Info("records read", "devices", snap.Fleet.Len(), "people", len(people), "rulebook", snap.Book.Info.Version)
	return nil
}

// DatabasePath and KeyPath are the files in the folder of the records.
func DatabasePath(dir string) string { return filepath.Join(dir, "ironledger.db") }
func KeyPath(dir string) string      { return filepath.Join(dir, "ledger.key") }

// openKey reads the ledger's key, and makes it at the first start.
func openKey(o Options) (store.Key, error) {
	key, err := store.ReadKey(KeyPath(o.Dir))
	if !errors.Is(err, store.ErrNoKey) {
		return key, err
	}
	if info, statErr := os.Stat(DatabasePath(o.Dir)); statErr == nil && info.Size() > 0 && o.NewKey == "" {
		return key, fmt.Errorf("%w; bring it back from a backup, or go on with another one: serve --new-ledger-key REASON", err)
	}
	return store.MakeKey(KeyPath(o.Dir), o.Origin)
}

// Close finishes what is under way and closes the records.
func (s *Service) Close() error {
	close(s.quit)
	<-s.done
	s.chores.Wait()
	return errors.Join(s.store.Close(), s.release())
}

// Snapshot returns the state as it is now.
func (s *Service) Snapshot() *Snapshot { return s.snap.Load() }

// Ready reports whether the service can read and write its records.
func (s *Service) Ready(ctx context.Context) error {
	if t := s.store.Trouble(); t != nil {
		return t
	}
	return s.store.Ping(ctx)
}

// Now is the moment by the service's clock.
func (s *Service) Now() time.Time { return s.now() }

func (s *Service) micros() int64 { return value.Micros(s.now()) }

// job is a change for the writer to carry out.
type job struct {
	apply func(*change) error
	// alone is set on a job that shares its change with no other: it looks at the
	// state that it is made on top of, which has no other's changes laid over.
	alone bool
	// landed is set on a job that reads the records: what is under way to them must
	// have come there.
	landed bool
	err    chan error
	gone   <-chan struct{} // closed when there is no writer any more
}

// do has the writer carry out a change and waits until it is durable and seen.
func (s *Service) do(ctx context.Context, apply func(*change) error) error {
	return s.submit(&job{apply: apply}).wait(ctx)
}

// try carries out a change and throws it away.
func (s *Service) try(ctx context.Context, apply func(*change) error) error {
	return s.do(ctx, func(c *change) error { return apply(newChange(c.base.apply(c), c.now)) })
}

// doAlone does the same for a change that shares with no other.
func (s *Service) doAlone(ctx context.Context, apply func(*change) error) error {
	return s.submit(&job{apply: apply, alone: true}).wait(ctx)
}

func (s *Service) submit(j *job) *job {
	j.err, j.gone = make(chan error, 1), s.done
	select {
	case s.jobs <- j:
	case <-s.quit:
		j.err <- ErrClosed
	}
	return j
}

func (j *job) wait(ctx context.Context) error {
	select {
	case err := <-j.err:
		return err
	case <-ctx.Done():
		return ctx.Err()
	case <-j.gone:
	}
	select {
	case err := <-j.err: // answered at the last moment
		return err
	default:
		return ErrClosed
	}
}

// ErrClosed says that the service is stopping.
var ErrClosed = errors.New("the service is stopping")

// maxShared bounds how many jobs share a commit.
const maxShared = 256

// writer carries out jobs, one group after another. While one group is being
// committed the next is already worked out on top of it; nobody sees a group,
// or gets an answer about it, before it is durable. When a commit fails, what
// was built on it fails with it.
func (s *Service) writer() {
	defer close(s.done)
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		timer.Reset(s.untilDue())
		var landing chan error
		if s.underWay != nil {
			landing = s.underWay.done
		}
		select {
		case err := <-landing:
			s.committed(err)
		case j := <-s.jobs:
			s.carryOut(s.gather(j))
		case <-timer.C:
			s.carryOut([]*job{{apply: s.appraiseDue, err: make(chan error, 1)}})
		case <-s.quit:
			s.awaitCommit()
			for {
				select {
				case j := <-s.jobs:
					j.err <- ErrClosed
				default:
					return
				}
			}
		}
	}
}

func (s *Service) gather(first *job) []*job {
	jobs := []*job{first}
	for len(jobs) < maxShared {
		select {
		case j := <-s.jobs:
			jobs = append(jobs, j)
		default:
			return jobs
		}
	}
	return jobs
}

// commitUnderWay is a change on its way to the disk.
type commitUnderWay struct {
	change *change
	next   *Snapshot // the state with it
	ending *ending
	jobs   []*job
	done   chan error
}

// carryOut applies jobs and sends their change to the disk.
func (s *Service) carryOut(jobs []*job) {
	c := s.newChange()
	var applied []*job
	flush := func() {
		s.commit(c, applied)
		c, applied = s.newChange(), nil
	}
	for _, j := range jobs {
		if j.alone || j.landed {
			flush()
		}
		if j.landed {
			s.awaitCommit()
			c = s.newChange()
		}
		before := c.extent()
		if err := j.apply(c); err != nil {
			j.err <- err
			if c.extent() != before { // nothing is half done: the others again, without it
				c, applied = s.again(applied)
			}
			continue
		}
		if applied = append(applied, j); j.alone {
			flush()
		}
	}
	s.commit(c, applied)
}

// again makes the change of jobs anew. Those that fail now are answered.
func (s *Service) again(jobs []*job) (*change, []*job) {
	c := s.newChange()
	for i, j := range jobs {
		if err := j.apply(c); err != nil {
			j.err <- err
			return s.again(slices.Delete(slices.Clone(jobs), i, i+1))
		}
	}
	return c, jobs
}

// newChange begins a change on top of the one that is on its way, if any.
func (s *Service) newChange() *change {
	base := s.snap.Load()
	if s.underWay != nil {
		base = s.underWay.next
	}
	return newChange(base, s.micros())
}

func newChange(base *Snapshot, now int64) *change {
	return &change{base: base, now: now, devices: map[string]*Device{}}
}

// commit sends a change to the disk as soon as the one before it is there, and
// shows that one while the disk is busy with this one.
func (s *Service) commit(c *change, jobs []*job) {
	if len(jobs) == 0 {
		return
	}
	f, before := &commitUnderWay{change: c, ending: s.sessions.before(c), jobs: jobs, done: make(chan error, 1)},
		s.underWay
	f.next = c.base.apply(c)
	var err error
	if before != nil {
		err = <-before.done
	}
	doomed := err != nil && c.base == before.next // it was built on what is not there
	if !doomed {
		go func() {
			if c.batch.Empty() {
				f.done <- nil
				return
			}
			f.done <- s.store.Commit(&c.batch)
		}()
	}
	if before != nil {
		s.committed(err)
	}
	if s.underWay = f; doomed {
		s.committed(err)
	}
}

// awaitCommit waits until nothing is on its way.
func (s *Service) awaitCommit() {
	if s.underWay != nil {
		s.committed(<-s.underWay.done)
	}
}

// committed shows the change that was on its way, or drops it, and answers its jobs.
func (s *Service) committed(err error) {
	f := s.underWay
	s.underWay, s.failing = nil, err != nil
	was := s.snap.Load()
	if err != nil {
		for id := range f.change.devices { // still due: nothing has changed
			if old := was.Fleet.Get(id); old != nil && old.Wake < condition.Always {
				heap.Push(&s.due, due{old.Wake, id})
			}
		}
		err = fmt.Errorf("the change could not be recorded and has no effect: %w", err)
		s.log.Error("commit failed", "error", err)
	} else {
		if s.witness != nil {
			s.witness(f.change)
		}
		s.snap.Store(f.next)
		for d := range f.change.changed() {
			if x, is := nextDue(d, was.Fleet.Get(d.ID)); is {
				s.push(x, f.next.Fleet)
			}
		}
	}
	if f.ending.done(err) {
		go s.submit(&job{apply: nothing}) // not here: only the writer takes it up
	}
	for _, j := range f.jobs {
		j.err <- err
	}
}
