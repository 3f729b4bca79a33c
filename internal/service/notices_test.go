package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/notice"
	"ironledger.example/internal/state"
)

const noticed = `rulebook: noticed
break_glass: [master]
sources: [{id: desk, provides: ["*"]}, {id: buoy, provides: [threat], quiet_after: 1h}]
resources: [{id: till}]
signals: {receivers: [{id: chat, form: cloudevents}]}
notices:
  - {id: fell, on: fell, to: owner}
  - {id: deep, on: fell, when: 'change.to < limited and "till" in change.lost', to: {mail: watch@gullholm.example}, language: sv}
  - {id: rose, on: rose, to: owner}
  - {id: exception, on: waiver-ends, before: 2d, to: owner}
  - {id: grace, on: grace-ends, before: 2d, to: owner}
  - {id: graces, on: grace-ends, before: 2d, to: {mail: crew-desk@gullholm.example}}
  - {id: glass, on: break-glass, to: {mail: watch@gullholm.example}}
  - {id: quiet, on: source-quiet, to: {mail: desk@gullholm.example}}
  - {id: hook, on: fell, to: {hook: chat}}
baselines:
  - id: all
    rules:
      - {id: disk, title: Storage is encrypted, check: storage.encrypted, cap: limited,
         remedy: {en: {title: Turn encryption on, steps: "Open [the desk](https://desk.gullholm.example/disk)."}, sv: {title: Slå på kryptering}}}
      - {id: calm, check: threat.score <= 30, cap: barred, unknown: sound}
      - {id: lock, title: The screen locks, check: screen_lock.after <= 5m, cap: limited, unknown: strong, grace: 1d}
gates: [{id: g, who: {everyone: true}, what: {resources: [till]}, need: level >= sound}]
`

// post keeps what would be sent.
type post struct {
	mu    sync.Mutex
	mails []notice.Mail
	fail  error
}

func (p *post) Send(_ context.Context, m *notice.Mail) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.fail != nil {
		return p.fail
	}
	p.mails = append(p.mails, *m)
	return nil
}

func (p *post) to(address string) (out []notice.Mail) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, m := range p.mails {
		if m.To == address {
			out = append(out, m)
		}
	}
	return out
}

func (p *post) count() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.mails)
}

func (p *post) fails(err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.fail = err
}

// noticing is a service with the rulebook of notices, three people, and their devices.
type noticing struct {
	*acts
	post *post
	t    *testing.T
}

func (n *noticing) shows(id, evidence string) {
	n.t.Helper()
	if err := n.take(context.Background(), fmt.Sprintf(`{"source":"desk","identity":{"id":%q},"evidence":{%s}}`, id, evidence)); err != nil {
		n.t.Fatal(err)
	}
}

// start opens the records and begins to send, gathering for a moment.
func (n *noticing) start(dir string, gather time.Duration) {
	n.t.Helper()
	n.s = opened(n.t, dir, nil)
	n.s.Notices.Start(notice.Options{Base: "https://posture.gullholm.example", Mailer: n.post, Gather: gather,
		Look: 200 * time.Millisecond, Scan: 2 * time.Second})
	// What was before the first look is told to nobody.
	eventually(n.t, "it looks", func() bool { return n.s.Snapshot().NoticePlace() >= 0 })
}

func (n *noticing) states() map[string]int {
	out := map[string]int{}
	for _, x := range n.s.Snapshot().Notices.All() {
		out[x.Notice+" "+x.State]++
	}
	return out
}

// sentOf are the entries that tell of notices that were sent.
func (n *noticing) sentOf(id string) (out []*event.NoticeSent) {
	entries, err := n.s.Store.About(context.Background(), id, 0, 100)
	if err != nil {
		n.t.Fatal(err)
	}
	for i := range entries {
		if entries[i].Kind == ledger.NoticeSent {
			if e, ok := event.As[*event.NoticeSent](&entries[i]); ok {
				out = append(out, e)
			}
		}
	}
	return out
}

func TestNotices(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir, ctx := t.TempDir(), context.Background()
		n := &noticing{acts: &acts{}, post: &post{}, t: t}
		n.start(dir, time.Minute)
		people := []directory.Person{{ID: "ada@gullholm.example", Name: "Ada", Groups: []string{}, Language: "sv"},
			{ID: "bo", Name: "Bo", Groups: []string{}, Mail: "bo@gullholm.example"},
			{ID: "cy", Name: "Cy", Groups: []string{}}}
		if _, err := n.s.Admin.ImportPeople(ctx, "author", people, admin.ListImport{AcceptImpact: "a trial"}); err != nil {
			t.Fatal(err)
		}
		if _, _, err := n.s.Admin.Publish(ctx, "author",
			api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: noticed}}}); err != nil {
			t.Fatal(err)
		}
		good := `"storage.encrypted":true,"threat.score":0,"screen_lock.after":"1m","owner":`
		n.shows("a1", good+`"ada@gullholm.example","name":"Ada's laptop"`)
		n.shows("a2", good+`"ada@gullholm.example"`)
		n.shows("b1", good+`"bo"`)
		n.shows("c1", good+`"cy"`)
		n.shows("d1", good+`"nobody"`)

		// Two of one person fall: one message, in her language, with the remedy and no twin.
		n.shows("a1", `"storage.encrypted":false`)
		n.shows("a2", `"storage.encrypted":false`)
		eventually(t, "ada is told", func() bool { return len(n.post.to("ada@gullholm.example")) == 1 })
		m := n.post.to("ada@gullholm.example")[0]
		for _, want := range []string{"Hej Ada", "Ada's laptop (a1) föll från strong till limited", "a2 föll",
			"Slå på kryptering",
			"https://posture.gullholm.example/me/device"} {
			if !strings.Contains(m.Text, want) {
				t.Errorf("the mail does not say %q:\n%s", want, m.Text)
			}
		}
		if !strings.Contains(m.Subject, "2 saker") || !strings.Contains(m.HTML, "Slå på kryptering") || m.Language != "sv" {
			t.Errorf("the mail is %+v", m)
		}
		eventually(t, "both are on record", func() bool { return len(n.sentOf("a1")) == 2 })
		if sent := n.sentOf("a1"); len(sent) != 2 || !slices.ContainsFunc(sent, func(e *event.NoticeSent) bool {
			return e.Via == event.ViaMail && e.To == "ada@gullholm.example" && e.On == "fell" &&
				strings.Contains(e.Text, "kryptering")
		}) || !slices.ContainsFunc(sent, func(e *event.NoticeSent) bool {
			return e.Via == event.ViaHook &&
				e.To == "chat"
		}) {
			t.Errorf("on record is %+v", sent)
		}

		// One that heals before it is told is told to nobody.
		n.shows("b1", `"storage.encrypted":false`)
		n.shows("b1", `"storage.encrypted":true`)
		eventually(t, "it heals", func() bool { return n.states()["fell healed"] == 1 && n.states()["rose healed"] == 1 })
		// Whoever has no address, or is not known, is not forgotten silently.
		n.shows("c1", `"threat.score":99`)
		n.shows("d1", `"storage.encrypted":false`)
		eventually(t, "two cannot be told", func() bool { return n.states()["fell failed"] == 2 })
		// The condition of the watch: barred, and out of the till. In the language of the notice.
		eventually(t, "the watch is told", func() bool { return len(n.post.to("watch@gullholm.example")) == 1 })
		if m := n.post.to("watch@gullholm.example")[0]; !strings.Contains(m.Subject, "c1 föll från strong till barred") {
			t.Errorf("the watch reads %q", m.Subject)
		}
		if len(n.post.to("bo@gullholm.example")) != 0 {
			t.Errorf("bo reads %+v", n.post.to("bo@gullholm.example"))
		}

		// An account for emergencies; a source that was never heard.
		e := &access.Evaluation{Subject: access.Entity{Type: "user", ID: "master"}, Action: access.Action{Name: "open"},
			Resource: access.Entity{Type: "app", ID: "till"}}
		if _, err := n.s.Decisions.Decide("door", e); err != nil {
			t.Fatal(err)
		}
		eventually(t, "the watch hears of the emergency",
			func() bool { return len(n.post.to("watch@gullholm.example")) == 2 })
		eventually(t, "the desk hears of the source", func() bool { return len(n.post.to("desk@gullholm.example")) == 1 })

		// Reminders: an exception and a grace that end soon; not for who wants none.
		if _, err := n.s.Notices.Mute(ctx, "ada", api.MuteDraft{Person: "ada@gullholm.example",
			Reason: "on leave"}); err != nil {
			t.Fatal(err)
		}
		n.shows("b1", `"screen_lock.after":"30m"`)
		n.shows("a1", `"screen_lock.after":"30m"`)
		eventually(t, "bo is reminded", func() bool { return len(n.post.to("bo@gullholm.example")) == 1 })
		eventually(t, "ada is not", func() bool { return n.states()["grace muted"] == 1 })
		// What a channel hears of her devices is not hers to mute.
		eventually(t, "the desk of the crew hears of both", func() bool {
			text := ""
			for _, m := range n.post.to("crew-desk@gullholm.example") {
				text += m.Text
			}
			return strings.Contains(text, "a1)") && strings.Contains(text, "b1: ")
		})
		if m := n.post.to("bo@gullholm.example")[0]; !strings.Contains(m.Subject, "b1: “The screen locks” counts from") {
			t.Errorf("bo reads %q", m.Subject)
		}
		n.shows("a1", `"threat.score":99`) // a fall is told all the same
		eventually(t, "ada is told of a fall", func() bool { return len(n.post.to("ada@gullholm.example")) == 2 })

		// Nothing comes twice, over a restart either.
		told := n.post.count()
		if err := n.s.Close(); err != nil {
			t.Fatal(err)
		}
		n.start(dir, time.Minute)
		time.Sleep(5 * time.Minute)
		if now := n.post.count(); now != told {
			t.Errorf("after a restart %d mails more", now-told)
		}
		// A mail server that is away is tried again; what it refuses for good is not.
		n.post.fails(errors.New("connection refused"))
		n.shows("b1", `"threat.score":99`)
		eventually(t, "it waits", func() bool {
			return slices.ContainsFunc(n.s.Snapshot().Notices.List(), func(x kept.Notice) bool {
				return x.State == kept.NoticeWaits && x.Tries == 1 && strings.Contains(x.Why, "connection refused") &&
					x.Due > n.s.Micros()+30*1_000_000
			})
		})
		n.post.fails(&notice.PermanentError{Message: "no such mailbox"})
		n.shows("a2", `"threat.score":99`)
		eventually(t, "it fails", func() bool { return n.states()["fell failed"] == 3 })
		if err := n.s.Close(); err != nil {
			t.Fatal(err)
		}
	})
}

// A person gets so many messages a day, and what was too much later; what was under way
// when the service went down is sent again under the same id.
func TestNoticesAreBounded(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir, ctx := t.TempDir(), context.Background()
		n := &noticing{acts: &acts{}, post: &post{}, t: t}
		n.start(dir, time.Millisecond)
		if _, err := n.s.Admin.ImportPeople(ctx, "author",
			[]directory.Person{{ID: "ada@gullholm.example", Name: "Ada", Groups: []string{}}},
			admin.ListImport{AcceptImpact: "a trial"}); err != nil {
			t.Fatal(err)
		}
		if _, _, err := n.s.Admin.Publish(ctx, "author",
			api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: noticed}}}); err != nil {
			t.Fatal(err)
		}
		n.shows("a1", `"storage.encrypted":true,"threat.score":0,"screen_lock.after":"1m","owner":"ada@gullholm.example"`)
		for i := range 7 {
			before := len(n.post.to("ada@gullholm.example"))
			n.shows("a1", fmt.Sprintf(`"storage.encrypted":%t`, i%2 != 0))
			eventually(t, "it is told, or waits", func() bool {
				return len(n.post.to("ada@gullholm.example")) > before || slices.ContainsFunc(n.s.Snapshot().Notices.List(),
					func(x kept.Notice) bool { return strings.Contains(x.Why, "within a day") })
			})
		}
		if got := len(n.post.to("ada@gullholm.example")); got != 6 {
			t.Errorf("ada got %d mails in a moment", got)
		}
		for _, x := range n.s.Snapshot().Notices.List() {
			if x.Mail != "" && x.State == kept.NoticeWaits &&
				(x.Due < n.s.Micros()+value.Day/2 || !strings.Contains(x.Why, "within a day")) {
				t.Errorf("what is too much is %+v", x)
			}
		}
		// As if the service had gone down between handing a mail over and recording that.
		id := ""
		if err := n.s.Do(ctx, func(c *state.Change) error {
			for _, x := range state.All(c, state.NoticeKind) {
				if x.State == kept.NoticeSent && x.Mail == "ada@gullholm.example" {
					y := *x
					y.State, id = kept.NoticeSending, x.Message
					return state.Put(c, state.NoticeKind, y.ID, &y)
				}
			}
			return errors.New("none was sent")
		}); err != nil {
			t.Fatal(err)
		}
		eventually(t, "it comes again under its id", func() bool {
			same := 0
			for _, m := range n.post.to("ada@gullholm.example") {
				if m.ID == id {
					same++
				}
			}
			return same == 2
		})
		if err := n.s.Close(); err != nil {
			t.Fatal(err)
		}
	})
}

// A device that falls and rises all day fills nothing up, and what it calls itself breaks
// no line.
func TestNoticesOfADeviceThatFlaps(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir, ctx := t.TempDir(), context.Background()
		n := &noticing{acts: &acts{}, post: &post{}, t: t}
		n.start(dir, time.Minute)
		if _, err := n.s.Admin.ImportPeople(ctx, "author",
			[]directory.Person{{ID: "ada@gullholm.example", Name: "Ada", Groups: []string{}}},
			admin.ListImport{AcceptImpact: "a trial"}); err != nil {
			t.Fatal(err)
		}
		if _, _, err := n.s.Admin.Publish(ctx, "author",
			api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: noticed}}}); err != nil {
			t.Fatal(err)
		}
		n.shows("a1", `"storage.encrypted":true,"threat.score":0,"screen_lock.after":"1m","owner":"ada@gullholm.example",`+
			`"name":"x\r\nBcc: eve@gullholm.example\r\n<script>"`)
		for i := range 21 {
			n.shows("a1", fmt.Sprintf(`"storage.encrypted":%t`, i%2 != 0))
			time.Sleep(5 * time.Millisecond)
		}
		eventually(t, "ada is told", func() bool { return len(n.post.to("ada@gullholm.example")) > 0 })
		if m := n.post.to("ada@gullholm.example")[0]; strings.ContainsAny(m.Subject, "\r\n") ||
			strings.Contains(m.HTML, "<script>") ||
			strings.Contains(m.Text, "\nBcc") || strings.Count(m.Text, " fell from strong to limited") != 1 {
			t.Errorf("ada reads %q:\n%s", m.Subject, m.Text)
		}
		eventually(t, "little is kept", func() bool { return len(n.s.Snapshot().Notices.List()) < 12 })
		if err := n.s.Close(); err != nil {
			t.Fatal(err)
		}
	})
}

// Changes of one device that have the same moment, as of two lines of one import, are taken in the order of the
// ledger: who fell and rose again is told of neither.
func TestNoticesOfOneMoment(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		ctx := context.Background()
		n := &noticing{acts: &acts{}, post: &post{}, t: t}
		n.start(t.TempDir(), time.Minute)
		people := []directory.Person{{ID: "ada@gullholm.example", Name: "Ada"}}
		if _, err := n.s.Admin.ImportPeople(ctx, "author", people, admin.ListImport{AcceptImpact: "a trial"}); err != nil {
			t.Fatal(err)
		}
		if _, _, err := n.s.Admin.Publish(ctx, "author",
			api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: noticed}}}); err != nil {
			t.Fatal(err)
		}
		const devices = 10
		for i := range devices {
			id := fmt.Sprint("a", i)
			n.shows(id, `"storage.encrypted":true,"threat.score":0,"screen_lock.after":"1m","owner":"ada@gullholm.example"`)
			line := fmt.Sprintf(`{"source":"desk","identity":{"id":%q},"evidence":{"storage.encrypted":`, id)
			if err := n.take(ctx, line+"false}}\n"+line+"true}}"); err != nil {
				t.Fatal(err)
			}
		}
		eventually(t, "all heal", func() bool {
			return n.states()["fell healed"] == devices && n.states()["rose healed"] == devices
		})
		time.Sleep(2 * time.Minute)
		if mails := n.post.to("ada@gullholm.example"); len(mails) > 0 {
			t.Errorf("ada is told %+v", mails)
		}
		if err := n.s.Close(); err != nil {
			t.Fatal(err)
		}
	})
}
