package view

import (
	"context"
	"sync"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/past"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
	"ironledger.example/internal/tally"
)

// maxDropped bounds the devices of which an overview tells that they fell.
const maxDropped = 50

// dropped finds, of devices whose level changed lately, those that fell.
func (s *Service) dropped(ctx context.Context, o *api.Overview, snap *state.Snapshot, lately []moved, now int64) error {
	b := snap.Book
	s.fallen.mu.Lock()
	defer s.fallen.mu.Unlock()
	if err := s.fallen.begin(ctx, s.Store, b); err != nil {
		return err
	}
	for _, m := range lately {
		if len(o.Dropped) == maxDropped || now-m.since >= value.Day {
			break
		}
		d := snap.Fleet.Get(m.device)
		if d == nil {
			continue
		}
		f, err := s.fallen.whether(ctx, s.Store, s.past, d, now)
		if err != nil {
			return err
		}
		if f.fell && f.at >= now-value.Day {
			sum := Summarize(b, snap.At(d, now), now)
			o.Dropped = append(o.Dropped, api.Drop{Device: d.ID, Name: sum.Name, Level: sum.Level, Rank: sum.Rank,
				Top: sum.Top, Since: value.FormatTime(f.at), Held: sum.Binding})
		}
	}
	return nil
}

// falls remember whether the newest changes of level were falls, as the entries tell. While a rulebook is in force every
// change of a level gives the device another moment or level, so that what is known of one holds.
type falls struct {
	mu    sync.Mutex
	book  *state.Book // that is in force
	seq   int64       // the entry up to which it was looked for those that lost their bodies
	known map[change]fall
}

// change is a change of level of a device.
type change struct {
	device string
	since  int64
	level  rulebook.Level
}

type fall struct {
	fell bool
	at   int64
}

// mostFalls bounds how many changes are remembered.
const mostFalls = 4 * maxLooked

// begin forgets what does not hold any more.
func (f *falls) begin(ctx context.Context, records *store.Store, b *state.Book) error {
	size := records.Sealed().Size
	spoilt := f.book == nil || f.book.Info.Version != b.Info.Version || len(f.known) > mostFalls
	lost, err := tally.Lost(ctx, records, f.seq)
	if err != nil {
		return err
	}
	if spoilt || lost {
		f.known = map[change]fall{}
	}
	f.book, f.seq = b, size
	return nil
}

// whether reports whether a device fell when its level changed last, within a day.
func (f *falls) whether(ctx context.Context, records *store.Store, past *past.Service, d *state.Device,
	now int64) (fall, error) {
	key := change{d.ID, d.Since, d.Result.Level}
	if known, is := f.known[key]; is {
		return known, nil
	}
	entries, err := records.About(ctx, d.ID, 0, 20)
	if err != nil {
		return fall{}, err
	}
	ladders := ladders{past, map[int64]*rulebook.Rulebook{f.book.Info.Version: f.book.Rulebook}}
	fell, at, err := ladders.fell(ctx, entries, now-value.Day)
	if err != nil {
		return fall{}, err
	}
	f.known[key] = fall{fell, at}
	return f.known[key], nil
}

// ladders reads changes of standing on the ladders that were in force then.
type ladders struct {
	past *past.Service
	of   map[int64]*rulebook.Rulebook // by version
}

// fell reports whether the newest change of level since a moment was a fall, and
// when. What only gave levels other names is no change.
func (l *ladders) fell(ctx context.Context, entries []ledger.Entry, since int64) (bool, int64, error) {
	for _, e := range entries {
		if e.At < since {
			break
		}
		body, ok := event.As[*event.StandingChanged](&e)
		if !ok || body.From == body.To || body.From == "" {
			continue
		}
		if l.of[body.Rulebook] == nil {
			book, err := l.past.BookOf(ctx, body.Rulebook)
			if err != nil {
				return false, 0, err
			}
			l.of[body.Rulebook] = book.Rulebook
		}
		from, known := l.of[body.Rulebook].Rank(body.From)
		to, ok := l.of[body.Rulebook].Rank(body.To)
		if known && ok {
			return from > to, e.At, nil
		}
	}
	return false, 0, nil
}
