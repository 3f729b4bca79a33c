package decision

import (
	"context"
	"encoding/json"
	"fmt"
	"runtime"
	"sync"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
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
			if week, err = s.gateWeek(ctx); err != nil {
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

// pastRequests gathers the different questions of the last days and how often
// each was asked.
func (s *Service) pastRequests(ctx context.Context, days int, now int64) (order []string,
	times map[string]int, err error) {
	times = map[string]int{}
	err = s.DecisionsSince(ctx, now-int64(days)*value.Day, func(e ledger.Entry) error {
		if asked := string(member(e.Body, "asked")); asked != "" {
			if times[asked] == 0 {
				order = append(order, asked)
			}
			times[asked]++
		}
		return nil
	})
	return order, times, err
}

// ReplayTally puts past questions to a snapshot and to another, each with the standings
// that hold under it.
func (s *Service) ReplayTally(ctx context.Context, snap, after *state.Snapshot,
	days int) (*rehearsal.AccessTally, error) {
	now := s.Micros()
	order, times, err := s.pastRequests(ctx, days, now)
	if err != nil {
		return nil, err
	}
	workers := min(runtime.GOMAXPROCS(0), 1+len(order)/256)
	parts, failed := make([][]rehearsal.Asked, workers), make([]error, workers)
	var wg sync.WaitGroup
	for w := range workers {
		wg.Go(func() {
			parts[w], failed[w] = tryAll(snap, after, order[w*len(order)/workers:(w+1)*len(order)/workers],
				times, now)
		})
	}
	wg.Wait()
	tally := rehearsal.NewAccessTally(days)
	for w := range workers {
		if failed[w] != nil {
			return nil, failed[w]
		}
		for _, x := range parts[w] {
			tally.Add(x)
		}
	}
	return tally, nil
}

// tryAll puts questions to the snapshot and to another.
func tryAll(snap *state.Snapshot, other *state.Snapshot, order []string, times map[string]int,
	now int64) ([]rehearsal.Asked, error) {
	before, after := snap.Book.Gates.Evaluator(), other.Book.Gates.Evaluator()
	tried, out := map[string]*state.Device{}, make([]rehearsal.Asked, 0, len(order))
	then := func(d *state.Device) *state.Device {
		if tried[d.ID] == nil {
			tried[d.ID] = other.At(d, now)
		}
		return tried[d.ID]
	}
	for _, text := range order {
		var e access.Evaluation
		if err := json.Unmarshal([]byte(text), &e); err != nil {
			return nil, fmt.Errorf("a recorded request cannot be read: %w", err)
		}
		// Each finds the device for itself: a rulebook says which keys count.
		q, r := Pose(snap, &e, now), pose(other, &e, now, then)
		x := rehearsal.Asked{Person: e.Subject.ID, Machine: e.Subject.Type == "device",
			Resource: e.Resource.ID, Action: e.Action.Name, Times: times[text]}
		if d := q.found; d != nil {
			x.Device = d.ID
			x.Fell = other.Book.Rulebook.Called(snap.Book.Rulebook.LevelName(snap.At(d, now).Result.Level)) !=
				other.Book.Rulebook.LevelName(then(d).Result.Level)
		}
		was, is := before.Evaluate(q.Request, now), after.Evaluate(r.Request, now)
		x.From, x.To, x.FromGrant, x.ToGrant = was.Outcome, is.Outcome, granted(was), granted(is)
		if x.From != x.To {
			if x.Gates = before.Stops(); rankOf(x.To) < rankOf(x.From) {
				x.Gates = after.Stops()
			}
		}
		out = append(out, x)
	}
	return out, nil
}

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
