package service_test

import (
	"strings"
	"testing"

	"ironledger.example/api"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/service"
	"ironledger.example/internal/view/find"
)

const sourced = house + `sources:
  - {id: agent, rank: 1, provides: ["*"]}
  - {id: mdm, rank: 5, provides: [os, storage, form], identifies: true}
`

// take brings lines of reports and returns what became of them.
func take(t *testing.T, s *service.Service, only string, lines ...string) []api.ReportResult {
	t.Helper()
	in, err := s.Intake.Ingest(ctx, "tester", only, strings.NewReader(strings.Join(lines, "\n")), evidence.NDJSON)
	if err != nil {
		t.Fatal(err)
	}
	if in.Accepted+in.Rejected != len(in.Results) {
		t.Errorf("%d and %d of %d reports are counted", in.Accepted, in.Rejected, len(in.Results))
	}
	return in.Results
}

func TestWhatBecomesOfReports(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, sourced)
	all := take(t, s, "",
		`{"source":"agent","identity":{"id":"d1","serial":"S1"},"evidence":{`+good+`}}`,
		`{"source":"agent","external_id":"77","identity":{"serial":"s1"},"evidence":{"model":"Skerry"}}`,
		`{"source":"agent","external_id":"77","identity":{},"evidence":{"vendor":"Skerry"}}`,
		`{"source":"agent","identity":{"id":"d2","hardware_id":"H2"},"evidence":{"form":"laptop"}}`,
		`{"source":"agent","identity":{"id":"d2","serial":"S1"},"evidence":{"form":"phone"}}`,
		`{"source":"mdm","identity":{"id":"d1"},"evidence":{"os.version":"13","threat.score":99}}`,
		`{"source":"stranger","identity":{"id":"d3"},"evidence":{"form":"laptop"}}`,
		`{"source":"stranger","identity":{"id":"d1"},"evidence":{"storage.encrypted":false}}`,
		`{"source":"agent","observed_at":"2020-01-01T00:00:00Z","identity":{"id":"d1"},"evidence":{"storage.encrypted":false,"apps":[]}}`,
	)
	want := []struct{ device, level, says string }{
		{"d1", "strong", ""},
		{"d1", "strong", ""}, // joined by the serial, whatever its case
		{"d1", "strong", ""}, // and from then on by the external id
		{"d2", "unproven", ""},
		{"", "", "points at different devices: id d2 is device d2, serial s1 is device d1"},
		{"d1", "strong", "mdm may only supply os, storage, form"}, // the old system is in its grace
		{"", "", "nothing in the report could be taken"},
		{"d1", "strong", "accepts no evidence from the source stranger"},
		{"d1", "strong", ""}, // older than what is known: it changes nothing
	}
	for i, w := range want {
		got := all[i]
		said := got.Error
		for _, r := range got.Refused {
			said += r.Attribute + ": " + r.Message
		}
		if got.Device != w.device || got.Level != w.level || !strings.Contains(said, w.says) ||
			w.says == "" && said != "" || got.Line != i+1 {
			t.Errorf("report %d becomes %+v, want %+v", i+1, got, w)
		}
	}
	d := s.View.Device("d1")
	counts := map[string]string{}
	for _, r := range d.Readings {
		if r.Counts {
			counts[r.Attribute] = r.Text + " " + r.Source
		}
	}
	if counts["os.version"] != "13 mdm" || counts["storage.encrypted"] != "true agent" ||
		counts["model"] != "Skerry agent" || counts["threat.score"] != "3 agent" {
		t.Errorf("what counts of d1 is %v", counts)
	}
	if d.Keys["serial"] != "s1" || d.Keys["external_id"] != "agent:77" || s.View.Device("h2").ID != "d2" ||
		s.View.Device("ghost") != nil {
		t.Errorf("the keys of d1 are %v", d.Keys)
	}
	page, err := s.View.Devices(ctx, find.Query{Text: "SKERRY", Limit: 10})
	if err != nil || page.Total != 1 || page.Items[0].ID != "d1" {
		t.Errorf("a search for its model finds %+v (%v)", page, err)
	}
}

func TestASourceSpeaksForItself(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, sourced)
	all := take(t, s, "mdm", `{"identity":{"id":"d1"},"evidence":{"os.version":"14"}}`,
		`{"source":"agent","identity":{"id":"d1"},"evidence":{"os.version":"15"}}`)
	if all[0].Error != "" || !strings.Contains(all[1].Error, "may only report as mdm, not as agent") {
		t.Errorf("the reports become %+v", all)
	}
	if got := s.View.Device("d1").Readings; len(got) != 1 || got[0].Source != "mdm" {
		t.Errorf("kept is %+v", got)
	}
}

func TestARulebookThatChangesItsAttributes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := open(t, dir)
	attribute := func(kind string) string {
		return house + "attributes: {custom.pack: {type: " + kind + "}}\n"
	}
	publish(t, s, attribute("version"))
	take(t, s, "", `{"identity":{"id":"d1"},"evidence":{"custom.pack":"2026.1","form":"laptop"}}`)
	reading := func() string {
		for _, r := range s.View.Device("d1").Readings {
			if r.Attribute == "custom.pack" {
				return r.Text + map[bool]string{true: " counts", false: ""}[r.Counts]
			}
		}
		return "none"
	}
	for _, step := range []struct{ text, want string }{{attribute("version") + "# again\n", "2026.1 counts"},
		{attribute("int"), "2026.1"}, {house, "none"}, {attribute("version"), "2026.1 counts"}} {
		publish(t, s, step.text)
		if got := reading(); got != step.want {
			t.Errorf("under the next rulebook the reading is %q, want %q", got, step.want)
		}
	}
	shut(t, s)
	s = open(t, dir)
	defer shut(t, s)
	if got := reading(); got != "2026.1 counts" {
		t.Errorf("after a restart the reading is %q", got)
	}
}

func TestVocabularyAndDefaults(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	v := s.View.Vocabulary()
	if len(v.Ladder) != 5 || v.Resources == nil || v.BreakGlass == nil {
		t.Errorf("before the first rulebook the vocabulary is %+v", v)
	}
	if got := report(t, s, "d1", good); got.Level != "unproven" {
		t.Errorf("before the first rulebook a device stands at %s", got.Level)
	}
	if got := ask(t, s, "d1"); got != "deny" {
		t.Errorf("before the first rulebook a question is answered %s", got)
	}
	if _, _, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: house}}}); err != nil {
		t.Fatal(err)
	}
	if got := level(s, "d1"); got != "strong" {
		t.Errorf("the first rulebook leaves it at %s", got)
	}
}
