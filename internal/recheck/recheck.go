// Package recheck works out again, by the plain way, what the service keeps up from changes, and ends the service when
// the two differ. It is for tests and long trials: it takes as long as all those shortcuts save.
package recheck

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ironledger.example/internal/decision"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store/mention"
	"ironledger.example/internal/view"
)

const (
	// pause is between two rounds.
	pause = time.Second
	// newest is how many of the newest decisions are made again in a round.
	newest = 20
)

// DifferenceError is that a shortcut leads elsewhere than the plain way.
type DifferenceError struct{ Of string }

func (e *DifferenceError) Error() string {
	return "a fast path leads elsewhere than the plain way: " + e.Of
}

// Checks compares. It serves as a front of the service that lets nobody in.
type Checks struct {
	*engine.Engine
	View      *view.Service
	Decisions *decision.Service

	differs chan error
	rounds  int
}

// Of is the checks of open records; it must be made before anybody asks these for anything.
func Of(e *engine.Engine, v *view.Service, d *decision.Service) *Checks {
	c := &Checks{Engine: e, View: v, Decisions: d, differs: make(chan error, 1)}
	report := func(err error) {
		select {
		case c.differs <- &DifferenceError{err.Error()}:
		default: // one is enough
		}
	}
	v.CheckWith(report)
	d.CheckWith(report)
	return c
}

// Ready says that they begin at once.
func (c *Checks) Ready(context.Context) error { return nil }

// Serve compares again and again until ctx ends, or returns a [DifferenceError].
func (c *Checks) Serve(ctx context.Context) error {
	c.Log.Warn("all that is kept up is worked out again, and the service ends where the two differ: this is slow")
	for {
		begun := time.Now()
		if err := c.Once(ctx); ctx.Err() != nil {
			return nil
		} else if err != nil {
			c.Log.Error("the service ends", "error", err)
			return err
		}
		c.rounds++
		c.Log.Debug("the fast paths lead where the plain way does", "rounds", c.rounds, "took", time.Since(begun))
		select {
		case <-ctx.Done():
			return nil
		case err := <-c.differs:
			c.Log.Error("the service ends", "error", err)
			return err
		case <-time.After(pause):
		}
	}
}

// Once compares once.
func (c *Checks) Once(ctx context.Context) error {
	for _, check := range []func(context.Context) error{c.appraisals, c.decisions, c.searches, c.Decisions.Check,
		c.View.Check} {
		if err := check(ctx); err != nil {
			return err
		}
	}
	select {
	case err := <-c.differs:
		return err
	default:
		return nil
	}
}

// appraisals appraises every device from what it reported, as if nothing was known of it.
func (c *Checks) appraisals(ctx context.Context) error {
	snap, now := c.Snapshot(), c.Micros()
	anew := snap.TryOut(snap.Book, snap.People.With(nil), snap.Roster)
	var err error
	snap.Fleet.All(func(d *state.Device) bool {
		got, want := snap.At(d, now), anew.At(d, now)
		if got.Result.Level != want.Result.Level || !slices.Equal(got.Result.Verdicts, want.Result.Verdicts) {
			err = &DifferenceError{fmt.Sprintf("device %s stands at %s with %v, and appraised from what it reported at %s with %v",
				d.ID, snap.Book.Rulebook.LevelName(got.Result.Level), got.Result.Verdicts,
				snap.Book.Rulebook.LevelName(want.Result.Level), want.Result.Verdicts)}
		}
		return err == nil && ctx.Err() == nil
	})
	return err
}

// decisions makes the newest decisions again from what was known when they were made.
func (c *Checks) decisions(ctx context.Context) error {
	list, err := c.Decisions.Decisions(ctx, decision.Query{Limit: newest})
	if err != nil {
		return err
	}
	for _, d := range list {
		r, err := c.Decisions.ReproduceDecision(ctx, d.ID)
		var not *fault.InputError // what it was made from is not there any more, or it says nothing of it
		switch {
		case errors.As(err, &not):
		case err != nil:
			return err
		case !r.Same:
			x := r.Differences[0]
			return &DifferenceError{fmt.Sprintf("decision %s says %s at %s, and made again %s", d.ID, x.Recorded, x.Pointer,
				x.Computed)}
		}
	}
	return nil
}

// searches holds what searches of the ledger go by against the entries, the newest and one of the others.
func (c *Checks) searches(ctx context.Context) error {
	runs := c.Store.Sealed().Size / mention.Run
	for _, run := range []int64{runs - 1, int64(c.rounds) % max(runs, 1)} {
		if run < 0 {
			continue
		}
		if err := c.Store.CheckMentions(ctx, run*mention.Run+1); errors.Is(err, mention.ErrWrong) {
			return &DifferenceError{err.Error()}
		} else if err != nil {
			return err
		}
	}
	return nil
}
