package e2e

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ironledger.example/internal/standin"
)

// phoneDesk is a stand-in for a partner with a few machines.
func phoneDesk(t *testing.T) (*standin.Desk, string) {
	t.Helper()
	var machines []standin.Machine
	for n := range 25 {
		var m standin.Machine
		m.Ref, m.Disk, m.Trust = fmt.Sprintf("PD-%d", n), "sealed", "good"
		m.Hardware.Serial, m.Hardware.Kind = fmt.Sprintf("GF-F-%d", n), "phone"
		m.System.Family, m.System.Version = "Pocket", "18.1"
		machines = append(machines, m)
	}
	desk := standin.NewDesk("gullholm", machines)
	s := httptest.NewServer(desk)
	t.Cleanup(s.Close)
	return desk, s.URL
}

const feedBook = `rulebook: r
sources: [{id: desk, provides: [platform, os, storage], identifies: true, vouches: {for: 1d}}, {id: agent, provides: ["*"]}]
baselines: [{id: b, rules: [{id: disk, check: storage.encrypted, cap: limited}, {id: known, check: vouched, cap: limited}]}]
`

// A feed is tried, added, fetched, paused and removed from the command line, and the secret stands nowhere.
func TestFeedsFromTheCommandLine(t *testing.T) {
	dir := t.TempDir()
	s := start(t, "serve", dir, "--call-inside", "127.0.0.0/8")
	s.run(t, feedBook, "rulebook", "publish", "-", "--accept-impact", "a trial").want(t, 0)
	desk, url := phoneDesk(t)
	file := filepath.Join(t.TempDir(), "desk.yaml")
	write := func(mapping string) {
		text := fmt.Sprintf(`id: phones
title: Phones
source: desk
url: %s/v1/machines
sign_in: {by: oauth2, client_id: gullholm, token_url: %s/token, scopes: [machines.read]}
pages: {by: cursor, at: /paging/after, parameter: after, size_parameter: limit, size: 10}
every: 1h
whole: true
%s`, url, url, mapping)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("DESK_SECRET", "wrong")
	write("")
	s.run(t, "", "feed", "try", file, "--secret-from", "DESK_SECRET").want(t, 3,
		"It went wrong at the sign-in: no token is given: invalid_client")
	t.Setenv("DESK_SECRET", desk.Secret())
	s.run(t, "", "feed", "try", file, "--secret-from", "DESK_SECRET").want(t, 0,
		"its items at /machines; there is more", "/hardware/serial",
		"identity.serial", "/lastContact", "observed_at", "form unix")
	write(`mapping:
  items: /machines
  observed_at: {from: /lastContact, form: unix}
  identity: {external_id: /ref, serial: /hardware/serial}
  vouch: {from: /trust, words: {good: true, doubtful: false}}
  evidence:
    platform: {from: /system/family, words: {Pocket: ios}}
    os.version: /system/version
    storage.encrypted: {from: /disk, words: {sealed: true, open: false}}
    threat.score: {is: 3}
`)
	s.run(t, "", "feed", "try", file, "--secret-from", "DESK_SECRET", "--items", "1").want(t, 0,
		"a new device", "GF-F-0",
		"threat.score: the source desk may only supply")
	s.run(t, "", "feed", "add", file).want(t, 1, "/secret: the sign-in oauth2 needs a secret")
	s.run(t, "", "feed", "add", file, "--secret-from", "DESK_SECRET", "--secret-until",
		"2090-01-01T00:00:00Z").want(t, 0, "done", "25",
		"threat.score", "item 1")
	s.run(t, "", "device", "list", "--where", "level == strong", "-o", "ndjson").want(t, 0, "GF-F-24")
	s.run(t, "", "feed", "list").want(t, 0, "phones", "done", "25")
	desk.Turn("GF-F-3", "open")
	desk.Turn("GF-F-4", "lost")
	s.run(t, "", "feed", "run", "phones").want(t, 0, "oauth2 as gullholm", "done")
	s.run(t, "", "device", "show", "GF-F-4").want(t, 0, "the feed phones lists it no longer")
	s.run(t, "", "device", "list", "--where", "level == limited", "-o", "ndjson").want(t, 0, "GF-F-3")
	s.run(t, "", "feed", "show", "phones", "-o", "json").want(t, 0, `"gone": 1`).not(t, desk.Secret())
	s.run(t, "", "ledger", "list", "--kind", "feed.changed").want(t, 0, "gone, 1 devices", "added")
	// What stands in the query of an address is for those alone who may change it.
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	s.run(t, strings.Replace(string(text), "/v1/machines\n", "/v1/machines?key=hidden\n", 1), "feed", "add",
		"-", "--replace").want(t, 0, "key=hidden")
	reader := s.token(t, "rhea", "reader")
	for _, path := range []string{"/api/v1/feeds", "/api/v1/feeds/phones"} {
		if r := s.call(t, "GET", path, reader, "", ""); r.status != http.StatusOK ||
			strings.Contains(string(r.body), "hidden") ||
			!strings.Contains(string(r.body), "/v1/machines?…") {
			t.Errorf("%s tells a reader %d %s", path, r.status, r.body)
		}
	}
	for _, path := range []string{"/api/v1/feeds", "/api/v1/feeds/try", "/api/v1/feeds/phones/run",
		"/api/v1/feeds/phones/remove"} {
		s.call(t, "POST", path, reader, "application/json", "{}").into(t, http.StatusForbidden, nil)
	}
	closed, err := http.Post(url+"/door", "", nil)
	if err != nil {
		t.Fatal(err)
	}
	closed.Body.Close()
	s.run(t, "", "feed", "run", "phones").want(t, 1, "the run failed", "503")
	s.run(t, "", "alert", "list").want(t, 0, "The feed phones cannot be fetched")
	s.run(t, "", "feed", "pause", "phones", "--reason", "they move house").want(t, 0, "paused", "they move house")
	s.run(t, "", "feed", "run", "nothing").want(t, 1, "there is no feed nothing")
	s.run(t, "id: x\ncolour: blue\n", "feed", "add", "-").want(t, 1, `unknown field "colour"`)
	s.run(t, "", "feed", "remove", "phones", "--readings", "take-back", "--reason",
		"the contract ended").want(t, 0, "What it said of 25 devices is taken back")
	s.run(t, "", "device", "show", "GF-F-5").want(t, 0, "the feed phones was removed")
	secret := desk.Secret()
	s.stop(t)
	for _, name := range []string{"ironledger.db", "ironledger.db-wal"} {
		if raw, err := os.ReadFile(filepath.Join(dir, name)); err == nil && strings.Contains(string(raw), secret) {
			t.Errorf("the secret stands in %s", name)
		}
	}
}

// choose picks an option of a field by the keyboard, as a person does who knows its words.
func choose(t *testing.T, ctx context.Context, label, words string) {
	t.Helper()
	field := fmt.Sprintf(`input[aria-label=%q]`, label)
	do(t, ctx, chromedp.WaitVisible(chromedp.CSS(fmt.Sprintf(`.el-select:has(%s)`, field))),
		chromedp.Click(chromedp.CSS(fmt.Sprintf(`.el-select:has(%s) .el-select__wrapper`, field))))
	find := fmt.Sprintf(`[...document.querySelectorAll('.el-select-dropdown__item')].find((o) => o.checkVisibility() && o.innerText.trim() === %q)`, words)
	within(t, fmt.Sprintf("%q can be chosen for %s", words, label), func() bool {
		hit, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`((o) => { o?.click(); return Boolean(o) })(`+find+`)`))
		if err != nil {
			t.Fatal(err)
		}
		return hit
	})
}

func typed(t *testing.T, ctx context.Context, name, text string) {
	t.Helper()
	field := chromedp.CSS(fmt.Sprintf(`[name=%s]`, name))
	do(t, ctx, chromedp.WaitVisible(field), chromedp.SendKeys(field, text))
}

// The console leads through setting a feed up, with the partner's answer at each step, and shows how it goes.
func TestTheConsoleSetsAFeedUp(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir(), "--call-inside", "127.0.0.0/8")
	s.run(t, feedBook, "rulebook", "publish", "-", "--accept-impact", "a trial").want(t, 0)
	s.run(t, `{"source":"agent","identity":{"id":"GF-L-1"},"evidence":{"storage.encrypted":false}}`, "device",
		"import", "-").want(t, 0)
	desk, url := phoneDesk(t)
	ctx := browser(t)
	signIn(t, ctx, s)
	open(t, ctx, s.url+"/sources/feeds", "There is none yet")
	press(t, ctx, "Set up a feed…")
	choose(t, ctx, "Source", "desk")
	typed(t, ctx, "url", url+"/v1/machines")
	choose(t, ctx, "How we sign in", "OAuth 2.0 client credentials")
	typed(t, ctx, "client_id", "gullholm")
	typed(t, ctx, "token_url", url+"/token")
	typed(t, ctx, "secret", "wrong")
	press(t, ctx, "Ask the partner")
	until(t, ctx, "It went wrong at signing in: no token is given: invalid_client")
	picture(t, ctx, "feed-refused")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`[name=secret]`), "\b\b\b\b\b"+desk.Secret()))
	typed(t, ctx, "scopes", "machines.read")
	press(t, ctx, "Ask the partner")
	until(t, ctx, "its items at /machines; there is more")
	choose(t, ctx, "How its items go on", "a cursor in the answer")
	typed(t, ctx, "at", "/paging/after")
	typed(t, ctx, "parameter", "after")
	picture(t, ctx, "feed-mapped")
	press(t, ctx, "See what they become")
	until(t, ctx, `"Pocket" is not one of`)
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`[aria-label="Words of /system/family"]`),
		strings.Repeat("\b", 60)+"Pocket: ios"))
	choose(t, ctx, "What /disk is", "storage.encrypted")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`[aria-label="Words of /disk"]`), strings.Repeat("\b", 60)+
		"sealed: true, open: false"))
	press(t, ctx, "See what they become")
	untilNot(t, ctx, `"Pocket" is not one of`)
	picture(t, ctx, "feed-tried")
	typed(t, ctx, "id", "phones")
	press(t, ctx, "Add it, and fetch it")
	until(t, ctx, "the schedule")
	until(t, ctx, "25")
	picture(t, ctx, "feed-ran")
	desk.Turn("GF-F-9", "lost")
	press(t, ctx, "Fetch now")
	until(t, ctx, "first-admin")
	press(t, ctx, "Remove…")
	until(t, ctx, "Take back what it said of 25 devices")
	press(t, ctx, "Leave it")
	press(t, ctx, "Change it")
	until(t, ctx, "Change the feed phones")
	until(t, ctx, "/system/family")
	press(t, ctx, "See what they become")
	until(t, ctx, "a device that is known")
	open(t, ctx, s.url+"/sources/feeds", "phones")
	picture(t, ctx, "feed-list")
}

// A file that a real nginx serves, behind a password and compressed, is a feed; and of one that it sends elsewhere
// the run says so.
func TestAFeedFromNginx(t *testing.T) {
	nginx, err := standin.Find()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil { // nginx gives its workers to nobody when it is started by root
		t.Fatal(err)
	}
	at := freePort(t)
	var items strings.Builder
	for n := range 400 {
		fmt.Fprintf(&items, `{"ref":"m-%d","serial":"GF-N-%d","disk":"sealed","seen":%d}`+"\n", n, n, time.Now().Unix())
	}
	for name, text := range map[string]string{"inventory.ndjson": items.String(),
		"users": "gullholm:{PLAIN}sesame\n", "nginx.conf": fmt.Sprintf(`daemon off; pid nginx.pid;
events {}
http {
  access_log off; types { application/x-ndjson ndjson; } gzip on; gzip_types application/x-ndjson; gzip_proxied any;
  client_body_temp_path .; proxy_temp_path .; fastcgi_temp_path .; uwsgi_temp_path .; scgi_temp_path .;
  server {
    listen %s; root %s; auth_basic inventory; auth_basic_user_file %s/users;
    location /old { return 301 /inventory.ndjson; }
  }
}
`, at, dir, dir)} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command(nginx, "-p", dir, "-c", "nginx.conf", "-e", "stderr")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() }) // its workers with it
	within(t, "nginx answers", func() bool {
		conn, err := net.Dial("tcp", at)
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	s := start(t, "serve", t.TempDir(), "--call-inside", "127.0.0.0/8")
	s.run(t, feedBook, "rulebook", "publish", "-", "--accept-impact", "a trial").want(t, 0)
	feed := func(path string) string {
		return fmt.Sprintf(`id: list
source: desk
url: http://%s/%s
sign_in: {by: basic, user: gullholm}
mapping: {observed_at: {from: /seen, form: unix}, identity: {external_id: /ref, serial: /serial}, evidence: {storage.encrypted: {from: /disk, words: {sealed: true}}}}
`, at, path)
	}
	t.Setenv("LIST_SECRET", "wrong")
	s.run(t, feed("inventory.ndjson"), "feed", "try", "-", "--secret-from", "LIST_SECRET").want(t, 3,
		"does not let us in: 401")
	t.Setenv("LIST_SECRET", "sesame")
	s.run(t, feed("inventory.ndjson"), "feed", "add", "-", "--secret-from", "LIST_SECRET").want(t, 0, "done", "400")
	s.run(t, feed("old"), "feed", "add", "-", "--replace").want(t, 1, "redirects are not followed")
	s.run(t, "", "device", "show", "GF-N-399").want(t, 0, "storage.encrypted")
}
