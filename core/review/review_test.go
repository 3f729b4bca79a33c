package review

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

// house reads the rulebook of the demo, files and all.
func house(t *testing.T) []rulebook.File {
	t.Helper()
	names, err := filepath.Glob("../../demo/rulebook/*")
	if err != nil || len(names) == 0 {
		t.Fatal("there is no demo", err)
	}
	var files []rulebook.File
	for _, name := range names {
		raw, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, rulebook.File{Name: filepath.Base(name), Text: string(raw)})
	}
	return files
}

// changed is the same rulebook with texts put for others.
func changed(t *testing.T, files []rulebook.File, pairs ...string) []rulebook.File {
	t.Helper()
	out := slices.Clone(files)
	for i := 0; i < len(pairs); i += 2 {
		j := slices.IndexFunc(out, func(f rulebook.File) bool { return strings.Contains(f.Text, pairs[i]) })
		if j < 0 {
			t.Fatalf("no file holds %q", pairs[i])
		}
		out[j].Text = strings.Replace(out[j].Text, pairs[i], pairs[i+1], 1)
	}
	return out
}

func mustLoad(t *testing.T, files []rulebook.File) *rulebook.Rulebook {
	t.Helper()
	rb, err := rulebook.Load(files)
	if err != nil {
		t.Fatal(err)
	}
	return rb
}

func TestReviewFindsWhatIsLikelyNotMeant(t *testing.T) {
	files := house(t)
	now := func(s string) int64 {
		v, err := value.ParseTime(s)
		if err != nil {
			t.Fatal(err)
		}
		return v.Num()
	}("2026-11-20T12:00:00Z")
	kinds := func(remarks []Remark) map[string]string {
		out := map[string]string{}
		for _, r := range remarks {
			out[r.Kind+" "+r.About] = r.Message
		}
		return out
	}
	standing := kinds(Of(mustLoad(t, files), nil, now))
	for about := range standing {
		if about != "no-remedy till/no-threat" && about != "no-remedy phone/company-owned" {
			t.Errorf("of the house it remarks %s: %s", about, standing[about])
		}
	}
	cases := []struct{ name, old, new, want string }{
		{"a baseline that contradicts itself", "applies: form == tablet and ownership == company",
			"applies: platform == ios and platform == android", "never-applies bridge-tablet"},
		{"a rule for platforms that its baseline leaves out",
			"applies: form in [laptop, desktop] and managed",
			"applies: form in [laptop, desktop] and platform == ipados", "never-applies laptop/os-current"},
		{"a check that asks nothing", "check: firewall.on", "check: 'true'", "never-applies laptop/firewall"},
		{"an attribute that nobody supplies", "check: firewall.on", "check: custom.quiet",
			"no-source laptop/firewall"},
		{"a gate that another makes superfluous", "  - id: till\n    number: 220",
			"  - {id: weaker, number: 219, who: {groups: [finance], except: {groups: [auditors]}}, what: {resources: [payroll], actions: [open]}, when: 'action != \"export\"', need: level >= strong, otherwise: step-up}\n  - id: till\n    number: 220", "overshadowed weaker"},
		{"a level that nobody reaches", "ladder: [barred, unproven, limited, sound, strong]",
			"ladder: [barred, unproven, limited, sound, golden, strong]", "unreachable golden"},
		{"nobody passes every gate", "break_glass: [harbourmaster@gullholm.example]", "break_glass: []",
			"no-break-glass break_glass"},
	}
	for _, c := range cases {
		pairs := []string{c.old, c.new}
		if strings.Contains(c.new, "custom.quiet") {
			pairs = append(pairs, "custom.till_sealed: {type: bool",
				"custom.quiet: {type: bool}\n  custom.till_sealed: {type: bool",
				`{id: agent, rank: 1, title: The device's own agent, provides: ["*"]}`,
				"{id: agent, rank: 1, provides: [os]}", `title: Management system, provides: ["*"]`,
				"provides: [storage]")
		}
		found := kinds(Of(mustLoad(t, changed(t, files, pairs...)), nil, now))
		if found[c.want] == "" {
			t.Errorf("%s: %q is not among %v", c.name, c.want, found)
		}
	}
	fleet := &FleetCoverage{Devices: 9, Baselines: map[string]int{"laptop": 4}, Uncovered: map[string]int{"chromeos": 2}}
	found := kinds(Of(mustLoad(t, files), fleet, now))
	if !strings.Contains(found["uncovered uncovered"], "2 of 9 devices") ||
		found["covers-nothing phone"] == "" || found["covers-nothing laptop"] != "" {
		t.Errorf("of a fleet it remarks %v", found)
	}
	if late := kinds(Of(mustLoad(t, files), nil,
		now+40*365*24*3600*1_000_000)); !strings.Contains(late["issuer-ended device-ca"], "revocation list") {
		t.Errorf("in forty years it remarks %v", late)
	}
	bare := mustLoad(t, []rulebook.File{{Name: "r.yaml",
		Text: "rulebook: x\nbaselines: [{id: a, rules: [{id: b, check: any c in certs (c.trusted)}]}]\n"}})
	if found := kinds(Of(bare, nil, now)); found["no-issuer a/b"] == "" || found["no-examples examples"] == "" {
		t.Errorf("of a bare one it remarks %v", found)
	}
	// Level and score stand apart without bands: a sensor that gives scores alone leaves the level unknown.
	const threats = "rulebook: x\nbaselines: [{id: a, rules: [{id: b, check: threat.level <= low}]}]\n"
	for with, want := range map[string]bool{"": true, "threat_bands: {low: 40, medium: 70, high: 90}\n": false} {
		rb := mustLoad(t, []rulebook.File{{Name: "r.yaml", Text: threats + with}})
		if got := kinds(Of(rb, nil, now))["no-threat-bands a/b"]; (got != "") != want {
			t.Errorf("with %q it remarks %q", with, got)
		}
	}
}
