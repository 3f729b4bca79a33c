package feed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	core "ironledger.example/core/feed"
	"ironledger.example/core/mapping"
	"ironledger.example/core/value"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// running is a run that goes on. What it counts is under the runner's lock.
type running struct {
	service *Service
	runner  *runner
	feed    *kept.Feed
	place   core.Place
	ask     ask
	began   int64
	run     *core.Run
	fetcher *fetcher

	last    validators      // of what was read; kept when all of it was taken
	listed  map[string]bool // devices that the partner lists
	unclear int             // items of which nobody can tell which device they are about
}

// show lets others see the run.
func (x *running) show() {
	x.runner.mu.Lock()
	x.runner.now = x.run
	x.runner.mu.Unlock()
}

// end is when there is nothing more to see.
func (x *running) end() {
	x.runner.mu.Lock()
	x.runner.now = nil
	x.runner.mu.Unlock()
}

// count changes what the run counts.
func (x *running) count(how func(*core.Run)) {
	x.runner.mu.Lock()
	how(x.run)
	x.runner.mu.Unlock()
}

// close is the end of a run.
func (x *running) close(err error) {
	x.count(func(r *core.Run) {
		r.EndedAt = value.FormatTime(x.service.Micros())
		switch {
		case errors.Is(err, errUnchanged):
			r.Outcome = core.Unchanged
		case err != nil:
			r.Outcome, r.Error = core.Failed, event.Clipped(err.Error(), event.MaxReason)
		default:
			r.Outcome = core.Done
		}
		if x.fetcher != nil {
			r.Clock = x.fetcher.off
		}
	})
}

// fetch fetches all pages and takes in what they say.
func (x *running) fetch(ctx context.Context) error {
	s := x.service
	m, err := x.feed.Map(s.Snapshot().Book.Rulebook.Dict)
	if err != nil {
		return err
	}
	secret, err := s.secretOf(x.feed)
	if err != nil {
		return err
	}
	o := s.started()
	if x.fetcher, err = newFetcher(&x.feed.Settings, secret, o.Policy, o.Limits, s.Now); err != nil {
		return err
	}
	defer x.fetcher.close()
	x.fetcher.read = func(n int) { x.count(func(r *core.Run) { r.Bytes += int64(n) }) }
	if x.feed.Kind == core.Signals {
		return x.poll(ctx)
	}
	if x.feed.Kind == core.People {
		return x.people(ctx, m, o.Folders)
	}
	return x.devices(ctx, m, o.Folders)
}

// items visits the items of all pages, numbered through. done is when all were seen.
func (x *running) items(ctx context.Context, m *mapping.Mapping, folders []string,
	visit func(n int, item []byte, seen string) error) error {
	n, known, moment := 0, validators{}, ""
	// Who does not say when it observed what, observed it when asked: then every answer is news.
	if (m.Observes() || x.feed.Folder != "") && x.feed.Pages.By == core.OnePage && x.ask == (ask{}) &&
		x.place.Book == x.service.Snapshot().Book.Info.Version {
		known = validators{x.place.Tag, x.place.Modified}
	}
	if !x.run.Full {
		moment, known = x.place.Moment(&x.feed.Settings), validators{}
	}
	var last validators
	each := func(p *page) (int, error) {
		last = validators{p.tag, p.modified}
		before := n
		err := m.Items(p.body, p.format, func(_ int, item []byte) error {
			if n++; n > maxItems {
				return fmt.Errorf("there are more than %d items", maxItems)
			}
			x.count(func(r *core.Run) { r.Items++ })
			return visit(n, item, p.seen)
		})
		x.count(func(r *core.Run) { r.Pages++ })
		return n - before, err
	}
	var err error
	if x.feed.Folder != "" {
		last.tag, err = x.fetcher.eachFile(ctx, folders, known, each)
	} else {
		err = x.fetcher.each(ctx, moment, known, each)
	}
	x.last = last
	return err
}

// devices takes in what the partner says of devices.
func (x *running) devices(ctx context.Context, m *mapping.Mapping, folders []string) error {
	x.listed = map[string]bool{}
	out := &bytes.Buffer{}
	r, w := io.Pipe()
	ended := make(chan error, 1)
	go func() {
		err := x.items(ctx, m, folders, func(n int, item []byte, seen string) error {
			out.Reset()
			x.mapItem(m, n, item, seen, out)
			_, err := w.Write(out.Bytes())
			return err
		})
		ended <- err
		w.CloseWithError(err)
	}()
	_, err := x.service.intake.Follow(ctx, actor(x.feed.ID), x.feed.Source, r, evidence.NDJSON, x.took)
	r.CloseWithError(context.Canceled) // whoever still writes is let go
	if fetched := <-ended; fetched != nil && !errors.Is(fetched, context.Canceled) {
		err = fetched // in its own words, and not as a stream that broke off
	}
	if err != nil {
		return err
	}
	if x.feed.Whole && x.run.Full {
		return x.gone(ctx)
	}
	return nil
}

// mapItem writes the report of an item, or an empty line when none can be made of it: lines are
// numbered as items are.
func (x *running) mapItem(m *mapping.Mapping, n int, item []byte, seen string, out *bytes.Buffer) {
	raw, remarks, err := m.Report(item, seen)
	for _, r := range remarks {
		x.count(func(run *core.Run) { run.Refused++; run.Say(r.Attribute, r.Message, n) })
	}
	if err != nil {
		x.count(func(run *core.Run) { run.Rejected++; run.Say("item", err.Error(), n) })
		x.unread(m, item)
	}
	out.Write(raw)
	out.WriteByte('\n')
}

// unread looks which device an item is about of which no report can be made: it is listed.
func (x *running) unread(m *mapping.Mapping, item []byte) {
	snap := x.service.Snapshot() // of this moment: one that is held for a run holds every device as it was
	raw, err := m.Keys(item)
	if err == nil {
		var rep *evidence.Report
		if rep, err = snap.Book.Rulebook.Dict.ParseReport(raw, x.began); err == nil {
			rep.Source = x.feed.Source
			x.lists(snap, rep.Identified())
		}
	}
	if err != nil {
		x.count(func(*core.Run) { x.unclear++ })
	}
}

// lists marks the devices that the keys of a report point at.
func (x *running) lists(snap *state.Snapshot, rep *evidence.Report) {
	for _, k := range rep.Keys() {
		if id, known := snap.Find(k); known {
			x.count(func(*core.Run) { x.listed[id] = true })
		}
	}
}

// took counts what became of a report.
func (x *running) took(it evidence.Item, t *api.ReportResult) {
	snap := x.service.Snapshot()
	x.count(func(r *core.Run) {
		for _, refused := range t.Refused {
			r.Refused++
			r.Say(refused.Attribute, refused.Message, t.Line)
		}
		switch {
		case t.Error != "":
			r.Rejected++
			r.Say("item", t.Error, t.Line)
		case t.Waiting != "":
			r.Accepted++
			r.Waiting++
		default:
			r.Accepted++
		}
		if t.New {
			r.New++
		}
		if t.Level != "" && t.Level != t.PreviousLevel && !t.New {
			r.Moved++
		}
		ids, clear := intake.Meant(snap, it.Report, t)
		for _, id := range ids {
			x.listed[id] = true
		}
		if !clear {
			x.unclear++
		}
	})
}

// maxSome bounds how many devices an entry names.
const maxSome = 50

// gone takes back what the source said of devices that it no longer lists.
func (x *running) gone(ctx context.Context) error {
	s, why := x.service, "the feed "+x.feed.ID+" lists it no longer"
	left := intake.Said(s.Snapshot(), x.feed.Source, x.began, why)
	var gone []string
	for _, id := range left {
		if !x.listed[id] {
			gone = append(gone, id)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	held := core.Guard(len(gone), len(x.listed))
	if x.ask.accept != "" {
		held = ""
	}
	if x.unclear > 0 { // nobody can say that one of them is not among these
		held = fmt.Sprintf("%d items do not say which device they are about: nothing was taken from the %d "+
			"devices that are not listed",
			x.unclear, len(gone))
	}
	e := &event.FeedChanged{Feed: x.feed.ID, Source: x.feed.Source, Change: event.FeedGone, Devices: len(gone),
		Some: gone[:min(len(gone), maxSome)], Reason: x.ask.accept}
	if held != "" {
		x.count(func(r *core.Run) { r.GoneHeld = held })
		if len(x.place.Runs) > 0 && x.place.Runs[0].GoneHeld != "" {
			return nil // it was told before
		}
		e.Change, e.Reason = event.FeedHeld, held
		return s.Do(ctx, func(c *state.Change) error { c.Record(actor(x.feed.ID), e); return nil })
	}
	if err := intake.TakeBack(ctx, s.Engine, actor(x.feed.ID), x.feed.Source, why, x.began, gone); err != nil {
		return err
	}
	x.count(func(r *core.Run) { r.Gone = len(gone) })
	by := actor(x.feed.ID)
	if x.ask.accept != "" {
		by = x.ask.by
	}
	return s.Do(ctx, func(c *state.Change) error { c.Record(by, e); return nil })
}

// people takes in who there is.
func (x *running) people(ctx context.Context, m *mapping.Mapping, folders []string) error {
	const most = 200_000
	var people []directory.Person
	var lines []int
	unread := 0
	err := x.items(ctx, m, folders, func(n int, item []byte, _ string) error {
		p, err := m.Person(item)
		if err != nil {
			unread++
			x.count(func(r *core.Run) { r.Rejected++; r.Say("item", err.Error(), n) })
			return nil
		}
		if people, lines = append(people, p), append(lines, n); len(people) > most {
			return fmt.Errorf("there are more than %d people", most)
		}
		return nil
	})
	if err != nil {
		return err
	}
	people, refused := directory.Check(people, lines)
	for _, r := range refused {
		unread++
		x.count(func(run *core.Run) { run.Rejected++; run.Say("item", r.Message, r.Line) })
	}
	how := admin.ListImport{Whole: x.feed.Whole, AcceptImpact: x.ask.accept}
	if unread > 0 && how.Whole { // who cannot be read has not left
		how.Whole = false
		x.count(func(r *core.Run) {
			r.GoneHeld = fmt.Sprintf("%d items could not be read: nobody was taken out of the directory", unread)
		})
	}
	in, err := x.service.admin.ImportPeople(ctx, actor(x.feed.ID), people, how)
	var impact *admin.ImpactError
	if errors.As(err, &impact) {
		var why []string
		for _, i := range impact.Impacts {
			why = append(why, i.Message)
		}
		return fmt.Errorf("the people were not taken: %s; if it is so, say: ironledger feed run %s --accept REASON",
			strings.Join(why, "; "), x.feed.ID)
	}
	if err != nil {
		return err
	}
	x.count(func(r *core.Run) { r.Accepted, r.New, r.Gone, r.Moved = len(people), in.Added, in.Removed, in.Changed })
	return nil
}
