package revision

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/rulebook"
)

// load reads the rulebook of the demo, with one text put for another.
func load(t *testing.T, pairs ...string) *rulebook.Rulebook {
	t.Helper()
	names, err := filepath.Glob("../../demo/rulebook/*")
	if err != nil || len(names) == 0 {
		t.Fatal("there is no demo", err)
	}
	found := len(pairs) == 0
	var files []rulebook.File
	for _, name := range names {
		raw, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		text := string(raw)
		if !found && strings.Contains(text, pairs[0]) {
			text, found = strings.Replace(text, pairs[0], pairs[1], 1), true
		}
		files = append(files, rulebook.File{Name: filepath.Base(name), Text: text})
	}
	if !found {
		t.Fatalf("no file holds %q", pairs[0])
	}
	rb, err := rulebook.Load(files)
	if err != nil {
		t.Fatal(err)
	}
	return rb
}

func TestDifferencesAreToldInWords(t *testing.T) {
	before := load(t)
	if diff := Compare(before, load(t)); len(diff) != 0 {
		t.Errorf("a rulebook differs from itself: %v", diff)
	}
	cases := []struct{ old, new, section, about, change, text string }{
		{"cap: limited\n        grace: 3d", "cap: sound\n        grace: 3d", "baselines", "laptop/os-current",
			"changed", "the rule laptop/os-current: cap sound, was limited"},
		{"        grace: 3d\n", "", "baselines", "laptop/os-current", "changed", "grace none, was 3d"},
		{"macos: os.version >= 14.6", "macos: os.version >= 15", "baselines", "laptop/os-current", "changed",
			"check macos os.version >= 15, was os.version >= 14.6"},
		{"      - id: firewall\n", "      - id: fire-wall\n", "baselines", "laptop/firewall", "removed",
			"the rule laptop/firewall is gone"},
		{"      - id: firewall\n", "      - id: fire-wall\n", "baselines", "laptop/fire-wall", "added",
			"the rule laptop/fire-wall is new: check firewall.on; cap limited"},
		{"mode: shadow\n    applies: form == laptop and managed",
			"mode: enforce\n    applies: form == laptop and managed", "baselines", "laptop-patching",
			"changed", "mode enforce, was shadow"},
		{"default: 3d", "default: 2d", "settings", "freshness", "changed", "default 2d"},
		{"unmatched: deny", "unmatched: allow", "settings", "unmatched", "changed", "unmatched: allow, was deny"},
		{"{low: 1, medium: 40", "{low: 2, medium: 40", "settings", "threat_bands", "changed", "low from 2"},
		{"waivers: {max: 30d,", "waivers: {max: 17d,", "settings", "waivers", "changed",
			"at most 17d"},
		{"break_glass: [harbourmaster@gullholm.example]", "break_glass: [keys@gullholm.example]", "settings",
			"break_glass", "changed", "break_glass: keys@gullholm.example"},
		{"{id: mdm, rank: 3", "{id: mdm, rank: 9", "sources", "mdm", "changed", "the source mdm: rank 9, was 3"},
		{"binds: serial, max_lifetime: 14d", "max_lifetime: 14d", "issuers", "device-ca", "changed",
			"binds none, was serial"},
		{"networks: [10.30.0.0/16]", "networks: [10.31.0.0/16]", "places", "quay", "changed",
			"networks 10.31.0.0/16, was 10.30.0.0/16"},
		{"title: Payroll, tags: [money]", "title: Wages, tags: [money]", "resources", "payroll", "changed",
			"title Wages, was Payroll"},
		{"number: 300", "number: 305", "gates", "keys", "changed", "number 305, was 300"},
		{"who: {groups: [bridge-crew, it]}",
			"who: {groups: [bridge-crew], except: {users: [x@gullholm.example]}}", "gates", "charts",
			"changed", "who groups bridge-crew except users x@gullholm.example, was groups bridge-crew, it"},
		{"what: {resources: [payroll], actions: [export]}",
			"what: {everything: true, except: {tags: [keys]}}", "gates", "payroll-export", "changed",
			"what everything except tags keys, was resources payroll, actions export"},
		{`when: action != "export"`, `when: action == "open"`, "gates", "payroll-strong", "changed",
			`when action == "open", was action != "export"`},
	}
	for _, c := range cases {
		diff := Compare(before, load(t, c.old, c.new))
		i := slices.IndexFunc(diff, func(d Difference) bool {
			return d.Section == c.section && d.About == c.about && d.Change == c.change &&
				strings.Contains(d.Text, c.text)
		})
		if i < 0 {
			t.Errorf("%q is told as %v, want %q", c.new, diff, c.text)
		}
	}
}

// What stands at the top is told where it was left out before, too.
func TestDifferencesOfGuardAndEnrolment(t *testing.T) {
	read := func(text string) *rulebook.Rulebook {
		rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: "rulebook: r\n" + text}})
		if err != nil {
			t.Fatal(err)
		}
		return rb
	}
	found := ""
	for _, d := range Compare(read(""), read("guard: {max_newly_denied: 7.5%}\nenrolment: {allow: on_roster, otherwise: refuse}\n"+
		"notices: [{id: fell, on: fell, to: owner}]\n")) {
		found += d.Text + "\n"
	}
	for _, text := range []string{"guard: at most 7.5% newly denied",
		"enrolment: allow on_roster, otherwise refuse, was none by itself, otherwise hold",
		"the notice fell is new: on fell; to owner"} {
		if !strings.Contains(found, text) {
			t.Errorf("the comparison does not say %q:\n%s", text, found)
		}
	}
}

// What a receiver is given is told like everything else.
func TestDifferencesOfReceivers(t *testing.T) {
	read := func(text string) *rulebook.Rulebook {
		rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: text}})
		if err != nil {
			t.Fatal(err)
		}
		return rb
	}
	before := read("rulebook: r\nsignals: {receivers: [{id: idp, person: email}, {id: gateway}, {id: chat, form: cloudevents}]}\n")
	after := read("rulebook: r\nsignals: {compliant_from: sound, receivers: [{id: idp, person: none}," +
		" {id: chat, form: cloudevents, when: change.to < sound}]}\n")
	told := ""
	for _, d := range Compare(before, after) {
		told += d.Text + "\n"
	}
	for _, want := range []string{"the receiver gateway is gone", "the receiver idp: person none, was email",
		"the receiver chat: when change.to < sound, was none", "compliant from sound"} {
		if !strings.Contains(told, want) {
			t.Errorf("the comparison does not say %q:\n%s", want, told)
		}
	}
}
