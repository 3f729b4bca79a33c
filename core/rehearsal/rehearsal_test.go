package rehearsal

import (
	"strings"
	"testing"

	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

const book = `rulebook: test
sources: [{id: mdm, provides: [platform, form, os, owner], identifies: true}]
resources: [{id: rota}]
baselines: [{id: all, rules: [{id: os, check: os.version >= 14, cap: limited, grace: 1d}, {id: crew, check: '"crew" in owner.groups', cap: sound, unknown: sound}]}]
gates: [{id: rota, number: 7, who: {groups: [crew]}, what: {resources: [rota]}, need: level >= sound}]
examples:
  - {title: new, device: {os.version: 14.1, owner: a, owner.groups: [crew]}, level: strong}
  - {title: wrong level, device: {os.version: 14.1}, level: strong}
  - {title: gets in, device: {os.version: 14.1}, user: a, groups: [crew], resource: rota, level: sound, outcome: allow}
  - {title: wrong outcome, user: a, groups: [crew], resource: rota, outcome: allow}
`

var now = func() int64 { v, _ := value.ParseTime("2026-11-20T08:00:00Z"); return v.Num() }()

func load(t *testing.T) *rulebook.Rulebook {
	t.Helper()
	rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: book}})
	if err != nil {
		t.Fatal(err)
	}
	return rb
}

func TestExamplesTellWhatCameOut(t *testing.T) {
	got := Examples(load(t), now)
	want := []struct {
		passed            bool
		want, got, reason string
	}{
		{true, "level strong", "level strong", ""},
		{false, "level strong", "level sound", "all/crew is unknown and holds at sound"},
		{true, "level sound, outcome allow", "level sound, outcome allow", ""},
		{false, "outcome allow", "outcome deny", "level is unproven, needs >= sound"},
	}
	for i, w := range want {
		o := got[i]
		if o.Passed != w.passed || o.Want != w.want || o.Got != w.got ||
			!strings.Contains(strings.Join(o.Reasons, " "), w.reason) || o.File != "r.yaml" || o.Line == 0 {
			t.Errorf("%s comes out as %+v, want %+v", o.Title, o, w)
		}
	}
}

func TestAFleetOfFiles(t *testing.T) {
	rb := load(t)
	f := NewFleet(rb, []directory.Person{{ID: "a", Groups: []string{"crew"}}})
	refused := 0
	for _, raw := range []string{
		`{"source":"mdm","external_id":"1","identity":{"id":"d1","serial":"GF-1"},"evidence":{"os.version":"13","owner":"a"}}`,
		`{"source":"mdm","external_id":"1","identity":{},"evidence":{"os.version":"14"}}`,
		`{"source":"mdm","identity":{"serial":"gf-1"},"evidence":{"firewall.on":true}}`,
		`{"source":"mdm","identity":{"id":"d2"},"evidence":{"os.version":"13"}}`,
	} {
		rep, err := rb.Dict.ParseReport([]byte(raw), now)
		if err != nil {
			t.Fatal(err)
		}
		more, err := f.Add(rep)
		if err != nil {
			t.Fatal(err)
		}
		refused += len(more)
	}
	levels := map[string]string{}
	for s := range f.Standings(now) {
		levels[s.Device] = s.Level + " " + strings.Join(s.Binding, " ")
	}
	if refused != 1 || levels["d1"] != "strong " || levels["d2"] != "sound all/crew" { // the firewall
		t.Errorf("%d attributes are refused; the devices stand at %v", refused, levels)
	}
	if f.NoGrace = true; true {
		for s := range f.Standings(now) {
			levels[s.Device] = s.Level
		}
	}
	if levels["d2"] != "limited" {
		t.Errorf("without graces d2 stands at %s", levels["d2"])
	}
	d := f.Decide(&access.Evaluation{Subject: access.Entity{Type: "user", ID: "a"},
		Resource: access.Entity{Type: "r", ID: "rota"}, Action: access.Action{Name: "open"},
		Context: &access.Context{Device: &access.DeviceRef{Serial: "GF-1"}}}, now)
	if d.Outcome != access.Allow || d.Device != "d1" {
		t.Errorf("the answer is %+v", d)
	}
	conflict, err := rb.Dict.ParseReport([]byte(`{"identity":{"id":"d2","serial":"GF-1"}}`), now)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.Add(conflict); err == nil ||
		!strings.Contains(err.Error(), "id d2 is device d2, serial gf-1 is device d1") {
		t.Errorf("a report about two devices is taken: %v", err)
	}
}
