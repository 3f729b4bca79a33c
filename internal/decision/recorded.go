package decision

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/store"
)

// Query selects recorded decisions.
type Query struct {
	Person, Device, Resource, Outcome string
	Gate                              string // that matched
	Since, Until                      string // RFC 3339
	Before                            string // those before this decision only; "" for all
	Limit                             int
}

// Recorded is a decision with its place in the ledger.
type Recorded struct {
	Answer
	Seq   int64
	Actor string // the enforcer that asked
	// Redacted tells that the body was removed: only the id and the time are left. So it is of
	// one whose body is in an Archive; then Where says in a sentence where that is.
	Redacted       bool
	Archive, Where string
	// Decisive is what made the outcome: the numbers of gates, or their ids; or
	// break-glass.
	Decisive []string
}

// Decisions lists recorded decisions, newest first.
func (s *Service) Decisions(ctx context.Context, q Query) ([]Recorded, error) {
	kept := store.DecisionQuery{Before: q.Before, Device: q.Device, Person: q.Person, Resource: q.Resource,
		Outcome: q.Outcome, Gate: q.Gate, Limit: q.Limit}
	var err error
	if kept.Since, err = fault.Moment("since", q.Since); err != nil {
		return nil, err
	}
	if kept.Until, err = fault.Moment("until", q.Until); err != nil {
		return nil, err
	}
	entries, err := s.Store.Decisions(ctx, kept)
	if err != nil {
		return nil, err
	}
	out := make([]Recorded, len(entries))
	for i, e := range entries {
		if out[i], err = recorded(e); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// DecisionCounts counts the decisions of the last days: by the hour up to two
// days, else by six hours.
func (s *Service) DecisionCounts(ctx context.Context, days int) ([]api.DecisionCount, error) {
	if days < 1 || days > MaxReplayDays {
		return nil, &fault.QueryError{Param: "days",
			Message: fmt.Sprintf("between 1 and %d days are counted", MaxReplayDays)}
	}
	stretch := value.Day / 4
	if days <= 2 {
		stretch = value.Day / 24
	}
	type what struct {
		at int64
		of [2]string
	}
	counts, now := map[what]int{}, s.Micros()
	if err := s.outcomes.Since(ctx, s.Store, now-int64(days)*value.Day, now, func(at int64, of [2]string, n int) {
		counts[what{at - at%stretch, of}] += n
	}); err != nil {
		return nil, err
	}
	out := make([]api.DecisionCount, 0, len(counts))
	for _, x := range slices.SortedFunc(maps.Keys(counts), func(a, b what) int {
		return cmp.Or(cmp.Compare(a.at, b.at), strings.Compare(a.of[0], b.of[0]), strings.Compare(a.of[1], b.of[1]))
	}) {
		out = append(out, api.DecisionCount{At: value.FormatTime(x.at), Outcome: access.Outcome(x.of[0]),
			Shadow: x.of[1] == "1", Count: counts[x]})
	}
	return out, nil
}

// Check compares what is kept of the counts with what the entries tell of, and returns where the two differ.
func (s *Service) Check(ctx context.Context) error {
	if _, err := s.DecisionCounts(ctx, MaxReplayDays); err != nil {
		return err
	}
	if _, err := s.GateWeeks(ctx); err != nil {
		return err
	}
	return errors.Join(s.outcomes.Check(ctx, s.Store), s.rulings.Check(ctx, s.Store))
}

// Decision reads one recorded decision, by its id or the code of a refusal.
func (s *Service) Decision(ctx context.Context, id string) (Recorded, error) {
	code := ""
	if len(id) < 20 {
		if code = strings.ToUpper(strings.TrimSpace(id)); len(code) == 8 {
			code = code[:4] + "-" + code[4:]
		}
		var err error
		if id, err = s.Store.ByCode(ctx, code); err != nil {
			return Recorded{}, err
		}
	}
	e, err := s.Store.Decision(ctx, id)
	if err != nil {
		return Recorded{}, err
	}
	r, err := recorded(e)
	if r.Archive != "" {
		r.Where = s.Snapshot().Archives.Get(r.Archive).Where(r.Archive)
	}
	if err == nil && code != "" && r.Archive == "" && !r.Redacted && r.Code != code {
		err = &store.TamperError{Message: fmt.Sprintf("the code %s was made to lead to the decision %s, which "+
			"has another", code, id)}
	}
	return r, err
}

func recorded(e ledger.Entry) (Recorded, error) {
	r := Recorded{Seq: e.Seq, Actor: e.Actor, Decisive: []string{}}
	if e.Body == nil {
		r.Answer = Answer{ID: e.About, At: value.FormatTime(e.At), Asked: &access.Evaluation{},
			Decision: &access.Decision{Gates: []access.GateRuling{}}}
		r.Redacted, r.Archive = e.Archive == "", e.Archive
		return r, nil
	}
	made, err := event.Read(&e)
	if err != nil {
		return r, err
	}
	r.Answer = *made.(*event.DecisionMade)
	if r.Decision != nil {
		r.Decisive = r.Decision.Decisive()
	}
	return r, nil
}

// DecisionCount is how many decisions have been recorded.
func (s *Service) DecisionCount(ctx context.Context) (int64, error) {
	return s.Store.DecisionCount(ctx)
}
