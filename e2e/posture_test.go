package e2e

import (
	"encoding/csv"
	"encoding/json"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

type grant struct{ ID, Device, Rule, State, Reason, Author, Until string }

// levelOf asks the service how a device stands.
func (s *server) levelOf(t *testing.T, device string) string {
	t.Helper()
	var d struct{ Level string }
	s.call(t, "GET", "/api/v1/devices/"+device, adminToken, "", "").into(t, 200, &d)
	return d.Level
}

func TestWaiversFromTheCommandLine(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	if got := s.levelOf(t, "GF-T-2107"); got != "limited" {
		t.Fatalf("the tablet stands at %s", got)
	}
	s.run(t, "", "waiver", "grant", "GF-T-2107", "bridge-tablet/os-current", "--for", "3d").want(t, 2,
		"required flag")
	s.run(t, "", "waiver", "grant", "GF-T-2107", "bridge-tablet/os-current", "--reason", "x").want(t, 2,
		"for until")
	s.run(t, "", "waiver", "grant", "GF-T-2107", "bridge-tablet/os-current", "--reason", "x", "--for", "3d",
		"--until", "2099-01-01").want(t, 2, "for until")
	s.run(t, "", "waiver", "grant", "GF-T-2107", "bridge-tablet/os", "--reason", "x", "--for", "3d").want(t,
		1, "is not a rule of the rulebook in force", "did you mean bridge-tablet/")
	s.run(t, "", "waiver", "grant", "GF-T-2107", "bridge-tablet/os-current", "--reason", "x", "--for",
		"40d").want(t, 1, "the rulebook allows 30d")
	s.run(t, "", "waiver", "grant", "GF-T-9999", "bridge-tablet/os-current", "--reason", "x", "--for",
		"3d").want(t, 1, "there is no device GF-T-9999")

	s.run(t, "", "waiver", "grant", "GF-T-2107-S", "bridge-tablet/os-current", "--reason",
		"Charts first, ticket 5", "--for", "3d").want(t, 0, "is in force until", "GF-T-2107 stands at ▮▮▮▮ strong")
	s.run(t, "", "device", "show", "GF-T-2107").want(t, 0, "Waived: bridge-tablet/os-current until",
		"Charts first, ticket 5", "waived")
	s.run(t, "", "device", "history", "GF-T-2107").want(t, 0, "limited → strong  (waiver, first-admin)",
		"bridge-tablet/os-current: fail → waived", "waiver.granted bridge-tablet/os-current")
	list := lines[grant](t, s.run(t, "", "waiver", "list", "--device", "GF-T-2107", "-o", "ndjson").want(t, 0).out)
	if len(list) != 1 || list[0].State != "live" || list[0].Author != "first-admin" {
		t.Fatalf("the list is %+v", list)
	}
	s.run(t, "", "waiver", "list", "--within", "7d").want(t, 0, "GF-L-1050", "GF-T-2107", "Charts first")
	s.run(t, "", "waiver", "list", "--state", "revoked").want(t, 0, "GF-P-4103", "revoked")
	s.run(t, "", "waiver", "list", "--state", "gone").want(t, 2, "there are asked, live, ended and revoked")
	s.run(t, "", "waiver", "revoke", list[0].ID, "--reason", "updated").want(t, 0, "is revoked")
	s.run(t, "", "waiver", "revoke", list[0].ID, "--reason", "updated").want(t, 1, "is revoked already")
	if got := s.levelOf(t, "GF-T-2107"); got != "limited" {
		t.Errorf("after the waiver it stands at %s", got)
	}
	s.run(t, "", "vouch", "give", "GF-L-1064", "--for", "2h", "--reason", "seen").want(t, 0, "is in force until")
	vouches := lines[grant](t, s.run(t, "", "vouch", "list", "-o", "ndjson").want(t, 0).out)
	if len(vouches) != 2 || vouches[0].Reason != "seen" {
		t.Errorf("the vouches are %+v", vouches)
	}
	s.run(t, "", "vouch", "revoke", vouches[0].ID, "--reason", "wrong one").want(t, 0, "is revoked")
}

func TestTheFleetFromTheCommandLine(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	t.Run("overview", func(t *testing.T) {
		s.run(t, "", "overview").want(t, 0, "71 devices", "What holds devices down", "phone/company-owned",
			"Fell in the last day", "GF-L-1051", "Ends soon", "and ", "The source quay-seals is quiet",
			"unmatched list")
		var o struct {
			Devices int
			Ladder  []string
			Course  []struct {
				At     string
				Levels []int
			}
			Verdicts map[string]int
		}
		if err := json.Unmarshal([]byte(s.run(t, "", "overview", "-o", "json").want(t, 0).out), &o); err != nil {
			t.Fatal(err)
		}
		for _, v := range []string{"pass", "fail", "unknown", "grace", "waived"} {
			if o.Verdicts[v] == 0 {
				t.Errorf("no rule of the demo is %s", v)
			}
		}
		sum := 0
		for _, n := range o.Course[len(o.Course)-1].Levels {
			sum += n
		}
		if sum != o.Devices || len(o.Course) < 40 {
			t.Errorf("the course has %d points and ends with %d of %d devices", len(o.Course), sum, o.Devices)
		}
		for i := 1; i < len(o.Course); i++ {
			if o.Course[i-1].At >= o.Course[i].At {
				t.Errorf("the course goes from %s to %s", o.Course[i-1].At, o.Course[i].At)
			}
			for _, n := range o.Course[i].Levels {
				if n < 0 {
					t.Errorf("at %s there are %v devices", o.Course[i].At, o.Course[i].Levels)
				}
			}
		}
		s.run(t, "", "overview", "--within", "soon").want(t, 2, "within", "is not a duration")
	})
	t.Run("certificates", func(t *testing.T) {
		s.run(t, "", "certificate", "list").want(t, 0, "revoked", "names another device",
			"does not chain to an issuer", "longer than 14d", "expired on", "18 of 18 certificates")
		s.run(t, "", "certificate", "list", "--where", `trusted and until(not_after) < 2d`).want(t, 0,
			"GF-L-1047", "GF-T-2107", "2 of 2 certificates")
		s.run(t, "", "certificate", "list", "--where",
			`issuer_id == "device-ca" and platform == ipados and level >= strong`, "-o", "csv").want(t, 0,
			"GF-T-2101")
		s.run(t, "", "certificate", "list", "--state", "revoked", "--limit", "1").want(t, 0, "GF-L-1049")
		s.run(t, "", "certificate", "list", "-q", "tablet authority", "-o", "ndjson").want(t, 0,
			`"state":"authority"`)
		s.run(t, "", "certificate", "list", "--where", "trustd").want(t, 2, "did you mean trusted?")
		s.run(t, "", "certificate", "list", "--state", "lost").want(t, 2, "a state is one of")
	})
	t.Run("a cure restores at once", func(t *testing.T) {
		s.run(t, "", "device", "show", "GF-L-1047").want(t, 0,
			"Held at limited by key-holders/device-certificate", "Renew the device certificate",
			"how to renew (https://help.gullholm.example/certificates)",
			"Certificate: CN=GF-L-1047-S,O=Gullholm Ferries is ending")
		s.run(t, "", "device", "show", "GF-L-1047", "--lang", "sv").want(t, 0, "Förnya enhetens certifikat")
		s.run(t, "", "device", "show", "GF-L-1047", "--lang", "fi").want(t, 0, "Renew the device certificate")
	})
	t.Run("sources", func(t *testing.T) {
		s.run(t, "", "source", "list").want(t, 0, "quay-seals", "never (quiet)", "custom.seal_number on 1",
			"storage.encrypted on 1")
		s.run(t, "", "device", "show", "GF-T-2101").want(t, 0,
			"Refused of sensor: storage.encrypted: the source sensor may only supply threat, threats, integrity")
	})
	t.Run("unmatched", func(t *testing.T) {
		var list []struct{ ID string }
		out := s.run(t, "", "unmatched", "list", "-o", "json").want(t, 0, "GF-L-1055", "gf-l-1056-s").out
		if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) != 1 {
			t.Fatal(out, err)
		}
		s.run(t, "", "unmatched", "settle", list[0].ID, "--device", "GF-L-1055").want(t, 2, "say how you know")
		s.run(t, "", "unmatched", "settle", list[0].ID, "--reason", "x").want(t, 2, "device discard")
		s.run(t, "", "unmatched", "settle", "u-none", "--device", "GF-L-1055", "--reason", "x").want(t, 1,
			"there is no unmatched report u-none")
		s.run(t, "", "unmatched", "settle", list[0].ID, "--device", "GF-L-1055", "--reason",
			"The board was replaced").want(t, 0, "is joined to GF-L-1055, which stands at strong")
		s.run(t, "", "unmatched", "list").want(t, 0, "Nothing to show")
		s.run(t, "", "unmatched", "list", "--all").want(t, 0, "joined")
		s.run(t, "", "device", "history", "GF-L-1055").want(t, 0, "device.settled", "The board was replaced")
	})
	t.Run("roster", func(t *testing.T) {
		s.run(t, "", "roster", "list", "-q", "on its way").want(t, 0, "GF-L-1065-S", "not seen yet")
		s.run(t, "serial,hardware_id,note\nX-1,,new\n,,nothing\n", "roster", "import", "-").want(t, 1,
			"-:3: the line has neither", "1 entries added, 0 changed, 0 as they were, 0 removed, 1 lines refused")
		s.run(t, "colour\nblue\n", "roster", "import", "-").want(t, 1, "is not a column of a roster")
		s.run(t, "", "roster", "remove", "x-1", "--reason", "sold").want(t, 0, "is off the roster")
		s.run(t, "", "roster", "remove", "x-1", "--reason", "sold").want(t, 1, "there is no roster entry x-1")
	})
	t.Run("searches and columns", func(t *testing.T) {
		s.run(t, "", "device", "search", "list").want(t, 0, "Tablets behind with their charts")
		s.run(t, "", "device", "list", "--search", "Tablets behind with their charts").want(t, 0,
			"CUSTOM.CHART_PACK", "2026.")
		s.run(t, "", "device", "list", "--search", "none").want(t, 1, "no search is kept under the name")
		s.run(t, "", "device", "search", "keep", "mine", "--where", "levl == strong").want(t, 2,
			"did you mean level?")
		s.run(t, "", "device", "search", "keep", "mine", "--where", "level == strong", "--columns",
			"os.build").want(t, 0, "Kept")
		s.run(t, "", "device", "search", "drop", "mine").want(t, 0)
		s.run(t, "", "device", "search", "drop", "mine").want(t, 1, "there is no search mine")
		s.run(t, "", "device", "list", "--columns", "colour").want(t, 2, "is not an attribute")
		rows, err := csv.NewReader(strings.NewReader(string(s.call(t, "GET",
			"/api/v1/devices?format=csv&columns=passcode.length&where="+url.QueryEscape("form == tablet"),
			adminToken, "", "").body))).ReadAll()
		if err != nil || len(rows) != 13 || rows[0][len(rows[0])-1] != "passcode.length" ||
			rows[1][0] != "GF-T-2101" {
			t.Errorf("the export has %d rows (%v): %v", len(rows), err, rows[:min(2, len(rows))])
		}
	})
}

// A site's own script brings what only the site knows, and a rule uses it.
func TestAttributesOfOnesOwn(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	book := `rulebook: site
attributes:
  custom.dock: {type: enum, values: [loose, tied, locked], ordered: true}
  custom.checked_at: {type: time}
baselines:
  - id: all
    rules:
      - {id: dock, check: custom.dock >= tied, cap: limited}
      - {id: checked, check: age(custom.checked_at) < 2d, cap: sound}
`
	s.run(t, book, "rulebook", "publish", "-").want(t, 0, "Version 1")
	secret := ""
	var made struct{ Secret string }
	s.call(t, "POST", "/api/v1/tokens", adminToken, "application/json",
		`{"name":"dock","role":"source"}`).into(t, 201, &made)
	secret = made.Secret
	post := func(evidence string) string {
		var out struct {
			Results []struct {
				Level   string
				Refused []struct{ Message string }
			}
		}
		s.call(t, "POST", "/api/v1/evidence", secret, "application/json",
			`{"identity":{"serial":"K-1"},"evidence":`+evidence+`}`).into(t, 200, &out)
		said := out.Results[0].Level
		for _, r := range out.Results[0].Refused {
			said += "; " + r.Message
		}
		return said
	}
	now := time.Now().UTC().Format(time.RFC3339)
	for _, c := range []struct{ evidence, want string }{
		{`{"custom.dock":"loose"}`, "unproven"},
		{`{"custom.dock":"locked","custom.checked_at":"` + now + `"}`, "strong"},
		{`{"custom.dock":"adrift"}`, "is not one of loose, tied, locked"},
		{`{"custom.wharf":1}`, "the rulebook must declare it"},
		{`{"on_roster":true}`, "only the service itself sets this"},
	} {
		if got := post(c.evidence); !strings.Contains(got, c.want) {
			t.Errorf("%s gives %q, want %q", c.evidence, got, c.want)
		}
	}
	s.run(t, "", "device", "list", "--where",
		"custom.dock == locked and custom.checked_at > 2020-01-01").want(t, 0, "K-1")
}

func TestTheLifeOfARulebook(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	dir := t.TempDir()
	files, err := filepath.Glob("../demo/rulebook/*")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range files {
		raw, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		text := strings.Replace(string(raw), "check: passcode.set\n        cap: barred",
			"check: passcode.set and passcode.biometric\n        cap: limited", 1)
		if err := os.WriteFile(filepath.Join(dir, filepath.Base(name)), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s.run(t, "", "rulebook", "diff", "current", dir).want(t, 3,
		"the rule phone/passcode: check passcode.set and passcode.biometric, was passcode.set",
		"the rule phone/passcode: cap limited, was barred")
	s.run(t, "", "rulebook", "diff", "1", "2", "-o", "json").want(t, 3, `"change": "added"`,
		"laptop-patching/patched")
	s.run(t, "", "rulebook", "diff", "current", "../demo/rulebook").want(t, 0, "They mean the same.")
	s.run(t, "", "rulebook", "diff", "current", "99").want(t, 1, "there is nothing of that id")

	review := s.run(t, "", "rulebook", "review", dir, "--fleet").want(t, 3, "no-remedy",
		"stand under no enforced baseline: linux").out
	if offline := offline(t, "", "rulebook", "review", dir).want(t, 3,
		"no-remedy").out; strings.Contains(offline, "uncovered") || len(offline) >= len(review) {
		t.Errorf("without a fleet it remarks\n%s", offline)
	}
	offline(t, "rulebook: x\nbreak_glass: [a]\nbaselines: [{id: b, rules: [{id: c, check: managed, cap: barred, unknown: unproven, remedy: {en: {title: Do}}}, {id: d, check: firewall.on, cap: limited, unknown: sound, remedy: {en: {title: Do}}}]}]\nexamples: [{device: {managed: true, firewall.on: true}, level: strong}]\n", "rulebook", "review", "-").want(t, 0, "Nothing to remark.")

	before := s.call(t, "GET", "/api/v1/devices?limit=1000", adminToken, "", "").body
	out := s.run(t, "", "rulebook", "rehearse", dir).want(t, 0, "71 devices:", "would fall", "phone/passcode",
		"PLATFORM", "GROUP").out
	s.run(t, "", "rulebook", "rehearse", dir, "--device", "GF-P-4108").want(t, 0, "which is not in force",
		"phone/passcode", "passcode.biometric")
	s.run(t, "", "rulebook", "rehearse", "current").want(t, 0, "0 would fall, 0 would rise, 71 stay",
		"No device would change level")
	if after := s.call(t, "GET", "/api/v1/devices?limit=1000", adminToken, "",
		"").body; string(after) != string(before) {
		t.Error("the rehearsal changed the fleet")
	}
	var rehearsed struct {
		Devices struct {
			Falls, Rises int
			Moves        []struct{ Device, From, To string }
		}
	}
	err = json.Unmarshal([]byte(s.run(t, "", "rulebook", "rehearse", dir, "-o", "json").want(t, 0).out), &rehearsed)
	shift := &rehearsed.Devices
	if err != nil || shift.Falls+shift.Rises != len(shift.Moves) || len(shift.Moves) == 0 {
		t.Fatalf("the shift is %+v (%v) of %s", shift, err, out)
	}
	var published struct {
		Moved    int
		Rulebook struct{ Version int }
	}
	if err := json.Unmarshal([]byte(s.run(t, "", "rulebook", "publish", dir, "-m", "Fingers too", "-o",
		"json").want(t, 0).out), &published); err != nil || published.Moved != len(shift.Moves) {
		t.Errorf("published it moves %+v (%v), the rehearsal said %d", published, err, len(shift.Moves))
	}
	for _, m := range shift.Moves {
		if got := s.levelOf(t, m.Device); got != m.To {
			t.Errorf("%s stands at %s, the rehearsal said %s", m.Device, got, m.To)
		}
	}
	s.run(t, "", "rulebook", "back", "0").want(t, 2, "is not the number of a version")
	s.run(t, "", "rulebook", "back", "3").want(t, 1, "is the same as version 3")
	s.run(t, "", "rulebook", "back", "2", "-m", "Fingers were too much").want(t, 0, "Version 4 is in force")
	s.run(t, "", "rulebook", "history").want(t, 0, "Back to version 2: Fingers were too much")
	if after := s.call(t, "GET", "/api/v1/devices?limit=1000", adminToken, "",
		"").body; strings.Contains(string(after), "biometric") {
		t.Error("after going back the old rules hold")
	}
	schema := offline(t, "", "rulebook", "schema").want(t, 0,
		`"$schema": "https://json-schema.org/draft/2020-12/schema"`).out
	var one, two any
	if err := json.Unmarshal([]byte(schema), &one); err != nil {
		t.Fatal(err)
	}
	r := s.call(t, "GET", "/schema/rulebook.json", "", "", "")
	if r.into(t, 200, &two); !strings.HasPrefix(r.header.Get("Content-Type"), "application/schema+json") {
		t.Errorf("the schema is served as %s", r.header.Get("Content-Type"))
	}
}

func TestCollect(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	for name, text := range map[string]string{
		"etc/os-release": "ID=debian\nVERSION_ID=\"12\"\n", "etc/debian_version": "12.8\n",
		"etc/machine-id": "00ff\n", "sys/class/dmi/id/chassis_type": "23\n", "etc/ufw/ufw.conf": "ENABLED=yes\n",
		"proc/self/mountinfo":       "29 1 8:1 / / rw - ext4 /dev/sda1 rw\n",
		"sys/dev/block/8:1/dm/uuid": "CRYPT-LUKS2-1\n",
	} {
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	offline(t, "", "collect", "--root", root).want(t, 0, "hardware_id 00ff", "storage.encrypted", "true",
		"unavailable:")
	offline(t, "", "collect", "--root", root, "--set", "custom.x").want(t, 2, "is not NAME=JSON")
	offline(t, "", "collect", "--root", t.TempDir()).want(t, 1, "give it an id")
	s := start(t, "demo", t.TempDir())
	report := s.run(t, "", "collect", "--root", root, "--id", "GF-S-6100", "-o", "json").want(t, 0,
		`"unavailable"`).out
	s.run(t, report, "device", "import", "-").want(t, 0,
		"1 reports taken, with 17 values; 0 refused, and 0 values of others")
	s.run(t, "", "collect", "--root", root, "--send", "--certs", "../demo/rulebook").want(t, 0,
		"GF-S-6100 stands at")
	s.run(t, "", "device", "show", "GF-S-6100", "--readings").want(t, 0, "12.8", "storage.encrypted",
		"Gullholm Device Root", "unavailable: it is a setting of each person's session")
}

func TestLanguages(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	for accept, want := range map[string]string{"": "en sv", "sv": "sv", "sv-FI,en;q=0.5": "sv", "fi": "en",
		"en-GB": "en", "fi, sv;q=0.4, en;q=0.2": "sv", "*": "en", "not a language!": "en sv"} {
		req := s.request(t, "GET", "/api/v1/devices/GF-L-1047", adminToken)
		if accept != "" {
			req.Header.Set("Accept-Language", accept)
		}
		var d struct {
			Standing struct {
				Verdicts []struct {
					Rule   string
					Remedy map[string]any
				}
			}
		}
		s.send(t, req).into(t, 200, &d)
		for _, v := range d.Standing.Verdicts {
			if v.Rule != "key-holders/device-certificate" {
				continue
			}
			got := ""
			for _, lang := range []string{"en", "sv"} {
				if v.Remedy[lang] != nil {
					got += " " + lang
				}
			}
			if strings.TrimSpace(got) != want {
				t.Errorf("to %q it is told in%s, want %s", accept, got, want)
			}
		}
	}
}

// What a hostile sender or author may try must be refused with a message, and
// the service must go on.
func TestHostileInputIsBounded(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	publish := func(text string) (int, string) {
		body, err := json.Marshal(map[string]any{"files": []map[string]string{{"name": "r.yaml", "text": text}}})
		if err != nil {
			t.Fatal(err)
		}
		r := s.call(t, "POST", "/api/v1/rulebooks", adminToken, "application/json", string(body))
		return r.status, string(r.body)
	}
	rule := func(check string) string {
		return "rulebook: x\nbaselines: [{id: a, rules: [{id: b, check: " + check + "}]}]\n"
	}
	bomb := "rulebook: x\na: &a [x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b,*b]\nbreak_glass: *c\n"
	for name, c := range map[string]struct{ text, want string }{
		"deep YAML":            {"rulebook: " + strings.Repeat("[", 20000), "nested more than 64 deep"},
		"aliases that explode": {bomb, "anchor"},
		"a condition of 1 MB":  {rule("'" + strings.Repeat("managed and ", 90_000) + "managed'"), "condition"},
		"a condition too deep": {rule("'" + strings.Repeat("not ", 3000) + "managed'"), "nested more than"},
		"a hostile expression": {rule(`'name matches "(a+)+$("'`), "matches"},
		"an expression too large": {rule(`'name matches "` + strings.Repeat("(x{1000}){1000}", 3) + `"'`),
			"matches"},
		"a negative duration":     {"rulebook: x\nfreshness: {default: -3d}\n", "is not a duration"},
		"a duration without end":  {"rulebook: x\nfreshness: {default: 99999999999999d}\n", "duration"},
		"ids twice":               {"rulebook: x\nresources: [{id: a}, {id: a}]\n", "used twice"},
		"an unknown level":        {"rulebook: x\nuncovered: golden\n", "golden is not a level"},
		"a time in the year 9999": {rule("'os.patched_at > 99999-01-01'"), "is not a number, version"},
		"too many files":          {"rulebook: " + strings.Repeat("x", 5<<20), "larger than"},
	} {
		status, body := publish(c.text)
		if status < 400 || status >= 500 || !strings.Contains(body, c.want) {
			t.Errorf("%s is answered %d %.300s, want %q", name, status, body, c.want)
		}
	}
	cert := `{"pem":"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n"}`
	for name, c := range map[string]struct{ certs, want string }{
		"ten thousand certificates": {"[" + strings.Repeat(`{"der":""},`, 9999) + `{"der":""}]`, "certs"},
		"a malformed one":           {"[" + cert + "]", "not an X.509 certificate"},
		"a huge one":                {`[{"der":"` + strings.Repeat("A", 200_000) + `"}]`, "larger than"},
		"not a list":                {`{"pem":"x"}`, "expected a list"},
		"numbers":                   {`[1,2,3]`, "expected an object"},
	} {
		var out struct {
			Results []struct {
				Device  string
				Refused []struct{ Attribute, Message string }
			}
		}
		s.call(t, "POST", "/api/v1/evidence", adminToken, "application/json",
			`{"source":"agent","identity":{"id":"hostile"},"evidence":{"managed":true,"certs":`+c.certs+
				`}}`).into(t, 200, &out)
		if r := out.Results[0]; r.Device != "hostile" || len(r.Refused) != 1 ||
			!strings.Contains(r.Refused[0].Attribute+" "+r.Refused[0].Message, c.want) {
			t.Errorf("%s is answered %+v, want %q", name, r, c.want)
		}
	}
	if got := s.call(t, "GET", "/readyz", "", "", ""); got.status != 200 {
		t.Errorf("afterwards the service is %d", got.status)
	}
	s.run(t, "", "status").want(t, 0, "Rulebook version 2")
}
