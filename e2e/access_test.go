package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironledger.example/demo"
)

// The rest of AuthZEN 1.0 beside the single evaluation.
func TestAuthZENInFull(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	post := func(path, body string) reply {
		return s.call(t, "POST", path, adminToken, "application/json", body)
	}
	const who = `"subject":{"type":"user","id":"maren.holt@gullholm.example"},"context":{"device":{"id":"GF-L-1042"},"ip":"10.20.4.7"}`
	many := func(semantic string, resources ...string) (decisions []bool) {
		t.Helper()
		var list []string
		for _, r := range resources {
			list = append(list, fmt.Sprintf(`{"resource":{"type":"app","id":%q}}`, r))
		}
		var out struct {
			Evaluations []struct {
				Decision *bool
				Context  map[string]any
			}
		}
		post("/access/v1/evaluations",
			`{`+who+`,"action":{"name":"open"},"options":{"evaluations_semantic":"`+semantic+
				`"},"evaluations":[`+strings.Join(list, ",")+`]}`).into(t, 200, &out)
		for _, e := range out.Evaluations {
			if e.Decision == nil || e.Context == nil {
				t.Fatalf("an evaluation without an answer: %+v", out)
			}
			decisions = append(decisions, *e.Decision)
		}
		return decisions
	}
	for _, c := range []struct {
		semantic string
		want     string
	}{{"execute_all", "[true false true false]"}, {"deny_on_first_deny", "[true false]"},
		{"permit_on_first_permit", "[true]"}} {
		if got := fmt.Sprint(many(c.semantic, "payroll", "vault", "noticeboard", "")); got != c.want {
			t.Errorf("%s: %s, want %s", c.semantic, got, c.want)
		}
	}
	var single struct{ Decision bool }
	post("/access/v1/evaluations",
		`{`+who+`,"action":{"name":"open"},"resource":{"type":"app","id":"payroll"}}`).into(t, 200, &single)
	if !single.Decision {
		t.Error("a list of none is not answered as one evaluation")
	}
	if r := post("/access/v1/evaluations",
		`{`+who+`,"options":{"evaluations_semantic":"sometimes"}}`); r.status != 400 ||
		!strings.Contains(string(r.body), "/options/evaluations_semantic") {
		t.Errorf("%d %s", r.status, r.body)
	}

	type results struct {
		Results []struct{ Type, ID, Name string }
		Page    struct {
			NextToken    string `json:"next_token"`
			Count, Total int
		}
	}
	find := func(kind, body string) results {
		t.Helper()
		var r results
		post("/access/v1/search/"+kind, body).into(t, 200, &r)
		return r
	}
	names := func(r results) string {
		var list []string
		for _, x := range r.Results {
			list = append(list, x.ID+x.Name)
		}
		return strings.Join(list, " ")
	}
	found := find("resource", `{`+who+`,"action":{"name":"open"},"resource":{"type":"app"}}`)
	if got := names(found); got != "bridge-wifi crew-rota noticeboard payroll" || found.Results[0].Type != "app" {
		t.Errorf("resources: %s", got)
	}
	found = find("action", `{`+who+`,"resource":{"type":"app","id":"payroll"}}`)
	if got := names(found); got != "open" {
		t.Errorf("actions: %s", got)
	}
	const people = `{"subject":{"type":"user"},"action":{"name":"open"},"resource":{"type":"app","id":"payroll"},"context":{"device":{"id":"GF-L-1042"},"ip":"10.20.4.7"}`
	found = find("subject", people+`}`)
	all := names(found)
	if !strings.Contains(all, "maren.holt@gullholm.example") || strings.Contains(all, "birk.strand") ||
		found.Page.Total != len(found.Results) {
		t.Errorf("people: %s", all)
	}
	var pages []string
	for token := ""; ; token = found.Page.NextToken {
		found = find("subject", people+fmt.Sprintf(`,"page":{"limit":3,"token":%q}}`, token))
		if pages = append(pages, names(found)); found.Page.NextToken == "" {
			break
		}
	}
	if got := strings.Join(pages, " "); got != all || len(pages) < 3 {
		t.Errorf("in %d pages: %s", len(pages), got)
	}
	found = find("subject", `{"subject":{"type":"device"},"action":{"name":"join"},"resource":{"type":"net","id":"bridge-wifi"}}`)
	if got := names(found); !strings.Contains(got, "GF-T-2101") || strings.Contains(got, "GF-P-4101") {
		t.Errorf("devices: %s", got)
	}
	var meta map[string]string
	s.call(t, "GET", "/.well-known/authzen-configuration", "", "", "").into(t, 200, &meta)
	for _, part := range []string{"access_evaluations_endpoint", "search_subject_endpoint",
		"search_resource_endpoint", "search_action_endpoint"} {
		if r := post(strings.TrimPrefix(meta[part], s.url), `[]`); r.status != 400 {
			t.Errorf("%s leads to %d", part, r.status)
		}
	}
}

// houseGuard is the guard of the demo.
const houseGuard = "guard: {max_newly_denied: 20%, administrators: {groups: [it]}}"

// copyRulebook writes the demo's rulebook to a folder with some texts replaced.
func copyRulebook(t *testing.T, pairs ...string) string {
	t.Helper()
	dir := t.TempDir()
	for _, f := range demo.Rulebook() {
		text := strings.NewReplacer(pairs...).Replace(f.Text)
		if err := os.WriteFile(filepath.Join(dir, f.Name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// What an administrator finds out before and after a change of gates.
func TestAccessFromTheCommandLine(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := start(t, "demo", dir)
	s.run(t, "", "ask", "who", "payroll", "--mfa").want(t, 0, maren, "GF-L-1042 (strong)",
		"GF-P-4109 (strong)", "people get through")
	s.run(t, "", "ask", "who", "payroll", "--mfa", "-o", "csv").want(t, 0, "GF-P-4109 (strong): payroll-strong")
	s.run(t, "", "ask", "what", maren, "--device", "GF-L-1042", "--ip", "192.0.2.44").want(t, 0, "payroll",
		"step-up", "a second factor, for gate 210", "export")
	s.run(t, "", "overview").want(t, 0, "Break-glass: harbourmaster@gullholm.example was used to open vault",
		"2 devices wait to be taken in")
	s.run(t, "", "gate", "list").want(t, 0, "payroll-strong", "enforce", "shadow")
	s.run(t, "", "gate", "coverage").want(t, 0, "strong *", "sound +f", "limited")
	s.run(t, "", "gate", "coverage", "-o", "csv").want(t, 0, "finance,closed,limited")
	s.run(t, "", "gate", "coverage", "--platforms").want(t, 0, "chromeos", "laptop")

	stricter := copyRulebook(t, "need: level >= limited\n", "need: level >= strong\n")
	s.run(t, "", "ask", "jorun.vik@gullholm.example", "crew-rota", "--device", "BYO-5101").want(t, 0, "ALLOW")
	s.run(t, "", "ask", "jorun.vik@gullholm.example", "crew-rota", "--device", "BYO-5101", "--under",
		stricter).want(t, 3, "DENY")
	s.run(t, "", "ask", "jorun.vik@gullholm.example", "crew-rota", "--device", "BYO-5101", "--at",
		"2030-01-01T00:00:00Z").want(t, 3, "DENY", "stale")
	s.run(t, "", "rulebook", "rehearse", stricter).want(t, 0, "newly denied", "jorun.vik@gullholm.example",
		"allow → deny", "everyday")

	s.run(t, "", "rulebook", "rehearse",
		copyRulebook(t, "mode: shadow\n    who: {everyone: true}",
			"mode: enforce\n    who: {everyone: true}")).want(t, 0,
		"In shadow, the gate rota-fresh would have denied")
	s.run(t, "", "decision", "list", "--gate", "till", "--outcome", "deny", "--since",
		time.Now().Add(-time.Hour).UTC().Format(time.RFC3339)).want(t, 0, "GF-K-3104", "GF-K-3103")
	s.run(t, "", "decision", "list", "--since", "yesterday").want(t, 2, "since")

	t.Run("a publication that would lock people out is held back", func(t *testing.T) {
		for name, c := range map[string]struct {
			pairs []string
			texts []string
		}{
			"no break-glass account": {[]string{"break_glass: [harbourmaster@gullholm.example]",
				"break_glass: []"}, []string{"no break-glass account",
				"no longer a break-glass account, and met by a gate: harbourmaster@gullholm.example"}},
			"too many lose something": {[]string{houseGuard, "guard: {max_newly_denied: 2%}",
				"need: level >= limited\n", "need: level >= strong\n"},
				[]string{"would lose something; the guard allows 2%"}},
			"every administrator": {[]string{houseGuard,
				"guard: {max_newly_denied: 100%, administrators: {users: [jorun.vik@gullholm.example]}}",
				"need: level >= limited\n", "need: level >= strong and auth.mfa\n",
				"need: auth.mfa and (not known_device or level > barred)", "need: level >= strong"},
				[]string{"every administrator would be denied", "jorun.vik@gullholm.example"}},
		} {
			t.Run(name, func(t *testing.T) {
				pairs := append([]string{"    outcome: allow\n", "    level: unproven\n"}, c.pairs...)
				s.run(t, "", "rulebook", "publish", copyRulebook(t, pairs...)).want(t, 1,
					append(c.texts, "nothing has changed", "--accept-impact")...)
				s.run(t, "", "status").want(t, 0, "Rulebook version 2")
			})
		}
		s.run(t, "", "rulebook", "publish", copyRulebook(t, "break_glass: [harbourmaster@gullholm.example]",
			"break_glass: []"), "--accept-impact", "a drill on the quay").want(t, 0, "Version 3 is in force")
	})

	t.Run("an allow ends with what it stood on, and outlives a restart otherwise", func(t *testing.T) {
		s.run(t, "", "session", "list", "--resource", "crew-rota").want(t, 0, "jorun.vik@gullholm.example",
			"henrik.falk@gullholm.example")
		s.run(t, "", "rulebook", "publish", stricter, "--accept-impact",
			"the rota is for strong devices").want(t, 0)
		r := s.run(t, "", "session", "list", "--resource", "crew-rota").want(t, 0, "henrik.falk@gullholm.example")
		if strings.Contains(r.out, "jorun.vik") {
			t.Errorf("the session of a device that is not strong goes on:\n%s", r.out)
		}
		before := s.run(t, "", "session", "list", "-o", "json").out
		s.stop(t)
		s = start(t, "serve", dir)
		if after := s.run(t, "", "session", "list", "-o", "json").out; after != before {
			t.Errorf("before the restart\n%s\nafter it\n%s", before, after)
		}
	})
}

// A certificate that two devices show is a proof for neither.
func TestOneCertificateOfTwoDevices(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	var list []struct{ Device, SHA256, State string }
	out := s.run(t, "", "certificate", "list", "-o", "json").want(t, 0).out
	if err := json.Unmarshal([]byte(out), &list); err != nil {
		t.Fatal(err)
	}
	print := ""
	for _, c := range list {
		if c.Device == "GF-L-1042" {
			print = c.SHA256
		}
	}
	s.run(t, "", "ask", maren, "payroll", "--certificate", print, "--mfa").want(t, 0, "ALLOW", "GF-L-1042")
	body := fmt.Sprintf(`{"source":"mdm","observed_at":%q,"identity":{"id":"GF-L-1046"},"evidence":{"certs":[{"pem":%q}]}}`, time.Now().UTC().Format(time.RFC3339), demo.Card("GF-L-1041", time.Now().Add(-time.Minute)))
	s.run(t, body, "device", "import", "-").want(t, 0)
	s.run(t, "", "ask", maren, "payroll", "--certificate", print, "--mfa").want(t, 0, "ALLOW")
	theirs := s.run(t, "", "certificate", "list", "--where", `device == "GF-L-1046"`, "-o", "json").want(t, 0).out
	if err := json.Unmarshal([]byte(theirs), &list); err != nil || len(list) != 1 {
		t.Fatal(err, theirs)
	}
	shared := list[0].SHA256
	s.run(t, "", "ask", maren, "payroll", "--certificate", shared, "--mfa").want(t, 3,
		"an unknown device") // it names another
	s.run(t, strings.Replace(body, "GF-L-1046", "GF-L-1048", 1), "device", "import", "-").want(t, 0)
	s.run(t, "", "ask", maren, "payroll", "--certificate", shared, "--mfa").want(t, 3, "an unknown device")
}

// A new device's way in: from the roster by itself, else over a person's desk;
// and out again.
func TestEnrolment(t *testing.T) {
	t.Parallel()
	dir, whole := t.TempDir(), t
	s := start(t, "demo", dir)
	s.run(t, "serial,hardware_id,note\nGF-N-7001,,Boxed\n", "roster", "import", "-").want(t, 0)

	t.Run("company hardware on the roster comes in by itself", func(t *testing.T) {
		s.run(t, "", "device", "enrol", "--serial", "gf-n-7001", "--platform", "windows", "--form",
			"laptop").want(t, 0, "Enrolled as", "the rulebook admits it: on_roster and ownership == company")
		s.run(t, "", "device", "enrol", "--serial", "GF-N-7001").want(t, 0, "is known here already")
		s.run(t, "", "device", "show", "GF-N-7001").want(t, 0, "unproven")
	})
	held := ""
	t.Run("others wait for a person, once", func(t *testing.T) {
		var first, again struct{ ID, State string }
		for _, into := range []any{&first, &again} {
			r := s.run(t, "", "device", "enrol", "--serial", "HOME-1", "--platform", "android", "--form",
				"phone", "--ownership", "personal", "-o", "json").want(t, 3)
			if err := json.Unmarshal([]byte(r.out), into); err != nil {
				t.Fatal(err)
			}
		}
		if first != again || first.State != "held" {
			t.Errorf("%+v, then %+v", first, again)
		}
		held = first.ID
		s.run(t, "", "device", "enrol", "list", "--state", "held").want(t, 0, "HOME-1", "personal")
		s.run(t, "", "device", "show", "HOME-1").want(t, 1, "no device")
	})
	t.Run("a claim of ownership is no proof", func(t *testing.T) {
		s.run(t, "", "device", "enrol", "--serial", "HOME-2", "--ownership", "company").want(t, 3, "Held")
		s.run(t, "", "device", "enrol", "--serial", "GF-L-1099-X", "--platform", "wyndows").want(t, 1, "platform")
		s.run(t, "", "device", "enrol", "--platform", "windows").want(t, 1, "needs a serial")
	})
	t.Run("a person decides, with a reason", func(t *testing.T) {
		s.run(t, "", "device", "enrol", "admit", held).want(t, 2, "reason")
		s.run(t, "", "device", "enrol", "admit", held, "--reason", "Shown at the desk").want(t, 0,
			"Enrolled as", "Shown at the desk")
		s.run(t, "", "device", "enrol", "refuse", held, "--reason", "Second thoughts").want(t, 1,
			"enrolled already")
		s.run(t, "", "device", "show", "HOME-1").want(t, 0)
	})
	t.Run("one that is retired is unknown to decisions, and stays so", func(t *testing.T) {
		s.run(t, "", "ask", maren, "payroll", "--device", "GF-L-1042", "--mfa").want(t, 0, "ALLOW")
		s.run(t, "", "session", "list", "--device", "GF-L-1042").want(t, 0, maren)
		s.run(t, "", "device", "retire", "GF-L-1042", "--reason", "Lost at sea, ticket 4471").want(t, 0,
			"GF-L-1042 is retired")
		if r := s.run(t, "", "session", "list", "--device", "GF-L-1042").want(t, 0); strings.Contains(r.out,
			maren) {
			t.Errorf("its sessions go on:\n%s", r.out)
		}
		gone := func() {
			t.Helper()
			s.run(t, "", "ask", maren, "payroll", "--device", "GF-L-1042", "--mfa").want(t, 3,
				"the device GF-L-1042 is retired")
			body := fmt.Sprintf(`{"source":"mdm","observed_at":%q,"identity":{"id":"GF-L-1042"},"evidence":{"firewall.on":true}}`, time.Now().UTC().Format(time.RFC3339))
			s.run(t, body, "device", "import", "-").want(t, 0)
			s.run(t, "", "device", "show", "GF-L-1042").want(t, 0, "unproven", "Lost at sea, ticket 4471")
		}
		gone()
		s.stop(t)
		s = start(whole, "serve", dir)
		gone()
		var again struct{ ID, State string }
		r := s.run(t, "", "device", "enrol", "--id", "GF-L-1042", "-o", "json").want(t, 3)
		if err := json.Unmarshal([]byte(r.out), &again); err != nil || again.State != "held" {
			t.Fatal(r.out, err)
		}
		s.run(t, "", "device", "enrol", "admit", again.ID, "--reason", "Found in the lost property").want(t, 0)
		s.run(t, "", "ask", maren, "payroll", "--device", "GF-L-1042", "--mfa").want(t, 0, "ALLOW")
	})
	t.Run("a house may refuse", func(t *testing.T) {
		s.run(t, "", "rulebook", "publish", copyRulebook(t, "otherwise: hold", "otherwise: refuse")).want(t, 0)
		s.run(t, "", "device", "enrol", "--serial", "HOME-3").want(t, 3, "Refused", "otherwise refuse")
	})
}
