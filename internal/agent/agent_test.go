package agent

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/internal/collect"
)

// script writes a site check.
func script(t *testing.T, dir, name, text string) string {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.WriteFile(path, []byte(text), 0o755); err != nil {
		t.Fatal(err)
	}
	return path
}

func shared(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "agent-") // where nobody may read too
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

// A site check gives attributes or fails by its name; it never breaks what the others give.
func TestSiteChecks(t *testing.T) {
	dir := shared(t)
	marker := filepath.Join(t.TempDir(), "left")
	for name, text := range map[string]string{
		"a-good":    "#!/bin/sh\necho '{\"custom.dock\": \"north\", \"custom.n\": {\"unavailable\": \"no sensor\"}}'\n",
		"b-twice":   "#!/bin/sh\necho '{\"custom.dock\": \"south\"}'\n",
		"c-nothing": "#!/bin/sh\n",
		"d-words":   "#!/bin/sh\necho all is well\n",
		"e-list":    "#!/bin/sh\necho '[1]'\n",
		"f-two":     "#!/bin/sh\necho '{}{}'\n",
		"g-fails":   "#!/bin/sh\necho 'no such dock' >&2\nexit 3\n",
		"h-slow":    "#!/bin/sh\nsleep 30\n",
		"i-much":    "#!/bin/sh\nyes '{\"a\":1}' | head -c 200000\n",
		"j-leaves": "#!/bin/sh\n(sleep 2; echo x > " + marker +
			") > /dev/null 2>&1 &\necho '{\"custom.j\": true}'\n",
		"j-holds":    "#!/bin/sh\nsleep 9 &\necho '{\"custom.h\": true}'\n",
		"k-no-shell": "\x00\x01",
		"l-env":      "#!/bin/sh\nprintf '{\"custom.env\": \"%s\"}' \"$IRONLEDGER_TOKEN$HOME\"\n",
		"m-who":      "#!/bin/sh\nprintf '{\"custom.who\": \"%s %s\"}' \"$(id -u)\" \"$(id -G)\"\n",
		"n-null":     "#!/bin/sh\necho null\n",
		".hidden":    "#!/bin/sh\necho '{\"custom.hidden\": true}'\n",
	} {
		script(t, dir, name, text)
	}
	t.Setenv("IRONLEDGER_TOKEN", "secret")
	c := Checks{Dir: dir, User: "nobody", For: 3 * time.Second}
	got, err := c.Run(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	failed := map[string]string{}
	for _, x := range got {
		failed[x.Name] = x.Failed
		if (x.Failed == "") == (len(x.Gave) == 0) {
			t.Errorf("%s gave %v and failed with %q", x.Name, x.Gave, x.Failed)
		}
	}
	for name, want := range map[string]string{"a-good": "", "b-twice": "the check a-good gives custom.dock already",
		"c-nothing": "it printed nothing", "d-words": `it printed "all is well`, "e-list": "where a JSON object",
		"f-two":   "more than one",
		"g-fails": "exit status 3: no such dock", "h-slow": "it took longer than 3s",
		"i-much":   "it printed more than 65536 bytes",
		"j-leaves": "", "j-holds": "it left something running that holds", "k-no-shell": "exec format error",
		"l-env": "", "m-who": "", "n-null": "where a JSON object"} {
		if is, there := failed[name]; !there || !strings.Contains(is, want) || (is == "") != (want == "") {
			t.Errorf("%s: %q, %v; %q was expected", name, is, there, want)
		}
	}
	if _, there := failed[".hidden"]; there {
		t.Error("a hidden file was run")
	}
	for _, x := range got {
		switch x.Name {
		case "l-env":
			if string(x.values["custom.env"]) != `""` {
				t.Errorf("a check sees %s of the agent's environment", x.values["custom.env"])
			}
		case "m-who":
			if os.Geteuid() == 0 && string(x.values["custom.who"]) != `"65534 65534"` {
				t.Errorf("a check runs as %s", x.values["custom.who"])
			}
		}
	}
	time.Sleep(2500 * time.Millisecond)
	if _, err := os.Stat(marker); err == nil {
		t.Error("what a check left running went on")
	}
}

// Nothing runs that others than root, or whoever runs the agent, could have changed.
func TestWhoseChecksRun(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root gives files to others")
	}
	const good = "#!/bin/sh\necho '{\"custom.a\": true}'\n"
	for name, c := range map[string]struct {
		spoil func(dir, path string) error
		want  string
	}{
		"sound": {func(string, string) error { return nil }, ""},
		"a file of another": {func(_, path string) error { return os.Chown(path, 65534, 65534) },
			"belongs to the user 65534"},
		"a file for the group": {func(_, path string) error { return os.Chmod(path, 0o775) },
			"can be changed by others"},
		"a file for all": {func(_, path string) error { return os.Chmod(path, 0o757) },
			"can be changed by others"},
		"a folder of another": {func(dir, _ string) error { return os.Chown(dir, 65534, 65534) },
			"belongs to the user 65534"},
		"a folder for all": {func(dir, _ string) error { return os.Chmod(dir, 0o777) },
			"can be changed by others"},
		"a sticky folder": {func(dir, _ string) error { return os.Chmod(dir, 0o777|os.ModeSticky) },
			"can be changed by others"},
		"the folder around it": {func(dir, _ string) error { return os.Chmod(filepath.Dir(dir), 0o777) },
			"can be changed by others"},
		"a link to another's": {func(_, path string) error {
			return errors.Join(os.Remove(path),
				os.Symlink("/bin/true", path))
		}, "is a symbolic link"},
		"a name of another's": {func(dir, path string) error {
			return os.Rename(path, filepath.Join(dir,
				"a b"))
		}, "no name of a site check"},
	} {
		dir := filepath.Join(shared(t), "checks")
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := c.spoil(dir, script(t, dir, "one", good)); err != nil {
			t.Fatal(err)
		}
		got, err := (&Checks{Dir: dir, User: "nobody", For: 10 * time.Second}).Run(t.Context())
		why := ""
		if err != nil {
			why = err.Error()
		} else if len(got) == 1 {
			why = got[0].Failed
		}
		if !strings.Contains(why, c.want) || (why == "") != (c.want == "") {
			t.Errorf("%s: %q; %q was expected", name, why, c.want)
		}
	}
	for user, want := range map[string]string{"": "nobody else was named", "root": "no user without rights",
		"no-such-user": "cannot run as"} {
		dir := shared(t)
		script(t, dir, "one", good)
		if got, err := (&Checks{Dir: dir, User: user, For: 10 * time.Second}).Run(t.Context()); err != nil ||
			!strings.Contains(got[0].Failed, want) {
			t.Errorf("as %q: %+v, %v", user, got, err)
		}
	}
}

// fake is a machine that shows what it is told to.
type fake struct{ evidence map[string]any }

func (f *fake) Report(device, owner string, _ map[string]json.RawMessage, _ time.Time) (*collect.Report, error) {
	out := map[string]any{}
	for k, v := range f.evidence {
		out[k] = v
	}
	return &collect.Report{Identity: map[string]string{"id": device}, Evidence: out}, nil
}

func (f *fake) Watched() []string { return nil }

// What a check gave and gives no more is told as not known, whatever became of the check.
func TestACheckThatFallsSilent(t *testing.T) {
	t.Parallel()
	dir := shared(t)
	r := &Reporter{Machine: &fake{map[string]any{"platform": "linux"}}, Checks: Checks{Dir: dir, User: "nobody",
		For: 5 * time.Second}}
	was := &Status{}
	look := func() *message {
		t.Helper()
		m, st, err := r.look(t.Context(), &Settings{Device: "d"}, was)
		if err != nil {
			t.Fatal(err)
		}
		was = st
		return m
	}
	told := func(what, want string) {
		t.Helper()
		if got := fmt.Sprint(look().Evidence["custom.a"]); !strings.Contains(got, want) {
			t.Errorf("%s: %s; %q was expected", what, got, want)
		}
	}
	path := script(t, dir, "one", "#!/bin/sh\necho '{\"custom.a\": true}'\n")
	if m := look(); string(m.Evidence["custom.a"].(json.RawMessage)) != "true" {
		t.Errorf("a check that works gives %s", m.Evidence["custom.a"])
	}
	script(t, dir, "one", "#!/bin/sh\nexit 1\n")
	told("a check that fails", "the site check one failed: exit status 1")
	told("and fails again", "the site check one failed: exit status 1")
	script(t, dir, "one", "#!/bin/sh\necho '{\"custom.b\": 1}'\n")
	told("a check that says something else", "the site check one says nothing of it any more")
	script(t, dir, "one", "#!/bin/sh\necho '{\"custom.a\": true}'\n")
	look()
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	told("a check that is gone", "the site check one is not there any more")
	script(t, dir, "one", "#!/bin/sh\necho '{\"custom.a\": true}'\n")
	look()
	if err := os.Chmod(dir, 0o777); err != nil {
		t.Fatal(err)
	}
	told("checks that may not run", "the site check one does not run")
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if m := look(); m.Checks["one"].Failed != "" || len(was.Gave["one"]) != 1 {
		t.Errorf("a check that works again: %+v", m.Checks)
	}
}

// What waits is bounded, in order, and of a run of the same only the ends.
func TestTheQueue(t *testing.T) {
	t.Parallel()
	f, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	var lines [][]byte
	add := func(at int, value string) {
		t.Helper()
		m := &message{ObservedAt: fmt.Sprint(at), Evidence: map[string]any{"v": value}}
		if lines, err = enqueue(lines, m); err != nil {
			t.Fatal(err)
		}
	}
	for i, v := range []string{"a", "a", "a", "a", "b", "b", "a"} {
		add(i, v)
	}
	seen := func() (out []string) {
		kept, err := f.queued()
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range kept {
			var m message
			if err := json.Unmarshal(l, &m); err != nil {
				t.Fatal(err)
			}
			out = append(out, m.ObservedAt+fmt.Sprint(m.Evidence["v"]))
		}
		return out
	}
	if err := f.queue(lines); err != nil {
		t.Fatal(err)
	}
	if got := seen(); !slices.Equal(got, []string{"0a", "3a", "4b", "5b", "6a"}) {
		t.Errorf("there wait %v", got)
	}
	for i := range 2 * maxQueued {
		add(100+i, fmt.Sprint(i))
	}
	if err := f.queue(lines); err != nil {
		t.Fatal(err)
	}
	if got := seen(); len(got) != maxQueued || got[len(got)-1] != fmt.Sprintf("%d%d", 99+2*maxQueued, 2*maxQueued-1) {
		t.Errorf("%d wait, the last %s", len(got), got[len(got)-1])
	}
	if err := f.queue(nil); err != nil {
		t.Fatal(err)
	}
	if got := seen(); got != nil {
		t.Errorf("there wait %v", got)
	}
}

// A device renews in the first quarter of the time that is left, each at its own place; at once when it was due when
// it was told.
func TestWhenADeviceRenews(t *testing.T) {
	t.Parallel()
	from := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	until := from.Add(48 * time.Hour)
	places := map[int]int{}
	for i := range 1000 {
		at := renewAt(&Status{Device: fmt.Sprint("d", i)}, from, until)
		if at.Before(from) || at.After(from.Add(12*time.Hour)) {
			t.Fatalf("it renews at %s", at)
		}
		places[int(at.Sub(from)/time.Hour)]++
	}
	for hour := range 12 {
		if n := places[hour]; n < 40 || n > 140 {
			t.Errorf("in hour %d renew %d of 1000", hour, n)
		}
	}
	// What kept a certificate from being renewed is told until it is not due any more.
	late := &Status{At: until, NotNew: "the device stands at barred"}
	late.Renew(&api.OwnReport{Certificate: api.OwnCertificate{RenewAt: from.Format(time.RFC3339),
		NotAfter: until.Format(time.RFC3339)}})
	if late.NotNew == "" {
		t.Error("a renewal that is due and was refused is forgotten")
	}
	late.Renew(&api.OwnReport{Certificate: api.OwnCertificate{RenewAt: until.Add(time.Hour).Format(time.RFC3339),
		NotAfter: until.Add(2 * time.Hour).Format(time.RFC3339)}})
	if late.NotNew != "" {
		t.Errorf("after it was renewed it is told that it was not: %s", late.NotNew)
	}
	due := &Status{Device: "d1", Standing: &api.OwnReport{At: "2026-11-20T08:00:00Z"}}
	if at := renewAt(due, from, until); !at.Equal(from) {
		t.Errorf("what is due is renewed at %s", at)
	}
	for text, want := range map[string]time.Duration{"5m": 5 * time.Minute, "1h": time.Hour, "": defaultEvery,
		"0s":  defaultEvery,
		"-1m": defaultEvery, "500h": defaultEvery, "soon": defaultEvery} {
		if got := interval(text); got != want {
			t.Errorf("%q is %s; %s was expected", text, got, want)
		}
	}
}

// The page is for this machine, for its own forms, and tells what the agent knows.
func TestThePage(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	f, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	looked := 0
	p := &Page{Folder: f, Again: nil}
	h := p.Handler()
	get := func(method, path, host string, head map[string]string) (int, string) {
		r := httptest.NewRequest(method, "http://"+host+path, nil)
		for k, v := range head {
			r.Header.Set(k, v)
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		raw, err := io.ReadAll(w.Result().Body)
		if err != nil {
			t.Fatal(err)
		}
		return w.Code, string(raw)
	}
	want := func(what string, code int, text string, is int, says string) {
		t.Helper()
		if is != code || !strings.Contains(says, text) {
			t.Errorf("%s: %d %.400s; %d %q was expected", what, is, says, code, text)
		}
	}
	is, says := get("GET", PagePath, "127.0.0.1:8613", nil)
	want("before it enrols", http.StatusOK, "has no certificate yet", is, says)
	is, says = get("GET", PagePath, "evil.example", nil)
	want("another host", http.StatusMisdirectedRequest, "for this machine alone", is, says)
	until := time.Date(2026, 12, 6, 8, 0, 0, 0, time.UTC)
	st := &Status{Device: "d1", Trouble: "the service cannot be reached: <b>", Queued: 2, Until: &until,
		Checks: []Check{{Name: "dock", Failed: "it took longer than 10s"}},
		Standing: &api.OwnReport{Device: "d1", Name: "tern", Level: "limited", Rank: 2, Top: 4,
			At: "2026-11-20T08:00:00Z", Checks: []api.OwnCheck{
				{Rule: "l/os", Title: "System is current", Verdict: "pass"},
				{Rule: "l/disk", Title: "Kryptera disken", Verdict: "fail", Mend: true,
					Steps: "Be oss om [hjälp](https://desk.example/)",
					Seen: []api.OwnSeen{{Attribute: "storage.encrypted", Observed: "false",
						At: "2026-11-20T08:00:00Z"}, {Attribute: "volumes", Unknown: "never reported"}}},
				{Rule: "l/x", Title: "Excepted", Verdict: "waived", Until: "2026-12-01T00:00:00Z"}}}}
	if err := errors.Join(f.writeJSON(statusFile, st, 0o644)); err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"tern (d1)", "limited", "✓", "✗", "ska åtgärdas", "Kryptera disken",
		`<a href="https://desk.example/"`,
		"undantaget till 2026-12-01", "dock (it took longer than 10s)", "&lt;b&gt;", "Tjänsten kan inte nås",
		"2026-12-06 08:00"} {
		is, says = get("GET", PagePath, "localhost:8613", map[string]string{"Accept-Language": "sv"})
		want("the page", http.StatusOK, text, is, says)
	}
	if strings.Contains(says, againPath) {
		t.Error("it offers to look again, and cannot")
	}
	is, says = get("POST", againPath, "127.0.0.1", nil)
	want("a look that cannot be", http.StatusForbidden, "nobody who may look", is, says)
	p.Again = func(context.Context) error { looked++; return nil }
	for _, site := range []string{"cross-site", "same-site"} {
		is, says = get("POST", againPath, "127.0.0.1", map[string]string{"Sec-Fetch-Site": site})
		want("a form of another site", http.StatusForbidden, "another site", is, says)
	}
	is, _ = get("POST", againPath, "127.0.0.1", map[string]string{"Sec-Fetch-Site": "same-origin"})
	want("a look", http.StatusSeeOther, "", is, "")
	is, _ = get("POST", againPath, "127.0.0.1", map[string]string{"Sec-Fetch-Site": "same-origin"})
	want("another at once", http.StatusSeeOther, "", is, "")
	if looked != 1 {
		t.Errorf("it looked %d times", looked)
	}
	for _, host := range []string{"127.0.0.1", "[::1]:80", "localhost"} {
		if !loopback(host) {
			t.Errorf("%s is not this machine", host)
		}
	}
	for _, host := range []string{"10.0.0.1", "localhost.example", "127.0.0.1.example", "", "0.0.0.0"} {
		if loopback(host) {
			t.Errorf("%s is this machine", host)
		}
	}
}

// What comes from a service, or from a site check, is read or refused.
func FuzzWhatComes(f *testing.F) {
	f.Add([]byte("MIIB"))
	f.Add([]byte(`{"custom.a": true}`))
	f.Add([]byte("e30.eyJleHAiOjF9.AA"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if certs, err := certsIn(raw); err == nil && len(certs) == 0 {
			t.Error("no certificate was taken for one")
		}
		if values, err := attributesIn(raw); err == nil && values == nil {
			t.Error("nothing was taken for attributes")
		}
		expires(string(raw))
	})
}

// A key that others may read is not used.
func TestTheKeysFile(t *testing.T) {
	t.Parallel()
	f, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.Certificate(); !errors.Is(err, ErrNotEnrolled) {
		t.Errorf("without a certificate: %v", err)
	}
	first, err := f.nextKey("p256")
	if err != nil {
		t.Fatal(err)
	}
	again, err := f.nextKey("p256")
	if err != nil || !first.Public().(interface{ Equal(crypto.PublicKey) bool }).Equal(again.Public()) {
		t.Errorf("the key of a request whose answer may be lost is another: %v", err)
	}
	if info, err := os.Stat(f.path(nextKeyFile)); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key that waits: %v, %v", info, err)
	}
	if err := os.WriteFile(f.path(certificateFile), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Certificate(); err == nil || !strings.Contains(err.Error(), "may be read or written by others") {
		t.Errorf("a key that others may read: %v", err)
	}
	if err := os.WriteFile(f.path(nextKeyFile), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := f.nextKey("p256"); err == nil || !strings.Contains(err.Error(), "is damaged") {
		t.Errorf("a damaged key: %v", err)
	}
}

// Of a call that fails the agent says what may be behind it.
func TestWhatWentWrongWithACall(t *testing.T) {
	t.Parallel()
	for want, err := range map[string]error{
		"is its clock right?": &url.Error{Op: "Get", URL: "https://x",
			Err: x509.CertificateInvalidError{Reason: x509.Expired}},
		"is not who it is trusted to": &url.Error{Op: "Get", URL: "https://x", Err: x509.UnknownAuthorityError{}},
		"cannot be reached":           errors.New("connection refused"),
	} {
		if got := told(err); !strings.Contains(got.Error(), want) || !errors.Is(got, unwrapped(err)) {
			t.Errorf("%v is told as %q; %q was expected", err, got, want)
		}
	}
	server := httptest.NewTLSServer(http.NotFoundHandler())
	defer server.Close()
	pool := x509.NewCertPool()
	pool.AddCert(server.Certificate())
	c := newCaller(server.URL, pool, nil)
	defer c.close()
	c.client.Transport.(*http.Transport).TLSClientConfig.Time = func() time.Time { return time.Now().AddDate(100, 0, 0) }
	if _, err := c.do(t.Context(), http.MethodGet, "/", nil, nil); err == nil ||
		!strings.Contains(err.Error(), "is its clock right?") {
		t.Errorf("with a clock that is a century off: %v", err)
	}
}

func unwrapped(err error) error {
	var address *url.Error
	if errors.As(err, &address) {
		return address.Err
	}
	return err
}
