package notice

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/signal"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view"
)

// states are those that a list can be searched by.
var states = []string{kept.NoticeWaits, kept.NoticeSending, kept.NoticeSent, kept.NoticeHealed, kept.NoticeMuted,
	kept.NoticeFailed}

// List is a page of notices, the newest first.
func (s *Service) List(device, person, as, cursor string, limit int) (*api.NoticePage, error) {
	if as != "" && !slices.Contains(states, as) {
		return nil, &fault.QueryError{Param: "state", Message: fmt.Sprintf("%q is not one of %s", as,
			strings.Join(states, ", "))}
	}
	snap := s.Snapshot()
	var found []*kept.Notice
	for _, n := range snap.Notices.All() {
		if (device == "" || n.Device == device) && (person == "" || n.Person == person) && (as == "" || n.State == as) {
			found = append(found, n)
		}
	}
	place := func(n *kept.Notice) string { return fmt.Sprintf("%020d %s", n.At, n.ID) }
	slices.SortFunc(found, func(a, b *kept.Notice) int { return strings.Compare(place(b), place(a)) })
	out := &api.NoticePage{Items: []api.Notice{}, Total: len(found)}
	for _, n := range found {
		if cursor != "" && place(n) >= cursor {
			continue
		}
		if len(out.Items) == limit {
			break
		}
		out.Items = append(out.Items, s.shown(snap, n))
		out.Next = place(n)
	}
	if len(found) == 0 || len(out.Items) < limit || out.Next == place(found[len(found)-1]) {
		out.Next = ""
	}
	return out, nil
}

func (s *Service) shown(snap *state.Snapshot, n *kept.Notice) api.Notice {
	out := api.Notice{ID: n.ID, Notice: n.Notice, On: string(n.On), What: n.What, Device: n.Device, Person: n.Person,
		Title: partOf(snap, "", languages[0].String(), n).Title, To: cmp.Or(n.Hook, n.Mail), Via: event.ViaMail,
		Language: n.Language,
		At:       value.FormatTime(n.At), State: n.State, Why: n.Why, Tries: n.Tries, Message: n.Message}
	if n.Hook != "" {
		out.Via = event.ViaHook
	}
	if n.Until != 0 {
		out.Until = value.FormatTime(n.Until)
	}
	if n.State == kept.NoticeWaits && n.Due != 0 {
		out.Due = value.FormatTime(n.Due)
	}
	if n.SentAt != 0 {
		out.SentAt = value.FormatTime(n.SentAt)
	}
	return out
}

// Try is what a notice would say of a device as it stands now, as if what it is about
// had just happened. Nobody is told.
func (s *Service) Try(d api.NoticeTrialDraft) (*api.NoticeTrial, error) {
	snap, now := s.Snapshot(), s.Micros()
	rb := snap.Book.Rulebook
	r := rb.Notice(d.Notice)
	if r == nil {
		return nil, fault.Inputf("/notice", "the rulebook in force has no notice %s", d.Notice)
	}
	n := kept.Notice{What: "example", At: now, Until: now + r.Before}
	c := signal.Change{Cause: event.ByEvidence}
	if r.On.OfDevice() {
		id, found := d.Device, false
		if x := snap.Fleet.Get(id); x != nil {
			found = true
		} else if x := s.view.Device(id); x != nil {
			id, found = x.ID, true
		}
		if !found {
			return nil, fault.Inputf("/device", "%s is about a device: say which; there is none called "+
				"%q", r.On, d.Device)
		}
		x := snap.At(snap.Fleet.Get(id), now)
		n.What, n.Device = id, id
		example(snap.Book, x, r.On, &n)
		n.Person = (view.Directory{Snapshot: snap, Now: now}).Owner(id)
		c.Device, c.From, c.To, c.Rules = id, n.From, n.To, n.Rules
	}
	x := s.addressed(snap, r, n, "trial")
	out := &api.NoticeTrial{Notice: r.ID, On: string(r.On), Would: x.State == kept.NoticeWaits, Why: x.Why,
		To: cmp.Or(x.Hook, x.Mail), Via: event.ViaMail, Language: x.Language}
	if x.Hook != "" {
		out.Via = event.ViaHook
	}
	if r.When != nil && r.On.OfDevice() {
		dir := view.Directory{Snapshot: snap, Now: now}
		signal.Reaches(&c, rb, dir)
		if c.Meets(r.When, rb, dir, string(r.On), now) == condition.False {
			out.Would, out.Why = false, "its condition does not hold: "+r.When.String()
		}
	}
	if why := muted(snap, r, x.Person, now); out.Would && why != "" {
		out.Would, out.Why = false, why
	}
	m := compose(snap, s.options.Base, []*kept.Notice{x})
	html, err := m.html()
	if err != nil {
		return nil, err
	}
	out.Subject, out.Text, out.HTML = m.Subject, m.plain(), html
	return out, nil
}

// example fills in what could have happened to a device: what holds it down, or what its
// first rule would if it were not passed.
func example(b *state.Book, d *state.Device, on rulebook.Occasion, n *kept.Notice) {
	rb := b.Rulebook
	n.From, n.To, n.Rules = rb.LevelName(rb.Top()), rb.LevelName(d.Result.Level), b.Rules.Binding(&d.Result)
	if on == rulebook.Rose {
		n.From = rb.LevelName(0)
	} else if i := slices.Index(d.Result.Verdicts, posture.Pass); len(n.Rules) == 0 && i >= 0 {
		n.Rules = []string{b.RuleKeys[i]}
		n.To = rb.LevelName(rb.Rule(b.RuleKeys[i]).Cap)
	}
	if len(n.Rules) > 0 {
		n.Detail = n.Rules[0]
	}
}

// How long a person may be left without reminders.
const (
	defaultMute = 30 * value.Day
	maxMute     = 366 * value.Day
)

// Mute has a person not be reminded for a while, or again.
func (s *Service) Mute(ctx context.Context, actor string, d api.MuteDraft) (*api.Mute, error) {
	if err := fault.CheckReason(&d.Reason); err != nil {
		return nil, err
	}
	length := int64(defaultMute)
	if d.For != "" {
		v, err := value.ParseDuration(d.For)
		if length = v.Num(); err != nil || length < 0 || length > maxMute {
			return nil, fault.Inputf("/for", "%q is not a duration of at most 366d, as 30d; 0s to remind again", d.For)
		}
	}
	out := &api.Mute{Person: d.Person}
	err := s.Do(ctx, func(c *state.Change) error {
		if _, known := c.Base.People.Get(d.Person); !known {
			return fault.Inputf("/person", "the directory does not know %s", d.Person)
		}
		if length == 0 {
			if state.Get(c, state.MuteKind, d.Person) != nil {
				state.Drop(c, state.MuteKind, d.Person)
				c.Record(actor, &event.NoticeMuted{Person: d.Person, Reason: d.Reason})
			}
			return nil
		}
		m := &kept.Mute{Person: d.Person, Until: c.Now + length, By: actor, Reason: d.Reason, At: c.Now}
		*out = *shownMute(m)
		c.Record(actor, &event.NoticeMuted{Person: d.Person, Until: out.Until, Reason: d.Reason})
		return state.Put(c, state.MuteKind, d.Person, m)
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

func shownMute(m *kept.Mute) *api.Mute {
	return &api.Mute{Person: m.Person, Until: value.FormatTime(m.Until), By: m.By, At: value.FormatTime(m.At),
		Reason: m.Reason}
}

// Muted is until when a person is not reminded, nil when they are.
func (s *Service) Muted(person string) *api.Mute {
	if m := s.Snapshot().Mutes.Get(person); m != nil && m.Until > s.Micros() {
		return shownMute(m)
	}
	return nil
}

// Mutes are the people who are not reminded.
func (s *Service) Mutes() []api.Mute {
	out := []api.Mute{}
	for _, m := range s.Snapshot().Mutes.List() {
		if m.Until > s.Micros() {
			out = append(out, *shownMute(&m))
		}
	}
	return out
}
