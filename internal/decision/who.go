package decision

import (
	"cmp"
	"context"
	"runtime"
	"slices"
	"strings"
	"sync"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// maxSharedDevices that are nobody's are tried for each person.
const maxSharedDevices = 2000

// ReachQuery selects of those who may reach something whom to list.
type ReachQuery struct {
	Text    string // a part of their id, name or a group; "" for any
	Through bool   // those only who get through from some device
	Cursor  string // the Next of the page before; "" for the first
	Limit   int    // at most so many; 0 for all
}

// who tries what people reach.
type who struct {
	snap   *state.Snapshot
	asked  *access.Evaluation
	now    int64
	trial  *access.Evaluator
	q      *access.Request
	shared []*state.Device // that are nobody's
	name   int
}

func newWho(snap *state.Snapshot, asked *access.Evaluation, now int64) *who {
	dict := snap.Book.Rulebook.Dict
	w := &who{snap: snap, asked: asked, now: now, trial: snap.Book.Gates.Evaluator(), q: asked.Request(),
		name: dict.Slot("name")}
	owner := dict.Slot("owner")
	snap.Fleet.InService(func(d *state.Device) bool {
		if d = snap.At(d, now); !d.View.Get(owner, now).Known() {
			w.shared = append(w.shared, d)
		}
		return len(w.shared) < maxSharedDevices
	})
	return w
}

// another tries the same beside it.
func (w *who) another() *who {
	return &who{snap: w.snap, asked: w.asked, now: w.now, trial: w.snap.Book.Gates.Evaluator(), q: w.asked.Request(),
		shared: w.shared, name: w.name}
}

// from is what comes of it from a device.
func (w *who) from(d *state.Device) access.Outcome {
	Place(w.snap, w.q, w.asked, d, w.now)
	return w.trial.Evaluate(w.q, w.now).Outcome
}

// best is what a person reaches from the best device. row is filled with how, unless it is nil.
func (w *who) best(person string, row *api.ReachPerson) access.Outcome {
	w.snap.People.Ask(w.q, person)
	w.q.Device, w.q.Certificate = access.Device{}, nil
	r := w.trial.Evaluate(w.q, w.now)
	best := r.Outcome
	if row != nil {
		row.Unknown, row.BreakGlass = r.Outcome, r.BreakGlass
	}
	better := func(o access.Outcome) {
		if rankOf(o) > rankOf(best) {
			best = o
		}
	}
	for _, d := range w.snap.DevicesOf(person, w.now) {
		if d.Retired != nil {
			continue
		}
		o := w.from(d)
		if better(o); row != nil {
			row.Devices = append(row.Devices, w.device(d, o))
		}
	}
	for _, d := range w.shared {
		if row == nil && best == access.Allow {
			break
		}
		o := w.from(d)
		if better(o); row != nil && o == access.Allow {
			row.Shared++
		}
	}
	return best
}

// device tells of a device from which something came of it just now.
func (w *who) device(d *state.Device, o access.Outcome) api.ReachDevice {
	rb := w.snap.Book.Rulebook
	return api.ReachDevice{Device: d.ID, Name: d.View.Get(w.name, w.now).Str(), Level: rb.LevelName(d.Result.Level),
		Rank: int(d.Result.Level), Top: int(rb.Top()), Outcome: o, Gates: append([]string{}, w.trial.Stops()...)}
}

// foundPerson is a person with what they reach at best.
type foundPerson struct {
	*directory.Person
	best access.Outcome
	row  *api.ReachPerson // how; nil where that is worked out for those alone who are listed
}

// order is by what is reached, the best first.
func (a foundPerson) order(b foundPerson) int {
	return cmp.Or(cmp.Compare(rankOf(b.best), rankOf(a.best)), strings.Compare(a.ID, b.ID))
}

func (a foundPerson) cursor() string { return string(a.best) + " " + a.ID }

func rowOf(p *directory.Person) *api.ReachPerson {
	return &api.ReachPerson{Person: p.ID, Name: p.Name, Groups: p.Groups, Devices: []api.ReachDevice{}}
}

// behind is somebody who stands in the order where a cursor says.
func behind(cursor string) (foundPerson, error) {
	best, id, ok := strings.Cut(cursor, " ")
	if !ok || rankOf(access.Outcome(best)) < 0 {
		return foundPerson{}, &fault.QueryError{Param: "cursor",
			Message: "this is not a cursor that a page of this list gave"}
	}
	return foundPerson{Person: &directory.Person{ID: id}, best: access.Outcome(best)}, nil
}

// reached is what comes of some of the directory.
type reached struct {
	allowed, steppedUp int
	found              []foundPerson
}

// see tries what people reach, until ctx ends, and finds those that are listed.
func (r *reached) see(ctx context.Context, w *who, people []directory.Person, listed func(id string) bool, sel ReachQuery) {
	for i := range people {
		if i%1024 == 0 && ctx.Err() != nil {
			return
		}
		x := foundPerson{Person: &people[i]}
		is := listed(x.ID)
		if is && sel.Limit == 0 {
			x.row = rowOf(x.Person)
		}
		if x.best = w.best(x.ID, x.row); x.best == access.Allow {
			r.allowed++
		} else if x.best == access.StepUp {
			r.steppedUp++
		}
		if is && (!sel.Through || x.best != access.Deny) {
			r.found = append(r.found, x)
		}
	}
}

// WhoReaches works out who can get to a resource now, and with which of their devices, given how and from where they
// come: how many of the directory, and of those that are selected who. It stops when ctx ends.
func (s *Service) WhoReaches(ctx context.Context, e *access.Evaluation, sel ReachQuery) (*api.Reach, error) {
	snap, now := s.Snapshot(), s.Micros()
	w := newWho(snap, e, now)
	out := &api.Reach{Resource: e.Resource.ID, Action: e.Action.Name, Items: []api.ReachPerson{}}
	list, listed := snap.People.List(), func(string) bool { return true }
	if sel.Text != "" {
		selected := map[string]bool{}
		for p := range snap.People.Search(sel.Text, "") {
			selected[p.ID] = true
		}
		listed = func(id string) bool { return selected[id] }
	}
	parts := make([]reached, min(runtime.GOMAXPROCS(0), 1+len(list)/1024))
	var wg sync.WaitGroup
	for i := range parts {
		wg.Go(func() {
			parts[i].see(ctx, w.another(), list[i*len(list)/len(parts):(i+1)*len(list)/len(parts)], listed, sel)
		})
	}
	wg.Wait()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	out.People = len(list)
	var found []foundPerson
	for _, p := range parts {
		out.Allowed, out.SteppedUp = out.Allowed+p.allowed, out.SteppedUp+p.steppedUp
		found = append(found, p.found...)
	}
	slices.SortFunc(found, foundPerson.order)
	if sel.Cursor != "" {
		last, err := behind(sel.Cursor)
		if err != nil {
			return nil, err
		}
		at, there := slices.BinarySearchFunc(found, last, foundPerson.order)
		if there {
			at++
		}
		found = found[at:]
	}
	if sel.Limit > 0 && len(found) > sel.Limit {
		found = found[:sel.Limit]
		out.Next = found[sel.Limit-1].cursor()
	}
	for _, x := range found {
		if x.row == nil {
			x.row = rowOf(x.Person)
			w.best(x.ID, x.row)
		}
		x.row.Best = x.best
		out.Items = append(out.Items, *x.row)
	}
	return out, nil
}
