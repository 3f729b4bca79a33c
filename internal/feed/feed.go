// Package feed fetches partners' inventories on their schedules, and takes in what they say.
package feed

import (
	"context"
	"sync"
	"time"

	"ironledger.example/core/event"
	core "ironledger.example/core/feed"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/heard"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/outbound"
	"ironledger.example/internal/sealed"
	"ironledger.example/internal/state"
)

// Options are what feeds are started with.
type Options struct {
	Policy  outbound.Policy
	Folders []string // below which folders may be read
	Limits  Limits   // the zero ones for [DefaultLimits]
}

// Service is the feeds of open records.
type Service struct {
	*engine.Engine
	box    *sealed.Box
	intake *intake.Service
	admin  *admin.Service
	heard  *heard.Service

	// changing is held while a feed is changed: its run is over then.
	changing sync.Mutex
	busy     chan struct{} // as many runs as may go on at once

	mu      sync.Mutex
	options Options
	runners map[string]*runner // by feed; nil before Start
	ctx     context.Context
	stop    context.CancelFunc
	wg      sync.WaitGroup
}

// atOnce is how many feeds are fetched at once.
const atOnce = 4

// New is a service over open records. Nothing is fetched before [Service.Start].
func New(e *engine.Engine, box *sealed.Box, in *intake.Service, a *admin.Service, h *heard.Service) *Service {
	return &Service{Engine: e, box: box, intake: in, admin: a, heard: h, busy: make(chan struct{}, atOnce)}
}

// Start begins to fetch feeds when they are due.
func (s *Service) Start(o Options) {
	if o.Limits == (Limits{}) {
		o.Limits = DefaultLimits
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.options, s.runners = o, map[string]*runner{}
	s.ctx, s.stop = context.WithCancel(context.Background())
	for id := range s.Snapshot().Feeds.All() {
		s.launch(id)
	}
}

// Stop ends fetching; a run that goes on is given up, and begins again with the next start.
func (s *Service) Stop() {
	s.mu.Lock()
	if s.stop != nil {
		s.stop()
	}
	s.mu.Unlock()
	s.wg.Wait()
}

// started are the options that feeds were started with.
func (s *Service) started() Options {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.options
}

// runner fetches one feed, again and again.
type runner struct {
	id     string
	ctx    context.Context
	cancel context.CancelFunc
	ended  chan struct{}
	asks   chan ask

	mu  sync.Mutex
	now *core.Run // that goes on; nil for none
}

// ask is somebody who wants a run now.
type ask struct {
	by     string
	full   bool
	accept string
}

// launch begins to fetch a feed. The caller holds the lock.
func (s *Service) launch(id string) {
	ctx, cancel := context.WithCancel(s.ctx)
	r := &runner{id: id, ctx: ctx, cancel: cancel, ended: make(chan struct{}), asks: make(chan ask, 1)}
	s.runners[id] = r
	s.wg.Go(func() {
		defer close(r.ended)
		for s.turn(r) {
		}
	})
}

// halt ends the runner of a feed, and waits until it did.
func (s *Service) halt(id string) {
	s.mu.Lock()
	r := s.runners[id]
	delete(s.runners, id)
	s.mu.Unlock()
	if r != nil {
		r.cancel()
		<-r.ended
	}
}

// resume begins to fetch a feed again that was changed, if there is one.
func (s *Service) resume(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.runners != nil && s.runners[id] == nil && s.ctx.Err() == nil && s.Snapshot().Feeds.Get(id) != nil {
		s.launch(id)
	}
}

// runner is the one of a feed, nil for none.
func (s *Service) runner(id string) *runner {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.runners[id]
}

// place is how far a feed has come.
func place(snap *state.Snapshot, id string) core.Place {
	if p := snap.FeedPlaces.Get(id); p != nil {
		return *p
	}
	return core.Place{}
}

// turn waits until a feed is due or somebody asks, and fetches it. It returns false when there is
// nothing more to do.
func (s *Service) turn(r *runner) bool {
	f := s.Snapshot().Feeds.Get(r.id)
	if f == nil {
		return false
	}
	var due <-chan time.Time
	if f.Status == kept.FeedEnabled {
		p := place(s.Snapshot(), r.id)
		timer := time.NewTimer(max(time.Duration(p.NextAt-s.Micros())*time.Microsecond, 0))
		defer timer.Stop()
		due = timer.C
	}
	var a ask
	select {
	case <-r.ctx.Done():
		return false
	case a = <-r.asks:
	case <-due:
	}
	select {
	case <-r.ctx.Done():
		return false
	case s.busy <- struct{}{}:
	}
	defer func() { <-s.busy }()
	s.run(r, a)
	return r.ctx.Err() == nil
}

// run fetches a feed once and keeps what became of it.
func (s *Service) run(r *runner, a ask) {
	snap := s.Snapshot()
	f := snap.Feeds.Get(r.id)
	if f == nil {
		return
	}
	began, p, book := s.Micros(), place(snap, r.id), snap.Book.Info.Version
	x := &running{service: s, runner: r, feed: f, place: p, ask: a, began: began,
		run: &core.Run{Number: p.Number + 1, StartedAt: value.FormatTime(began), By: a.by, Full: a.full ||
			p.Full(&f.Settings, book, began)}}
	x.show()
	err := x.fetch(r.ctx)
	if r.ctx.Err() != nil {
		x.end() // neither done nor failed: it was broken off
		return
	}
	x.close(err)
	keep := func(c *state.Change) error {
		x.place.Ended(&f.Settings, x.run, began, c.Now, asked(err))
		if x.run.Outcome == core.Done {
			x.place.Book = book
			// What holds something back is looked at again with every run.
			if x.place.Tag, x.place.Modified = x.last.tag, x.last.modified; x.run.GoneHeld != "" {
				x.place.Tag, x.place.Modified = "", ""
			}
		}
		x.tell(c, p.Failures)
		return state.Put(c, state.FeedPlaceKind, r.id, &x.place)
	}
	// Until it is kept the feed has not come further; a store in trouble is asked again with the
	// next run, after a while.
	if err := s.Do(r.ctx, keep); err != nil {
		if r.ctx.Err() == nil {
			s.Log.Error("a run of a feed is not kept", "feed", r.id, "error", err)
		}
		select {
		case <-time.After(10 * time.Second):
		case <-r.ctx.Done():
		}
	}
	x.end()
}

// tell records what is more than routine of a run.
func (x *running) tell(c *state.Change, failures int) {
	e := event.FeedChanged{Feed: x.feed.ID, Source: x.feed.Source}
	switch failedNow := x.run.Outcome == core.Failed; {
	case failedNow && failures == 0:
		e.Change, e.Reason = event.FeedFailed, event.Clipped(x.run.Error, event.MaxReason)
	case !failedNow && failures > 0:
		e.Change = event.FeedRecovered
	default:
		return
	}
	c.Record(actor(x.feed.ID), &e)
}

// actor is who did what a run of a feed did.
func actor(id string) string { return ledger.Feed + " " + id }
