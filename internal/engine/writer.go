package engine

import (
	"container/heap"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ironledger.example/internal/state"
)

// Job is a change for the writer to carry out.
type Job struct {
	apply func(*state.Change) error
	// alone is set on a job that shares its change with no other: it looks at the
	// state that it is made on top of, which has no other's changes laid over.
	alone bool
	// landed is set on one that reads the records: what is under way to them must have
	// come there.
	landed bool
	err    chan error
	gone   <-chan struct{} // closed when there is no writer any more
}

// Do has the writer carry out a change and waits until it is durable and seen.
func (e *Engine) Do(ctx context.Context, apply func(*state.Change) error) error {
	return e.Submit(apply).Wait(ctx)
}

// DoLanded does the same for a change that reads the records: all that was changed
// before is there, and it shares with no other.
func (e *Engine) DoLanded(ctx context.Context, apply func(*state.Change) error) error {
	return e.submit(&Job{apply: apply, alone: true, landed: true}).Wait(ctx)
}

// Try carries out a change and throws it away.
func (e *Engine) Try(ctx context.Context, apply func(*state.Change) error) error {
	return e.Do(ctx, func(c *state.Change) error { return apply(state.NewChange(c.Base.Apply(c), c.Now)) })
}

// DoAlone does the same for a change that shares with no other, as one must that appraises the fleet anew.
func (e *Engine) DoAlone(ctx context.Context, apply func(*state.Change) error) error {
	return e.submit(&Job{apply: apply, alone: true}).Wait(ctx)
}

// Submit hands a change to the writer.
func (e *Engine) Submit(apply func(*state.Change) error) *Job { return e.submit(&Job{apply: apply}) }

// Nudge has the writer make a change that does nothing by itself, in which the
// companion takes part.
func (e *Engine) Nudge() { e.submit(&Job{apply: nothing}) }

func nothing(*state.Change) error { return nil }

func (e *Engine) submit(j *Job) *Job {
	j.err, j.gone = make(chan error, 1), e.done
	select {
	case e.jobs <- j:
	case <-e.quit:
		j.err <- ErrClosed
	}
	return j
}

// Wait waits until the change is durable and seen.
func (j *Job) Wait(ctx context.Context) error {
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
func (e *Engine) writer() {
	defer close(e.done)
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		timer.Reset(e.untilDue())
		var landing chan error
		if e.underWay != nil {
			landing = e.underWay.done
		}
		select {
		case err := <-landing:
			e.committed(err)
		case j := <-e.jobs:
			e.carryOut(e.gather(j))
		case <-timer.C:
			e.carryOut([]*Job{{apply: e.appraiseDue, err: make(chan error, 1)}})
		case <-e.quit:
			e.awaitCommit()
			for {
				select {
				case j := <-e.jobs:
					j.err <- ErrClosed
				default:
					return
				}
			}
		}
	}
}

func (e *Engine) gather(first *Job) []*Job {
	jobs := []*Job{first}
	for len(jobs) < maxShared {
		select {
		case j := <-e.jobs:
			jobs = append(jobs, j)
		default:
			return jobs
		}
	}
	return jobs
}

// Companion takes part in every change. It is called by the writer alone.
type Companion interface {
	// Before is shown a change that is about to be written, with the state that it will
	// give, and may add entries to it.
	Before(c *state.Change, next *state.Snapshot) Part
}

// Part is what a companion did in a change.
type Part interface {
	// Done tells that the change is seen, or why it had no effect. It reports whether
	// the companion wants to take part in another.
	Done(err error) (again bool)
}

// commitUnderWay is a change on its way to the disk.
type commitUnderWay struct {
	change *state.Change
	next   *state.Snapshot // the state with it
	part   Part            // of the companion
	jobs   []*Job
	size   int64 // of the ledger with it, once it is there
	done   chan error
}

// carryOut applies jobs and sends their change to the disk.
func (e *Engine) carryOut(jobs []*Job) {
	c := e.newChange()
	var applied []*Job
	flush := func() {
		e.commit(c, applied)
		c, applied = e.newChange(), nil
	}
	for _, j := range jobs {
		if j.alone || j.landed {
			flush()
		}
		if j.landed {
			e.awaitCommit()
			c = e.newChange()
		}
		before := c.Extent()
		if err := j.apply(c); err != nil {
			j.err <- err
			if c.Extent() != before { // nothing is half done: the others again, without it
				c, applied = e.again(applied)
			}
			continue
		}
		if applied = append(applied, j); j.alone {
			flush()
		}
	}
	e.commit(c, applied)
}

// again makes the change of jobs anew. Those that fail now are answered.
func (e *Engine) again(jobs []*Job) (*state.Change, []*Job) {
	c := e.newChange()
	for i, j := range jobs {
		if err := j.apply(c); err != nil {
			j.err <- err
			return e.again(slices.Delete(slices.Clone(jobs), i, i+1))
		}
	}
	return c, jobs
}

// newChange begins a change on top of the one that is on its way, if any.
func (e *Engine) newChange() *state.Change {
	base := e.snap.Load()
	if e.underWay != nil {
		base = e.underWay.next
	}
	return state.NewChange(base, e.Micros())
}

// commit sends a change to the disk as soon as the one before it is there, and
// shows that one while the disk is busy with this one.
func (e *Engine) commit(c *state.Change, jobs []*Job) {
	if len(jobs) == 0 {
		return
	}
	f, before := &commitUnderWay{change: c, next: c.Base.Apply(c), jobs: jobs, done: make(chan error, 1)},
		e.underWay
	f.part = e.companion.Before(c, f.next)
	var err error
	if before != nil {
		err = <-before.done
	}
	doomed := err != nil && c.Base == before.next // it was built on what is not there
	if !doomed {
		go func() {
			if c.Batch.Empty() {
				f.done <- nil // and size stays 0: it says nothing of entries
				return
			}
			err := e.Store.Commit(&c.Batch)
			f.size = e.Store.Sealed().Size // no later change is there yet
			f.done <- err
		}()
	}
	if before != nil {
		e.committed(err)
	}
	if e.underWay = f; doomed {
		e.committed(err)
	}
}

// awaitCommit waits until nothing is on its way.
func (e *Engine) awaitCommit() {
	if e.underWay != nil {
		e.committed(<-e.underWay.done)
	}
}

// committed shows the change that was on its way, or drops it, and answers its jobs.
func (e *Engine) committed(err error) {
	f := e.underWay
	e.underWay, e.failing = nil, err != nil
	was := e.snap.Load()
	if err != nil {
		for d := range f.change.Changed() { // those whose moment had come are due still
			if old := was.Fleet.Get(d.ID); old != nil && old.Wake <= f.change.Now {
				heap.Push(&e.due, due{old.Wake, d.ID})
			}
		}
		err = fmt.Errorf("the change could not be recorded and has no effect: %w", err)
		e.Log.Error("commit failed", "error", err)
	} else {
		if e.witness != nil {
			e.witness(f.change)
		}
		e.snap.Store(f.next)
		e.shown.raise(f.size)
		for d := range f.change.Changed() {
			if x, is := nextDue(d, was.Fleet.Get(d.ID)); is {
				e.push(x, f.next.Fleet)
			}
		}
	}
	if f.part.Done(err) {
		go e.Nudge() // not here: only the writer takes it up
	}
	for _, j := range f.jobs {
		j.err <- err
	}
}

// errMoved says that the state has moved on since a change was weighed.
var errMoved = errors.New("the state has moved on")

// Weighed carries out a change that replaces the snapshot, if weigh finds nothing
// against it. Both look at the same state: when another change came between, it
// is weighed again.
func (e *Engine) Weighed(ctx context.Context, weigh func(*state.Snapshot) error,
	apply func(*state.Change) error) error {
	for {
		snap := e.Snapshot()
		if err := weigh(snap); err != nil {
			return err
		}
		err := e.DoAlone(ctx, func(c *state.Change) error {
			if !c.Base.SameHouse(snap) {
				return errMoved
			}
			return apply(c)
		})
		if !errors.Is(err, errMoved) {
			return err
		}
	}
}
