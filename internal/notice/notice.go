// Package notice tells people of changes that concern them: by mail, or over the stream
// of a web hook.
//
// Who is told of what the rulebook says. What happened is found in the ledger, what is
// coming by looking over the state; each becomes a document that waits for its moment,
// so that nothing is told twice and nothing is lost in a restart. At its moment it is
// looked at again: what has healed is told to nobody, several for one recipient are one
// message, and a person gets no more than so many a day.
package notice

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/signal"
	"ironledger.example/core/value"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/news"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view"
)

// GatherFor is how long a notice waits, if nobody says otherwise: others may go along, or
// it heals.
const GatherFor = 20 * time.Second

// How notices are made and sent.
const (
	lookEach = time.Second     // for what is due
	scanEach = 5 * time.Minute // for what is coming
	chunk    = 1024            // entries read at a time

	// dayLimit is how many messages a person gets in a day, and channelLimit an address or
	// a receiver that is nobody's.
	dayLimit     = 6
	channelLimit = 300

	// keepFor is how long notices are shown after they were sent, and known so that they are
	// not made twice.
	keepFor = 60 * 24 * time.Hour
	// staleAfter is how old something may be of which somebody is told after the service was
	// down, or without a rulebook that says so.
	staleAfter = 24 * time.Hour
)

// Options are what notices are sent with.
type Options struct {
	Base   string // the URL by which people reach the service; "" for no links
	Mailer Mailer // nil: mail is not sent, and waits

	// Gather, Look and Scan stand in for the times above; 0 for those.
	Gather, Look, Scan time.Duration
}

// Service is the notices of open records.
type Service struct {
	*engine.Engine
	news      *news.News
	view      *view.Service
	decisions *decision.Service

	mu      sync.Mutex
	options Options
	stop    context.CancelFunc
	wg      sync.WaitGroup

	read int64 // the entry up to which follow has looked
}

// New is a service over open records. Nothing is sent before [Service.Start].
func New(e *engine.Engine, n *news.News, v *view.Service, d *decision.Service) *Service {
	return &Service{Engine: e, news: n, view: v, decisions: d}
}

// Start begins to find and to send.
func (s *Service) Start(o Options) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for at, otherwise := range map[*time.Duration]time.Duration{&o.Gather: GatherFor, &o.Look: lookEach,
		&o.Scan: scanEach} {
		if *at == 0 {
			*at = otherwise
		}
	}
	s.options = o
	var ctx context.Context
	ctx, s.stop = context.WithCancel(context.Background())
	s.wg.Go(func() { s.repeat(ctx, "what happened is not looked at for notices", o.Look, s.follow) })
	s.wg.Go(func() { s.repeat(ctx, "what is coming is not looked at for notices", o.Look, s.scanner()) })
	s.wg.Go(func() { s.repeat(ctx, "notices are not sent", o.Look, s.send) })
}

// repeat does something again and again, with pauses, until ctx ends. After trouble the
// pauses grow for a while.
func (s *Service) repeat(ctx context.Context, trouble string, each time.Duration, do func(context.Context) error) {
	for pause := each; ctx.Err() == nil; {
		if err := do(ctx); err == nil {
			pause = each
		} else if ctx.Err() == nil {
			s.Log.Error(trouble, "error", err)
			pause = min(2*pause, time.Minute)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// Stop ends finding and sending.
func (s *Service) Stop() {
	s.mu.Lock()
	stop := s.stop
	s.mu.Unlock()
	if stop != nil {
		stop()
		s.wg.Wait()
	}
}

// follow makes notices of what the ledger has grown by.
func (s *Service) follow(ctx context.Context) error {
	snap, size := s.Snapshot(), s.Store.Sealed().Size
	if s.read == 0 {
		if s.read = snap.NoticePlace(); s.read < 0 { // what was before the first start is told to nobody
			s.read = size
			return s.moveOn(ctx, size, nil)
		}
	}
	wanted := slices.ContainsFunc(snap.Book.Rulebook.Notices, func(n rulebook.Notice) bool { return !n.On.Coming() })
	if !wanted {
		if s.read = size; size-snap.NoticePlace() > chunk {
			return s.moveOn(ctx, size, nil)
		}
		return nil
	}
	for ctx.Err() == nil {
		if size = s.Store.Sealed().Size; s.read >= size {
			return nil
		}
		to := min(s.read+chunk, size)
		entries, err := s.news.Between(ctx, s.read+1, to)
		if err != nil {
			return err
		}
		snap = s.Snapshot()
		var made []*kept.Notice
		for i := range entries {
			made = append(made, s.happened(snap, &entries[i])...)
		}
		if len(made) > 0 || to-snap.NoticePlace() > chunk {
			if err := s.moveOn(ctx, to, made); err != nil {
				return err
			}
		}
		s.read = to
	}
	return ctx.Err()
}

// moveOn keeps notices that were made, but for those that there are already, with the
// place up to which they were made.
func (s *Service) moveOn(ctx context.Context, to int64, made []*kept.Notice) error {
	waiting := map[string]string{} // the notices that wait, by change
	for _, n := range s.Snapshot().Notices.All() {
		if k := changeKey(n); k != "" && n.State == kept.NoticeWaits {
			waiting[k] = n.ID
		}
	}
	return s.Do(ctx, func(c *state.Change) error {
		for _, n := range made {
			merge(c, waiting, n)
			if err := putNew(c, n); err != nil {
				return err
			}
		}
		return c.PutNoticePlace(to)
	})
}

// changeKey tells notices apart of which the newest alone counts: of one device, to one
// recipient. It is "" for others.
func changeKey(n *kept.Notice) string {
	if n.From == "" {
		return ""
	}
	return n.Notice + "\n" + n.Device + "\n" + n.Recipient()
}

// merge has a notice of a change take the place of one that waits: where the device stood
// before stays, and so does its moment. A device that falls and rises all day is one.
func merge(c *state.Change, waiting map[string]string, n *kept.Notice) {
	key := changeKey(n)
	if key == "" || n.State != kept.NoticeWaits {
		return
	}
	if id, is := waiting[key]; is && id != n.ID {
		if old := state.Get(c, state.NoticeKind, id); old != nil && old.State == kept.NoticeWaits {
			n.From, n.At, n.Seq, n.Due, n.Tries, n.Why = old.From, old.At, old.Seq, old.Due, old.Tries, old.Why
			state.Drop(c, state.NoticeKind, id)
		}
	}
	waiting[key] = n.ID
}

// putNew keeps notices, but for those that there are already.
func putNew(c *state.Change, made ...*kept.Notice) error {
	for _, n := range made {
		if state.Get(c, state.NoticeKind, n.ID) == nil {
			if err := state.Put(c, state.NoticeKind, n.ID, n); err != nil {
				return err
			}
		}
	}
	return nil
}

// happened are the notices of an entry.
func (s *Service) happened(snap *state.Snapshot, e *ledger.Entry) []*kept.Notice {
	if e.Body == nil || s.Micros()-e.At > staleAfter.Microseconds() {
		return nil
	}
	what, err := event.Read(e)
	if err != nil {
		s.Log.Error("an entry cannot be read, and nobody is told of it", "seq", e.Seq, "error", err)
		return nil
	}
	rb := snap.Book.Rulebook
	var out []*kept.Notice
	switch x := what.(type) {
	case *event.StandingChanged:
		from, known := rb.Rank(x.From)
		to, is := rb.Rank(x.To)
		on := rulebook.Fell
		if to > from {
			on = rulebook.Rose
		}
		if !known || !is || from == to {
			return nil // seen for the first time, or on another ladder
		}
		c := signal.Change{Device: x.Device, From: x.From, To: x.To, Cause: x.Cause, Rules: x.Binding}
		out = s.ofDevice(snap, on, &c, kept.Notice{What: x.Device, From: x.From, To: x.To, Rules: x.Binding, At: e.At,
			Seq: e.Seq}, fmt.Sprint(e.Seq))
	case *event.EnrolmentHeld:
		detail := strings.Join(slices.DeleteFunc([]string{x.Claims.Serial, x.Claims.Platform, x.Claims.Name,
			x.Claims.Owner},
			func(t string) bool { return t == "" }), ", ")
		out = s.ofHouse(snap, rulebook.EnrolmentWaits, kept.Notice{What: x.ID, Ref: x.ID, Detail: detail, At: e.At}, x.ID)
	case *event.ReportMade:
		for i := range snap.Book.Rulebook.Notices {
			if r := &snap.Book.Rulebook.Notices[i]; r.On == rulebook.ReportMade && r.Report == x.Report {
				out = append(out, s.addressed(snap, r, kept.Notice{What: x.Report, Ref: x.ID,
					Detail: x.From + " – " + x.To, At: e.At}, x.ID))
			}
		}
	}
	return out
}

// ofDevice are the notices of the rulebook on an occasion of a device.
func (s *Service) ofDevice(snap *state.Snapshot, on rulebook.Occasion, c *signal.Change, n kept.Notice,
	occurrence string) (out []*kept.Notice) {
	now := s.Micros()
	dir := view.Directory{Snapshot: snap, Now: now}
	d := snap.Fleet.Get(c.Device)
	if d == nil || d.Retired != nil {
		return nil
	}
	n.Device, n.Person = c.Device, dir.Owner(c.Device)
	for i := range snap.Book.Rulebook.Notices {
		r := &snap.Book.Rulebook.Notices[i]
		if r.On != on || on.Coming() && n.Until-now > r.Before {
			continue
		}
		if r.When != nil && c.Lost == nil {
			signal.Reaches(c, snap.Book.Rulebook, dir)
		}
		if r.When != nil && c.Meets(r.When, snap.Book.Rulebook, dir, string(on), now) == condition.False {
			continue
		}
		out = append(out, s.addressed(snap, r, n, occurrence))
	}
	return out
}

// ofHouse are the notices of the rulebook on an occasion that is no device's.
func (s *Service) ofHouse(snap *state.Snapshot, on rulebook.Occasion, n kept.Notice,
	occurrence string) (out []*kept.Notice) {
	for i := range snap.Book.Rulebook.Notices {
		if r := &snap.Book.Rulebook.Notices[i]; r.On == on {
			out = append(out, s.addressed(snap, r, n, occurrence))
		}
	}
	return out
}

// addressed is a notice with who is told, in which language, and when.
func (s *Service) addressed(snap *state.Snapshot, r *rulebook.Notice, n kept.Notice, occurrence string) *kept.Notice {
	n.Notice, n.On, n.State = r.ID, r.On, kept.NoticeWaits
	n.Mail, n.Hook, n.Language = r.To.Mail, r.To.Hook, r.Language
	if r.To.Owner {
		p, known := snap.People.Get(n.Person)
		n.Language = cmp.Or(r.Language, p.Language)
		switch n.Mail = cmp.Or(p.Mail, n.Person); {
		case n.Person == "":
			n.State, n.Why = kept.NoticeFailed, "the device has no owner"
		case !known:
			n.State, n.Why = kept.NoticeFailed, "the directory does not know the owner, "+n.Person
		case !rulebook.IsMailAddress(n.Mail):
			n.Mail, n.State, n.Why = "", kept.NoticeFailed, "the directory has no address of mail for "+n.Person
		}
	}
	n.Language = cmp.Or(n.Language, languages[0].String())
	n.Due = s.Micros() + s.options.Gather.Microseconds()
	if r.On == rulebook.BreakGlass {
		n.Due = 0
	}
	sum := sha256.Sum256([]byte(strings.Join([]string{r.ID, string(r.On), n.What, n.Detail, occurrence, n.Mail,
		n.Hook}, "\n")))
	n.ID = "n-" + hex.EncodeToString(sum[:10])
	return &n
}

// scanner looks for what is coming, now and then and under each rulebook anew, and for
// uses of accounts for emergencies each time.
func (s *Service) scanner() func(context.Context) error {
	var last time.Time
	book := int64(-1)
	return func(ctx context.Context) error {
		snap := s.Snapshot()
		made := s.emergencies(snap)
		if now := s.Now(); now.Sub(last) >= s.options.Scan || book != snap.Book.Info.Version {
			last, book = now, snap.Book.Info.Version
			made = append(made, s.coming(snap)...)
			made = append(made, s.quiet(snap)...)
			if err := s.tidy(ctx, snap); err != nil {
				return err
			}
		}
		made = slices.DeleteFunc(made, func(n *kept.Notice) bool { return snap.Notices.Get(n.ID) != nil })
		if len(made) == 0 {
			return nil
		}
		return s.Do(ctx, func(c *state.Change) error { return putNew(c, made...) })
	}
}

// wants reports whether a rulebook has notices on one of some occasions, and how long
// before the earliest is told.
func wants(rb *rulebook.Rulebook, on ...rulebook.Occasion) (before int64, is bool) {
	for _, n := range rb.Notices {
		if slices.Contains(on, n.On) {
			before, is = max(before, n.Before), true
		}
	}
	return before, is
}

// coming are the notices of what ends soon.
func (s *Service) coming(snap *state.Snapshot) (out []*kept.Notice) {
	within, is := wants(snap.Book.Rulebook, rulebook.GraceEnds, rulebook.WaiverEnds, rulebook.CertificateEnds)
	if !is {
		return nil
	}
	occasions := map[string]rulebook.Occasion{"grace": rulebook.GraceEnds, "waiver": rulebook.WaiverEnds,
		"certificate": rulebook.CertificateEnds}
	for _, e := range s.view.Ending(within) {
		on, is := occasions[e.Kind]
		if !is {
			continue
		}
		until, err := value.ParseTime(e.Until)
		if err != nil {
			continue
		}
		out = append(out, s.ofDevice(snap, on, &signal.Change{Device: e.Device},
			kept.Notice{What: e.Device, Detail: e.About,
				Ref: e.ID, Until: until.Num(), At: s.Micros()}, e.ID+" "+e.Until)...)
	}
	return out
}

// quiet are the notices of sources that report nothing any more.
func (s *Service) quiet(snap *state.Snapshot) (out []*kept.Notice) {
	if _, is := wants(snap.Book.Rulebook, rulebook.SourceQuiet); !is {
		return nil
	}
	for _, src := range s.view.QuietSources() {
		if src.Declared {
			out = append(out, s.ofHouse(snap, rulebook.SourceQuiet, kept.Notice{What: src.ID, Detail: src.LastAt,
				At: s.Micros()},
				src.LastAt)...)
		}
	}
	return out
}

// emergencies are the notices of uses of accounts for emergencies.
func (s *Service) emergencies(snap *state.Snapshot) (out []*kept.Notice) {
	if _, is := wants(snap.Book.Rulebook, rulebook.BreakGlass); !is {
		return nil
	}
	for _, x := range s.decisions.Emergencies(s.Micros() - staleAfter.Microseconds()) {
		at, err := value.ParseTime(x.At)
		if err != nil {
			continue
		}
		out = append(out, s.ofHouse(snap, rulebook.BreakGlass, kept.Notice{What: x.Person, Person: x.Person,
			Detail: x.Resource,
			Ref:    x.Decision, At: at.Num()}, x.Decision)...)
	}
	return out
}

// tidy forgets notices that nobody asks for any more: old ones, and of the changes of a
// device of which nobody was told all but the last.
func (s *Service) tidy(ctx context.Context, snap *state.Snapshot) error {
	var old []string
	last := map[string]*kept.Notice{} // of changes of which nobody was told, by change
	for _, n := range snap.Notices.All() {
		if s.Micros()-max(n.At, n.SentAt, n.Until) > keepFor.Microseconds() {
			old = append(old, n.ID)
			continue
		}
		key := changeKey(n)
		if key == "" || n.State != kept.NoticeHealed && n.State != kept.NoticeMuted && n.State != kept.NoticeFailed {
			continue
		}
		if before := last[key]; before != nil && before.At > n.At {
			old = append(old, n.ID)
			continue
		} else if before != nil {
			old = append(old, before.ID)
		}
		last[key] = n
	}
	if len(old) == 0 {
		return nil
	}
	return s.Do(ctx, func(c *state.Change) error {
		for _, id := range old {
			state.Drop(c, state.NoticeKind, id)
		}
		return nil
	})
}
