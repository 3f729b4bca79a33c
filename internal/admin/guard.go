// Package admin carries out what people do: they publish, except, enrol, settle, import
// lists, and make tokens. What is likely to lock people out is weighed before it counts.
package admin

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"sync"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/event"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/state"
)

// Service carries out what people do, on open records.
type Service struct {
	*engine.Engine
	decisions *decision.Service
	uses      *uses
}

// New is a service over open records, of which decisions tells who reaches what.
func New(e *engine.Engine, decisions *decision.Service) *Service {
	return &Service{e, decisions, &uses{}}
}

// guardDays is how far back the guard looks for people who are active.
const guardDays = 7

// The ways in which a publication, a directory or a roster is likely to lock
// people out.
const (
	DeniesAdministrators = "denies-administrators"
	BreakGlassMeetsGate  = "break-glass-meets-gate"
	NoBreakGlass         = "no-break-glass"
	DeniesMany           = "denies-many"
)

// Impact is one reason why a publication, or a directory, is held back.
type Impact = event.Impact

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

// maxShifts bounds how many people a shift tells of.
const maxShifts = 200

// fully is for how many people every action and place is tried.
const fully = 500

// reachShift is what a change does to who reaches what.
type reachShift struct {
	api.ReachShift
	everybody int // in the directory, before or after
}

// reach works out what people reach under a snapshot and another.
func reach(snap *state.Snapshot, after *state.Snapshot, persons []string, now int64) *reachShift {
	out := &reachShift{everybody: max(snap.People.Len(), after.People.Len()),
		ReachShift: api.ReachShift{People: len(persons), LockedOut: []string{}, Persons: []api.PersonShift{}}}
	workers := min(runtime.GOMAXPROCS(0), 1+len(persons)/64)
	type person struct {
		api.PersonShift
		reached int
	}
	parts := make([][]person, workers)
	var wg sync.WaitGroup
	for w := range workers {
		wg.Go(func() {
			before, then := newReacher(snap, len(persons)), newReacher(after, len(persons))
			for _, p := range persons[w*len(persons)/workers : (w+1)*len(persons)/workers] {
				mine := snap.DevicesOf(p, now)
				was, is := before.of(p, mine, now), then.of(p, mine, now)
				parts[w] = append(parts[w], person{api.PersonShift{Person: p, Lost: without(was, is),
					Gained: without(is, was)}, len(was)})
			}
		})
	}
	wg.Wait()
	for _, x := range slices.Concat(parts...) {
		if x.reached > 0 {
			out.Reaching++
		}
		if len(x.Lost) > 0 {
			out.Losing++
			if len(x.Lost) == x.reached && len(x.Gained) == 0 {
				out.LockedOut = append(out.LockedOut, x.Person)
			}
		}
		if len(x.Gained) > 0 {
			out.Gaining++
		}
		if len(x.Lost)+len(x.Gained) > 0 && len(out.Persons) < maxShifts {
			out.Persons = append(out.Persons, x.PersonShift)
		}
	}
	return out
}

// without lists what is in a and not in b.
func without(a, b []string) []string {
	return slices.DeleteFunc(append([]string{}, a...), func(x string) bool { return slices.Contains(b, x) })
}

// reacher tries what people reach under one snapshot.
type reacher struct {
	snap    *state.Snapshot
	trial   *access.Evaluator
	actions []string
	from    []netip.Addr
}

func newReacher(snap *state.Snapshot, people int) *reacher {
	r := &reacher{snap: snap, trial: snap.Book.Gates.Evaluator(), actions: []string{"open"}, from: []netip.Addr{{}}}
	if people <= fully {
		r.actions = decision.Actions(snap.Book)
		for _, p := range snap.Book.Rulebook.Places {
			if len(p.Networks) > 0 {
				r.from = append(r.from, p.Networks[0].Addr())
			}
		}
	}
	return r
}

// of lists the resources that a person gets through to.
func (r *reacher) of(person string, devices []*state.Device, now int64) (out []string) {
	yes := true
	q := &access.Request{MFA: &yes}
	r.snap.People.Ask(q, person)
	e := &access.Evaluation{}
	try := func(id string) bool {
		q.Resource = id
		for _, q.Action = range r.actions {
			for _, q.IP = range r.from {
				if r.trial.Evaluate(q, now).Outcome != access.Deny {
					return true
				}
			}
		}
		return false
	}
	for _, res := range r.snap.Book.Rulebook.Resources {
		q.Device, q.Certificate = access.Device{}, nil
		reaches := try(res.ID)
		for _, d := range devices {
			if reaches {
				break
			}
			decision.Place(r.snap, q, e, r.snap.At(d, now), now)
			reaches = try(res.ID)
		}
		if reaches {
			out = append(out, res.ID)
		}
	}
	return out
}

// guard works out whether going over from a snapshot to another is likely to lock
// people out. shift is what would change for the people whom it concerns, nil when
// only recorded requests tell; touched is what the difference can touch, nil for anything.
func (s *Service) guard(ctx context.Context, snap, after *state.Snapshot, shift *reachShift,
	touched *decision.Touched) ([]Impact, error) {
	var out []Impact
	old, book := snap.Book.Rulebook, after.Book.Rulebook
	everyone := slices.ContainsFunc(book.Gates,
		func(g rulebook.Gate) bool { return g.Mode == rulebook.Enforce && g.Who.Everyone })
	if snap.Book != after.Book && len(book.BreakGlass) == 0 && everyone {
		out = append(out, Impact{Kind: NoBreakGlass,
			Message: "a gate covers everyone and there is no break-glass account: if it locks everybody out, " +
				"nobody gets in", Who: []string{}})
	}
	if met := metBy(after, old.BreakGlass, s.Micros()); len(met) > 0 {
		out = append(out, Impact{Kind: BreakGlassMeetsGate,
			Message: "no longer a break-glass account, and met by a gate: " + strings.Join(met, ", "), Who: met})
	}
	tally, err := s.decisions.ReplayTouched(ctx, snap, after, guardDays, touched)
	if err != nil {
		return nil, err
	}
	if x := s.shutOut(snap, after, tally); x != nil {
		out = append(out, *x)
	}
	if x := many(tally.Shift(), shift, book.Guard.MaxDenied); x != nil {
		out = append(out, *x)
	}
	return out, nil
}

// many tells that more people would lose something than the guard allows: of those
// who were active lately, or of the whole directory. What concerns a single person
// of the directory is not many.
func many(recorded *rehearsal.AccessShift, shift *reachShift, limit float64) *Impact {
	least := 1
	if shift != nil {
		least = 2
	}
	if recorded.Losing >= least && float64(recorded.Losing) > limit*float64(recorded.People) {
		who := []string{}
		for _, c := range recorded.Persons {
			if c.Denied > 0 {
				who = append(who, c.ID)
			}
		}
		return &Impact{Kind: DeniesMany,
			Message: fmt.Sprintf("%d of the %d people active in the last %d days would lose something; the "+
				"guard allows %g%%",
				recorded.Losing, recorded.People, guardDays, limit*100), Who: who}
	}
	if shift != nil && shift.Losing >= least && float64(shift.Losing) > limit*float64(shift.everybody) {
		who := []string{}
		for _, p := range shift.Persons {
			if len(p.Lost) > 0 {
				who = append(who, p.Person)
			}
		}
		return &Impact{Kind: DeniesMany,
			Message: fmt.Sprintf("%d of the %d people of the directory would lose something that they reach "+
				"now; the guard allows %g%%",
				shift.Losing, shift.everybody, limit*100), Who: who}
	}
	return nil
}

// shutOut tells of administrators who would be shut out: any of those who got in
// lately, as recorded requests show, or all of those who get in now with their own
// devices. Who they are the candidate says, but not alone: else a candidate could
// name others.
func (s *Service) shutOut(snap, after *state.Snapshot, recorded *rehearsal.AccessTally) *Impact {
	for _, admins := range [][]string{s.administrators(after, snap), s.administrators(snap, after)} {
		if x := s.shutOutOf(admins, snap, after, recorded); x != nil {
			return x
		}
	}
	return nil
}

func (s *Service) shutOutOf(admins []string, snap, after *state.Snapshot, recorded *rehearsal.AccessTally) *Impact {
	now := s.Micros()
	before, then := newReacher(snap, 0), newReacher(after, 0)
	var active, denied, in, shut []string
	for _, id := range admins {
		if passed, left := recorded.Passed(id); passed > 0 {
			if active = append(active, id); left == 0 {
				denied = append(denied, id)
			}
		}
		mine := snap.DevicesOf(id, now)
		if was := before.of(id, mine, now); len(was) > 0 {
			if in = append(in, id); len(then.of(id, mine, now)) == 0 {
				shut = append(shut, id)
			}
		}
	}
	switch {
	case len(denied) > 0 && len(denied) == len(active):
		return &Impact{Kind: DeniesAdministrators,
			Message: fmt.Sprintf("every administrator would be denied everything that they reached in the last "+
				"%d days: %s",
				guardDays, strings.Join(denied, ", ")), Who: denied}
	case len(denied) > 0:
		return &Impact{Kind: DeniesAdministrators,
			Message: fmt.Sprintf("%d of the %d administrators who got in in the last %d days would be denied "+
				"everything that they reached: %s",
				len(denied), len(active), guardDays, strings.Join(denied, ", ")), Who: denied}
	case len(shut) > 0 && len(shut) == len(in):
		return &Impact{Kind: DeniesAdministrators,
			Message: "every administrator who gets in now would be shut out: " + strings.Join(shut, ", "),
			Who:     shut}
	}
	return nil
}

// metBy lists accounts that are not break-glass accounts of the snapshot's book,
// and that a gate of it speaks of, or that are denied as nobody knows them.
func metBy(snap *state.Snapshot, accounts []string, now int64) []string {
	met := []string{}
	for _, id := range accounts {
		if slices.Contains(snap.Book.Rulebook.BreakGlass, id) {
			continue
		}
		q := &access.Request{}
		snap.People.Ask(q, id)
		if !q.Known && !snap.Book.Rulebook.UnknownPeople || speaksOf(snap, q, now) {
			met = append(met, id)
		}
	}
	return met
}

// speaksOf reports whether a gate matches a request for some resource and action.
func speaksOf(snap *state.Snapshot, q *access.Request, now int64) bool {
	trial := snap.Book.Gates.Evaluator()
	for _, r := range snap.Book.Rulebook.Resources {
		for _, q.Action = range decision.Actions(snap.Book) {
			q.Resource = r.ID
			if trial.Evaluate(q, now); len(trial.Matched()) > 0 {
				return true
			}
		}
	}
	return false
}

// administrators are the people who must not be shut out: those whom the guard of a
// snapshot's book names, or else that of another's, or else those whose ids are the
// names of administrators' tokens.
func (s *Service) administrators(snap, other *state.Snapshot) []string {
	w := snap.Book.Rulebook.Guard.Administrators
	if len(w.Users)+len(w.Groups) == 0 {
		w = other.Book.Rulebook.Guard.Administrators
	}
	named := map[string]bool{}
	for _, u := range w.Users {
		named[u] = true
	}
	if len(w.Users)+len(w.Groups) == 0 {
		for _, t := range s.Tokens() {
			named[t.Name] = named[t.Name] || t.Role == string(bearer.Admin) && t.State == "live"
		}
	}
	for _, g := range w.Groups {
		for _, id := range slices.Concat(snap.People.Members(g), other.People.Members(g)) {
			named[id] = true
		}
	}
	return slices.DeleteFunc(slices.Sorted(maps.Keys(named)), func(id string) bool { return !named[id] })
}
