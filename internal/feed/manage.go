package feed

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/event"
	core "ironledger.example/core/feed"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// maxFeeds bounds how many feeds there are.
const maxFeeds = 100

// check finds what is wrong with a feed.
func (s *Service) check(set *core.Settings, at string) error {
	told := func(err error) error {
		if bad := (*core.Error)(nil); errors.As(err, &bad) {
			return fault.Input(at+bad.Pointer, bad.Message)
		}
		return err
	}
	if err := set.Check(); err != nil {
		return told(err)
	}
	rb := s.Snapshot().Book.Rulebook
	if _, err := set.Map(rb.Dict); err != nil {
		return told(err)
	}
	o := s.started()
	if set.Folder != "" {
		if err := checkFolder(set.Folder, o.Folders); err != nil {
			return fault.Input(at+"/folder", err.Error())
		}
		return nil
	}
	if err := o.Policy.CheckURL(set.URL); err != nil {
		return fault.Input(at+"/url", err.Error())
	}
	if set.SignIn.By == core.OAuth {
		if err := o.Policy.CheckURL(set.SignIn.TokenURL); err != nil {
			return fault.Input(at+"/sign_in/token_url", err.Error())
		}
	}
	return nil
}

// checkSource finds why a feed cannot speak as a source.
func checkSource(c *state.Change, set *core.Settings) error {
	if set.Kind == core.People {
		for id, o := range state.All(c, state.FeedKind) {
			if id != set.ID && o.Kind == core.People && (o.Whole || set.Whole) {
				return fault.Inputf("/feed/whole", "the feed %s brings people too: neither can be the whole "+
					"directory", id)
			}
		}
		return nil
	}
	rb := c.Base.Book.Rulebook
	if list := rb.Policy.Sources; list != nil {
		var names []string
		for _, src := range list {
			names = append(names, src.ID)
		}
		if !slices.Contains(names, set.Source) {
			return fault.Inputf("/feed/source", "the rulebook in force has no source "+
				"%s%s", set.Source, fault.Nearest(set.Source, names))
		}
	}
	if set.Kind == core.Signals && rb.HeardBy(set.Source) == nil {
		return fault.Inputf("/feed/source", "the rulebook in force takes no signals of the source %s", set.Source)
	}
	for id, o := range state.All(c, state.FeedKind) {
		if id != set.ID && o.Source == set.Source && o.Kind == core.Devices && set.Kind == core.Devices &&
			(o.Whole || set.Whole) {
			return fault.Inputf("/feed/whole", "the feed %s speaks as %s too: neither can say what is "+
				"gone", id, set.Source)
		}
	}
	return nil
}

// secretUse is what the secret of a feed is sealed for.
func secretUse(id string) string { return "feed " + id }

// secretOf opens the secret of a feed.
func (s *Service) secretOf(f *kept.Feed) (string, error) {
	if len(f.Secret) == 0 {
		return "", nil
	}
	return s.box.Open(f.Secret, secretUse(f.ID))
}

// seal lays the secret of a draft over a feed.
func (s *Service) seal(f *kept.Feed, d *api.FeedDraft, now int64) error {
	until := int64(0)
	if d.SecretUntil != "" {
		at, err := value.ParseTime(d.SecretUntil)
		if err != nil {
			return fault.Input("/secret_until", err.Error())
		}
		until = at.Num()
	}
	if !f.NeedsSecret() {
		if d.Secret != "" {
			return fault.Input("/secret", "the feed signs in by nothing that has a secret")
		}
		f.Secret, f.SecretAt, f.SecretUntil = nil, 0, 0
		return nil
	}
	if d.Secret != "" {
		if f.SignIn.By != core.Certificate && strings.ContainsFunc(d.Secret, func(r rune) bool {
			return r < ' ' ||
				r == 0x7f
		}) {
			return fault.Input("/secret", "a secret is one line")
		}
		f.Secret, f.SecretAt, f.SecretUntil = s.box.Seal(d.Secret, secretUse(f.ID)), now, until
	} else if until != 0 {
		f.SecretUntil = until
	}
	if len(f.Secret) == 0 {
		return fault.Inputf("/secret", "the sign-in %s needs a secret", f.SignIn.By)
	}
	if f.SecretUntil != 0 && f.SecretUntil <= now {
		return fault.Input("/secret_until", "the secret has ended by then")
	}
	return nil
}

// changes carries out a change of a feed while no run of it goes on.
func (s *Service) changes(ctx context.Context, id string, apply func(*state.Change) error) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	s.halt(id)
	defer s.resume(id)
	return s.Do(context.WithoutCancel(ctx), apply)
}

// Add makes a feed, which is fetched at once.
func (s *Service) Add(ctx context.Context, actor string, d api.FeedDraft) (*api.Feed, error) {
	if err := s.check(&d.Feed, "/feed"); err != nil {
		return nil, err
	}
	err := s.changes(ctx, d.Feed.ID, func(c *state.Change) error {
		if state.Get(c, state.FeedKind, d.Feed.ID) != nil {
			return fault.Inputf("/feed/id", "there is a feed %s already", d.Feed.ID)
		}
		if len(state.All(c, state.FeedKind)) >= maxFeeds {
			return fault.Inputf("", "there are %d feeds already", maxFeeds)
		}
		if err := checkSource(c, &d.Feed); err != nil {
			return err
		}
		f := &kept.Feed{Settings: d.Feed, Status: kept.FeedEnabled, CreatedAt: c.Now, CreatedBy: actor}
		if err := s.seal(f, &d, c.Now); err != nil {
			return err
		}
		c.Record(actor, &event.FeedChanged{Feed: f.ID, Source: f.Source, Change: event.FeedAdded, Where: where(&f.Settings),
			Secret: d.Secret != ""})
		return state.Put(c, state.FeedKind, f.ID, f)
	})
	if err != nil {
		return nil, err
	}
	return s.Show(d.Feed.ID)
}

// Change gives a feed other settings, or another secret. What was known of the partner's
// inventory is asked for anew.
func (s *Service) Change(ctx context.Context, actor, id string, d api.FeedDraft) (*api.Feed, error) {
	if d.Feed.ID != id {
		return nil, fault.Input("/feed/id", "the id of a feed stays as it is")
	}
	if err := s.check(&d.Feed, "/feed"); err != nil {
		return nil, err
	}
	err := s.changes(ctx, id, func(c *state.Change) error {
		old := state.Get(c, state.FeedKind, id)
		if old == nil {
			return fault.NotFound("feed", id)
		}
		if err := checkSource(c, &d.Feed); err != nil {
			return err
		}
		f := *old
		if f.Settings = d.Feed; d.Secret == "" && f.NeedsSecret() && f.Sends(&old.Settings) {
			return fault.Input("/secret", "the secret would go elsewhere, or in another way: give it again")
		}
		if old.Kind != f.Kind || old.Source != f.Source {
			return fault.Inputf("/feed/source", "what a feed brings, and as whom, stays: remove %s and add another", id)
		}
		if err := s.seal(&f, &d, c.Now); err != nil {
			return err
		}
		p := place(c.Base, id)
		if kept := state.Get(c, state.FeedPlaceKind, id); kept != nil {
			p = *kept
		}
		p.NextAt, p.Tag, p.Modified, p.Since, p.FullAt = 0, "", "", 0, 0
		if err := state.Put(c, state.FeedPlaceKind, id, &p); err != nil {
			return err
		}
		c.Record(actor, &event.FeedChanged{Feed: id, Source: f.Source, Change: event.FeedUpdated, Where: where(&f.Settings),
			Secret: d.Secret != ""})
		return state.Put(c, state.FeedKind, id, &f)
	})
	if err != nil {
		return nil, err
	}
	return s.Show(id)
}

// where is what the ledger tells of where a feed is: not the query, in which some keep a secret.
func where(set *core.Settings) string {
	if set.Folder != "" {
		return set.Folder
	}
	before, _, _ := strings.Cut(set.URL, "?")
	return before
}

// SetStatus pauses a feed, or has it go on.
func (s *Service) SetStatus(ctx context.Context, actor, id string, d api.FeedStatusDraft) (*api.Feed, error) {
	if d.Status != kept.FeedEnabled && d.Status != kept.FeedPaused {
		return nil, fault.Input("/status", "a feed is enabled or paused")
	}
	if err := fault.CheckReason(&d.Reason); err != nil {
		return nil, err
	}
	err := s.changes(ctx, id, func(c *state.Change) error {
		old := state.Get(c, state.FeedKind, id)
		if old == nil {
			return fault.NotFound("feed", id)
		}
		f := *old
		f.Status, f.Reason, f.By = d.Status, d.Reason, actor
		c.Record(actor, &event.FeedChanged{Feed: id, Source: f.Source, Change: event.FeedStatus, Status: d.Status,
			Reason: d.Reason})
		return state.Put(c, state.FeedKind, id, &f)
	})
	if err != nil {
		return nil, err
	}
	return s.Show(id)
}

// Run has a feed fetched now, though it is paused or not due.
func (s *Service) Run(_ context.Context, actor, id string, d api.FeedRunDraft) (*api.Feed, error) {
	d.Accept = event.Clipped(strings.TrimSpace(d.Accept), fault.MaxReason)
	r := s.runner(id)
	if s.Snapshot().Feeds.Get(id) == nil || r == nil {
		return nil, fault.NotFound("feed", id)
	}
	select {
	case r.asks <- ask{actor, d.Full, d.Accept}:
	default:
		return nil, fault.Inputf("", "somebody asked for a run of %s already", id)
	}
	return s.Show(id)
}

// Remove ends a feed; what it said of devices is kept, or taken back.
func (s *Service) Remove(ctx context.Context, actor, id string, d api.FeedRemoval) (*api.FeedRemoved, error) {
	const takeBack = "take-back"
	if err := fault.CheckReason(&d.Reason); err != nil {
		return nil, err
	}
	if d.Readings != takeBack && d.Readings != "keep" {
		return nil, fault.Inputf("/readings", "say what becomes of what the feed said of devices: keep or %s", takeBack)
	}
	ctx = context.WithoutCancel(ctx) // it is done whole, also when the caller leaves
	out := &api.FeedRemoved{}
	s.changing.Lock()
	defer s.changing.Unlock()
	s.halt(id)
	defer s.resume(id)
	f := s.Snapshot().Feeds.Get(id)
	if f == nil {
		return nil, fault.NotFound("feed", id)
	}
	if d.Readings == takeBack {
		if f.Kind == core.People {
			return nil, fault.Input("/readings", "people are taken out of the directory by themselves: keep them here")
		}
		for other, o := range s.Snapshot().Feeds.All() {
			if other != id && o.Source == f.Source {
				return nil, fault.Inputf("/readings", "the feed %s speaks as %s too, and nobody can tell what "+
					"which of them said: keep the readings",
					other, f.Source)
			}
		}
		// First what it said, then the feed: whoever is stopped in between begins again.
		why, now := "the feed "+id+" was removed: "+d.Reason, s.Micros()
		devices := intake.Said(s.Snapshot(), f.Source, now, why)
		if err := intake.TakeBack(ctx, s.Engine, actor, f.Source, why, now, devices); err != nil {
			return nil, err
		}
		out.Devices = len(devices)
	}
	return out, s.Do(ctx, func(c *state.Change) error {
		if state.Get(c, state.FeedKind, id) == nil {
			return fault.NotFound("feed", id)
		}
		c.Record(actor, &event.FeedChanged{Feed: id, Source: f.Source, Change: event.FeedRemoved, Devices: out.Devices,
			Reason: d.Reason})
		state.Drop(c, state.FeedKind, id)
		state.Drop(c, state.FeedPlaceKind, id)
		return nil
	})
}

// List shows the feeds there are.
func (s *Service) List() []api.Feed {
	out := []api.Feed{}
	for _, f := range s.Snapshot().Feeds.List() {
		out = append(out, *s.shown(&f))
	}
	return out
}

// Show shows a feed.
func (s *Service) Show(id string) (*api.Feed, error) {
	f := s.Snapshot().Feeds.Get(id)
	if f == nil {
		return nil, fault.NotFound("feed", id)
	}
	out := s.shown(f)
	s.Snapshot().Fleet.All(func(d *state.Device) bool {
		if slices.Contains(d.Record.Sources(), f.Source) {
			out.Devices++
		}
		return true
	})
	return out, nil
}

// shown is a feed as people see it: never its secret.
func (s *Service) shown(f *kept.Feed) *api.Feed {
	p := place(s.Snapshot(), f.ID)
	out := &api.Feed{Feed: f.Settings, Status: f.Status, Reason: f.Reason, By: f.By,
		CreatedAt: value.FormatTime(f.CreatedAt),
		CreatedBy: f.CreatedBy, Runs: append([]core.Run{}, p.Runs...), Failures: p.Failures}
	for at, text := range map[int64]*string{f.SecretAt: &out.SecretAt, f.SecretUntil: &out.SecretUntil} {
		if at != 0 {
			*text = value.FormatTime(at)
		}
	}
	if p.FailingSince != 0 {
		out.FailingSince = value.FormatTime(p.FailingSince)
	}
	if f.Status == kept.FeedEnabled {
		out.NextAt = value.FormatTime(max(p.NextAt, f.CreatedAt))
	}
	if r := s.runner(f.ID); r != nil {
		r.mu.Lock()
		if r.now != nil {
			now := *r.now
			now.Reasons = slices.Clone(now.Reasons)
			out.Running = now
		}
		r.mu.Unlock()
	}
	return out
}

// Ending are the feeds whose secrets end within a time, or have ended.
func Ending(snap *state.Snapshot, now, within int64) (out []kept.Feed) {
	for _, f := range snap.Feeds.List() {
		if f.SecretUntil != 0 && f.SecretUntil-now < within {
			out = append(out, f)
		}
	}
	return out
}

// Trouble are what is wrong with feeds, for people who run the service: what, since when, which.
func (s *Service) Trouble(visit func(id, what, since, title string)) {
	for _, f := range s.List() {
		id := f.Feed.ID
		if f.Status != kept.FeedEnabled || len(f.Runs) == 0 {
			continue
		}
		last := f.Runs[0]
		if f.Failures > 0 {
			visit(id, "failing "+f.FailingSince, f.FailingSince, fmt.Sprintf("The feed %s cannot be fetched: "+
				"%s", id, last.Error))
		}
		if last.GoneHeld != "" {
			visit(id, "held "+last.GoneHeld, last.StartedAt, fmt.Sprintf("The feed %s: %s", id, last.GoneHeld))
		}
	}
}
