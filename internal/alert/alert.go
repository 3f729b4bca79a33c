// Package alert tells those who run the service what needs a person: each alert is worked
// out from how things are, goes away with its cause, and shows who has seen it.
package alert

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/value"
	"ironledger.example/internal/authority"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/feed"
	"ironledger.example/internal/heard"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
	"ironledger.example/internal/stream"
	"ironledger.example/internal/view"
)

// What counts as in need of a person.
const (
	emergencyFor = 7 * value.Day   // how long the use of an account for emergencies is shown
	tokenWithin  = 7 * value.Day   // before a token ends
	issuerWithin = 14 * value.Day  // before an issuer or its revocation list ends
	behindAfter  = 60 * 1_000_000  // microseconds that an event waits for its receiver
	fullFrom     = 0.1             // of the disk that is left, if that is less than
	fullBelow    = 10 << 30        // bytes
	freshFor     = 2 * time.Second // how long what was worked out is shown again
	sharedFor    = 7 * value.Day   // how long it is shown that a certificate was in two places
	forgetAfter  = 90 * value.Day  // who saw an alert that is gone
)

// Service is the alerts of open records.
type Service struct {
	*engine.Engine
	dir     string
	view    *view.Service
	streams *stream.Service
	feeds   *feed.Service
	heard   *heard.Service
	issuer  *authority.Service

	mu   sync.Mutex
	at   time.Time
	last []api.Alert
}

// New is a service over records in a folder.
func New(e *engine.Engine, dir string, v *view.Service, s *stream.Service, f *feed.Service,
	h *heard.Service, a *authority.Service) *Service {
	return &Service{Engine: e, dir: dir, view: v, streams: s, feeds: f, heard: h, issuer: a}
}

// List is what needs a person, what nobody has seen first, then the newest.
func (s *Service) List() (*api.AlertList, error) {
	all, err := s.current()
	if err != nil {
		return nil, err
	}
	snap := s.Snapshot()
	out := &api.AlertList{Items: []api.Alert{}}
	for _, a := range all {
		if seen := snap.Seen.Get(a.ID); seen != nil {
			a.SeenBy, a.SeenAt, a.Note = seen.By, value.FormatTime(seen.At), seen.Note
		} else {
			out.Unseen++
		}
		out.Items = append(out.Items, a)
	}
	rank := func(a api.Alert) int { return min(len(a.SeenBy), 1) }
	slices.SortStableFunc(out.Items, func(a, b api.Alert) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), strings.Compare(b.Since, a.Since), strings.Compare(a.ID, b.ID))
	})
	return out, nil
}

// current works the alerts out, or takes those of a moment ago: everybody who looks asks.
func (s *Service) current() ([]api.Alert, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.last != nil && time.Since(s.at) < freshFor {
		return s.last, nil
	}
	all := []api.Alert{}
	for _, find := range []func() ([]api.Alert, error){s.emergencies, s.sources, s.unmatched, s.enrolments,
		s.receivers, s.partners,
		s.notices, s.accessPoints, s.issuers, s.authority, s.tokens, s.waivers, s.disk} {
		list, err := find()
		if err != nil {
			return nil, err
		}
		all = append(all, list...)
	}
	s.last, s.at = all, time.Now()
	return all, nil
}

func (s *Service) emergencies() (out []api.Alert, err error) {
	for _, x := range s.view.Emergencies(s.Micros() - emergencyFor) {
		out = append(out, api.Alert{ID: "emergency:" + x.Decision, Kind: "emergency", About: x.Person, Since: x.At,
			Title: fmt.Sprintf("The account for emergencies %s opened %s", x.Person, x.Resource),
			Link:  "/decisions/" + x.Decision})
	}
	return out, nil
}

func (s *Service) sources() (out []api.Alert, err error) {
	for _, src := range s.view.QuietSources() {
		if !src.Declared {
			continue
		}
		title := fmt.Sprintf("The source %s was never heard", src.ID)
		if src.LastAt != "" {
			title = fmt.Sprintf("The source %s reports nothing any more; it should every %s", src.ID, src.QuietAfter)
		}
		out = append(out, api.Alert{ID: "source:" + src.ID + ":" + src.LastAt, Kind: "source", About: src.ID,
			Since: src.LastAt,
			Title: title, Link: "/sources"})
	}
	return out, nil
}

func (s *Service) unmatched() ([]api.Alert, error) {
	list, err := s.view.Unmatched(false)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return []api.Alert{{ID: "unmatched:" + list[0].ID, Kind: "unmatched", About: fmt.Sprint(len(list)),
		Since: list[0].At,
		Title: plural(len(list), "report waits for somebody to say whose it is",
			"reports wait for somebody to say whose they are"), Link: "/sources"}}, nil
}

func (s *Service) enrolments() ([]api.Alert, error) {
	list, err := s.view.Enrolments(state.Held)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return []api.Alert{{ID: "enrolment:" + list[0].ID, Kind: "enrolment", About: fmt.Sprint(len(list)),
		Since: list[0].At,
		Title: plural(len(list), "device waits", "devices wait") + " to be taken in", Link: "/devices"}}, nil
}

// receivers are the streams that are paused by the service, behind, or in trouble.
func (s *Service) receivers() (out []api.Alert, err error) {
	now := s.Micros()
	for _, st := range s.streams.List() {
		add := func(what, since, title string) {
			out = append(out, api.Alert{ID: "stream:" + st.ID + ":" + what, Kind: "stream", About: st.Receiver,
				Since: since,
				Title: st.Receiver + " " + title, Link: "/signals"})
		}
		oldest, err := value.ParseTime(st.OldestAt)
		switch {
		case st.Status == kept.StreamPaused && st.By == "service":
			add("paused "+st.Reason, "", "is told nothing: the stream was paused, as "+st.Reason)
		case st.Status == kept.StreamEnabled && st.OldestAt != "" && err == nil && now-oldest.Num() > behindAfter:
			trouble := ""
			if st.Failure != "" {
				trouble = ": " + st.Failure
			}
			add("behind "+st.OldestAt, st.OldestAt, "is behind"+trouble)
		case st.Status == kept.StreamEnabled && st.Failure != "" && st.Waiting == 0 && st.Letters == 0:
			add("failure "+st.Failure, st.FailedAt, "cannot be told: "+st.Failure)
		}
		if st.Letters > 0 {
			add(fmt.Sprintf("letters %d", st.Letters), "", "could not be told "+plural(st.Letters, "event", "events")+
				"; send them again or drop them")
		}
	}
	return out, nil
}

// partners are the feeds that cannot be fetched, or hold something back, and the secrets that end.
func (s *Service) partners() (out []api.Alert, err error) {
	s.feeds.Trouble(func(id, what, since, title string) {
		out = append(out, api.Alert{ID: "feed:" + id + ":" + what, Kind: "feed", About: id, Since: since,
			Title: title, Link: "/sources/feeds/" + id})
	})
	for _, h := range s.Snapshot().Book.Rulebook.Heard {
		if n := s.heard.Counts(h.Source); n.Failure != "" {
			out = append(out, api.Alert{ID: "events:" + h.Source + ":" + n.Failure, Kind: "events",
				About: h.Source, Link: "/sources",
				Title: fmt.Sprintf("Security events of the source %s are refused: %s", h.Source, n.Failure)})
		}
	}
	for _, f := range feed.Ending(s.Snapshot(), s.Micros(), issuerWithin) {
		until := value.FormatTime(f.SecretUntil)
		ends := map[bool]string{true: "ended", false: "ends"}[f.SecretUntil <= s.Micros()]
		out = append(out, api.Alert{ID: "secret:" + f.ID + ":" + until, Kind: "secret", About: f.ID,
			Link: "/sources/feeds/" + f.ID,
			Title: fmt.Sprintf("The secret of the feed %s %s on %s", f.ID, ends, strings.Replace(until[:16], "T",
				" ", 1))})
	}
	return out, nil
}

func (s *Service) notices() ([]api.Alert, error) {
	n, newest := 0, (*kept.Notice)(nil)
	for _, x := range s.Snapshot().Notices.All() {
		if x.State != kept.NoticeFailed || s.Micros()-x.At > emergencyFor {
			continue
		}
		if n++; newest == nil || x.At > newest.At {
			newest = x
		}
	}
	if n == 0 {
		return nil, nil
	}
	return []api.Alert{{ID: "notices:" + newest.ID, Kind: "notice", About: fmt.Sprint(n),
		Since: value.FormatTime(newest.At),
		Title: plural(n, "notice", "notices") + " could be told to nobody, the last as " + newest.Why,
		Link:  "/signals/notices?state=failed"}}, nil
}

// accessPoints are those that could not be told what devices which they let in are granted now.
func (s *Service) accessPoints() (out []api.Alert, err error) {
	since, devices := map[string]int64{}, map[string]int{}
	for _, x := range s.Snapshot().Stays.All() {
		if x.Untold == 0 {
			continue
		}
		if at, seen := since[x.AccessPoint]; !seen || x.Untold < at {
			since[x.AccessPoint] = x.Untold
		}
		devices[x.AccessPoint]++
	}
	for _, id := range slices.Sorted(maps.Keys(since)) {
		out = append(out, api.Alert{ID: fmt.Sprintf("access-point:%s:%d", id, since[id]), Kind: "access-point", About: id,
			Since: value.FormatTime(since[id]), Link: "/networks?untold=1",
			Title: fmt.Sprintf("The access point %s cannot be told that %s granted something else", id,
				plural(devices[id], "device is", "devices are"))})
	}
	return out, nil
}

func (s *Service) issuers() (out []api.Alert, err error) {
	for _, e := range s.view.IssuersEnding(issuerWithin) {
		what := map[string]string{"issuer": "The certificates of the issuer " + e.ID + " end",
			"crl": "The revocation list of " + e.ID +
				" ends"}[e.Kind]
		out = append(out, api.Alert{ID: e.Kind + ":" + e.ID + ":" + e.Until, Kind: e.Kind, About: e.ID,
			Title: what + " on " + strings.Replace(e.Until[:16], "T", " ", 1), Link: "/rulebook"})
	}
	return out, nil
}

// tokens are those that end soon, or have ended in the last week and were used until then.
func (s *Service) tokens() (out []api.Alert, err error) {
	snap, now := s.Snapshot(), s.Micros()
	for _, t := range snap.Tokens.All {
		ends := snap.Tokens.Ends(t.ID)
		if t.RevokedAt != 0 || ends == 0 || ends > now+tokenWithin || ends < now-tokenWithin {
			continue
		}
		if _, other := snap.Tokens.Live(now, func(x *bearer.Token) bool {
			return x.Name == t.Name && x.ID != t.ID && (snap.Tokens.Ends(x.ID) == 0 || snap.Tokens.Ends(x.ID) > ends)
		}); other {
			continue // it was rotated
		}
		until := value.FormatTime(ends)
		verb := map[bool]string{true: "ended", false: "ends"}[ends <= now]
		out = append(out, api.Alert{ID: "token:" + t.ID + ":" + until, Kind: "token", About: t.Name, Link: "/tokens",
			Title: fmt.Sprintf("The token %s (%s) %s on %s", t.Name, t.Role, verb, strings.Replace(until[:16], "T", " ", 1))})
	}
	return out, nil
}

// waivers are those that a second person has to approve.
func (s *Service) waivers() ([]api.Alert, error) {
	list, err := s.view.Waivers(view.ExceptionQuery{State: "asked"})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	newest := slices.MaxFunc(list, func(a, b api.Exception) int { return strings.Compare(a.At, b.At) })
	return []api.Alert{{ID: "waivers:" + newest.ID, Kind: "waiver", About: fmt.Sprint(len(list)), Since: newest.At,
		Title: plural(len(list), "waiver waits", "waivers wait") + " until a second person approves",
		Link:  "/exceptions?state=asked"}}, nil
}

// authority tells of certificates of ours that are used in two places, and of what keeps more from being issued.
func (s *Service) authority() (out []api.Alert, err error) {
	snap := s.Snapshot()
	for _, x := range authority.Sharing(snap, s.Micros()-sharedFor) {
		at := value.FormatTime(x.SharedAt)
		out = append(out, api.Alert{ID: "shared:" + x.Serial + ":" + at, Kind: "shared", About: x.Device,
			Since: at, Link: "/devices/" + x.Device,
			Title: fmt.Sprintf("A certificate of %s is used in two places at once, %s", x.Device,
				strings.Join(x.Shared, " and "))})
	}
	if why := s.issuer.Trouble(); why != "" {
		out = append(out, api.Alert{ID: "authority:" + why, Kind: "authority",
			Title: "No device can get a certificate: " + why, Link: "/certificates"})
	}
	return out, nil
}

func (s *Service) disk() ([]api.Alert, error) {
	if t := s.Store.Trouble(); t != nil {
		return []api.Alert{{ID: "records:" + value.FormatTime(value.Micros(t.Since)), Kind: "records",
			Since: value.FormatTime(value.Micros(t.Since)),
			Title: "Nothing can be recorded, and every request is denied: " + t.Err.Error(), Link: "/ledger"}}, nil
	}
	free, total, err := engine.DiskSpace(s.dir)
	if err != nil || total == 0 || float64(free)/float64(total) >= fullFrom || free > fullBelow {
		return nil, nil // what cannot be told of the disk is no alert
	}
	return []api.Alert{{ID: fmt.Sprintf("disk:%d", 100*free/total), Kind: "disk",
		Title: fmt.Sprintf("The disk of the records has %d MiB left, %d%%", free>>20, 100*free/total),
		Link:  "/ledger"}}, nil
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// See records that somebody has seen alerts: those of the ids, or all there are.
func (s *Service) See(ctx context.Context, actor string, d api.AlertSeenDraft) (*api.AlertList, error) {
	if len(d.Note) > fault.MaxReason {
		return nil, fault.Inputf("/note", "longer than %d bytes", fault.MaxReason)
	}
	all, err := s.current()
	if err != nil {
		return nil, err
	}
	ids := map[string]bool{}
	for _, a := range all {
		ids[a.ID] = true
	}
	chosen := d.IDs
	for i, id := range d.IDs {
		if !ids[id] {
			return nil, fault.Inputf(fmt.Sprintf("/ids/%d", i), "there is no alert %s; its cause may be gone", id)
		}
	}
	if len(d.IDs) == 0 {
		for id := range ids {
			chosen = append(chosen, id)
		}
	}
	slices.Sort(chosen)
	if err := s.Do(ctx, func(c *state.Change) error { return see(c, actor, chosen, d.Note, ids) }); err != nil {
		return nil, err
	}
	return s.List()
}

// see keeps who saw what, and forgets who saw what is long gone.
func see(c *state.Change, actor string, ids []string, note string, current map[string]bool) error {
	seen := state.All(c, state.SeenKind)
	for id, x := range seen {
		if !current[id] && c.Now-x.At > forgetAfter {
			state.Drop(c, state.SeenKind, id)
		}
	}
	for _, id := range ids {
		if seen[id] != nil {
			continue
		}
		if err := state.Put(c, state.SeenKind, id, &kept.Seen{ID: id, By: actor, At: c.Now, Note: note}); err != nil {
			return err
		}
		c.Record(actor, &event.AlertSeen{Alert: id, Note: note})
	}
	return nil
}
