package mapping

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
)

const partner = `
items: /value
source: mdm
observed_at: {from: /seen, form: unix-ms}
identity: {external_id: /id, serial: /hardware/serial~0number}
evidence:
  platform: {from: /os/name, words: {WIN: windows, Mac OS X: macos}}
  os.version: /os/version
  storage.encrypted: {from: /disk/0/state, words: {Enabled: true, Disabled: false}}
  screen_lock.after: {from: /lock, unit: s}
  antimalware.updated_at: {from: /av, form: 02.01.2006 15:04}
  threat.score: /risk
  managed: {is: true}
  apps: {from: /software, each: {id: /bundle, name: /title, version: /v}}
  network.macs: /macs
  custom.dock: /place
`

func load(t *testing.T, text string) *Mapping {
	t.Helper()
	m, err := Load(text, evidence.NewDictionary())
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// What a partner says in words of its own is a report in ours, which the reader of
// reports takes.
func TestAnItemBecomesAReport(t *testing.T) {
	dict := evidence.NewDictionary(evidence.Attribute{Name: "custom.dock", Type: value.Of(value.Text)})
	m := load(t, partner)
	raw, remarks, err := m.Report([]byte(`{"id":77,"hardware":{"serial~number":" GF-1 "},"seen":1763622000000,
		"os":{"name":"WIN","version":"10.0.22631.4460"},"disk":[{"state":"Enabled"}],"lock":300,"av":"19.11.2025 23:10","risk":12,
		"software":[{"bundle":"nav","title":"Charts","v":"2.1"},{"bundle":"mail"}],"macs":["aa:bb"],"place":"north","other":{"x":1}}`), "")
	if err != nil || len(remarks) > 0 {
		t.Fatalf("%v %v", remarks, err)
	}
	rep, err := dict.ParseReport(raw, time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC).UnixMicro())
	if err != nil || len(rep.Refused) > 0 {
		t.Fatalf("%s: %+v %v", raw, rep, err)
	}
	if rep.Source != "mdm" || rep.ExternalID != "77" || rep.Identity.Serial != "GF-1" ||
		rep.At != time.Date(2025, 11, 20, 7, 0, 0, 0, time.UTC).UnixMicro() {
		t.Errorf("it is %+v", rep)
	}
	for name, want := range map[string]string{"platform": "windows", "os.version": "10.0.22631.4460",
		"storage.encrypted": "true",
		"screen_lock.after": "5m", "antimalware.updated_at": "2025-11-19T23:10:00Z", "threat.score": "12",
		"managed":     "true",
		"custom.dock": "north"} {
		if got := rep.Value(name).String(); got != want {
			t.Errorf("%s is %s, want %s", name, got, want)
		}
	}
	if apps := rep.Value("apps"); len(apps.Members()) != 2 || len(rep.Value("network.macs").Members()) != 1 {
		t.Errorf("the lists are %s", raw)
	}
}

// What is missing is not said; what cannot be read is unavailable, with the reason; and
// without a key or a readable moment there is no report.
func TestWhatAMappingCannotRead(t *testing.T) {
	m := load(t, partner)
	for _, c := range []struct{ item, attribute, want string }{
		{`{"id":"a","os":{"name":"BeOS"}}`, "platform", `the partner says "BeOS", for which the mapping has no word`},
		{`{"id":"a","disk":[{"state":"Partly"}]}`, "storage.encrypted", `"Partly"`},
		{`{"id":"a","lock":"soon"}`, "screen_lock.after", `"soon" is not a number`},
		{`{"id":"a","lock":"NaN"}`, "screen_lock.after", "not a number"},
		{`{"id":"a","av":"2026-11-19"}`, "antimalware.updated_at", "is not a time of the form 02.01.2006 15:04"},
		{`{"id":"a","software":"none"}`, "apps", `"none" stands where a list was expected`},
		{`{"id":"a","os":{"name":{"x":1}}}`, "platform", "no word"},
	} {
		raw, remarks, err := m.Report([]byte(strings.Replace(c.item, `"a"`, `"a","seen":1763622000000`, 1)), "")
		if err != nil || len(remarks) != 1 || remarks[0].Attribute != c.attribute ||
			!strings.Contains(remarks[0].Message, c.want) {
			t.Errorf("%s: %v %v", c.item, remarks, err)
			continue
		}
		var out struct {
			Evidence map[string]json.RawMessage
		}
		if err := json.Unmarshal(raw, &out); err != nil || !strings.HasPrefix(string(out.Evidence[c.attribute]),
			`{"unavailable":`) {
			t.Errorf("%s becomes %s (%v)", c.item, raw, err)
		}
	}
	raw, remarks, err := m.Report([]byte(`{"id":"a","seen":1763622000000,"os":null,"disk":[],"lock":"","risk":null}`), "")
	if err != nil || len(remarks) > 0 ||
		string(raw) != `{"source":"mdm","external_id":"a","observed_at":"2025-11-20T07:00:00Z","evidence":{"managed":true}}` {
		t.Errorf("what says nothing becomes %s (%v %v)", raw, remarks, err)
	}
	for item, want := range map[string]string{`{"os":{"name":"WIN"}}`: "no key: external_id at /id, serial at /hardware/serial~0number",
		`{"id":"","hardware":{"serial~number":"  "}}`: "no key", `[1]`: "not a JSON object", `{"id":`: "not JSON",
		`{"id":"a","seen":"yesterday"}`: "when it was observed cannot be read", `{"id":"a","seen":1e300}`: "is not a time",
		`{"id":"a"}`: "does not say when it was observed", `{"id":"a","seen":null}`: "does not say when"} {
		if raw, _, err := m.Report([]byte(item), ""); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %s %v, want %q", item, raw, err, want)
		}
	}
	// Which device it was about can be told all the same.
	if raw, err := m.Keys([]byte(`{"id":"a","seen":null,"os":{"name":"WIN"}}`)); err != nil ||
		string(raw) != `{"source":"mdm","external_id":"a","evidence":{}}` {
		t.Errorf("%s %v", raw, err)
	}
	// An item that makes a key of something else has none.
	if _, remarks, err := m.Report([]byte(`{"id":{"a":1}}`), ""); err == nil || len(remarks) != 1 {
		t.Errorf("%v %v", remarks, err)
	}
}

// Of a table everything is a text, which becomes what the attribute is.
func TestATable(t *testing.T) {
	m := load(t, `
identity: {serial: Serial no.}
evidence: {storage.encrypted: {from: Encrypted, words: {"yes": true, "no": false}}, threat.score: Risk, managed: Managed, os.version: OS}
`)
	var got []string
	err := m.Items(strings.NewReader("\ufeffSerial no.,Encrypted,Risk,Managed,OS\nGF-1,yes,12,TRUE,14.6\nGF-2,,x,1,\n"), evidence.CSV,
		func(n int, item []byte) error {
			raw, remarks, err := m.Report(item, "")
			got = append(got, fmt.Sprintf("%d %s %v", n, raw, remarks))
			return err
		})
	want := []string{`1 {"identity":{"serial":"GF-1"},"evidence":{"managed":true,"os.version":"14.6","storage.encrypted":true,"threat.score":12}} []`,
		`2 {"identity":{"serial":"GF-2"},"evidence":{"managed":"1","threat.score":"x"}} []`}
	if err != nil || strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%v\n%s", err, strings.Join(got, "\n"))
	}
}

// Items are found wherever a mapping says, in each format, and what is broken is told of.
func TestItems(t *testing.T) {
	for _, c := range []struct {
		items, text string
		format      evidence.Format
		want        string
	}{
		{"/a/b", `{"x":[1,{"b":2}],"a":{"y":null,"b":[{"n":1},{"n":2}]},"z":3}`, evidence.JSON, `{"n":1} {"n":2}`},
		{"", `[{"n":1}]`, evidence.JSON, `{"n":1}`},
		{"", `{"n":1}`, evidence.JSON, `{"n":1}`},
		{"", "{\"n\":1}\n\n{\"n\":2}\n", evidence.NDJSON, `{"n":1} {"n":2}`},
		{"/a", `{"a":[]}`, evidence.JSON, ""},
		{"/a", `{"a":{"n":1}}`, evidence.JSON, "no list stands at /a"},
		{"/a", `{"b":[]}`, evidence.JSON, `there is no member "a"`},
		{"/a/b", `{"a":[1]}`, evidence.JSON, "no object stands above"},
		{"/a", `{"a":[{"n":1},`, evidence.JSON, "not JSON at byte"},
		{"/a", `{"a":[{"n":1}`, evidence.JSON, "not JSON at byte"},
		{"", `{"a":1,"a":2}`, evidence.JSON, "not JSON at byte"},
		{"", "a,a\n1,2\n", evidence.CSV, "stands twice"},
		{"", "a,b\n1\n", evidence.CSV, "wrong number of fields"},
		{"", "", evidence.CSV, "the header cannot be read"},
	} {
		text := "identity: {id: /n}\n"
		if c.items != "" {
			text += "items: " + c.items + "\n"
		}
		var got []string
		err := load(t, text).Items(strings.NewReader(c.text), c.format, func(_ int, item []byte) error {
			got = append(got, string(item))
			return nil
		})
		said := strings.Join(got, " ")
		if err != nil {
			said = err.Error()
		}
		if err == nil && said != c.want || err != nil && !strings.Contains(said, c.want) {
			t.Errorf("%s of %s: %s, want %s", c.items, c.text, said, c.want)
		}
	}
	stop := errors.New("enough")
	if err := load(t, "identity: {id: /n}").Items(strings.NewReader(`[{},{}]`), evidence.JSON,
		func(int, []byte) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("it goes on: %v", err)
	}
}

func TestMappingsThatAreNone(t *testing.T) {
	for text, want := range map[string]string{
		"evidence: {os.version: /v}":                                               "identity: say where a key stands",
		"identity: {name: /n}":                                                     "name is not a key",
		"identity: {id: /n}\nevidence: {os.versoin: /v}":                           "did you mean os.version?",
		"identity: {id: /n}\nevidence: {on_roster: {is: true}}":                    "set by the service alone",
		"identity: {id: /n}\nevidence: {platform: {words: {a: b}}}":                "say from where",
		"identity: {id: /n}\nevidence: {platform: {is: x, from: /y}}":              "say from where",
		"identity: {id: /n}\nevidence: {platform: {from: /a, unit: s}}":            "a unit goes with a duration",
		"identity: {id: /n}\nevidence: {screen_lock.after: {from: /a, unit: w}}":   "is not a unit",
		"identity: {id: /n}\nevidence: {platform: {from: /a, form: unix}}":         "a form goes with a time",
		"identity: {id: /a~2}":                                                     "not a JSON Pointer",
		"identity: {id: /n}\nitems: value":                                         "not a JSON Pointer",
		"identity: {id: /n}\nevidence: {platform: {from: /a, each: {id: /b}}}":     "each goes with a list",
		"identity: {id: /n}\nevidence: {apps: {from: /a, each: {size: /b}}}":       "there are id, name, version",
		"identity: {id: /n}\nevidence: {network.macs: {from: /a, each: {id: /b}}}": "things that have members",
		"identity: {id: /n}\nevidance: {}":                                         "unknown field",
		"identity: [a]":                                                            "not a mapping",
		strings.Repeat("[", 100):                                                   "nested more than",
		"identity: {id: /n}\nevidence: {platform: {from: /a, words: {a: [b]}}}":    "the word for a",
	} {
		if _, err := Load(text, evidence.NewDictionary()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

// Whatever a partner sends is a report that can be read, or an error: never a panic.
func FuzzMapping(f *testing.F) {
	m, err := Load(partner, evidence.NewDictionary())
	if err != nil {
		f.Fatal(err)
	}
	dict := evidence.NewDictionary(evidence.Attribute{Name: "custom.dock", Type: value.Of(value.Text)})
	for _, seed := range []string{`{"id":1,"seen":1763622000000}`,
		`{"id":"a","lock":1e99,"software":[{}],"disk":[{"state":true}]}`, `{}`,
		`{"id":"a","software":[[]],"macs":{"a":1},"os":{"version":17}}`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, item string) {
		raw, _, err := m.Report([]byte(item), "")
		if err != nil {
			return
		}
		if !json.Valid(raw) {
			t.Fatalf("%q becomes %q", item, raw)
		}
		if _, err := dict.ParseReport(raw, 1_763_622_000_000_000); err != nil &&
			!strings.Contains(err.Error(), "observed_at") &&
			!strings.Contains(err.Error(), "usable") {
			t.Logf("%q becomes %s, which is refused: %v", item, raw, err)
		}
	})
}

// A partner vouches for a device, takes it back, or says nothing of it; a word that is not
// known vouches for nothing.
func TestAWordOfAPartner(t *testing.T) {
	m := load(t, "identity: {id: /id}\nvouch: {from: /trust, words: {Good: true, Bad: false}}\n")
	for item, want := range map[string]string{`{"id":"a","trust":"Good"}`: `"vouch":true`,
		`{"id":"a","trust":"Bad"}`:       `"vouch":false`,
		`{"id":"a","trust":"Suspended"}`: `"vouch":false`, `{"id":"a"}`: `"evidence":{}}`,
		`{"id":"a","trust":null}`: `"evidence":{}}`} {
		raw, remarks, err := m.Report([]byte(item), "2026-11-20T08:00:00Z")
		if err != nil || !strings.Contains(string(raw), want) ||
			!strings.Contains(string(raw), `"observed_at":"2026-11-20T08:00:00Z"`) ||
			(len(remarks) > 0) != strings.Contains(item, "Suspended") {
			t.Errorf("%s: %s %v %v", item, raw, remarks, err)
		}
	}
	plain := load(t, "identity: {id: /id}\nvouch: /trust\n")
	if raw, remarks, _ := plain.Report([]byte(`{"id":"a","trust":"yes"}`), ""); !strings.Contains(string(raw),
		`"vouch":false`) || len(remarks) != 1 {
		t.Errorf("%s %v", raw, remarks)
	}
}

// People are read from items of others, with the groups that count.
func TestPeopleOfAPartner(t *testing.T) {
	m := load(t, "person: {id: /mail, name: /n, groups: {from: /roles, words: {CREW: bridge crew, FIN: finance}}, language: {is: sv}}\n")
	p, err := m.Person([]byte(`{"mail":"ada@gullholm.example","n":"Ada","roles":["CREW","PARTY","FIN"]}`))
	if err != nil || p.ID != "ada@gullholm.example" || p.Name != "Ada" || p.Language != "sv" ||
		strings.Join(p.Groups, "+") != "bridge crew+finance" || !m.OfPeople() {
		t.Errorf("%+v %v", p, err)
	}
	plain := load(t, "person: {id: id, groups: groups}\n")
	if p, err := plain.Person([]byte(`{"id":"bo","groups":"a; b"}`)); err != nil ||
		strings.Join(p.Groups, "+") != "a+b" {
		t.Errorf("%+v %v", p, err)
	}
	for item, want := range map[string]string{`{"groups":"a"}`: "no id",
		`{"id":"x","groups":[1]}`: "name of a group", `{"id":"x","groups":{}}`: "list of groups",
		`[]`: "not a JSON object"} {
		if p, err := plain.Person([]byte(item)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %+v %v, want %q", item, p, err, want)
		}
	}
	for text, want := range map[string]string{"person: {name: n}": "say where the id stands",
		"person: {id: id, colour: c}":             "person: there are",
		"person: {id: id}\nidentity: {serial: s}": "says nothing of devices"} {
		if _, err := Load(text, evidence.NewDictionary()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

// What stands in a partner's items is told with a guess of what it might be, and the guess
// makes a mapping that reads them.
func TestGuesses(t *testing.T) {
	items := [][]byte{
		[]byte(`{"ref":"a-1","hw":{"serialNo":"GF-1"},"os":{"family":"Windows 11","version":"10.0.22631"},"crypt":{"encrypted":"Yes"},"lastSeen":1763622000,"lockTimeout":300,"tags":["x"]}`),
		[]byte(`{"ref":"a-2","hw":{"serialNo":"GF-2"},"os":{"family":"macOS","version":"14.6"},"crypt":{"encrypted":"No"},"lastSeen":1763622100,"lockTimeout":null,"risk":"severe"}`)}
	got := map[string]Place{}
	for _, p := range Places(items, evidence.NewDictionary()) {
		got[p.At] = p
	}
	for at, want := range map[string]string{"/hw/serialNo": "identity.serial", "/ref": "identity.external_id",
		"/os/family":  "evidence.platform",
		"/os/version": "evidence.os.version", "/crypt/encrypted": "evidence.storage.encrypted", "/lastSeen": "observed_at",
		"/lockTimeout": "evidence.screen_lock.after", "/tags": "", "/risk": "evidence.threat.level"} {
		if p, there := got[at]; !there || p.Target != want || len(p.Values) == 0 {
			t.Errorf("%s: %+v, want %s", at, p, want)
		}
	}
	if p := got["/crypt/encrypted"]; p.Words["Yes"] != true || p.Words["No"] != false {
		t.Errorf("words %v", p.Words)
	}
	if p := got["/os/family"]; p.Words["Windows 11"] != "windows" || p.Words["macOS"] != "macos" {
		t.Errorf("words %v", p.Words)
	}
	if got["/lastSeen"].Form != "unix" || got["/lockTimeout"].Unit != "s" {
		t.Errorf("%+v %+v", got["/lastSeen"], got["/lockTimeout"])
	}
}

// A cursor is found wherever it stands.
func TestACursor(t *testing.T) {
	for doc, want := range map[string]string{`{"items":[{"next":"no"}],"page":{"next":"abc"}}`: "abc",
		`{"page":{"next":null}}`: "",
		`{"page":{}}`:            "", `{"page":[]}`: "", `[]`: "", `{"page":{"next":7}}`: "7",
		`{"page":{"next":false}}`: "", `{"page":{"next":""}}`: ""} {
		if got, err := At(strings.NewReader(doc), "/page/next"); err != nil || got != want {
			t.Errorf("%s: %q %v, want %q", doc, got, err, want)
		}
	}
	for _, doc := range []string{`{"page":{"next":{}}}`, `{"page"`, ``, `{"page":{"next":true}}`} {
		if got, err := At(strings.NewReader(doc), "/page/next"); err == nil {
			t.Errorf("%s: %q", doc, got)
		}
	}
}

// One item cannot fill the memory, whatever it is written in.
func TestAnItemIsBounded(t *testing.T) {
	m := load(t, "items: /a\nidentity: {id: id}\n")
	long := strings.Repeat("x", 4*MaxItem)
	for _, c := range []struct {
		format evidence.Format
		text   string
	}{{evidence.JSON, `{"a":[{"id":"` + long + `"}]}`}, {evidence.JSON, `{"b":"` + long + `","a":[]}`},
		{evidence.CSV, "id\n\"" + long + "\"\n"}, {evidence.NDJSON, `{"id":"` + long + `"}`}} {
		err := m.Items(strings.NewReader(c.text), c.format, func(int, []byte) error { return nil })
		if err == nil {
			t.Errorf("%s: an item of %d bytes is taken", c.format, len(c.text))
		}
	}
	many := `{"a":[` + strings.TrimSuffix(strings.Repeat(`{"id":"`+long[:MaxItem/2]+`"},`, 9), ",") + `]}`
	n := 0
	if err := m.Items(strings.NewReader(many), evidence.JSON,
		func(int, []byte) error { n++; return nil }); err != nil || n != 9 {
		t.Errorf("%d items, %v", n, err)
	}
}
