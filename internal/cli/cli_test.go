package cli

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
)

// fake is a service that answers with what a test gives it, and keeps what it was
// asked.
type fake struct {
	answers map[string]string // by method and path
	status  int               // of every answer; 0: 200
	asked   []string
	bodies  []string
}

func (f *fake) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var body bytes.Buffer
	_, _ = body.ReadFrom(r.Body) // a broken body is a shorter one, which the test sees
	f.asked, f.bodies = append(f.asked, r.Method+" "+r.URL.RequestURI()), append(f.bodies, body.String())
	answer, known := f.answers[r.Method+" "+r.URL.Path]
	if !known {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusNotFound)
		answer = `{"type":"about:blank","title":"Not found","status":404,"detail":"there is no such thing"}`
	} else if f.status != 0 {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(f.status)
	}
	_, _ = w.Write([]byte(answer)) // the client tells what is missing
}

// said is what a command line ended with.
type said struct {
	code     int
	out, err string
}

// execute runs a command line against a service, nil for none.
func execute(t *testing.T, f *fake, in string, args ...string) said {
	t.Helper()
	for _, name := range []string{"IRONLEDGER_URL", "IRONLEDGER_TOKEN", "LC_ALL", "LC_MESSAGES", "LANG"} {
		t.Setenv(name, "")
	}
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	if f != nil {
		s := httptest.NewServer(f)
		defer s.Close()
		args = append([]string{"--url", s.URL, "--token", "il_a_token"}, args...)
	}
	var out, errOut bytes.Buffer
	code := Main(args, strings.NewReader(in), &out, &errOut)
	return said{code, out.String(), errOut.String()}
}

// A command line that cannot be understood ends with 2 and says what was expected.
func TestWhatIsNoCommandLine(t *testing.T) {
	for line, want := range map[string]string{
		"device lst":                           "did you mean list?",
		"device frobnicate":                    `device has no verb "frobnicate"; there are`,
		"devise list":                          "unknown command",
		"device list -o xml":                   "--output is table, json, ndjson, yaml or csv",
		"device list --wher x":                 "unknown flag: --wher",
		"device show":                          "accepts 1 arg",
		"device show a b":                      "accepts 1 arg",
		"decision list --limit -1":             "--limit is at least 0",
		"ledger list --limit -1":               "--limit is at least 0",
		"device history d1 --limit -1":         "--limit is at least 0",
		"notice list --limit -1":               "--limit is at least 0",
		"device list --limit -1":               "--limit is at least 0",
		"certificate list --limit -1":          "--limit is at least 0",
		"settings save":                        "settings save needs --url and --token",
		"device show d1 --at yesterday":        "not an RFC 3339 time such as",
		"rulebook fmt --write -":               "--write needs a file or folder",
		"serve --log-level loud --data DIR":    "--log-level is debug, info, warn or error",
		"serve --keep-past 3s --data DIR":      "--keep-past is a duration of an hour at least",
		"serve --public-url gull --data DIR":   "--public-url is an address as https://",
		"ledger verify --file x":               "--file needs --key",
		"waiver grant d1 crew/disk --reason x": "at least one of the flags",
	} {
		line = strings.ReplaceAll(line, "DIR", t.TempDir())
		got := execute(t, nil, "", append([]string{"--token", "il_a_token"}, strings.Fields(line)...)...)
		if got.code != 2 || !strings.Contains(got.err, want) || got.out != "" {
			t.Errorf("%s: %d, says %q and prints %q; want 2 and %q", line, got.code, got.err, got.out, want)
		}
	}
}

// What fails ends with 1, and says what to do.
func TestWhatFails(t *testing.T) {
	if got := execute(t, nil, "", "device", "list"); got.code != 1 ||
		!strings.Contains(got.err, "no token: give --token") {
		t.Errorf("without a token: %+v", got)
	}
	got := execute(t, nil, "", "--url", "http://127.0.0.1:9", "--token", "il_a_token", "status")
	if got.code != 1 || !strings.Contains(got.err, "no service answers at http://127.0.0.1:9") {
		t.Errorf("with no service: %+v", got)
	}
	if got := execute(t, nil, "", "--url", "gullholm", "--token", "x", "status"); got.code != 1 ||
		!strings.Contains(got.err, "is not the URL of a service") {
		t.Errorf("with no URL: %+v", got)
	}
	if got := execute(t, &fake{}, "", "device", "show", "d1"); got.code != 1 ||
		!strings.Contains(got.err, "there is no such thing") {
		t.Errorf("of a device that there is not: %+v", got)
	}
	problem := `{"type":"about:blank","title":"Bad","status":400,"detail":"levl is not a name","pointer":"where","excerpt":"levl < sound\n^^^^"}`
	f := &fake{answers: map[string]string{"GET /api/v1/devices": problem}, status: 400}
	if got := execute(t, f, "", "device", "list", "--where", "levl < sound"); got.code != 2 ||
		!strings.Contains(got.err, "levl is not a name") || !strings.Contains(got.err, "^^^^") {
		t.Errorf("a condition that is none: %+v", got)
	}
	broken := &fake{answers: map[string]string{"GET /api/v1/devices": "not JSON"}}
	if got := execute(t, broken, "", "device", "list"); got.code != 1 ||
		!strings.Contains(got.err, "is not understood") {
		t.Errorf("an answer that is none: %+v", got)
	}
}

const twoDevices = `{"total":2,"levels":{"sound":1,"barred":1},"items":[
 {"id":"d1","name":"bridge, one","level":"sound","rank":3,"top":4,"covered":true,"binding":["laptop/disk"],"since":"2026-01-01T00:00:00Z","seen_at":"2026-01-01T00:00:00Z","platform":"linux"},
 {"id":"d2","level":"barred","rank":0,"top":4,"covered":true,"binding":["laptop/calm","laptop/disk"],"since":"2026-01-01T00:00:00Z","seen_at":"2026-01-01T00:00:00Z"}]}`

const oneDevice = `{"id":"d1","level":"sound","rank":3,"top":4,"covered":true,"binding":[],"keys":{},"refused":[],
 "since":"2026-01-01T00:00:00Z","seen_at":"2026-01-01T00:00:00Z","first_seen":"2026-01-01T00:00:00Z","readings":[],
 "standing":{"level":"sound","verdicts":[],"binding":[]},"waivers":[],"vouches":[],"certificates":[],"threats":[]}`

// A list is printed for people, and for machines as it came.
func TestAListInEveryForm(t *testing.T) {
	for form, check := range map[string]func(string) bool{
		"table": func(out string) bool {
			return strings.Contains(out, "d1") && strings.Contains(out, "sound") && strings.Contains(out, "laptop/calm")
		},
		"csv": func(out string) bool {
			lines := strings.Split(strings.TrimSpace(out), "\n")
			return len(lines) == 3 && strings.Contains(lines[1], `"bridge, one"`)
		},
		"json": func(out string) bool {
			var got []any
			var want struct{ Items []any }
			return json.Unmarshal([]byte(out), &got) == nil &&
				json.Unmarshal([]byte(twoDevices), &want) == nil && reflect.DeepEqual(got, want.Items)
		},
		"ndjson": func(out string) bool {
			lines := strings.Split(strings.TrimSpace(out), "\n")
			return len(lines) == 2 && json.Valid([]byte(lines[0])) && strings.Contains(lines[1], `"d2"`)
		},
		"yaml": func(out string) bool { return strings.Contains(out, "id: d1") && strings.Contains(out, "rank: 0") },
	} {
		f := &fake{answers: map[string]string{"GET /api/v1/devices": twoDevices}}
		got := execute(t, f, "", "device", "list", "-o", form, "--where", "level < strong")
		if got.code != 0 || !check(got.out) {
			t.Errorf("%s: %d\n%s%s", form, got.code, got.out, got.err)
		}
		if len(f.asked) == 0 || !strings.Contains(f.asked[0], "where=level+%3C+strong") {
			t.Errorf("%s asks %q", form, f.asked)
		}
	}
	nothing := `{"total":0,"levels":{},"items":[]}`
	empty := &fake{answers: map[string]string{"GET /api/v1/devices": nothing, "GET /api/v1/decisions": nothing,
		"GET /api/v1/ledger/entries": nothing, "GET /api/v1/certificates": nothing, "GET /api/v1/waivers": nothing}}
	for noun, head := range map[string]string{"device": "DEVICE", "decision": "DECISION", "ledger": "ENTRY",
		"certificate": "DEVICE", "waiver": "ID"} {
		for form, want := range map[string]string{"table": "Nothing to show.", "ndjson": "", "csv": head,
			"json": "[]", "yaml": "[]"} {
			got := execute(t, empty, "", noun, "list", "-o", form)
			if got.code != 0 || !strings.Contains(got.out, want) || want == "" && got.out != "" {
				t.Errorf("%s list: %s of nothing prints %q (%s)", noun, form, got.out, got.err)
			}
		}
	}
}

// What changes something sends what was said, and nothing else.
func TestWhatIsSent(t *testing.T) {
	grant := `{"id":"w-1","device":"d1","rule":"crew/disk","reason":"a new disk","author":"a","at":"2026-01-01T00:00:00Z","until":"2026-01-02T00:00:00Z","state":"live"}`
	token := `{"id":"t1","name":"edge","role":"enforcer","created_at":"2026-01-01T00:00:00Z","created_by":"a","secret":"il_once"}`
	for line, c := range map[string]struct{ answers, asked, body string }{
		"waiver grant d1 crew/disk --reason a_disk --for 3d": {"POST /api/v1/devices/waive " + listed(grant),
			"POST /api/v1/devices/waive", `{"devices":["d1"],"for":"3d","reason":"a_disk","rule":"crew/disk"}`},
		"vouch give d1 --reason seen --for 3d": {"POST /api/v1/devices/vouch " + listed(grant),
			"POST /api/v1/devices/vouch", `{"devices":["d1"],"for":"3d","reason":"seen"}`},
		"token create edge --role enforcer": {"POST /api/v1/tokens " + token, "POST /api/v1/tokens",
			`{"name":"edge","role":"enforcer"}`},
		"device retire d/1 --reason lost": {
			`POST /api/v1/devices/retire {"items":[{"device":"d/1","by":"a","at":1767225600000000,"reason":"lost"}]}`,
			"POST /api/v1/devices/retire", `{"devices":["d/1"],"reason":"lost"}`},
	} {
		name, answer, _ := strings.Cut(c.answers, " {")
		f := &fake{answers: map[string]string{name: "{" + answer, "GET /api/v1/devices/d1": oneDevice}}
		got := execute(t, f, "", strings.Fields(line)...)
		if got.code != 0 || len(f.asked) == 0 || f.asked[0] != c.asked {
			t.Errorf("%s: %d, asks %q, says %q", line, got.code, f.asked, got.err)
			continue
		}
		var sent, want any
		if json.Unmarshal([]byte(f.bodies[0]), &sent) != nil || json.Unmarshal([]byte(c.body), &want) != nil {
			t.Fatalf("%s sends %s", line, f.bodies)
		}
		a, _ := json.Marshal(sent)
		b, _ := json.Marshal(want)
		if !bytes.Equal(a, b) {
			t.Errorf("%s sends %s, not %s", line, a, b)
		}
	}
}

// The settings file says where the service is, the environment before it, and flags
// before both.
func TestWhichServiceIsAsked(t *testing.T) {
	status := map[string]string{"GET /api/v1/status": `{"version":"1","levels":[],"devices":0}`}
	kept, flagged := &fake{answers: status}, &fake{answers: status}
	a, b := httptest.NewServer(kept), httptest.NewServer(flagged)
	defer a.Close()
	defer b.Close()
	home := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", home)
	t.Setenv("IRONLEDGER_URL", "")
	t.Setenv("IRONLEDGER_TOKEN", "")
	call := func(args ...string) said {
		var out, errOut bytes.Buffer
		code := Main(args, strings.NewReader(""), &out, &errOut)
		return said{code, out.String(), errOut.String()}
	}
	if got := call("settings", "save", "--url", a.URL, "--token", "il_kept"); got.code != 0 {
		t.Fatal(got)
	}
	info, err := os.Stat(filepath.Join(home, "ironledger", "settings.yaml"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the settings have the mode %v (%v)", info, err)
	}
	call("status")
	t.Setenv("IRONLEDGER_URL", b.URL)
	call("status")
	call("status", "--url", a.URL)
	if len(kept.asked) != 2 || len(flagged.asked) != 1 {
		t.Errorf("the one of the settings is asked %d times, the other %d", len(kept.asked), len(flagged.asked))
	}
	if err := os.WriteFile(filepath.Join(home, "ironledger", "settings.yaml"), []byte("urll: x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := call("status"); got.code != 1 || !strings.Contains(got.err, "urll") {
		t.Errorf("settings that say something else: %+v", got)
	}
}

// Every command has an example, and its help names no flag that there is not.
func TestEveryCommandHasAnExample(t *testing.T) {
	got := execute(t, nil, "", "--help")
	if got.code != 0 || !strings.Contains(got.out, "Exit codes: 0 done, 1 failed, 2 usage, 3 the answer is no") {
		t.Errorf("%+v", got)
	}
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		if got := execute(t, nil, "", "completion", shell); got.code != 0 || len(got.out) < 1000 {
			t.Errorf("there is no completion for %s: %s", shell, got.err)
		}
	}
}

// listed is a list of one thing, as a service gives it.
func listed(item string) string { return `{"items":[` + item + `]}` }

// Every command must say what it is for, and show an example when it takes
// arguments or flags of its own.
func TestEveryCommandHasHelp(t *testing.T) {
	seen := 0
	help := func(path []string) said { return execute(t, nil, "", append(slices.Clone(path), "--help")...) }
	var walk func(path []string, out string)
	walk = func(path []string, out string) {
		seen++
		if !strings.Contains(out, "Usage:") {
			t.Errorf("ironledger %s does not say how it is used:\n%s", strings.Join(path, " "), out)
		}
		name := strings.Join(path, " ")
		takes := strings.Contains(out, "ironledger "+name+" [") && !strings.Contains(out, "[command]") &&
			strings.Contains(out, "\nFlags:\n  -h, --help")
		if !takes && !strings.Contains(out, "Available Commands") && !strings.Contains(out, "Examples:") &&
			!strings.HasPrefix(name, "completion") && !strings.HasPrefix(name, "help") && len(path) > 0 {
			t.Errorf("ironledger %s shows no example:\n%s", name, out)
		}
		_, list, more := strings.Cut(out, "Commands:\n")
		if len(path) == 0 {
			list, more = out, true
		}
		if !more || strings.HasPrefix(name, "completion") {
			return
		}
		for _, l := range strings.Split(list, "\n") {
			if f := strings.Fields(l); len(f) > 1 && strings.HasPrefix(l, "  ") &&
				!strings.HasPrefix(f[0], "-") && f[0] != "ironledger" && f[0] != "help" &&
				!strings.Contains(l, "--") && f[0] == strings.ToLower(f[0]) && len(l) > 14 && l[2] != ' ' {
				below := append(slices.Clone(path), f[0])
				sub := help(below)
				if sub.code == 0 && strings.Contains(sub.out, "ironledger "+strings.Join(below, " ")) {
					walk(below, sub.out)
				}
			}
		}
	}
	walk(nil, help(nil).out)
	if seen < 100 {
		t.Errorf("only %d commands were found", seen)
	}
}
