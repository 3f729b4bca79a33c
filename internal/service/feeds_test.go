package service

import (
	"context"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"ironledger.example/api"
	core "ironledger.example/core/feed"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/feed"
	"ironledger.example/internal/outbound"
	"ironledger.example/internal/standin"
	"ironledger.example/internal/state"
)

const fed = `rulebook: fed
break_glass: [master]
sources:
  - {id: agent, provides: ["*"]}
  - {id: desk, rank: 2, provides: [storage, os, platform], identifies: true, vouches: {for: 24h}}
  - {id: aside, provides: [threat]}
baselines:
  - id: all
    rules:
      - {id: disk, check: storage.encrypted, cap: limited, unknown: unproven}
      - {id: known, check: vouched, cap: sound}
`

const deskMap = `{"items": "/machines", "observed_at": {"from": "/lastContact", "form": "unix"},
 "identity": {"external_id": "/ref", "serial": "/hardware/serial"},
 "vouch": {"from": "/trust", "words": {"good": true, "doubtful": false}},
 "evidence": {"storage.encrypted": {"from": "/disk", "words": {"sealed": true, "open": false}},
  "platform": {"from": "/system/family", "words": {"Pad": "ipados", "Pocket": "ios"}}, "os.version": "/system/version"}}`

var loopback = outbound.Policy{Inside: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}

// quick are limits that a test can wait for.
var quick = feed.Limits{Headers: 2 * time.Second, Stall: 300 * time.Millisecond, Again: 10 * time.Millisecond}

// feeding is a service with the rulebook of feeds that fetches from this machine.
func feeding(t *testing.T, dir string, folders ...string) *Service {
	t.Helper()
	s := opened(t, dir, nil)
	if name := s.Snapshot().Book.Rulebook.Name; name != "fed" && name != "heard" {
		if _, _, err := s.Admin.Publish(t.Context(), "author",
			api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: fed}}}); err != nil {
			t.Fatal(err)
		}
	}
	s.Heard.Start(loopback)
	s.Feeds.Start(feed.Options{Policy: loopback, Limits: quick, Folders: folders})
	t.Cleanup(func() { closed(s) })
	return s
}

// closed closes a service, unless it is already.
func closed(s *Service) {
	if s.Do(context.Background(), func(*state.Change) error { return nil }) == nil {
		_ = s.Close()
	}
}

// ran waits until a run of a feed has ended after one, and returns it.
func ran(t *testing.T, s *Service, id string, after int) core.Run {
	t.Helper()
	var last core.Run
	eventually(t, "a run of "+id+" ends", func() bool {
		f, err := s.Feeds.Show(id)
		if err != nil {
			t.Fatal(err)
		}
		if len(f.Runs) > 0 {
			last = f.Runs[0]
		}
		return last.Number > after
	})
	return last
}

// again has a feed fetched and returns the run.
func again(t *testing.T, s *Service, id string, d api.FeedRunDraft) core.Run {
	t.Helper()
	f, err := s.Feeds.Run(t.Context(), "ada", id, d)
	if err != nil {
		t.Fatal(err)
	}
	return ran(t, s, id, f.Runs[0].Number)
}

func levelOf(t *testing.T, s *Service, name string) string {
	t.Helper()
	d := s.Snapshot().Named(name)
	if d == nil {
		return "nobody"
	}
	return s.Snapshot().Book.Rulebook.LevelName(s.Snapshot().At(d, s.Micros()).Result.Level)
}

func machine(n int, family string) standin.Machine {
	var m standin.Machine
	m.Ref, m.Disk, m.Trust = fmt.Sprintf("pd-%03d", n), "sealed", "good"
	m.Hardware.Serial, m.System.Family, m.System.Version = fmt.Sprintf("S-%03d", n), family, "17.5"
	return m
}

// serve serves a partner until the test ends.
func serve(t *testing.T, h http.Handler) string {
	t.Helper()
	p := httptest.NewServer(h)
	t.Cleanup(p.Close)
	return p.URL
}

// A partner's inventory comes in pages, with tokens that end; what it says counts, what it
// lists no longer does not, and all of it again when it lists it again.
func TestAFeed(t *testing.T) {
	t.Parallel()
	dir, ctx := t.TempDir(), t.Context()
	var machines []standin.Machine
	for n := range 30 {
		machines = append(machines, machine(n, "Pad"))
	}
	machines[7].System.Family = "Slab" // for which the mapping has no word
	desk := standin.NewDesk("gullholm", machines)
	url := serve(t, desk)
	s := feeding(t, dir)
	draft := api.FeedDraft{Secret: desk.Secret(), SecretUntil: time.Now().Add(48 * time.Hour).UTC().Format(time.RFC3339),
		Feed: core.Settings{ID: "phones", Source: "desk", URL: url + "/v1/machines", Every: "1h", Whole: true,
			Mapping: json.RawMessage(deskMap),
			SignIn: core.SignIn{By: core.OAuth, ClientID: "gullholm", TokenURL: url +
				"/token", Scopes: []string{"machines.read"}},
			Pages: core.Pages{By: core.ByText, At: "/paging/after", Parameter: "after", SizeParameter: "limit", Size: 12}}}
	trial, err := s.Feeds.Try(ctx, api.FeedTrialDraft{Feed: draft.Feed, Secret: draft.Secret, Items: 2})
	if err != nil || trial.Failure != "" || len(trial.Items) != 2 || trial.Items[0].Fate != "a new device" ||
		!trial.More {
		t.Fatalf("%+v %v", trial, err)
	}
	if len(s.Snapshot().Feeds.List()) != 0 || s.Snapshot().Named("S-001") != nil {
		t.Error("a trial kept something")
	}
	if _, err := s.Feeds.Add(ctx, "ada", draft); err != nil {
		t.Fatal(err)
	}
	r := ran(t, s, "phones", 0)
	if r.Outcome != core.Done || r.Items != 30 || r.Accepted != 30 || r.New != 30 || r.Pages != 3 || !r.Full ||
		r.Refused != 1 ||
		len(r.Reasons) != 1 || r.Reasons[0].What != "platform" || r.Reasons[0].Example != "item 8" {
		t.Errorf("the run is %+v", r)
	}
	if l := levelOf(t, s, "S-001"); l != "strong" {
		t.Errorf("S-001 stands at %s", l)
	}
	if kept, err := json.Marshal(s.Snapshot().Feeds.List()); err != nil ||
		strings.Contains(string(kept), desk.Secret()) {
		t.Errorf("the secret is kept as it is: %v", err)
	}
	shown, err := s.Feeds.Show("phones")
	if raw, _ := json.Marshal(shown); err != nil || strings.Contains(string(raw), desk.Secret()) ||
		shown.SecretUntil != draft.SecretUntil ||
		shown.Devices != 30 {
		t.Errorf("it is shown as %s (%v)", raw, err)
	}

	// Every token ends in between: another is fetched, and the run goes on.
	_, _ = http.Post(url+"/forget", "", nil)
	desk.Turn("S-002", "open")
	desk.Turn("S-003", "doubtful")
	desk.Turn("S-004", "lost")
	if r = again(t, s, "phones", api.FeedRunDraft{}); r.Outcome != core.Done || r.Gone != 1 || r.Items != 29 ||
		r.By != "ada" || r.Moved != 2 {
		t.Errorf("the run is %+v", r)
	}
	for serial, want := range map[string]string{"S-002": "limited", "S-003": "sound", "S-004": "unproven",
		"S-005": "strong"} {
		if l := levelOf(t, s, serial); l != want {
			t.Errorf("%s stands at %s, want %s", serial, l, want)
		}
	}
	// The partner finds it again: the same readings count again, though they are no newer.
	for _, serial := range []string{"S-002", "S-003", "S-004"} {
		for _, to := range []string{"sealed", "good", "found"} {
			desk.Turn(serial, to)
		}
	}
	if r = again(t, s, "phones", api.FeedRunDraft{}); r.Outcome != core.Done || r.Moved != 3 {
		t.Errorf("the run is %+v", r)
	}
	for _, serial := range []string{"S-002", "S-003", "S-004"} {
		if l := levelOf(t, s, serial); l != "strong" {
			t.Errorf("%s stands at %s after its cure", serial, l)
		}
	}

	// A partner that is away takes nothing from anybody; it is stale one day, and never a failure of theirs.
	_, _ = http.Post(url+"/door", "", nil)
	if r = again(t, s, "phones", api.FeedRunDraft{}); r.Outcome != core.Failed || !strings.Contains(r.Error, "503") {
		t.Errorf("the run is %+v", r)
	}
	if l := levelOf(t, s, "S-005"); l != "strong" {
		t.Errorf("S-005 stands at %s while the partner is away", l)
	}
	if list, err := s.Alerts.List(); err != nil ||
		!strings.Contains(fmt.Sprint(list.Items), "The feed phones cannot be fetched") ||
		!strings.Contains(fmt.Sprint(list.Items), "The secret of the feed phones ends") {
		t.Errorf("the alerts are %+v %v", list, err)
	}
	_, _ = http.Post(url+"/door", "", nil)

	// Many at once are more likely a mistake: held until somebody says otherwise.
	for n := 10; n < 17; n++ {
		desk.Turn(fmt.Sprintf("S-%03d", n), "lost")
	}
	if r = again(t, s, "phones", api.FeedRunDraft{}); r.Outcome != core.Done || r.Gone != 0 ||
		!strings.Contains(r.GoneHeld, "7 of 30") {
		t.Errorf("the run is %+v", r)
	}
	if l := levelOf(t, s, "S-010"); l != "strong" {
		t.Errorf("S-010 stands at %s though it is held", l)
	}
	if r = again(t, s, "phones", api.FeedRunDraft{Accept: "they were returned"}); r.Gone != 7 || r.GoneHeld != "" {
		t.Errorf("the run is %+v", r)
	}
	if l := levelOf(t, s, "S-010"); l != "unproven" {
		t.Errorf("S-010 stands at %s", l)
	}
	checkRestart(t, s, dir, "phones")
}

// checkRestart opens the records again: the feed is as it was, and its place too.
func checkRestart(t *testing.T, s *Service, dir, id string) {
	t.Helper()
	before, err := s.Feeds.Show(id)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = feeding(t, dir)
	after, err := s.Feeds.Show(id)
	if err != nil || len(after.Runs) != len(before.Runs) || after.NextAt != before.NextAt {
		t.Errorf("after a restart it is %+v (%v)", after, err)
	}
	if r := again(t, s, id, api.FeedRunDraft{}); r.Outcome != core.Done {
		t.Errorf("with the secret that was kept the run is %+v", r)
	}
	// Removed with its readings, nothing of what it said counts.
	if _, err := s.Feeds.Remove(t.Context(), "ada", id, api.FeedRemoval{Reason: "r", Readings: "forget"}); err == nil {
		t.Error("a feed is removed without a word on its readings")
	}
	out, err := s.Feeds.Remove(t.Context(), "ada", id, api.FeedRemoval{Reason: "the contract ended",
		Readings: "take-back"})
	if err != nil || out.Devices < 20 {
		t.Fatalf("%+v %v", out, err)
	}
	if l := levelOf(t, s, "S-005"); l != "unproven" {
		t.Errorf("S-005 stands at %s after the feed", l)
	}
	if d := s.Snapshot().Named("S-005"); d == nil || !strings.Contains(string(d.Record.MarshalSource("desk")),
		"the contract ended") {
		t.Error("nobody is told why")
	}
}

// partner answers with what a test has for it.
type partner struct {
	mu     sync.Mutex
	answer func(w http.ResponseWriter, r *http.Request, n int)
	asked  []string // addresses
	auth   []string
}

func (p *partner) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	p.asked, p.auth = append(p.asked, r.URL.String()), append(p.auth, r.Header.Get("Authorization"))
	n, answer := len(p.asked), p.answer
	p.mu.Unlock()
	answer(w, r, n)
}

func (p *partner) will(answer func(w http.ResponseWriter, r *http.Request, n int)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.answer, p.asked, p.auth = answer, nil, nil
}

func (p *partner) requests() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string{}, p.asked...)
}

// one writes a page with machines.
func one(w http.ResponseWriter, after string, refs ...string) {
	w.Header().Set("Content-Type", "application/json")
	var items []string
	for _, ref := range refs {
		items = append(items, fmt.Sprintf(`{"ref":%q,"hardware":{"serial":"S-%s"},"disk":"sealed","trust":"good","lastContact":%d}`, ref, ref, time.Now().Unix()))
	}
	fmt.Fprintf(w, `{"machines":[%s],"paging":{"after":%q}}`, strings.Join(items, ","), after)
}

// Partners that are slow, lie, go on for ever or lead elsewhere: the run ends, says why, and takes
// nothing from any device.
func TestFailingPartners(t *testing.T) {
	t.Parallel()
	stop := make(chan struct{})
	t.Cleanup(func() { close(stop) })
	p := &partner{}
	url := serve(t, p)
	other := &partner{answer: func(w http.ResponseWriter, _ *http.Request, _ int) { one(w, "") }}
	elsewhere := serve(t, other)
	s := feeding(t, t.TempDir())
	settings := core.Settings{ID: "f", Source: "desk", URL: url + "/m", Every: "1h", Whole: true,
		Mapping: json.RawMessage(deskMap),
		SignIn:  core.SignIn{By: core.Bearer}, Pages: core.Pages{By: core.ByText, At: "/paging/after", Parameter: "after"}}
	p.will(func(w http.ResponseWriter, r *http.Request, _ int) { one(w, "", "a", "b") })
	if _, err := s.Feeds.Add(t.Context(), "ada", api.FeedDraft{Feed: settings, Secret: "sesame"}); err != nil {
		t.Fatal(err)
	}
	if r := ran(t, s, "f", 0); r.Outcome != core.Done || r.Accepted != 2 {
		t.Fatalf("%+v", r)
	}
	linked, counted, plain := settings, settings, settings
	linked.Pages = core.Pages{By: core.ByLink}
	counted.Pages = core.Pages{By: core.ByCount, Parameter: "from"}
	plain.Pages = core.Pages{}
	addressed := settings
	addressed.Pages.Parameter = ""
	for _, c := range []struct {
		name   string
		set    core.Settings
		answer func(w http.ResponseWriter, r *http.Request, n int)
		want   string
	}{
		{"a redirect inside", settings, func(w http.ResponseWriter, r *http.Request, _ int) {
			http.Redirect(w, r, "http://169.254.169.254/", http.StatusFound)
		}, "redirects are not followed"},
		{"a page for people", settings, func(w http.ResponseWriter, _ *http.Request, _ int) {
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<html>Sign in")
		}, `text/html, which is none of JSON, NDJSON and CSV; it begins with "<html>Sign in"`},
		{"no type", settings, func(w http.ResponseWriter, _ *http.Request, _ int) {
			w.Header()["Content-Type"] = nil
			fmt.Fprint(w, "{}")
		},
			"nothing said of its type"},
		{"a loop of cursors", settings, func(w http.ResponseWriter, _ *http.Request,
			n int) {
			one(w, strconv.Itoa(n%3), "a"+strconv.Itoa(n))
		},
			"the pages go round"},
		{"endless empty pages", settings, func(w http.ResponseWriter, _ *http.Request,
			n int) {
			one(w, strconv.Itoa(n))
		}, "have no items"},
		{"the same page for every offset", counted, func(w http.ResponseWriter, _ *http.Request, _ int) {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"machines":[{"ref":"a","hardware":{"serial":"S-a"},"disk":"sealed","lastContact":1}]}`)
		}, "is the same as one before"},
		{"the same page for every cursor", settings, func(w http.ResponseWriter, _ *http.Request, n int) {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintf(w, `{"machines":[{"ref":"a"}],"paging":{"after":{"n":%d}}}`, n)
		}, "the cursor cannot be read"},
		{"a link to elsewhere", linked, func(w http.ResponseWriter, _ *http.Request, _ int) {
			w.Header().Set("Link", "<"+elsewhere+"/m>; rel=\"next\"")
			one(w, "", "a")
		}, "not with the same partner"},
		{"a cursor to elsewhere", addressed, func(w http.ResponseWriter, _ *http.Request,
			_ int) {
			one(w, elsewhere+"/m", "a")
		},
			"not with the same partner"},
		{"a cursor to a file", addressed, func(w http.ResponseWriter, _ *http.Request,
			_ int) {
			one(w, "file:///etc/passwd", "a")
		},
			"not with the same partner"},
		{"it does not let us in", settings, func(w http.ResponseWriter, _ *http.Request,
			_ int) {
			w.WriteHeader(http.StatusUnauthorized)
		},
			"does not let us in"},
		{"busy for long", settings, func(w http.ResponseWriter, _ *http.Request, _ int) {
			w.Header().Set("Retry-After", "7200")
			w.WriteHeader(http.StatusTooManyRequests)
		}, "429"},
		{"it breaks off", settings, func(w http.ResponseWriter, _ *http.Request, n int) {
			if n == 1 {
				one(w, "x", "a", "c")
				return
			}
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"machines":[{"ref":"d","hardware":`)
		}, "not JSON"},
		{"it breaks off within what it promised", plain, func(w http.ResponseWriter, _ *http.Request, _ int) {
			w.Header().Set("Content-Type", "application/json")
			w.Header().Set("Content-Length", "9000")
			fmt.Fprint(w, `{"machines":[{"ref":"d","hardware":`)
		}, "unexpected EOF"},
		{"it stalls", plain, func(w http.ResponseWriter, r *http.Request, _ int) {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"machines":[`)
			w.(http.Flusher).Flush()
			select {
			case <-stop:
			case <-r.Context().Done():
			}
		}, "nothing more came"},
		{"one item without end", plain, func(w http.ResponseWriter, _ *http.Request, _ int) {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"machines":[{"ref":"`, strings.Repeat("x", 8<<20), `"}]}`)
		}, "larger than"},
		{"no list", plain, func(w http.ResponseWriter, _ *http.Request, _ int) {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"error":"maintenance"}`)
		}, "there is nothing at /machines"},
		{"nothing new, though it was not asked that", settings, func(w http.ResponseWriter, _ *http.Request,
			_ int) {
			w.WriteHeader(http.StatusNotModified)
		},
			"though it was not asked that"},
		{"an error", settings, func(w http.ResponseWriter, _ *http.Request, _ int) { http.Error(w, "out of order", 500) },
			`500 Internal Server Error, which begins with "out of order"`},
		{"it lists nobody", settings, func(w http.ResponseWriter, _ *http.Request, _ int) { one(w, "") }, ""},
		{"items that say nothing of whose they are", settings, func(w http.ResponseWriter, _ *http.Request, _ int) {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"machines":[{"colour":"blue"}]}`)
		}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			p.will(c.answer)
			f, err := s.Feeds.Show("f")
			if err != nil {
				t.Fatal(err)
			}
			if _, err := s.Feeds.Change(t.Context(), "ada", "f", api.FeedDraft{Feed: c.set}); err != nil {
				t.Fatal(err)
			}
			r := ran(t, s, "f", f.Runs[0].Number)
			if c.want != "" && (r.Outcome != core.Failed || !strings.Contains(r.Error, c.want)) || c.want == "" &&
				r.GoneHeld == "" || r.Gone > 0 {
				t.Errorf("the run is %+v, want %q", r, c.want)
			}
			for _, serial := range []string{"S-a", "S-b"} {
				if l := levelOf(t, s, serial); l != "strong" {
					t.Errorf("%s stands at %s", serial, l)
				}
			}
		})
	}
	if n := len(other.requests()); n > 0 {
		t.Errorf("somebody else was asked %d times, with what is for the partner alone", n)
	}
	if s.Snapshot().Named("S-c") == nil {
		t.Error("what came before a page that broke off was not taken")
	}

	// One that is busy for a moment is asked again; one whose clock is off is told of.
	p.will(func(w http.ResponseWriter, _ *http.Request, n int) {
		if n == 1 {
			w.Header().Set("Retry-After", "0")
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		w.Header().Set("Date", time.Now().Add(9*time.Minute).UTC().Format(http.TimeFormat))
		one(w, "", "a", "b", "c")
	})
	f, _ := s.Feeds.Show("f")
	if _, err := s.Feeds.Change(t.Context(), "ada", "f", api.FeedDraft{Feed: settings}); err != nil {
		t.Fatal(err)
	}
	if r := ran(t, s, "f", f.Runs[0].Number); r.Outcome != core.Done || !strings.Contains(r.Clock, "ahead of ours") {
		t.Errorf("the run is %+v", r)
	}
}

// The secret of a feed goes where it was given for, and nowhere else.
func TestTheSecretOfAFeedStays(t *testing.T) {
	t.Parallel()
	p, ctx := &partner{answer: func(w http.ResponseWriter, _ *http.Request, _ int) { one(w, "", "a") }}, t.Context()
	url, dir := serve(t, p), t.TempDir()
	s := feeding(t, dir)
	set := core.Settings{ID: "f", Source: "desk", URL: url + "/m", Mapping: json.RawMessage(deskMap),
		SignIn: core.SignIn{By: core.Basic, User: "ann"}}
	if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: set}); err == nil {
		t.Error("a feed that signs in has no secret")
	}
	if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: set, Secret: "sesame",
		SecretUntil: "2020-01-01T00:00:00Z"}); err == nil {
		t.Error("a secret that has ended is taken")
	}
	if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: set, Secret: "sesame"}); err != nil {
		t.Fatal(err)
	}
	if r := ran(t, s, "f", 0); r.Outcome != core.Done || p.auth[0] != "Basic YW5uOnNlc2FtZQ==" {
		t.Errorf("%+v %v", r, p.auth)
	}
	for name, change := range map[string]func(*core.Settings){
		"host":   func(s *core.Settings) { s.URL = "http://127.0.0.2:9/m" },
		"scheme": func(s *core.Settings) { s.URL = strings.Replace(s.URL, "http:", "https:", 1) },
		"way":    func(s *core.Settings) { s.SignIn = core.SignIn{By: core.Bearer} },
		"user":   func(s *core.Settings) { s.SignIn.User = "bo" },
		"token": func(s *core.Settings) {
			s.SignIn = core.SignIn{By: core.OAuth, ClientID: "x", TokenURL: "http://127.0.0.2:9/token"}
		},
	} {
		other := set
		change(&other)
		if _, err := s.Feeds.Change(ctx, "ada", "f", api.FeedDraft{Feed: other}); err == nil ||
			!strings.Contains(err.Error(), "give it again") {
			t.Errorf("%s: the secret follows: %v", name, err)
		}
		if _, err := s.Feeds.Try(ctx, api.FeedTrialDraft{Feed: other, Of: "f"}); err == nil ||
			!strings.Contains(err.Error(), "give it again") {
			t.Errorf("%s: the secret follows to a trial: %v", name, err)
		}
	}
	var wrong *fault.InputError
	for pointer, change := range map[string]func(*core.Settings){
		"/feed/url":               func(s *core.Settings) { s.URL = "http://10.1.1.1/m" },
		"/feed/folder":            func(s *core.Settings) { s.URL, s.SignIn, s.Folder = "", core.SignIn{}, "/etc" },
		"/feed/source":            func(s *core.Settings) { s.Source = "nobody" },
		"/feed/mapping":           func(s *core.Settings) { s.Mapping = json.RawMessage(`{"identity":{"colour":"x"}}`) },
		"/feed/every":             func(s *core.Settings) { s.Every = "1s" },
		"/feed/pages/at":          func(s *core.Settings) { s.Pages.By = core.ByText },
		"/feed/sign_in/token_url": func(s *core.Settings) { s.SignIn = core.SignIn{By: core.OAuth, ClientID: "x"} },
		"/feed/kind":              func(s *core.Settings) { s.Kind = "cats" },
		"/feed/id":                func(s *core.Settings) { s.ID = "../f" },
	} {
		other := set
		other.ID = "g"
		change(&other)
		if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: other, Secret: "x"}); !errors.As(err, &wrong) ||
			wrong.Pointer != pointer {
			t.Errorf("%s: %v", pointer, err)
		}
	}
	set.Whole, set.ID = true, "g"
	if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: set, Secret: "x"}); err == nil ||
		!strings.Contains(err.Error(), "speaks as desk too") {
		t.Errorf("two feeds of a source, one of them whole: %v", err)
	}
	// With another key beside the records the secret cannot be opened: said, and not sent.
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "secrets.key"), []byte(strings.Repeat("k", 32)), 0o600); err != nil {
		t.Fatal(err)
	}
	s, n := feeding(t, dir), len(p.requests())
	if r := again(t, s, "f", api.FeedRunDraft{}); r.Outcome != core.Failed ||
		!strings.Contains(r.Error, "another key") || len(p.requests()) > n {
		t.Errorf("the run is %+v", r)
	}
}

// What has not changed is not fetched again, unless somebody asks or more of it counts; and who
// is asked for changes alone is asked for everything now and then.
func TestFeedsAskForWhatDiffers(t *testing.T) {
	t.Parallel()
	p, ctx := &partner{}, t.Context()
	url := serve(t, p)
	s := feeding(t, t.TempDir())
	p.will(func(w http.ResponseWriter, r *http.Request, _ int) {
		w.Header().Set("ETag", `"7"`)
		if r.Header.Get("If-None-Match") == `"7"` {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		one(w, "", "a")
	})
	set := core.Settings{ID: "f", Source: "desk", URL: url + "/m", Every: "1m", Mapping: json.RawMessage(deskMap)}
	if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: set}); err != nil {
		t.Fatal(err)
	}
	first := ran(t, s, "f", 0)
	due := func(after int) core.Run { return byItself(t, s, "f", after) }
	r := due(first.Number)
	if r.Outcome != core.Unchanged || r.Items != 0 {
		t.Errorf("what has not changed is fetched: %+v", r)
	}
	if r = again(t, s, "f", api.FeedRunDraft{}); r.Outcome != core.Done || r.Items != 1 {
		t.Errorf("who asks gets %+v", r)
	}
	if _, _, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: fed + "# more\n"}}}); err != nil {
		t.Fatal(err)
	}
	if r = due(r.Number); r.Outcome != core.Done {
		t.Errorf("under another rulebook it is %+v", r)
	}
	// An inventory that does not say when it observed what is news each time.
	unseen := set
	unseen.Mapping = json.RawMessage(strings.Replace(deskMap,
		`"observed_at": {"from": "/lastContact", "form": "unix"},`, "", 1))
	if _, err := s.Feeds.Change(ctx, "ada", "f", api.FeedDraft{Feed: unseen}); err != nil {
		t.Fatal(err)
	}
	r = ran(t, s, "f", r.Number)
	if r = due(r.Number); r.Outcome != core.Done {
		t.Errorf("without moments it is %+v", r)
	}
	// Changes alone, from before the last run on.
	set.Since = core.Since{Parameter: "changed", Form: "unix", FullEvery: "24h"}
	if _, err := s.Feeds.Change(ctx, "ada", "f", api.FeedDraft{Feed: set}); err != nil {
		t.Fatal(err)
	}
	r = ran(t, s, "f", r.Number)
	if asked := p.requests(); !r.Full || strings.Contains(asked[len(asked)-1], "changed") {
		t.Errorf("the first run is %+v", r)
	}
	if r = due(r.Number); r.Full {
		t.Errorf("the second run is %+v", r)
	}
	asked := p.requests()
	_, text, _ := strings.Cut(asked[len(asked)-1], "changed=")
	if at, err := strconv.ParseInt(text, 10, 64); err != nil || time.Since(time.Unix(at, 0)) < 4*time.Minute ||
		time.Since(time.Unix(at, 0)) > 7*time.Minute {
		t.Errorf("it asks for %s", asked[len(asked)-1])
	}
	if r = again(t, s, "f", api.FeedRunDraft{Full: true}); !r.Full {
		t.Errorf("who asks for all gets %+v", r)
	}
}

// What is held back is looked at with every run, also when the partner's list stays as it is.
func TestWhatIsHeldStaysInSight(t *testing.T) {
	t.Parallel()
	p, ctx := &partner{}, t.Context()
	url := serve(t, p)
	s := feeding(t, t.TempDir())
	list := func(n int) func(http.ResponseWriter, *http.Request, int) {
		tag := fmt.Sprintf("%q", fmt.Sprint(n))
		return func(w http.ResponseWriter, r *http.Request, _ int) {
			if w.Header().Set("ETag", tag); r.Header.Get("If-None-Match") == tag {
				w.WriteHeader(http.StatusNotModified)
				return
			}
			refs := make([]string, n)
			for i := range refs {
				refs[i] = fmt.Sprint("r", i)
			}
			one(w, "", refs...)
		}
	}
	p.will(list(30))
	set := core.Settings{ID: "f", Source: "desk", URL: url + "/m", Every: "1m", Whole: true,
		Mapping: json.RawMessage(deskMap)}
	if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: set}); err != nil {
		t.Fatal(err)
	}
	r := ran(t, s, "f", 0)
	p.will(list(10))
	for range 2 {
		if r = byItself(t, s, "f", r.Number); r.Outcome != core.Done || r.GoneHeld == "" {
			t.Fatalf("%+v", r)
		}
	}
	if list, err := s.Alerts.List(); err != nil || !strings.Contains(fmt.Sprint(list.Items), "20 of 30 devices") {
		t.Errorf("the alerts are %+v %v", list, err)
	}
	if r = again(t, s, "f", api.FeedRunDraft{Accept: "sold"}); r.Gone != 20 {
		t.Errorf("%+v", r)
	}
	if r = byItself(t, s, "f", r.Number); r.Outcome != core.Unchanged {
		t.Errorf("%+v", r)
	}
}

// Who is gone is gone once, whatever of their word has run out by itself.
func TestGoneOnce(t *testing.T) {
	t.Parallel()
	p, ctx := &partner{}, t.Context()
	url := serve(t, p)
	s := feeding(t, t.TempDir())
	if _, _, err := s.Admin.Publish(ctx, "author", api.Draft{Files: []rulebook.File{{Name: "r.yaml",
		Text: strings.Replace(fed, "{for: 24h}", "{for: 1s}", 1)}}}); err != nil {
		t.Fatal(err)
	}
	p.will(func(w http.ResponseWriter, _ *http.Request, _ int) { one(w, "", "a", "b") })
	set := core.Settings{ID: "f", Source: "desk", URL: url + "/m", Every: "1h", Whole: true,
		Mapping: json.RawMessage(deskMap)}
	if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: set}); err != nil {
		t.Fatal(err)
	}
	ran(t, s, "f", 0)
	time.Sleep(2100 * time.Millisecond) // the word of the partner ends
	p.will(func(w http.ResponseWriter, _ *http.Request, _ int) { one(w, "", "a") })
	for i, want := range []int{1, 0, 0} {
		if r := again(t, s, "f", api.FeedRunDraft{}); r.Gone != want {
			t.Errorf("run %d: %+v, want %d gone", i, r, want)
		}
	}
}

// byItself has the schedule of a feed come round, and returns the run.
func byItself(t *testing.T, s *Service, id string, after int) core.Run {
	t.Helper()
	pause := func(status string) {
		if _, err := s.Feeds.SetStatus(t.Context(), "ada", id,
			api.FeedStatusDraft{Status: status, Reason: "a trial"}); err != nil {
			t.Fatal(err)
		}
	}
	pause("paused")
	if err := s.Do(t.Context(), func(c *state.Change) error {
		p := *state.Get(c, state.FeedPlaceKind, id)
		p.NextAt = 0
		return state.Put(c, state.FeedPlaceKind, id, &p)
	}); err != nil {
		t.Fatal(err)
	}
	pause("enabled")
	return ran(t, s, id, after)
}

// Pages by links and by offsets bring every item once.
func TestWaysToPage(t *testing.T) {
	t.Parallel()
	p, ctx := &partner{}, t.Context()
	url := serve(t, p)
	s := feeding(t, t.TempDir())
	refs := []string{"a", "b", "c", "d", "e"}
	for id, c := range map[string]struct {
		pages  core.Pages
		answer func(w http.ResponseWriter, r *http.Request, n int)
		asked  int
	}{
		"linked": {core.Pages{By: core.ByLink, SizeParameter: "n", Size: 2},
			func(w http.ResponseWriter, r *http.Request, n int) {
				at, _ := strconv.Atoi(r.FormValue("at"))
				w.Header().Add("Link", `</first>; rel="first"`)
				if at+2 < len(refs) {
					w.Header().Add("Link", fmt.Sprintf(`<?at=%d>; rel="prefetch next"; title="a, b"`, at+2))
				}
				one(w, "", refs[at:min(at+2, len(refs))]...)
			}, 3},
		// It gives fewer than asked for, and has more all the same.
		"counted": {core.Pages{By: core.ByCount, Parameter: "from", SizeParameter: "n", Size: 100},
			func(w http.ResponseWriter, r *http.Request, n int) {
				at, _ := strconv.Atoi(r.FormValue("from"))
				one(w, "", refs[at:min(at+2, len(refs))]...)
			}, 4},
	} {
		p.will(c.answer)
		set := core.Settings{ID: id, Source: "desk", URL: url + "/m?x=1", Mapping: json.RawMessage(deskMap), Pages: c.pages}
		if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: set}); err != nil {
			t.Fatal(err)
		}
		if r := ran(t, s, id, 0); r.Outcome != core.Done || r.Items != 5 || len(p.requests()) != c.asked {
			t.Errorf("%s: %+v %v", id, r, p.requests())
		}
	}
}

// A folder's files are read below those the service was started with; what they do not say they
// observed when they were written, and not now.
func TestAFolder(t *testing.T) {
	t.Parallel()
	top, ctx := t.TempDir(), t.Context()
	in := filepath.Join(top, "in")
	if err := errors.Join(os.Mkdir(in, 0o755), os.Symlink("/etc", filepath.Join(top, "out")),
		os.WriteFile(filepath.Join(in, "a.csv"), []byte("Serial,Disk\nS-1,yes\nS-2,no\n"), 0o644),
		os.WriteFile(filepath.Join(in, "readme.txt"), []byte("not read"), 0o644)); err != nil {
		t.Fatal(err)
	}
	week := time.Now().Add(-7 * 24 * time.Hour)
	if err := os.Chtimes(filepath.Join(in, "a.csv"), week, week); err != nil {
		t.Fatal(err)
	}
	s := feeding(t, t.TempDir(), top)
	set := core.Settings{ID: "f", Source: "agent", Folder: in,
		Mapping: json.RawMessage(`{"identity":{"serial":"Serial"},"evidence":{"storage.encrypted":{"from":"Disk","words":{"yes":true,"no":false}}}}`)}
	for _, bad := range []string{filepath.Join(top, "out"), "/etc", top + "/../etc", "in"} {
		other := set
		other.Folder = bad
		if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: other}); err == nil {
			t.Errorf("the folder %s is read", bad)
		}
	}
	if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: set}); err != nil {
		t.Fatal(err)
	}
	if r := ran(t, s, "f", 0); r.Outcome != core.Done || r.Items != 2 || r.New != 2 {
		t.Errorf("%+v", r)
	}
	if l := levelOf(t, s, "S-1"); l != "unproven" { // a week old is stale
		t.Errorf("what was written a week ago counts as of now: S-1 stands at %s", l)
	}
	now := time.Now()
	if err := os.Chtimes(filepath.Join(in, "a.csv"), now, now); err != nil {
		t.Fatal(err)
	}
	if r := again(t, s, "f", api.FeedRunDraft{}); r.Outcome != core.Done || levelOf(t, s, "S-1") != "sound" ||
		levelOf(t, s, "S-2") != "limited" {
		t.Errorf("%+v %s %s", r, levelOf(t, s, "S-1"), levelOf(t, s, "S-2"))
	}
}

// People come from a feed too, behind the guard of an import.
func TestPeopleFromAFeed(t *testing.T) {
	t.Parallel()
	p, ctx := &partner{}, t.Context()
	url := serve(t, p)
	s := feeding(t, t.TempDir())
	list := func(n int, odd string) func(w http.ResponseWriter, _ *http.Request, _ int) {
		return func(w http.ResponseWriter, _ *http.Request, _ int) {
			w.Header().Set("Content-Type", "text/csv")
			fmt.Fprint(w, "Mail,Full name,Roles\n"+odd)
			for i := range n {
				fmt.Fprintf(w, "p%d@gullholm.example,Person %d,crew;deck\n", i, i)
			}
		}
	}
	p.will(list(20, ""))
	set := core.Settings{ID: "crew", Kind: core.People, URL: url + "/p", Whole: true,
		Mapping: json.RawMessage(`{"person":{"id":"Mail","name":"Full name","groups":"Roles"}}`)}
	if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: set}); err != nil {
		t.Fatal(err)
	}
	if r := ran(t, s, "crew", 0); r.Outcome != core.Done || r.New != 20 || s.Snapshot().People.Len() != 20 {
		t.Fatalf("%+v", r)
	}
	p.will(list(4, ""))
	if r := again(t, s, "crew", api.FeedRunDraft{}); r.Outcome != core.Failed ||
		!strings.Contains(r.Error, "16 of the 20 people") || s.Snapshot().People.Len() != 20 {
		t.Errorf("%+v", r)
	}
	// Who cannot be read has not left.
	p.will(list(19, ",Nobody,crew\n"))
	if r := again(t, s, "crew", api.FeedRunDraft{}); r.Outcome != core.Done || r.GoneHeld == "" ||
		r.Rejected != 1 || s.Snapshot().People.Len() != 20 {
		t.Errorf("%+v", r)
	}
	p.will(list(4, ""))
	if r := again(t, s, "crew", api.FeedRunDraft{Accept: "the ship was sold"}); r.Outcome != core.Done ||
		r.Gone != 16 || s.Snapshot().People.Len() != 4 {
		t.Errorf("%+v", r)
	}
}

// A partner whose certificate nobody vouches for is not asked; one that is named is.
func TestAPartnerIsKnownByItsCertificate(t *testing.T) {
	t.Parallel()
	p, ctx := &partner{answer: func(w http.ResponseWriter, _ *http.Request, _ int) { one(w, "", "a") }}, t.Context()
	tls := httptest.NewTLSServer(p)
	t.Cleanup(tls.Close)
	s := feeding(t, t.TempDir())
	set := core.Settings{ID: "f", Source: "desk", URL: tls.URL + "/m", Mapping: json.RawMessage(deskMap),
		SignIn: core.SignIn{By: core.Bearer}}
	if _, err := s.Feeds.Add(ctx, "ada", api.FeedDraft{Feed: set, Secret: "sesame"}); err != nil {
		t.Fatal(err)
	}
	if r := ran(t, s, "f", 0); r.Outcome != core.Failed || !strings.Contains(r.Error, "certificate") ||
		len(p.requests()) > 0 {
		t.Errorf("%+v", r)
	}
	set.SignIn.Trust = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: tls.Certificate().Raw}))
	f, _ := s.Feeds.Show("f")
	if _, err := s.Feeds.Change(ctx, "ada", "f", api.FeedDraft{Feed: set, Secret: "sesame"}); err != nil {
		t.Fatal(err)
	}
	if r := ran(t, s, "f", f.Runs[0].Number); r.Outcome != core.Done {
		t.Errorf("%+v", r)
	}
}

// A service that stops in the middle of a run begins it again, and nobody is taken for gone by half a list.
func TestARunIsBrokenOff(t *testing.T) {
	t.Parallel()
	p, dir := &partner{}, t.TempDir()
	url := serve(t, p)
	s := feeding(t, dir)
	p.will(func(w http.ResponseWriter, _ *http.Request, _ int) { one(w, "", "a", "b", "c") })
	set := core.Settings{ID: "f", Source: "desk", URL: url + "/m", Every: "1h", Whole: true,
		Mapping: json.RawMessage(deskMap),
		Pages:   core.Pages{By: core.ByText, At: "/paging/after", Parameter: "after"}}
	if _, err := s.Feeds.Add(t.Context(), "ada", api.FeedDraft{Feed: set}); err != nil {
		t.Fatal(err)
	}
	first := ran(t, s, "f", 0)
	half := make(chan struct{})
	p.will(func(w http.ResponseWriter, r *http.Request, n int) {
		if n == 1 {
			one(w, "x", "a")
			return
		}
		if n == 2 {
			close(half)
		}
		<-r.Context().Done()
	})
	if _, err := s.Feeds.Run(context.Background(), "ada", "f", api.FeedRunDraft{}); err != nil {
		t.Fatal(err)
	}
	<-half
	if f, err := s.Feeds.Show("f"); err != nil || f.Running.Pages != 1 || f.Running.Items != 1 {
		t.Errorf("it is %+v %v", f.Running, err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = feeding(t, dir)
	if f, err := s.Feeds.Show("f"); err != nil || f.Runs[0].Number != first.Number || levelOf(t, s, "S-b") != "strong" {
		t.Errorf("after it was broken off: %+v %v %s", f, err, levelOf(t, s, "S-b"))
	}
}

// A partner's word that a device is genuine counts for as long as the rulebook has it, from when it was said, and
// is nobody's whom the rulebook does not let vouch.
func TestAPartnersWord(t *testing.T) {
	t.Parallel()
	s := feeding(t, t.TempDir())
	a, ctx := &acts{s: s}, t.Context()
	says := func(source string, vouch string, ago time.Duration) {
		t.Helper()
		if err := a.take(ctx, fmt.Sprintf(`{"source":%q,"observed_at":%q,"identity":{"id":"d1","serial":"S-1"},"evidence":{"storage.encrypted":true},"vouch":%s}`,
			source, time.Now().Add(-ago).UTC().Format(time.RFC3339Nano), vouch)); err != nil {
			t.Fatal(err)
		}
	}
	level := func(why, want string) {
		t.Helper()
		if l := levelOf(t, s, "d1"); l != want {
			t.Errorf("%s: d1 stands at %s, want %s", why, l, want)
		}
	}
	says("agent", "true", 0)
	level("a source that may not vouch", "sound")
	says("desk", "true", 25*time.Hour)
	level("a word that is too old", "sound")
	says("desk", "true", time.Minute)
	level("a word", "strong")
	says("desk", "false", time.Hour)
	level("an older word", "strong")
	says("desk", "false", time.Second)
	level("it is taken back", "sound")
	says("desk", "true", 0)
	level("said again", "strong")
	v := s.Snapshot().Named("d1").Vouches
	if len(v) != 1 || v[0].Source != "desk" {
		t.Fatalf("the vouches are %+v", v)
	}
	// The rulebook lets it vouch for less, or not at all: that counts at once.
	for _, x := range [][2]string{{"vouches: {for: 1s}", "sound"}, {"", "sound"}, {"vouches: {for: 12h}", "strong"}} {
		text, want := x[0], x[1]
		time.Sleep(1100 * time.Millisecond)
		if _, _, err := s.Admin.Publish(ctx, "author", api.Draft{Files: []rulebook.File{{Name: "r.yaml",
			Text: strings.Replace(fed, "vouches: {for: 24h}", text, 1)}}}); err != nil {
			t.Fatal(err)
		}
		level(text, want)
	}
	// Somebody of the house ends it: it does not come back by itself.
	if _, err := s.Admin.Revoke(ctx, "astrid", v[0].ID, "we saw it on the quay"); err != nil {
		t.Fatal(err)
	}
	says("desk", "true", 0)
	level("it was ended by hand", "sound")
	if d := s.Snapshot().Named("d1"); !strings.Contains(fmt.Sprint(d.Refused), "we saw it on the quay") {
		t.Errorf("nobody is told why: %v", d.Refused)
	}
}
