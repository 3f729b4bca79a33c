package controls

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/account"
	"ironledger.example/core/control"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

const (
	// lookEach is how often it is looked for periods that have ended.
	lookEach = 2 * time.Second
	// lookAtMost is the longest pause after what could not be made.
	lookAtMost = 10 * time.Minute
	// makeUp is how many periods back reports are made up for that were missed.
	makeUp = 12
	// mostKept bounds how many reports are kept of one in the rulebook; the oldest go.
	mostKept = 400
)

// Start begins to make the reports that the rulebook asks for, and makes up for those that were missed; each is how
// often it looks, 0 for the usual.
func (s *Service) Start(each time.Duration) {
	ctx, stop := context.WithCancel(context.Background())
	s.mu.Lock()
	s.stop = stop
	s.mu.Unlock()
	s.wg.Go(func() {
		each := cmp.Or(each, lookEach)
		for pause := each; ; {
			if err := s.due(ctx); err == nil {
				pause = each
			} else if ctx.Err() == nil { // each try may read the whole ledger
				s.Log.Error("reports on controls are not made", "error", err)
				pause = min(2*pause, lookAtMost)
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(pause):
			}
		}
	})
}

// Stop ends that.
func (s *Service) Stop() {
	s.mu.Lock()
	stop := s.stop
	s.mu.Unlock()
	if stop != nil {
		stop()
		s.wg.Wait()
	}
}

// begins is when the period begins that a moment is in.
func begins(every string, t time.Time) time.Time {
	y, m, d := t.UTC().Date()
	switch every {
	case rulebook.EveryWeek:
		d -= (int(t.UTC().Weekday()) + 6) % 7
	case rulebook.EveryMonth:
		d = 1
	case rulebook.EveryQuarter:
		m, d = m-(m-1)%3, 1
	case rulebook.EveryYear:
		m, d = 1, 1
	}
	return time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
}

// due makes what is missing of the last periods, the oldest first.
func (s *Service) due(ctx context.Context) (failed error) {
	snap := s.Snapshot()
	for i := range snap.Book.Rulebook.Reports {
		r := &snap.Book.Rulebook.Reports[i]
		var missing []account.Period
		end := begins(r.Every, s.Now())
		for range makeUp {
			from := begins(r.Every, end.Add(-time.Second))
			if id := keptID(r.ID, from); snap.Reports.Get(id) == nil && !s.passed[id] {
				missing = append(missing, account.Period{From: from.UnixMicro(), To: end.UnixMicro()})
			}
			end = from
		}
		for _, p := range slices.Backward(missing) {
			failed = errors.Join(failed, s.keep(ctx, r.ID, p)) // the others are made all the same
		}
	}
	return failed
}

// keptID is the id of a report on the period that begins at a moment.
func keptID(report string, from time.Time) string { return report + "-" + from.Format(time.DateOnly) }

// keep makes a report and keeps it, if the rulebook that was in force at the end of the period asked for it.
func (s *Service) keep(ctx context.Context, id string, p account.Period) error {
	version, err := s.versionAt(ctx, p.To)
	if err != nil {
		return err
	}
	book, err := s.past.BookOf(ctx, version)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(book.Rulebook.Reports, func(r rulebook.Report) bool { return r.ID == id })
	if i < 0 || begins(book.Rulebook.Reports[i].Every, value.Clock(p.To-1)).UnixMicro() != p.From {
		s.passed[keptID(id, value.Clock(p.From))] = true
		return nil
	}
	made, err := s.make(ctx, p, book.Rulebook.Reports[i].Controls)
	if err != nil {
		return err
	}
	doc := kept.Report{ID: keptID(id, value.Clock(p.From)), Report: id, From: p.From, To: p.To}
	if err := doc.Keep(made); err != nil {
		return err
	}
	return s.Do(ctx, func(c *state.Change) error {
		if state.Get(c, state.ReportKind, doc.ID) != nil {
			return nil
		}
		doc.At = c.Now
		c.Record(ledger.Clock, &event.ReportMade{ID: doc.ID, Report: id, From: made.From, To: made.To, SHA256: doc.SHA256,
			Size: doc.Size})
		if old := oldest(state.All(c, state.ReportKind), id); old != "" {
			state.Drop(c, state.ReportKind, old)
		}
		return state.Put(c, state.ReportKind, doc.ID, &doc)
	})
}

// oldest is the id of the oldest report of one in the rulebook when there are too many, "" while there are not.
func oldest(all map[string]*kept.Report, report string) (id string) {
	n := 0
	for _, r := range all {
		if r.Report != report {
			continue
		}
		if n++; id == "" || r.From < all[id].From {
			id = r.ID
		}
	}
	if n < mostKept {
		return ""
	}
	return id
}

// versionAt is the rulebook that was in force just before a moment, 0 for none.
func (s *Service) versionAt(ctx context.Context, moment int64) (int64, error) {
	books, err := s.Store.Rulebooks(ctx)
	if err != nil {
		return 0, err
	}
	for _, b := range books { // newest first
		if b.At < moment {
			return b.Version, nil
		}
	}
	return 0, nil
}

// Kept lists the reports that were kept, the newest first: those of one in the rulebook, or of all for "".
func (s *Service) Kept(report string) (out []kept.Report) {
	for _, r := range s.Snapshot().Reports.List() {
		if report == "" || r.Report == report {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b kept.Report) int {
		return cmp.Or(cmp.Compare(b.To, a.To), cmp.Compare(a.Report, b.Report))
	})
	return out
}

// Opened is a report that was kept, nil when there is none of the id.
func (s *Service) Opened(id string) (*account.Report, error) {
	r := s.Snapshot().Reports.Get(id)
	if r == nil {
		return nil, nil
	}
	return r.Open()
}

// trends compares reports, the oldest first: what got worse from the last but one to the last comes first.
func trends(of []kept.Report, words *control.Catalogue) []api.ControlTrend {
	out, places := []api.ControlTrend{}, map[string]int{}
	for i := range of {
		for _, b := range of[i].Brief {
			at, is := places[b.Control]
			if !is {
				at = len(out)
				places[b.Control] = at
				t := api.ControlTrend{Control: b.Control, Shares: make([]*float64, len(of)), NotMet: make([]int64, len(of))}
				if c := words.Control(b.Control); c != nil {
					t.Title = c.Title
				}
				out = append(out, t)
			}
			out[at].Shares[i], out[at].NotMet[i] = b.Share, b.NotMet
		}
	}
	for i := range out {
		t := &out[i]
		if n := len(of); n > 1 && t.Shares[n-1] != nil && t.Shares[n-2] != nil {
			t.Worse = *t.Shares[n-2] - *t.Shares[n-1]
		}
	}
	slices.SortStableFunc(out, func(a, b api.ControlTrend) int { return cmp.Compare(b.Worse, a.Worse) })
	return out
}
