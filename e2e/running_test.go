package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
)

// Settings come from a file, the environment and flags, the later wins; what is wrong with them is told with its line,
// and what is done once is said on the command line alone.
func TestSettings(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file := filepath.Join(dir, "c.yaml")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("data: " + dir + "/records\nlisten: 127.0.0.1:8699\ncall-inside: [10.20.0.0/16, 10.30.0.0/16]\nkeep-past: 30d\n")
	check := func(environment []string, args ...string) result {
		t.Helper()
		cmd := exec.Command(binary, append([]string{"serve", "--config", file, "--check-config"}, args...)...)
		cmd.Env = append(os.Environ(), environment...)
		var out, errOut bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &errOut
		_ = cmd.Run() // its code tells
		return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
	}
	var all []struct{ Setting, Value, From string }
	check([]string{"IRONLEDGER_KEEP_PAST=40d", "IRONLEDGER_LISTEN=127.0.0.1:1", "IRONLEDGER_FEED_FOLDER=/a,/b"},
		"--listen", "127.0.0.1:8688", "-o", "json").into(t, &all)
	got := map[string]string{}
	for _, x := range all {
		got[x.Setting] = x.Value + " " + x.From
	}
	for name, want := range map[string]string{"data": dir + "/records file", "listen": "127.0.0.1:8688 flag",
		"keep-past": "40d environment", "call-inside": "10.20.0.0/16,10.30.0.0/16 file", "feed-folder": "/a,/b environment",
		"log-level": "info default"} {
		if got[name] != want {
			t.Errorf("%s is %q, want %q", name, got[name], want)
		}
	}
	if _, there := got["new-admin-token"]; there || got["token"] != "" {
		t.Errorf("there are settings that there must not be: %v", got)
	}
	if _, err := os.Stat(dir + "/records"); err == nil {
		t.Error("a check made the folder of the records")
	}
	for text, want := range map[string]string{
		"lisen: x\n":                       "c.yaml:1: there is no setting lisen; did you mean listen?",
		"data: x\nnew-admin-token: y\n":    "c.yaml:2: new-admin-token does something once",
		"data: x\ndata: y\n":               "c.yaml",
		"listen: [a, b]\n":                 "c.yaml:1: listen: a list stands where a single value was expected",
		"listen: {a: b}\n":                 "c.yaml:1: listen: a single value or a list was expected",
		"notices-after: soon\n":            "c.yaml:1: notices-after:",
		"just a text\n":                    "settings are keys with values",
		"data: x\nlisten: 0.0.0.0:80\n":    "without TLS the service listens on loopback only",
		"data: x\nmetrics-listen: ':80'\n": "on loopback only",
		"data: x\nkeep-past: 3m\n":         "--keep-past",
		"listen: 127.0.0.1:80\n":           "say where the records are",
		"data: x\ntls-cert: none.pem\n":    "the certificate",
	} {
		write(text)
		if r := check(nil); r.code == 0 || !strings.Contains(r.err, want) {
			t.Errorf("%q: %d, says %q, want %q", text, r.code, r.err, want)
		}
	}
}

// The first token goes into a file of its owner alone; at SIGHUP the level of the log is read again and that is said.
func TestAServiceFromAFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	address, file := freePort(t), filepath.Join(dir, "c.yaml")
	write := func(level string) {
		t.Helper()
		text := fmt.Sprintf("data: %s/records\nlisten: %s\nlog-level: %s\nmetrics-listen: 127.0.0.1:0\n", dir,
			address, level)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("warn")
	cmd := exec.Command(binary, "serve", "--config", file)
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool {
		return strings.HasPrefix(v,
			"IRONLEDGER_ADMIN_TOKEN")
	})
	said := filepath.Join(dir, "said")
	out, err := os.Create(said)
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }) // it may have ended
	log := func() string {
		raw, err := os.ReadFile(said)
		if err != nil {
			t.Fatal(err)
		}
		return string(raw)
	}
	within(t, "it answers", func() bool { return strings.Contains(log(), "answers at") })
	path := filepath.Join(dir, "records", "first-admin.token")
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 || !strings.Contains(log(), path) {
		t.Fatalf("the token's file: %v, %v\n%s", info, err, log())
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	secret := strings.TrimSpace(string(raw))
	if strings.Contains(log(), secret) {
		t.Error("the token is in the log")
	}
	offline(t, "", "status", "--url", "http://"+address, "--token", secret).want(t, 0)
	write("debug")
	if err := cmd.Process.Signal(syscall.SIGHUP); err != nil {
		t.Fatal(err)
	}
	within(t, "it says that it read the file again", func() bool { return strings.Contains(log(), "was read again") })
	offline(t, "", "status", "--url", "http://"+address, "--token", "il_what_there_is_not").want(t, 1)
	within(t, "it logs more", func() bool { return strings.Contains(log(), "level=DEBUG") })
	if err := os.WriteFile(file, []byte("data: [\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Process.Signal(syscall.SIGHUP); err != nil {
		t.Fatal(err)
	}
	within(t, "it says that the file is broken", func() bool { return strings.Contains(log(), "cannot be read again") })
	offline(t, "", "status", "--url", "http://"+address, "--token", secret).want(t, 0)
}

// metricNames are the metrics that a text names.
var metricNames = regexp.MustCompile(`ironledger_[a-z_]+`)

// Metrics are told to whoever may read, and what the alert rules and the dashboard ask for is there.
func TestMetrics(t *testing.T) {
	t.Parallel()
	address := freePort(t)
	s := start(t, "demo", t.TempDir(), "--metrics-listen", address)
	s.call(t, http.MethodGet, "/metrics", "", "", "").into(t, http.StatusUnauthorized, nil)
	var enforcer struct{ Secret string }
	s.run(t, "", "token", "create", "a-gate", "--role", "enforcer", "-o", "json").into(t, &enforcer)
	s.call(t, http.MethodGet, "/metrics", enforcer.Secret, "", "").into(t, http.StatusForbidden, nil)
	s.run(t, `{"identity":{"id":"x"},"evidence":{"os.build":7}}`, "device", "import", "-").want(t, 1)
	s.run(t, "", "ledger", "verify").want(t, 0)
	told := s.call(t, http.MethodGet, "/metrics", adminToken, "", "")
	text := string(told.body)
	for _, want := range []string{`ironledger_devices{level="strong"} 32`,
		`ironledger_decision_seconds_count{outcome="allow"}`,
		`ironledger_evidence_refused_total{source="file",what="report"} 1`, `ironledger_source_age_seconds{source="mdm"}`,
		"ironledger_records_trouble 0", "go_goroutines", "process_resident_memory_bytes"} {
		if !strings.Contains(text, want) {
			t.Errorf("nothing tells %s", want)
		}
	}
	within(t, "the ledger is verified", func() bool {
		text = string(s.call(t, http.MethodGet, "/metrics", adminToken, "", "").body)
		if strings.Contains(text, "ironledger_ledger_verified 1") {
			return true
		}
		s.call(t, http.MethodPost, "/api/v1/ledger/verification", adminToken, "", "")
		return false
	})
	open, err := http.Get("http://" + address + "/metrics")
	if err != nil || open.StatusCode != http.StatusOK {
		t.Fatalf("the listener of its own: %v, %v", open, err)
	}
	defer open.Body.Close()
	known := map[string]bool{}
	for _, line := range strings.Split(text, "\n") {
		if rest, is := strings.CutPrefix(line, "# TYPE "); is {
			name, kind, _ := strings.Cut(rest, " ")
			known[name] = true
			if kind == "histogram" {
				known[name+"_bucket"], known[name+"_count"], known[name+"_sum"] = true, true, true
			}
		}
	}
	known["ironledger_requests_limited_total"] = true // none was limited yet
	for _, path := range []string{"../deploy/alerts.yaml", "../deploy/dashboard.json", "../docs/watching.md"} {
		raw, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range metricNames.FindAllString(string(raw), -1) {
			if !known[name] {
				t.Errorf("%s asks for %s, which nobody tells", path, name)
			}
		}
	}
	var rules struct {
		Groups []struct {
			Rules []struct{ Alert, Expr string }
		}
	}
	raw, err := os.ReadFile("../deploy/alerts.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if err := yaml.Unmarshal(raw, &rules); err != nil || len(rules.Groups[0].Rules) < 10 {
		t.Errorf("the alert rules: %v", err)
	}
	watching, err := os.ReadFile("../docs/watching.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rules.Groups[0].Rules {
		if !strings.Contains(string(watching), r.Alert) {
			t.Errorf("docs/watching.md says nothing of %s", r.Alert)
		}
	}
	if raw, err := os.ReadFile("../deploy/dashboard.json"); err != nil || !json.Valid(raw) {
		t.Errorf("the dashboard: %v", err)
	}
}

// The Debian package has what a service needs, its unit is right, and what is in it runs.
func TestThePackage(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("dpkg-deb"); err != nil {
		t.Skip("no dpkg-deb here: this is not Debian")
	}
	cmd := exec.Command("make", "-C", "..", "package")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	dir := t.TempDir()
	if out, err := exec.Command("dpkg-deb", "-x", "../bin/ironledger.deb", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	program := filepath.Join(dir, "usr/bin/ironledger")
	unit, err := os.ReadFile(filepath.Join(dir, "usr/lib/systemd/system/ironledger.service"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := exec.LookPath("systemd-analyze"); err == nil {
		here := filepath.Join(t.TempDir(), "ironledger.service")
		text := strings.ReplaceAll(string(unit), "/usr/bin/ironledger", program)
		if err := os.WriteFile(here, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("systemd-analyze", "verify", "--man=no", here).CombinedOutput(); err != nil ||
			len(out) > 0 {
			t.Errorf("the unit is not right: %v\n%s", err, out)
		}
	}
	settings := filepath.Join(dir, "etc/ironledger/ironledger.yaml")
	raw, err := os.ReadFile(settings)
	if err != nil {
		t.Fatal(err)
	}
	address := freePort(t)
	text := strings.NewReplacer("/var/lib/ironledger", dir+"/var", "127.0.0.1:8600", address).Replace(string(raw))
	if err := os.WriteFile(settings, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	run := exec.Command(program, "serve", "--config", settings)
	run.Env = append(os.Environ(), "IRONLEDGER_ADMIN_TOKEN="+adminToken)
	if err := run.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = run.Process.Signal(os.Interrupt); _ = run.Wait() }) // what it was asked is below
	within(t, "what was installed answers", func() bool {
		r, err := http.Get("http://" + address + "/readyz")
		if err != nil {
			time.Sleep(100 * time.Millisecond)
			return false
		}
		return r.Body.Close() == nil && r.StatusCode == http.StatusOK
	})
	var version struct{ Version, Platform string }
	if err := json.Unmarshal([]byte(offline(t, "", "version", "-o", "json").out), &version); err != nil ||
		version.Version == "" {
		t.Errorf("the version is %+v, %v", version, err)
	}
}
