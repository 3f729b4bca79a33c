package e2e

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// lines decodes NDJSON.
func lines[T any](t *testing.T, text string) []T {
	t.Helper()
	var out []T
	for l := range strings.Lines(text) {
		var v T
		if err := json.Unmarshal([]byte(l), &v); err != nil {
			t.Fatalf("%s: %v", l, err)
		}
		out = append(out, v)
	}
	return out
}

type standing struct {
	Device     string
	Level      string
	Binding    []string
	NextChange *string `json:"next_change"`
	Verdicts   []struct{ Rule, Verdict string }
}

func TestOfflineAppraisal(t *testing.T) {
	t.Parallel()
	args := []string{"appraise", "--rulebook", "../demo/rulebook", "--evidence", "../demo/devices.ndjson",
		"--people", "../demo/people.csv", "--roster", "../demo/roster.csv", "--at", "2026-11-20T08:00:00Z",
		"-o", "ndjson"}
	got := map[string]standing{}
	for _, s := range lines[standing](t, offline(t, "", args...).want(t, 0).out) {
		got[s.Device] = s
	}
	if len(got) != 71 {
		t.Fatalf("%d devices are appraised, want 71", len(got))
	}
	for id, want := range map[string]struct {
		level, binding, rule, verdict string
	}{
		"GF-L-1042": {"strong", "", "laptop/os-current", "pass"},
		"GF-T-2107": {"limited", "bridge-tablet/os-current", "bridge-tablet/os-current", "fail"},
		"GF-L-1051": {"barred", "laptop/no-threat", "laptop/no-threat", "fail"},
		"GF-K-3104": {"unproven", "till/os-current till/secure-boot till/disk-encrypted", "till/os-current",
			"unknown"},
		"GF-L-1048": {"strong", "", "laptop/os-current", "grace"},
		"GF-L-1059": {"unproven", "laptop/disk-encrypted", "laptop/disk-encrypted", "unknown"},
		"GF-S-6001": {"unproven", "", "", ""},
		"BYO-5101":  {"sound", "phone/company-owned", "phone/company-owned", "fail"},
	} {
		s := got[id]
		if s.Level != want.level || strings.Join(s.Binding, " ") != want.binding {
			t.Errorf("%s stands at %s held by %v, want %s held by %s", id, s.Level, s.Binding, want.level,
				want.binding)
		}
		if want.rule != "" && !slices.ContainsFunc(s.Verdicts,
			func(v struct{ Rule, Verdict string }) bool {
				return v.Rule == want.rule &&
					v.Verdict == want.verdict
			}) {
			t.Errorf("%s: %s is not %s in %v", id, want.rule, want.verdict, s.Verdicts)
		}
	}
	for _, s := range lines[standing](t, offline(t, "", append(args, "--no-grace")...).want(t, 0).out) {
		if s.Device == "GF-L-1048" && s.Level != "limited" {
			t.Errorf("without graces %s stands at %s", s.Device, s.Level)
		}
	}
	offline(t, "", append(args[:len(args)-2], "-o", "csv")...).want(t, 0, "DEVICE,LEVEL,HELD BY,CHANGES NEXT",
		"GF-T-2107,limited,bridge-tablet/os-current,")
	offline(t, `{"source":"agent","identity":{"id":"a"},"evidence":{"os.vresion":"1"}}`+"\nnonsense\n",
		"appraise", "--rulebook", "../demo/rulebook", "--evidence", "-", "-o", "ndjson").
		want(t, 1, `"device":"a"`, "-:1: os.vresion: there is no such attribute; did you mean os.version? (this attribute is left out)", "-:2: not valid JSON")
}

func TestOfflineDecisions(t *testing.T) {
	t.Parallel()
	args := []string{"decide", "--rulebook", "../demo/rulebook", "--evidence", "../demo/devices.ndjson",
		"--people", "../demo/people.csv", "--at", "2026-11-20T08:00:00Z", "--requests"}
	type response struct {
		Decision bool
		Context  struct {
			Outcome string
			Level   string
			Error   struct{ Message string }
		}
	}
	all := lines[response](t, offline(t, "", append(args, "../demo/requests.ndjson")...).want(t, 0).out)
	if len(all) != 29 || !all[0].Decision || all[1].Context.Outcome != "step-up" || all[1].Decision ||
		all[23].Context.Outcome != "allow" {
		t.Errorf("the answers are %+v", all)
	}
	r := offline(t, "{\"subject\":{}}\n\n{\"subject\":{\"type\":\"device\",\"id\":\"GF-T-2101\"},\"action\":{\"name\":\"join\"},\"resource\":{\"type\":\"n\",\"id\":\"bridge-wifi\"}}", append(args, "-")...).want(t, 1, "-:1: /subject/type: required")
	bad := lines[response](t, r.out)
	if len(bad) != 2 || bad[0].Decision || bad[0].Context.Error.Message == "" || !bad[1].Decision {
		t.Errorf("a bad request among good ones gives %+v", bad)
	}
}

// The same evidence, people and rulebook must come to the same answers with
// and without a service.
func TestOfflineAgreesWithTheService(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.run(t, "", "rulebook", "publish", "../demo/rulebook", "-m", "first").want(t, 0, "Version 1 is in force")
	s.run(t, "", "person", "import", "../demo/people.csv").want(t, 0, "44 people added")
	s.run(t, "", "device", "import", "../demo/devices.ndjson").want(t, 0,
		"153 reports taken, with 1166 values; 0 refused")
	s.run(t, "", "roster", "import", "../demo/roster.csv").want(t, 0, "37 entries added")
	files := []string{"--rulebook", "../demo/rulebook", "--evidence", "../demo/devices.ndjson", "--people",
		"../demo/people.csv", "--roster", "../demo/roster.csv"}
	served := map[string]standing{}
	for _, d := range lines[struct {
		ID      string
		Level   string
		Binding []string
	}](t, s.run(t, "", "device", "list", "-o", "ndjson").want(t, 0).out) {
		served[d.ID] = standing{Level: d.Level, Binding: d.Binding}
	}
	for _, o := range lines[standing](t,
		offline(t, "", append([]string{"appraise", "-o", "ndjson"}, files...)...).want(t, 0).out) {
		if got := served[o.Device]; got.Level != o.Level || !slices.Equal(got.Binding, o.Binding) {
			t.Errorf("%s stands at %s by %v in the service, at %s by %v on files", o.Device, got.Level,
				got.Binding, o.Level, o.Binding)
		}
	}
	raw, err := os.ReadFile("../demo/requests.ndjson")
	if err != nil {
		t.Fatal(err)
	}
	offlineAnswers := strings.Split(strings.TrimSpace(offline(t, "",
		append([]string{"decide", "--requests", "../demo/requests.ndjson"}, files...)...).want(t, 0).out), "\n")
	unlike := regexp.MustCompile(`"(id|code|age|observed_at|valid_until|unknown)":"[^"]*",?|\d+[dhms]( \d+[dhms])? ago`)
	i := 0
	for l := range strings.Lines(string(raw)) {
		online := string(s.call(t, "POST", "/access/v1/evaluation", adminToken, "application/json", l).body)
		a, b := unlike.ReplaceAllString(online, ""), unlike.ReplaceAllString(offlineAnswers[i], "")
		if a != b {
			t.Errorf("request %d is answered\n%s\nby the service and\n%s\non files", i+1, a, b)
		}
		i++
	}
}

func TestRulebookOnFiles(t *testing.T) {
	t.Parallel()
	offline(t, "", "rulebook", "check", "../demo/rulebook").want(t, 0,
		"gullholm is right: 7 baselines with 26 rules, 12 gates")
	offline(t, "", "rulebook", "test", "../demo/rulebook").want(t, 0, "10 of 10 examples come out as they must")
	broken := "rulebook: x\nbaselines:\n  - id: a\n    applies: platfrom == ios\n    rules: [{id: r, check: managed, cap: lmited}]\n"
	offline(t, broken, "rulebook", "check", "-").want(t, 1, "2 problem(s)",
		"stdin.yaml:4:14: there is no name platfrom; did you mean platform?", "platfrom == ios\n    ^^^^^^^^",
		"stdin.yaml:5:42: lmited is not a level; did you mean limited?")
	var problems []struct{ Line, Column int }
	if err := json.Unmarshal([]byte(offline(t, broken, "rulebook", "check", "-", "-o", "json").want(t,
		1).out), &problems); err != nil || len(problems) != 2 || problems[0].Line != 4 {
		t.Errorf("as JSON the problems are %v (%v)", problems, err)
	}
	offline(t, "rulebook: x\nexamples: [{title: wrong, device: {}, level: strong}]", "rulebook", "test",
		"-").want(t, 1, "FAIL", "wrong", "level strong", "level unproven", "0 of 1")
	path := filepath.Join(t.TempDir(), "r.yaml")
	if err := os.WriteFile(path, []byte("rulebook: x\nbaselines: [{id: a, applies: 'managed  and(secure_boot)', rules: [{id: r, check: managed}]}]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	offline(t, "", "rulebook", "fmt", path).want(t, 0, "applies: 'managed and secure_boot'")
	offline(t, "", "rulebook", "fmt", "-w", path).want(t, 0, path)
	if r := offline(t, "", "rulebook", "fmt", "-w", path).want(t, 0); r.out != "" {
		t.Errorf("a file in order is listed as changed: %s", r.out)
	}
}

func TestClient(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.run(t, "", "status").want(t, 0, "71 devices, 44 people, 190 decisions recorded", "▮▮▮▮ strong", "▯▯▯▯ barred")
	s.run(t, "", "device", "list", "--where", "level == limited and form == tablet", "--sort",
		"-name").want(t, 0, "GF-T-2107", "bridge-tablet/os-current", "3 of 3 devices")
	s.run(t, "", "device", "list", "--where", "level == nothing").want(t, 2, "nothing is not one of barred",
		"^^^^^^^")
	s.run(t, "", "device", "list", "--where", "platform == chromeos and form == phone").want(t, 0,
		"Nothing to show.")
	rows, err := csv.NewReader(strings.NewReader(s.run(t, "", "device", "list", "-o", "csv", "--limit",
		"5").want(t, 0).out)).ReadAll()
	if err != nil || len(rows) != 6 || rows[0][0] != "DEVICE" || rows[1][1] != "sound" {
		t.Errorf("as CSV: %v (%v)", rows, err)
	}
	s.run(t, "", "device", "show", "GF-T-2107").want(t, 0, "Dunlin bridge 1",
		"Held at limited by bridge-tablet/os-current", "os.version >= 17.5", "16.7.2", "mdm",
		"To reach sound", "Update the tablet")
	s.run(t, "", "device", "show", "gf-t-2107-s", "--readings").want(t, 0, "custom.chart_pack", "2026.11")
	s.run(t, "", "device", "show", "nobody").want(t, 1,
		"there is no device with the id, serial or hardware id nobody")
	s.run(t, "", "device", "show", "GF-T-2107", "-o", "yaml").want(t, 0, "level: limited", "next_change:")

	t.Run("evidence takes effect with its answer", func(t *testing.T) {
		s.run(t, `{"source":"mdm","identity":{"serial":"GF-T-2107-S"},"evidence":{"os.version":"17.6"}}`,
			"device", "import", "-").want(t, 0, "GF-T-2107", "strong", "limited", "1 reports taken")
		s.run(t, "{\"identity\":{}}\n{\"source\":\"mdm\",\"identity\":{\"id\":\"GF-T-2107\"},\"evidence\":{\"os.version\":\"16\",\"colour\":1}}\n", "device", "import", "-").
			want(t, 1, "does not say which device", "colour: there is no such attribute",
				"1 reports taken, with 1 values; 1 refused, and 1 values of others")
		s.run(t, `{"identity":{"id":"GF-T-2107"},"evidence":{"os.version":"18"}}`, "device", "import",
			"-").want(t, 1, "accepts no evidence from the source file")
		s.run(t, "id,source,os.version\nGF-T-2107,mdm,17.6\n", "device", "import", "-", "--format",
			"csv").want(t, 0, "strong")
	})

	t.Run("ask says yes, no and why", func(t *testing.T) {
		ask := func(args ...string) result { return s.run(t, "", append([]string{"ask"}, args...)...) }
		ask("maren.holt@gullholm.example", "payroll", "--device", "GF-L-1042", "--ip", "10.20.4.7").want(t, 0,
			"ALLOW", "gate 210 is met")
		ask("maren.holt@gullholm.example", "payroll", "--device", "GF-L-1042", "--ip", "192.0.2.4",
			"--mfa=false").want(t, 3, "STEP-UP", "auth.mfa", "false", "a second factor, for gate 210")
		ask("signe.mark@gullholm.example", "engine-log", "--device", "GF-L-1051").want(t, 3, "DENY",
			"threat.score is 95, needs <= 30", "call the help desk on extension 4400")
		ask("stranger@elsewhere.example", "noticeboard").want(t, 3, "DENY", "an unknown device",
			"The directory does not know this person")
		ask("harbourmaster@gullholm.example", "vault").want(t, 0, "break-glass account")
		ask("x", "payroll", "--ip", "10.20").want(t, 2, "/context/ip")
		ask("x").want(t, 2, "accepts 2 arg(s)")
		ask("x", "payroll", "--mfa=maybe").want(t, 2, "--mfa is true or false")
	})

	t.Run("decisions are kept with their reasons", func(t *testing.T) {
		s.run(t, "", "status").want(t, 0, "190 decisions recorded") // asking records nothing
		list := s.run(t, "", "decision", "list", "--resource", "ticket-till", "--outcome", "deny", "--limit",
			"2", "-o", "ndjson").want(t, 0)
		all := lines[struct {
			ID, Outcome, Device string
		}](t, list.out)
		if len(all) != 2 || all[0].Device != "GF-K-3104" || all[1].Device != "GF-K-3103" {
			t.Fatalf("the refusals at the till are %+v", all)
		}
		s.run(t, "", "decision", "show", all[1].ID).want(t, 0, "DENY", "custom.till_sealed is false",
			"Sell from a machine on the quay", "entry")
		s.run(t, "", "decision", "show", "nothing").want(t, 1, "there is nothing of that id")
		s.run(t, "", "decision", "list", "--outcome", "perhaps").want(t, 2, "allow, deny or step-up")
	})

	t.Run("a rulebook is published whole or not at all", func(t *testing.T) {
		dir := t.TempDir()
		for _, name := range []string{"gullholm.yaml", "baselines.yaml", "gates.yaml", "device-ca.pem",
			"device-ca.crl"} {
			raw, err := os.ReadFile("../demo/rulebook/" + name)
			if err != nil {
				t.Fatal(err)
			}
			text := strings.Replace(string(raw), "ipados: os.version >= 17.5", "ipados: os.version >= 18", 1)
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		s.run(t, "", "rulebook", "publish", dir, "-m", "iPadOS 18", "--base", "2").want(t, 0,
			"Version 3 is in force; 6 devices changed level.")
		s.run(t, "", "rulebook", "publish", dir, "--base", "1").want(t, 1, "version 3 is in force, not 1")
		if err := os.WriteFile(filepath.Join(dir, "gates.yaml"), []byte("gates: [{id: x}]\nbaselins: []\n"),
			0o600); err != nil {
			t.Fatal(err)
		}
		s.run(t, "", "rulebook", "publish", dir).want(t, 1, "the one in force stays",
			"gates.yaml:1:9: the gate x needs who", "did you mean baselines?")
		s.run(t, "", "rulebook", "history").want(t, 0, "iPadOS 18", "The house rules of Gullholm Ferries")
		s.run(t, "", "rulebook", "show", "1").want(t, 0, "# --- gates.yaml", "ipados: os.version >= 16")
		s.run(t, "", "rulebook", "show", "9").want(t, 1, "there is nothing of that id")
	})

	t.Run("people", func(t *testing.T) {
		s.run(t, "", "person", "list", "-q", "auditors").want(t, 0, "audit@gullholm.example", "Visiting Auditor")
		s.run(t, "id,name,groups\nnew@gullholm.example,New,deck-crew\n,nobody,\n", "person", "import",
			"-").want(t, 1, "-:3: a person needs an id", "1 people added")
		s.run(t, "- {id: new@gullholm.example, name: New, groups: [it]}\n", "person", "import", "-").want(t,
			0, "0 people added, 1 changed")
		s.run(t, "", "person", "show", "birk.strand@gullholm.example").want(t, 0, "Birk Strand",
			"Groups: bridge-crew", "GF-T-2107", "bridge-tablet/os-current")
		s.run(t, "", "person", "show", "nobody@gullholm.example").want(t, 1,
			`nobody is known as "nobody@gullholm.example"`)
		s.run(t, "", "person", "remove", "new@gullholm.example").want(t, 2, "reason")
		s.run(t, "", "person", "remove", "new@gullholm.example", "--reason", "Never came").want(t, 0,
			"no longer in the directory")
		s.run(t, "", "person", "remove", "new@gullholm.example", "--reason", "Never came").want(t, 1,
			"there is no person new@gullholm.example")
		s.run(t, "", "ledger", "list", "--kind", "person.").want(t, 0, "person.removed", "Never came")
		cut := "id,name,groups\nmaren.holt@gullholm.example,Maren Holt,finance\n"
		s.run(t, cut, "person", "import", "-", "--whole").want(t, 1, "This would lock people out",
			"43 of the 44 people", "--accept-impact")
		s.run(t, cut+",broken,\n", "person", "import", "-", "--whole", "--accept-impact", "x").want(t, 1,
			"line 3", "not taken for the whole directory")
		s.run(t, "", "person", "import", "../demo/people.csv", "--whole").want(t, 0,
			"0 people added, 0 changed, 44 as they were, 0 removed")
		s.run(t, "", "device", "lst").want(t, 2, `has no verb "lst"; did you mean list?`)
		s.run(t, "", "waiver", "frobnicate").want(t, 2, "there are approve, grant, list, revoke")
	})

	t.Run("tokens", func(t *testing.T) {
		secret := strings.TrimSpace(s.run(t, "", "token", "create", "desk", "--role", "reader").want(t, 0).out)
		if !strings.HasPrefix(secret, "il_") {
			t.Fatalf("the secret is %q", secret)
		}
		s.run(t, "", "status", "--token", secret).want(t, 0)
		s.run(t, "", "ask", "x", "payroll", "--token", secret).want(t, 1, "the role reader may not ask")
		s.run(t, "", "token", "list").want(t, 0, "desk", "reader", "first-admin")
		s.run(t, "", "token", "revoke", "desk").want(t, 0, "is revoked")
		s.run(t, "", "status", "--token", secret).want(t, 1, "a valid bearer token is needed")
		s.run(t, "", "token", "create", "x", "--role", "king").want(t, 1, `"king" is not a role`)
		s.run(t, "", "token", "revoke", "first-admin").want(t, 1, "the last administrator's token")
	})
}

func TestUsage(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"--help"}, 0, "Exit codes: 0 done, 1 failed, 2 usage, 3 the answer is no."},
		{[]string{"--version"}, 0, "ironledger "},
		{[]string{"device", "list", "--help"}, 0, "--where 'level < sound"},
		{[]string{"completion", "bash"}, 0, "ironledger"},
		{[]string{"devcie"}, 2, "unknown command"},
		{[]string{"device", "lst"}, 2, `has no verb "lst"`},
		{[]string{"device", "list", "--colour"}, 2, "unknown flag"},
		{[]string{"status", "-o", "xml"}, 2, "--output is table, json"},
		{[]string{"appraise", "--rulebook", "x"}, 2, "evidence"},
		{[]string{"appraise", "--rulebook", "nowhere.yaml", "--evidence", "-"}, 1, "nowhere.yaml"},
		{[]string{"appraise", "--rulebook", "../demo/rulebook", "--evidence", "-", "--at", "noon"}, 2, "--at"},
		{[]string{"status", "--url", "http://127.0.0.1:1"}, 1, "no service answers at http://127.0.0.1:1"},
		{[]string{"status", "--url", "nowhere"}, 1, "is not the URL of a service"},
		{[]string{"serve", "--data", t.TempDir(), "--listen", "0.0.0.0:0"}, 1, "listens on loopback only"},
	} {
		if r := offline(t, "", c.args...); r.code != c.code || !strings.Contains(r.out+r.err, c.says) {
			t.Errorf("%v ends with %d and says %q, want %d and %q", c.args, r.code, r.out+r.err, c.code, c.says)
		}
	}
}

func TestStory(t *testing.T) {
	t.Parallel()
	r := offline(t, "", "demo", "--story", "--fast").want(t, 0)
	for _, text := range []string{"bridge-tablet/os-current is fail: os.version is 16.7.2, needs >= 17.5",
		"stands  strong, before it limited", "STEP-UP", "laptop/no-threat is fail: threat.score is 92",
		"os.version is not known (stale: observed 9d 1h ago, fresh for 3d)", "break-glass account",
		"did you mean os.version?", "the one in force stays", "enrolled",
		"evidence is unknown: the evidence is not known (never reported), needs a first report",
		"Let the device report", "stands  strong, before it unproven", "This would lock people out",
		"no longer a break-glass account",
		"made again from rulebook 3 and the evidence of that moment: the same",
		"that ledger.gullholm.example signed", "it signed ulla.glimm@gullholm.example out", "may sign in again",
		"the watch room, by a web hook: GF-L-1043 went from strong to barred",
		"stands  GF-P-4101 at limited", "stands  GF-P-4101 at strong", "the risk of GF-L-1043 is HIGH"} {
		if !strings.Contains(r.out, text) {
			t.Errorf("the story does not say %q:\n%s", text, r.out)
		}
	}
}
