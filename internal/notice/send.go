package notice

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"ironledger.example/core/certificate"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// How sending is tried again.
const (
	firstRetry   = time.Minute
	longestRetry = time.Hour
	givenUpAfter = 48 * time.Hour
	second       = 1_000_000 // microseconds
	// maxParts is how many notices one message tells of, at most.
	maxParts = 40
)

// send tells who is to be told by now.
func (s *Service) send(ctx context.Context) error {
	snap, now := s.Snapshot(), s.Micros()
	waiting := map[string][]*kept.Notice{} // by recipient
	due := map[string]bool{}
	for _, n := range snap.Notices.All() {
		if n.State != kept.NoticeWaits && n.State != kept.NoticeSending {
			continue
		}
		to := n.Recipient()
		waiting[to] = append(waiting[to], n)
		due[to] = due[to] || n.Due <= now
	}
	var failed error
	for to, list := range waiting {
		if !due[to] || ctx.Err() != nil {
			continue
		}
		slices.SortFunc(list, func(a, b *kept.Notice) int {
			return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.Seq, b.Seq), cmp.Compare(a.ID, b.ID))
		})
		if err := s.tell(ctx, to, list); err != nil {
			failed = errors.Join(failed, err)
		}
	}
	return failed
}

// tell sends what waits for one recipient, as one message.
func (s *Service) tell(ctx context.Context, to string, list []*kept.Notice) error {
	if i := slices.IndexFunc(list, func(n *kept.Notice) bool { return n.State == kept.NoticeSending }); i >= 0 {
		// It was being sent when the service went down: the same message again, which a
		// mail system knows by its id.
		id := list[i].Message
		return s.deliver(ctx, slices.DeleteFunc(list, func(n *kept.Notice) bool { return n.Message != id }))
	}
	snap := s.Snapshot()
	still, dropped := s.worthTelling(snap, list)
	if len(dropped) > 0 {
		if err := s.settle(ctx, dropped, nil); err != nil {
			return err
		}
	}
	if len(still) == 0 || !slices.ContainsFunc(still, func(n *kept.Notice) bool { return n.Due <= s.Micros() }) {
		return nil
	}
	if until := s.limited(snap, to, still[0]); until > 0 {
		later := map[string]kept.Notice{}
		for _, n := range still {
			x := *n
			x.Due, x.Why = until, "so many messages went there within a day that it waits"
			later[n.ID] = x
		}
		return s.settle(ctx, later, nil)
	}
	message := "m-" + s.IDs.Next(s.Micros())
	sending := map[string]kept.Notice{}
	for i, n := range still {
		x := *n
		x.State, x.Message, x.Why = kept.NoticeSending, message, ""
		sending[n.ID], still[i] = x, &x
	}
	if err := s.settle(ctx, sending, nil); err != nil {
		return err
	}
	return s.deliver(ctx, still)
}

// worthTelling are the notices of list that are still true, as many as one message holds, and
// those that are not, as they are to be kept.
func (s *Service) worthTelling(snap *state.Snapshot, list []*kept.Notice) (still []*kept.Notice,
	dropped map[string]kept.Notice) {
	dropped = map[string]kept.Notice{}
	// Where each device stood before anything of which nobody has been told yet: who falls
	// and rises again meanwhile has done neither.
	stood, newest := map[string]string{}, map[string]*kept.Notice{}
	for _, n := range list {
		if n.From == "" {
			continue
		}
		if _, is := stood[n.Device]; !is {
			stood[n.Device] = n.From
		}
		newest[n.Notice+"\n"+n.Device] = n
	}
	for _, n := range list {
		switch why, as := s.void(snap, n, stood[n.Device]); {
		case as == "" && n.From != "" && newest[n.Notice+"\n"+n.Device] != n:
			x := *n
			x.State, x.Why = kept.NoticeHealed, "a later change of the device is told"
			dropped[n.ID] = x
		case as != "":
			x := *n
			x.State, x.Why = as, why
			dropped[n.ID] = x
		case len(still) < maxParts:
			still = append(still, n)
		}
	}
	return still, dropped
}

// settle keeps notices as they have become, and what is recorded of them.
func (s *Service) settle(ctx context.Context, list map[string]kept.Notice, record []*event.NoticeSent) error {
	return s.Do(ctx, func(c *state.Change) error {
		for id, n := range list {
			if state.Get(c, state.NoticeKind, id) == nil {
				continue
			}
			if err := state.Put(c, state.NoticeKind, id, &n); err != nil {
				return err
			}
		}
		for _, e := range record {
			c.Record(ledger.Service, e)
		}
		return nil
	})
}

// deliver sends the notices of one message, and records that they were told.
func (s *Service) deliver(ctx context.Context, list []*kept.Notice) error {
	first, snap := list[0], s.Snapshot()
	m := compose(snap, s.options.Base, list)
	via, err := event.ViaHook, error(nil)
	if first.Hook == "" {
		via, err = event.ViaMail, s.mail(ctx, first, m)
	}
	now := s.Micros()
	after := map[string]kept.Notice{}
	var record []*event.NoticeSent
	for i, n := range list {
		x := *n
		var wrong *PermanentError
		switch {
		case err == nil:
			x.State, x.SentAt, x.Why = kept.NoticeSent, now, ""
			record = append(record, &event.NoticeSent{Message: x.Message, Notice: x.Notice, On: string(x.On), What: x.What,
				Detail: x.Detail, To: cmp.Or(x.Hook, x.Mail), Via: via, Subject: m.Parts[i].Title,
				Text: event.Clipped(m.Parts[i].plain(m.Words), 4000)})
		case errors.As(err, &wrong) || now-x.At > givenUpAfter.Microseconds():
			x.State, x.Why, x.Tries = kept.NoticeFailed, err.Error(), x.Tries+1
		default:
			x.State, x.Why, x.Tries = kept.NoticeWaits, err.Error(), x.Tries+1
			x.Due = now + min(firstRetry<<min(x.Tries-1, 10), longestRetry).Microseconds()
		}
		after[x.ID] = x
	}
	if err != nil {
		s.Log.Warn("a notice is not sent", "to", first.Recipient(), "error", err)
	}
	return s.settle(context.WithoutCancel(ctx), after, record)
}

func (s *Service) mail(ctx context.Context, first *kept.Notice, m *message) error {
	if s.options.Mailer == nil {
		return errNoMailer
	}
	html, err := m.html()
	if err != nil {
		return err
	}
	return s.options.Mailer.Send(ctx, &Mail{ID: first.Message, To: first.Mail, Subject: m.Subject,
		Text: m.plain(), HTML: html,
		Language: m.Lang})
}

var errNoMailer = errors.New("no mail server is configured: serve --smtp")

// limited is when a recipient may be told again, 0 for now.
func (s *Service) limited(snap *state.Snapshot, to string, n *kept.Notice) int64 {
	limit, since := channelLimit, s.Micros()-value.Day
	if r := snap.Book.Rulebook.Notice(n.Notice); r != nil && r.To.Owner {
		limit = dayLimit
	}
	sent := map[string]int64{} // by message
	for _, x := range snap.Notices.All() {
		if x.State == kept.NoticeSent && x.SentAt > since && x.Recipient() == to {
			sent[x.Message] = x.SentAt
		}
	}
	if len(sent) < limit {
		return 0
	}
	var times []int64
	for _, at := range sent {
		times = append(times, at)
	}
	slices.Sort(times)
	return times[len(times)-limit] + value.Day
}

// void is why nobody is to be told of a notice any more, and what becomes of it; "" when
// it still holds. stood is the level of which the recipient knows.
func (s *Service) void(snap *state.Snapshot, n *kept.Notice, stood string) (why, as string) {
	now := s.Micros()
	r := snap.Book.Rulebook.Notice(n.Notice)
	if r == nil || r.On != n.On {
		return "the rulebook has this notice no more", kept.NoticeHealed
	}
	if why := muted(snap, r, n.Person, now); why != "" {
		return why, kept.NoticeMuted
	}
	if n.On.Coming() && n.Until <= now {
		return "it has ended by now", kept.NoticeHealed
	}
	if n.On.OfDevice() {
		d := snap.Fleet.Get(n.Device)
		if d == nil || d.Retired != nil {
			return "the device is retired, or gone", kept.NoticeHealed
		}
		if healed(snap, snap.At(d, now), n, stood, now) {
			return "it healed before anybody was told", kept.NoticeHealed
		}
		return "", ""
	}
	switch n.On {
	case rulebook.SourceQuiet:
		for _, src := range s.view.QuietSources() {
			if src.ID == n.What {
				return "", ""
			}
		}
		return "it reports again", kept.NoticeHealed
	case rulebook.EnrolmentWaits:
		if e := snap.Enrolments.Get(n.Ref); e == nil || e.State != state.Held {
			return "somebody decided", kept.NoticeHealed
		}
	}
	return "", ""
}

// muted is why a person is not told, "" when they are: they want no reminders. What a
// channel hears of their devices is not theirs to mute.
func muted(snap *state.Snapshot, r *rulebook.Notice, person string, now int64) string {
	if m := snap.Mutes.Get(person); r.To.Owner && r.On.Reminder() && m != nil && m.Until > now {
		return "the person is not reminded until " + value.FormatTime(m.Until)
	}
	return ""
}

// healed reports whether what a notice tells of a device no longer holds.
func healed(snap *state.Snapshot, d *state.Device, n *kept.Notice, stood string, now int64) bool {
	b := snap.Book
	switch n.On {
	case rulebook.Fell, rulebook.Rose:
		from, known := b.Rulebook.Rank(stood)
		is := int(d.Result.Level)
		return !known || n.On == rulebook.Fell && is >= from || n.On == rulebook.Rose && is <= from
	case rulebook.GraceEnds:
		i := slices.Index(b.RuleKeys, n.Detail)
		return i < 0 || d.Result.Verdicts[i] != posture.Grace
	case rulebook.WaiverEnds:
		return !slices.ContainsFunc(d.Waivers, func(w *state.Waiver) bool {
			c := b.Limited(w)
			return w.ID == n.Ref && c.Live(now) && c.Until()-n.Until < second // n.Until has no parts of it
		}) || longer(b, d.Waivers, n, now)
	case rulebook.CertificateEnds:
		return !holds(b, d, n, now)
	}
	return false
}

// longer reports whether another waiver of the same rule outlives the one that ends.
func longer(b *state.Book, list []*state.Waiver, n *kept.Notice, now int64) bool {
	return slices.ContainsFunc(list, func(w *state.Waiver) bool {
		c := b.Limited(w)
		return w.Rule == n.Detail && c.Live(now) && c.Until() > n.Until+second
	})
}

// holds reports whether a certificate that ends is still shown, and no other of its
// issuer that outlives it.
func holds(b *state.Book, d *state.Device, n *kept.Notice, now int64) bool {
	certs := d.View.Get(b.Rulebook.Dict.Slot("certs"), now).Members()
	i := slices.IndexFunc(certs, func(c value.Value) bool {
		return certificate.Field(c, "trusted").IsTrue() && certificate.Field(c, "sha256").Str() == n.Ref
	})
	return i >= 0 && !slices.ContainsFunc(certs, func(c value.Value) bool {
		return certificate.Field(c, "trusted").IsTrue() && certificate.Field(c, "not_after").Num() > n.Until &&
			certificate.Field(c, "issuer_id").Str() == certificate.Field(certs[i], "issuer_id").Str()
	})
}
