package rulebook

import (
	"errors"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook/plaintext"
)

// whole is a rulebook that uses every section.
var whole = func() string {
	raw, err := os.ReadFile("testdata/whole.yaml")
	if err != nil {
		panic(err)
	}
	return string(raw)
}()

func load1(text string) (*Rulebook, error) {
	return Load([]File{{Name: "r.yaml", Text: text}})
}

func TestWholeRulebook(t *testing.T) {
	rb, err := load1(whole)
	if err != nil {
		t.Fatal(err)
	}
	if rb.Name != "gullholm" || rb.LevelName(rb.Uncovered) != "limited" || !rb.Unmatched ||
		rb.LevelName(rb.Top()) != "strong" {
		t.Errorf("the settings are %q %v %v", rb.Name, rb.Uncovered, rb.Unmatched)
	}
	r := rb.Baselines[0].Rules[0]
	if r.Check("windows").String() != "os.version >= 10.0.22631" || r.Check("ios") != nil ||
		rb.LevelName(r.Unknown) != "unproven" || r.Grace != 3*24*3600*1_000_000 {
		t.Errorf("the rule is %+v", r)
	}
	if other := rb.Baselines[0].Rules[1]; other.Check("ios") == nil || other.Cap != 0 {
		t.Errorf("a plain check serves all platforms and caps at the lowest level: %+v", other)
	}
	if rb.Baselines[1].Mode != Shadow || rb.Baselines[1].Applies.String() != "true" {
		t.Errorf("the second baseline is %+v", rb.Baselines[1])
	}
	if rb.Gates[0].ID != "payroll" || !rb.Gates[0].StepUp || rb.Gates[0].ValidFor != 8*3600*1_000_000 ||
		rb.Gates[1].ValidFor != DefaultValid {
		t.Errorf("gates are sorted by number and keep what they say: %+v", rb.Gates)
	}
	for _, c := range []struct {
		ip, country string
		want        []string
	}{{"10.20.1.1", "", []string{"office"}}, {"fd12::1", "SE", []string{"office", "home"}},
		{"192.0.2.1", "NO", []string{}}} {
		if got, _ := rb.PlacesOf(netip.MustParseAddr(c.ip), c.country); !slices.Equal(got, c.want) {
			t.Errorf("%s in %q lies in %v, want %v", c.ip, c.country, got, c.want)
		}
	}
	if m, ok := plaintext.Language(r.Remedy, "sv-FI"); !ok || m.Title != "Uppdatera" {
		t.Errorf("in Swedish the remedy is %v", m)
	}
	if m, _ := plaintext.Language(r.Remedy, "de"); m.Title != "Update" {
		t.Errorf("in German the remedy falls back to %v", m)
	}
	if _, ok := plaintext.Language(map[string]string{}, "en"); ok {
		t.Error("a text is found where there is none")
	}
}

func TestDefaults(t *testing.T) {
	rb, err := load1("rulebook: small\nladder: [no, maybe, yes]\n")
	if err != nil {
		t.Fatal(err)
	}
	if rb.LevelName(rb.Uncovered) != "maybe" || rb.Unmatched {
		t.Errorf("a device is uncovered at %s and what is unmatched is allowed: %v",
			rb.LevelName(rb.Uncovered), rb.Unmatched)
	}
}

func TestEveryMistakeIsFoundWhereItStands(t *testing.T) {
	cases := []struct{ name, old, new, want string }{
		{"unknown section", "unmatched: allow", "unmached: allow",
			"r.yaml:4:1: a rulebook has no key unmached; did you mean unmatched?"},
		{"unknown level", "uncovered: limited", "uncovered: limted",
			"r.yaml:3:12: limted is not a level; did you mean limited?"},
		{"bad choice", "unmatched: allow", "unmatched: maybe", "4:12: maybe is not a choice"},
		{"bad duration", "default: 12h", "default: 12q", `5:22: "12q" is not a duration`},
		{"freshness of nothing", "threat: 15m", "treat: 15m", "no attribute begins with treat"},
		{"bands that fall", "high: 70", "high: 0", "must rise"},
		{"a band beyond the score", "high: 70", "high: 700", "between 0 and 100"},
		{"attribute outside custom", "custom.chart_pack:", "chart_pack:", "begins with custom."},
		{"enum without values", "{type: enum, values: [day, night], ordered: true}", "{type: enum}",
			"values go with type enum"},
		{"source without provides", `provides: ["*"]`, "title: x", "needs provides"},
		{"bad network", "10.20.0.0/16", "10.20.0.0/99", `is not an address or a network`},
		{"bad country", "[se]", "[sverige]", "two letters"},
		{"resource twice", "id: till", "id: payroll",
			"the id payroll is used twice in resources; the first is at r.yaml:17"},
		{"condition with an unknown name", "form in [laptop, desktop]", "frm in [laptop, desktop]",
			"r.yaml:22:14: there is no name frm; did you mean form?"},
		{"condition with a wrong value", "[laptop, desktop]", "[laptop, lorry]",
			"r.yaml:22:31: lorry is not one of laptop"},
		{"check for an unknown platform", "macos: os.version>=14.6", "mac: os.version>=14.6",
			"mac is not a platform; did you mean macos?"},
		{"condition in a flow mapping", "os.version>=14.6", "os.version=14.6", "25:69: \"=\" is not an operator"},
		{"rule without a check", "check: custom.shift >= night", "title: none", "the rule shift has no check"},
		{"rule twice", "id: shift", "id: os", "the id os is used twice in the baseline laptop"},
		{"language", "sv: {title", "swedish words: {title", "is not a language tag"},
		{"language with a quote", "sv: {title", "'s\"v': {title", "is not a language tag"},
		{"remedy without a title", "{title: Uppdatera}", "{steps: Uppdatera}", "a remedy needs a title"},
		{"gate with a number of nothing", "number: 300", "number: 0", "between 1 and 1000000"},
		{"gate without a need", "    need: known_device\n", "", "the gate late needs need"},
		{"gates of one number", "number: 300", "number: 210", "both have the number 210"},
		{"gate about an unknown resource", "resources: [payroll]", "resources: [payrol]",
			"payrol is not a resource in this rulebook; did you mean payroll?"},
		{"gate about an unknown tag", "tags: [quay]", "tags: [key]", "key is not a tag of a resource"},
		{"gate about nobody", "{groups: [finance]}", "{except: {groups: [x]}}",
			"who needs groups, users or everyone"},
		{"gate about nothing", "{everything: true, except: {tags: [quay]}}", "{actions: [open]}",
			"what needs resources, tags or everything"},
		{"device attribute in a when", `action != "export"`, `actoin != "export"`, "did you mean action?"},
		{"example without a result", ", level: limited}", "}", "needs the level or the outcome"},
		{"example with a bad value", `os.version: "13.0"`, `os.version: new`, "os.version: "},
		{"Planned section", "unmatched: allow", "promises: [x]",
			"the section promises is not supported by this version"},
		{"mapping for a list", "resources:\n  - {id: payroll, title: Payroll, tags: [money]}\n  - {id: till, tags: [money, quay]}", "resources: {payroll: 1}", "a mapping stands where a list was expected"},
		{"alias", "break_glass: [harbourmaster@gullholm.example]", "break_glass: &x [a]", "anchor"},
		{"broken YAML", "rulebook: gullholm", "rulebook: \"gullholm", "not valid YAML"},
		{"two documents", "uncovered: limited\n", "---\nuncovered: limited\n", "a second document begins here"},
		{"brackets without end", "rulebook: gullholm", "rulebook: " + strings.Repeat("[", 100),
			"nested more than 64 deep"},
		{"dashes without end", "rulebook: gullholm", strings.Repeat("- ", 1_000_000), "nested more than 64 deep"},
		{"level that is no word", "limited, sound, strong]", "limited, sound, very strong]", "cannot name a level"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			text := strings.Replace(whole, c.old, c.new, 1)
			if text == whole {
				t.Fatalf("the rulebook does not hold %q", c.old)
			}
			rb, err := load1(text)
			var problems Problems
			if rb != nil || !errors.As(err, &problems) {
				t.Fatalf("it is taken (%v)", err)
			}
			if !strings.Contains(err.Error(), c.want) {
				t.Errorf("the problems are\n%v\nwant %q", err, c.want)
			}
		})
	}
	_, err := load1(strings.NewReplacer("form in", "frm in", "uncovered: limited", "uncovered: x",
		"otherwise: step-up", "otherwise: shout").Replace(whole))
	var problems Problems
	if errors.As(err, &problems); len(problems) != 3 {
		t.Errorf("of three mistakes these are told: %v", err)
	}
}

func TestFilesAreMergedByKey(t *testing.T) {
	files := []File{{"a.yaml", "rulebook: house\nresources: [{id: payroll}]\n"},
		{"b.yaml", "resources: [{id: till}]\nbaselines: [{id: l, rules: [{id: r, check: managed}]}]\n"}}
	rb, err := Load(files)
	if err != nil || len(rb.Resources) != 2 || len(rb.Baselines) != 1 {
		t.Fatalf("merged: %+v (%v)", rb, err)
	}
	files[1].Text += "rulebook: other\n"
	files[1].Text = strings.Replace(files[1].Text, "id: till", "id: payroll", 1)
	_, err = Load(files)
	for _, want := range []string{"b.yaml:3:1: rulebook is given twice; it stands in a.yaml:1 too",
		"b.yaml:1:13: the id payroll is used twice in resources; the first is at a.yaml:2"} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("the problems are %v, want %q", err, want)
		}
	}
	if _, err := Load(nil); err == nil || !strings.Contains(err.Error(), "no YAML file") {
		t.Errorf("an empty folder: %v", err)
	}
	if _, err := Load([]File{{"a.yaml", "ladder: [a, b]"}}); err == nil ||
		!strings.Contains(err.Error(), "has no name") {
		t.Errorf("a rulebook without a name: %v", err)
	}
}

func TestFormatChangesConditionsAlone(t *testing.T) {
	before := "# the house\nrulebook: r   \nbaselines:\n  - id: l   # laptops\n    applies:   form  in [laptop,desktop]   # both\n    rules:\n      - {id: a, check: 'os.version>=14.6 and(managed)', cap: limited}\n      - {id: b, check: \"name==\\\"x\\\"\"}\n      - id: c\n        check: {ios: managed   or not(managed), macos: managed}\n"
	want := "# the house\nrulebook: r\nbaselines:\n  - id: l   # laptops\n    applies:   form in [laptop, desktop]   # both\n    rules:\n      - {id: a, check: 'os.version >= 14.6 and managed', cap: limited}\n      - {id: b, check: \"name == \\\"x\\\"\"}\n      - id: c\n        check: {ios: managed or not managed, macos: managed}\n"
	got, err := Format([]File{{"r.yaml", before}})
	if err != nil {
		t.Fatal(err)
	}
	if got[0].Text != want {
		t.Errorf("formatted:\n%s\nwant:\n%s", got[0].Text, want)
	}
	again, err := Format(got)
	if err != nil || again[0].Text != want {
		t.Errorf("formatting twice changes it again (%v)", err)
	}
}

func TestNamesSuggestAcrossFrames(t *testing.T) {
	rb, err := load1(whole)
	if err != nil {
		t.Fatal(err)
	}
	if n, ok := rb.Names.Lookup("level"); !ok || n.Frame != RequestFrame || n.Slot != SlotLevel {
		t.Errorf("level is at %+v", n)
	}
	if n, ok := rb.Names.Lookup("platform"); !ok || n.Frame != evidence.DeviceFrame {
		t.Errorf("platform is at %+v", n)
	}
	if _, ok := rb.Dict.Lookup("level"); ok {
		t.Error("a rule may speak of the level it decides")
	}
}

func FuzzLoad(f *testing.F) {
	f.Add(whole)
	f.Add("rulebook: a\nbaselines: [{id: x, rules: [{id: y, check: {ios: true}}]}]")
	f.Add("a: &a [*a]\n<<: {x: y}\n? b\n: |\n  c")
	f.Fuzz(func(t *testing.T, text string) {
		rb, err := load1(text)
		if (rb == nil) == (err == nil) {
			t.Fatalf("%q gives %v and %v", text, rb, err)
		}
		var problems Problems
		if err != nil && !errors.As(err, &problems) {
			t.Fatalf("%q gives an error without a place: %v", text, err)
		}
		if err == nil {
			if _, err := Format([]File{{"r.yaml", text}}); err != nil {
				t.Fatalf("%q loads but does not format: %v", text, err)
			}
		}
	})
}
