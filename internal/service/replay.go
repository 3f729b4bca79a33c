package service

import (
	"context"
	"encoding/json"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"

	"ironledger.example/core/access"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/rulebook"
)

// MaxReplayDays bounds how far back recorded requests are replayed.
const MaxReplayDays = 90

// pastRequests gathers the different questions of the last days and how often
// each was asked.
func (s *Service) pastRequests(ctx context.Context, days int, now int64) (order []string, times map[string]int, err error) {
	times = map[string]int{}
	err = s.decisionsSince(ctx, now-int64(days)*day, func(e ledger.Entry) error {
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

// replay puts past questions to a candidate book and to the one in force, each
// with the standings that hold under it.
func (s *Service) replay(ctx context.Context, book *Book, days int) (*rehearsal.AccessTally, error) {
	snap, now := s.Snapshot(), s.micros()
	order, times, err := s.pastRequests(ctx, days, now)
	if err != nil {
		return nil, err
	}
	workers := min(runtime.GOMAXPROCS(0), 1+len(order)/256)
	parts, failed := make([][]rehearsal.Asked, workers), make([]error, workers)
	var wg sync.WaitGroup
	for w := range workers {
		wg.Go(func() {
			parts[w], failed[w] = snap.tryAll(book, order[w*len(order)/workers:(w+1)*len(order)/workers], times, now)
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

// tryAll puts questions to the snapshot's book and to another.
func (snap *Snapshot) tryAll(book *Book, order []string, times map[string]int, now int64) ([]rehearsal.Asked, error) {
	other := *snap
	other.Book = book
	before, after := snap.Book.Gates.Trial(), book.Gates.Trial()
	standings, out := map[string][2]*Device{}, make([]rehearsal.Asked, 0, len(order))
	for _, text := range order {
		var e access.Evaluation
		if err := json.Unmarshal([]byte(text), &e); err != nil {
			return nil, fmt.Errorf("a recorded request cannot be read: %w", err)
		}
		q := e.Request()
		q.Groups = snap.People.Groups(q.User)
		x := rehearsal.Asked{Person: e.Subject.ID, Machine: e.Subject.Type == "device", Resource: e.Resource.ID, Action: e.Action.Name, Times: times[text]}
		id, known := e.Find(snap.Fleet.Find)
		r := *q
		if known {
			pair, ok := standings[id]
			if !ok {
				d := snap.at(snap.Fleet.Get(id), now)
				pair = [2]*Device{d, other.at(d, now)}
				standings[id] = pair
			}
			x.Device = id
			snap.on(q, &e, pair[0], now)
			other.on(&r, &e, pair[1], now)
			x.Fell = snap.Book.Rulebook.LevelName(pair[0].Result.Level) != book.Rulebook.LevelName(pair[1].Result.Level)
		}
		x.From, x.To = before.Try(q, now).Outcome, after.Try(&r, now).Outcome
		if x.From != x.To {
			if x.Gates = before.Stops(); rankOf(x.To) < rankOf(x.From) {
				x.Gates = after.Stops()
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// Replay works out what a rulebook would have answered to the requests of the
// last days. Nothing is changed by it. The error is [rulebook.Problems] when
// the files are to blame.
func (s *Service) Replay(ctx context.Context, files []rulebook.File, days int) (*rehearsal.AccessShift, error) {
	if days < 1 || days > MaxReplayDays {
		return nil, &QueryError{Param: "days", Message: fmt.Sprintf("between 1 and %d days are replayed", MaxReplayDays)}
	}
	book, err := s.candidate(files)
	if err != nil {
		return nil, err
	}
	tally, err := s.replay(ctx, book, days)
	if err != nil {
		return nil, err
	}
	shift := tally.Shift()
	shift.Raised, err = s.raised(ctx, s.Snapshot().Book.Rulebook, book.Rulebook)
	return shift, err
}

// guardDays is how far back the guard looks for people who are active.
const guardDays = 7

// The ways in which a publication is likely to lock people out.
const (
	DeniesAdministrators = "denies-administrators"
	BreakGlassMeetsGate  = "break-glass-meets-gate"
	NoBreakGlass         = "no-break-glass"
	DeniesMany           = "denies-many"
)

// Impact is one reason why a publication, or a directory, is held back.
type Impact struct {
	Kind    string   `json:"kind"`
	Message string   `json:"message"`
	Who     []string `json:"who"` // people, or accounts
}

// ImpactError says that a publication or a directory would lock people out.
// Nothing has changed.
type ImpactError struct{ Impacts []Impact }

func (e *ImpactError) Error() string {
	parts := make([]string, len(e.Impacts))
	for i, x := range e.Impacts {
		parts[i] = x.Message
	}
	return "this would lock people out: " + strings.Join(parts, "; ")
}

// Guard works out whether publishing a book is likely to lock people out.
func (s *Service) Guard(ctx context.Context, book *Book) ([]Impact, error) {
	old := s.Snapshot().Book
	var out []Impact
	everyone := slices.ContainsFunc(book.Rulebook.Gates, func(g rulebook.Gate) bool { return g.Mode == rulebook.Enforce && g.Who.Everyone })
	if len(book.Rulebook.BreakGlass) == 0 && everyone {
		out = append(out, Impact{NoBreakGlass, "a gate covers everyone and there is no break-glass account: if it locks everybody out, nobody gets in", []string{}})
	}
	if met := s.metBy(book, old.Rulebook.BreakGlass); len(met) > 0 {
		out = append(out, Impact{BreakGlassMeetsGate, "no longer a break-glass account, and met by a gate: " + strings.Join(met, ", "), met})
	}
	tally, err := s.replay(ctx, book, guardDays)
	if err != nil {
		return nil, err
	}
	shift := tally.Shift()
	admins := s.administrators(book)
	denied := slices.DeleteFunc(slices.Clone(admins), tally.Passes)
	if len(admins) > 0 && len(denied) == len(admins) {
		out = append(out, Impact{DeniesAdministrators, fmt.Sprintf("every administrator would be denied everything that they reached in the last %d days: %s", guardDays, strings.Join(denied, ", ")), denied})
	}
	if limit := book.Rulebook.Guard.MaxDenied; float64(shift.Losing) > limit*float64(shift.People) && shift.Losing > 0 {
		who := []string{}
		for _, c := range shift.Persons {
			if c.Denied > 0 {
				who = append(who, c.ID)
			}
		}
		out = append(out, Impact{DeniesMany, fmt.Sprintf("%d of the %d people active in the last %d days would lose something; the guard allows %g%%", shift.Losing, shift.People, guardDays, limit*100), who})
	}
	return out, nil
}

// metBy lists accounts that are not break-glass accounts of a book, and that a
// gate of it speaks of.
func (s *Service) metBy(book *Book, accounts []string) []string {
	met := []string{}
	snap, actions := s.Snapshot(), book.Actions()
	for _, id := range accounts {
		q := &access.Request{User: id, Groups: snap.People.Groups(id)}
		if slices.Contains(book.Rulebook.BreakGlass, id) {
			continue
		}
		trial := book.Gates.Trial()
		for _, r := range book.Rulebook.Resources {
			for _, q.Action = range actions {
				q.Resource = r.ID
				trial.Try(q, s.micros())
				if len(trial.Matched()) > 0 && !slices.Contains(met, id) {
					met = append(met, id)
				}
			}
		}
	}
	return met
}

// administrators are the people who must not all be denied: those whom the
// book's guard names, else those whose ids are the names of administrators'
// tokens.
func (s *Service) administrators(book *Book) []string {
	var out []string
	w := book.Rulebook.Guard.Administrators
	named := map[string]bool{}
	if len(w.Users)+len(w.Groups) == 0 {
		for _, t := range s.Tokens() {
			named[t.Name] = t.Role == Admin && t.RevokedAt == ""
		}
	}
	for _, p := range s.Snapshot().People.List() {
		in := slices.ContainsFunc(p.Groups, func(g string) bool { return slices.Contains(w.Groups, g) })
		if named[p.ID] || in || slices.Contains(w.Users, p.ID) {
			out = append(out, p.ID)
		}
	}
	return out
}
