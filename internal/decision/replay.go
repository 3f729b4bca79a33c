package decision

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"runtime"
	"slices"
	"sync"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
)

// raised tells of each gate that is no longer in shadow what the shadow recorded.
func (s *Service) raised(ctx context.Context, old, rb *rulebook.Rulebook) ([]string, error) {
	mode := map[string]rulebook.Mode{}
	for _, g := range old.Gates {
		mode[g.ID] = g.Mode
	}
	out := []string{}
	var week map[string]api.GateWeek
	for _, g := range rb.Gates {
		if g.Mode != rulebook.Enforce || mode[g.ID] != rulebook.Shadow {
			continue
		}
		if week == nil {
			var err error
			if week, err = s.GateWeeks(ctx); err != nil {
				return nil, err
			}
		}
		w := week[g.ID]
		out = append(out, fmt.Sprintf("in shadow, the gate %s would have denied %d requests of the last week "+
			"and asked for a second factor in %d; %d met it", g.ID, w.Denied, w.SteppedUp, w.Met))
	}
	return out, nil
}

// MaxReplayDays bounds how far back recorded requests are replayed.
const MaxReplayDays = 90

// Touched is what a change of the directory or of the roster can touch: the answers to those persons, and to whoever
// asks from those devices.
type Touched struct{ Persons, Devices []string }

// maxTouched is for how many persons and devices questions are looked up one by one. Those of more are found quicker
// among all.
const maxTouched = 100

// few reports whether the questions that a change touches are quicker to find than all. None may touch anything.
func (t *Touched) few() bool { return t != nil && len(t.Persons)+len(t.Devices) <= maxTouched }

// replay puts questions to a snapshot and to another, each with the standings that hold under it, while others are
// still read.
type replay struct {
	snap, after *state.Snapshot
	now         int64

	asked  map[string]int // by question, its place in order
	order  []string       // the different questions
	times  []int          // how often each was asked
	begun  int            // of how many the answers are on their way
	chunks chan func(*trial)
	parts  [][]rehearsal.Asked // by chunk
	failed chan error
	done   sync.WaitGroup
}

// chunk is how many questions are answered together.
const chunk = 512

func newReplay(snap, after *state.Snapshot, now int64) *replay {
	r := &replay{snap: snap, after: after, now: now, asked: map[string]int{}, chunks: make(chan func(*trial), 64),
		failed: make(chan error, 1)}
	for range runtime.GOMAXPROCS(0) {
		r.done.Go(func() {
			t := &trial{replay: r, before: snap.Book.Gates.Evaluator(), then: after.Book.Gates.Evaluator(),
				tried: map[string]*state.Device{}}
			for answer := range r.chunks {
				answer(t)
			}
		})
	}
	return r
}

// add puts the question of a decision, once however often it was asked.
func (r *replay) add(e ledger.Entry) error {
	asked := value.Member(e.Body, "asked")
	if len(asked) == 0 {
		return nil
	}
	i, known := r.asked[string(asked)]
	if !known {
		i = len(r.order)
		text := string(asked)
		r.asked[text], r.order, r.times = i, append(r.order, text), append(r.times, 0)
		if len(r.order)-r.begun == chunk {
			r.begin()
		}
	}
	r.times[i]++
	return nil
}

// begin has the questions answered that are not under way yet.
func (r *replay) begin() {
	texts, part := r.order[r.begun:len(r.order):len(r.order)], make([]rehearsal.Asked, len(r.order)-r.begun)
	r.parts, r.begun = append(r.parts, part), len(r.order)
	r.chunks <- func(t *trial) {
		for i, text := range texts {
			if err := t.answer(text, &part[i]); err != nil {
				select {
				case r.failed <- err:
				default: // one is told
				}
				return
			}
		}
	}
}

// tally waits for the answers. err is why not all questions could be read, which it returns.
func (r *replay) tally(days int, err error) (*rehearsal.AccessTally, error) {
	r.begin()
	close(r.chunks)
	r.done.Wait()
	select {
	case failed := <-r.failed:
		err = errors.Join(err, failed)
	default:
	}
	if err != nil {
		return nil, err
	}
	t := rehearsal.NewAccessTally(days)
	for i, x := range slices.Concat(r.parts...) {
		x.Times = r.times[i]
		t.Add(x)
	}
	return t, nil
}

// trial answers questions under both.
type trial struct {
	*replay
	before, then *access.Evaluator
	tried        map[string]*state.Device // devices as they stand under the other
}

// at is a device as it stands under the other.
func (t *trial) at(d *state.Device) *state.Device {
	e := t.tried[d.ID]
	if e == nil {
		e = t.after.At(d, t.now)
		t.tried[d.ID] = e
	}
	return e
}

func (t *trial) answer(text string, x *rehearsal.Asked) error {
	var e access.Evaluation
	if err := json.Unmarshal([]byte(text), &e); err != nil {
		return fmt.Errorf("a recorded request cannot be read: %w", err)
	}
	// Each finds the device for itself: a rulebook says which keys count.
	q, r := Pose(t.snap, &e, t.now), pose(t.after, &e, t.now, t.at)
	*x = rehearsal.Asked{Person: e.Subject.ID, Machine: e.Subject.Type == "device",
		Resource: e.Resource.ID, Action: e.Action.Name}
	if d := q.found; d != nil {
		x.Device = d.ID
		old, book := t.snap.Book.Rulebook, t.after.Book.Rulebook
		x.Fell = book.Called(old.LevelName(t.snap.At(d, t.now).Result.Level)) != book.LevelName(t.at(d).Result.Level)
	}
	was, is := t.before.Evaluate(q.Request, t.now), t.then.Evaluate(r.Request, t.now)
	x.From, x.To, x.FromGrant, x.ToGrant = was.Outcome, is.Outcome, granted(was), granted(is)
	if x.From != x.To {
		if x.Gates = t.before.Stops(); rankOf(x.To) < rankOf(x.From) {
			x.Gates = t.then.Stops()
		}
	}
	return nil
}

// touchedSince visits the decisions since a moment about whom and what a change touches, as they were recorded.
func (s *Service) touchedSince(ctx context.Context, t *Touched, since int64, visit func(ledger.Entry) error) error {
	seen := map[int64]bool{}
	gather := func(q store.DecisionQuery) error {
		q.Since, q.Limit = since, math.MaxInt
		found, err := s.Store.Decisions(ctx, q)
		for _, e := range found {
			if !seen[e.Seq] {
				seen[e.Seq], err = true, errors.Join(err, visit(e))
			}
		}
		return err
	}
	for _, id := range t.Persons {
		if err := gather(store.DecisionQuery{Person: id}); err != nil {
			return err
		}
	}
	for _, id := range t.Devices {
		if err := gather(store.DecisionQuery{Device: id}); err != nil {
			return err
		}
	}
	return nil
}

// touches finds by reading which decisions [Service.touchedSince] has to visit.
func (t *Touched) touches(e ledger.Entry) (bool, error) {
	var of struct {
		Device string
		Asked  struct{ Subject struct{ ID string } }
	}
	if err := json.Unmarshal(e.Body, &of); err != nil {
		return false, fmt.Errorf("entry %d cannot be read: %w", e.Seq, err)
	}
	return slices.Contains(t.Persons, of.Asked.Subject.ID) || slices.Contains(t.Devices, of.Device), nil
}

// checkTouched compares what [Service.touchedSince] visits with what there is.
func (s *Service) checkTouched(ctx context.Context, t *Touched, since int64) error {
	var there []int64 // more may come meanwhile
	err := s.DecisionsSince(ctx, since, func(e ledger.Entry) error {
		touched, err := t.touches(e)
		if touched {
			there = append(there, e.Seq)
		}
		return err
	})
	visited := map[int64]bool{}
	err = errors.Join(err, s.touchedSince(ctx, t, since, func(e ledger.Entry) error {
		visited[e.Seq] = true
		return nil
	}))
	for _, seq := range there {
		if !visited[seq] {
			s.differs(fmt.Errorf("the decision in entry %d is about whom or what a change touches, and was not found",
				seq))
		}
	}
	return err
}

// ReplayTally puts the questions of the last days to a snapshot and to another, each with the standings that hold under
// it.
func (s *Service) ReplayTally(ctx context.Context, snap, after *state.Snapshot,
	days int) (*rehearsal.AccessTally, error) {
	now := s.Micros()
	r := newReplay(snap, after, now)
	return r.tally(days, s.DecisionsSince(ctx, now-int64(days)*value.Day, r.add))
}

// ReplayTouched does the same for a change that touches but a few, nil for one that may touch anything: nothing else is
// lost than what is among the questions that they asked. Is that nothing, it is the tally of those; else that of all,
// which says of how many.
func (s *Service) ReplayTouched(ctx context.Context, snap, after *state.Snapshot, days int,
	t *Touched) (*rehearsal.AccessTally, error) {
	if !t.few() {
		return s.ReplayTally(ctx, snap, after, days)
	}
	now := s.Micros()
	since := now - int64(days)*value.Day
	if s.differs != nil {
		if err := s.checkTouched(ctx, t, since); err != nil {
			return nil, err
		}
	}
	r := newReplay(snap, after, now)
	tally, err := r.tally(days, s.touchedSince(ctx, t, since, r.add))
	if err == nil && tally.Loses() {
		return s.ReplayTally(ctx, snap, after, days)
	}
	return tally, err
}

// CheckWith has each shortcut be compared with the plain way; report is told where the two differ. It must be called
// before anybody asks for anything.
func (s *Service) CheckWith(report func(error)) { s.differs = report }

// granted tells what an answer grants on a network, "" for none.
func granted(v access.Verdict) string {
	if v.Grant == nil {
		return ""
	}
	return access.Carries(v.Grant).String()
}

// Replay works out what a rulebook would have answered to the requests of the
// last days. Nothing is changed by it. The error is [rulebook.Problems] when
// the files are to blame.
func (s *Service) Replay(ctx context.Context, files []rulebook.File, days int) (*rehearsal.AccessShift, error) {
	if days < 1 || days > MaxReplayDays {
		return nil, &fault.QueryError{Param: "days",
			Message: fmt.Sprintf("between 1 and %d days are replayed", MaxReplayDays)}
	}
	book, err := s.Candidate(files)
	if err != nil {
		return nil, err
	}
	snap := s.Snapshot()
	tally, err := s.ReplayTally(ctx, snap, snap.TryOut(book, snap.People, snap.Roster), days)
	if err != nil {
		return nil, err
	}
	shift := tally.Shift()
	shift.Raised, err = s.raised(ctx, snap.Book.Rulebook, book.Rulebook)
	return shift, err
}
