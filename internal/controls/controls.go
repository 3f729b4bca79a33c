// Package controls makes reports on written controls from entries that are proved to be in the ledger, signs what is
// handed out, and makes and keeps those that the rulebook asks for at the end of each period.
package controls

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"ironledger.example/core/account"
	"ironledger.example/core/control"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/past"
	"ironledger.example/internal/state"
)

// Service makes reports from open records.
type Service struct {
	*engine.Engine
	past     *past.Service
	archives string // the folder of archives

	mu     sync.Mutex
	recent []made          // made for people, the latest used last
	passed map[string]bool // ids of reports for which no rulebook asked when their period ended
	stop   context.CancelFunc
	wg     sync.WaitGroup
}

// made is a report with what it was made for: the same again has it at once.
type made struct {
	period account.Period
	only   string
	at     int64 // when
	report *account.Report
}

// New is a service over open records, with archives of them in a folder. Nothing is made by itself before
// [Service.Start].
func New(e *engine.Engine, p *past.Service, archives string) *Service {
	return &Service{Engine: e, past: p, archives: archives, passed: map[string]bool{}}
}

// Asked is what a report is asked for.
type Asked struct {
	From, To string   // RFC 3339; From "" for a moment, To "" for now
	Controls []string // ids; nil for all
}

// maxRecent bounds how many reports are kept at hand, and maxPeriod how long a period may be.
const (
	maxRecent = 8
	maxPeriod = 366 * 10 * value.Day
)

// period reads what is asked for.
func (s *Service) period(a *Asked) (p account.Period, err error) {
	if p.From, err = fault.Moment("from", a.From); err != nil {
		return p, err
	}
	if p.To, err = fault.Moment("to", a.To); err != nil {
		return p, err
	}
	now := s.Micros()
	if a.To == "" {
		p.To = now
	}
	p.To -= p.To % 1e6
	if p.From -= p.From % 1e6; a.From == "" {
		p.From = p.To
	}
	switch {
	case p.To > now:
		return p, &fault.QueryError{Param: "to", Message: value.FormatTime(p.To) + " has not come yet"}
	case p.From > p.To || p.From == p.To && a.From != "":
		return p, &fault.QueryError{Param: "from", Message: fmt.Sprintf("a period that begins at %s and ends before %s "+
			"has no time in it", value.FormatTime(p.From), value.FormatTime(p.To))}
	case p.From <= 0:
		return p, &fault.QueryError{Param: "from", Message: "the period begins before anything was recorded by clocks"}
	case p.To-p.From > maxPeriod:
		return p, &fault.QueryError{Param: "from", Message: "a period has ten years at most"}
	}
	return p, nil
}

// Make makes the report that is asked for.
func (s *Service) Make(ctx context.Context, a *Asked) (*account.Report, error) {
	p, err := s.period(a)
	if err != nil {
		return nil, err
	}
	only, now := fmt.Sprintf("%q", a.Controls), s.Micros()
	if r, err := s.atHand(ctx, p, only); r != nil || err != nil {
		return r, err
	}
	r, err := s.make(ctx, p, a.Controls)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.recent = append(s.recent, made{p, only, now, r}); len(s.recent) > maxRecent {
		s.recent = s.recent[1:]
	}
	return r, nil
}

// atHand is a report that was made a while ago, nil for none: one that would be the same if it were made now, as nothing
// was redacted since.
func (s *Service) atHand(ctx context.Context, p account.Period, only string) (*account.Report, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.recent, func(m made) bool { return m.period == p && m.only == only })
	if i < 0 {
		return nil, nil
	}
	m, spoilt := s.recent[i], false
	s.recent = slices.Delete(s.recent, i, i+1)
	err := s.Store.Since(ctx, ledger.Redacted, m.at, func(ledger.Entry) error { spoilt = true; return nil })
	if err != nil || spoilt {
		return nil, err
	}
	s.recent = append(s.recent, m)
	return m.report, nil
}

// mark makes sure that no entry can come any more that is before a moment: the ledger's newest is not.
func (s *Service) mark(ctx context.Context, moment int64) error {
	last, err := s.Store.Before(ctx, moment)
	if err != nil || last < s.Store.Sealed().Size {
		return err
	}
	return s.DoLanded(ctx, func(c *state.Change) error {
		c.Record(ledger.Service, &event.Marked{Reason: "a report on the time until " + value.FormatTime(moment)})
		return nil
	})
}

// make works a report out, from entries that are proved.
func (s *Service) make(ctx context.Context, p account.Period, only []string) (*account.Report, error) {
	if err := s.mark(ctx, p.To); err != nil {
		return nil, err
	}
	a, err := s.sum(ctx, p)
	if err != nil {
		return nil, err
	}
	root, err := s.Store.RootAt(ctx, a.Size())
	if err != nil {
		return nil, err
	}
	book, err := s.past.BookOf(ctx, a.Version())
	if err != nil {
		return nil, err
	}
	if err := known(&book.Rulebook.Controls, only); err != nil {
		return nil, err
	}
	return a.Report(ledger.Head{Origin: s.Key.Signer.Name(), Size: a.Size(), Root: root}, book.Rulebook.Name,
		&book.Rulebook.Controls, only)
}

// sum adds up the entries before the end of a period: those up to the first that is not before it.
func (s *Service) sum(ctx context.Context, p account.Period) (*account.Account, error) {
	a, behind, given, size := account.New(p, s.served(ctx)), false, int64(0), s.Store.Sealed().Size
	feed := func(e *ledger.Entry) error {
		if behind { // in the rest of an archive, which is read to its end to be proved
			return nil
		}
		err := a.Add(e)
		if behind = errors.Is(err, account.ErrBehind); behind {
			return nil
		}
		return err
	}
	err := s.Store.ProvenBetween(ctx, 1, size, func(e ledger.Entry) (err error) {
		switch {
		case behind:
			return account.ErrBehind
		case e.Seq <= given: // with others of its archive
			return nil
		case e.Archive != "":
			given, err = s.fromArchive(ctx, e.Archive, e.Seq, feed)
			return err
		}
		return feed(&e)
	})
	if err != nil && !errors.Is(err, account.ErrBehind) {
		return nil, err
	}
	return a, nil
}

// known refuses ids of controls that the catalogue does not have.
func known(c *control.Catalogue, only []string) error {
	for _, id := range only {
		if c.Control(id) == nil {
			return &fault.QueryError{Param: "control", Message: fmt.Sprintf("%.100q is no control of the catalogue in "+
				"force then%s", id, fault.Nearest(id, c.IDs()))}
		}
	}
	return nil
}

// served tells what a published rulebook was made of.
func (s *Service) served(ctx context.Context) account.Books {
	return func(version int64) ([]event.PublishedRule, []event.PublishedGate, error) {
		book, err := s.past.BookOf(ctx, version)
		if err != nil {
			return nil, nil, err
		}
		rules, gates := account.Served(book.Rulebook, book.RuleKeys)
		return rules, gates, nil
	}
}
