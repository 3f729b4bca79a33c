package access

import (
	"encoding/json"
	"errors"
	"net/netip"
	"strings"
	"testing"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

var now = func() int64 { v, _ := value.ParseTime("2026-11-20T08:00:00Z"); return v.Num() }()

const book = `rulebook: test
places: {office: {networks: [10.20.0.0/16]}}
break_glass: [harbourmaster]
resources:
  - {id: payroll, tags: [money]}
  - {id: till, tags: [money]}
  - {id: board}
  - {id: rota}
gates:
  - {id: payroll, number: 210, who: {groups: [finance], except: {groups: [auditors]}}, what: {resources: [payroll]}, when: action != "export",
     need: 'level >= strong and (auth.mfa or "office" in request.places)', otherwise: step-up, message: {en: Use a healthy laptop.}, valid_for: 8h}
  - {id: export, number: 215, who: {users: [maren]}, what: {resources: [payroll], actions: [export]}, need: level >= strong and auth.mfa}
  - {id: money, number: 220, who: {groups: [office]}, what: {tags: [money], except: {resources: [payroll]}}, need: level >= sound, valid_for: 1h}
  - {id: board, number: 300, who: {everyone: true, except: {users: [outcast]}}, what: {resources: [board]}, need: true}
  - {id: tried, number: 310, mode: shadow, who: {everyone: true}, what: {resources: [board]}, need: known_device and form == laptop}
  - {id: drafted, number: 320, mode: draft, who: {everyone: true}, what: {everything: true}, need: false}
  - {id: rota, number: 400, who: {everyone: true}, what: {resources: [rota]}, need: storage.encrypted and level > barred}
`

func compile(t *testing.T, text string) *Program {
	t.Helper()
	rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: text}})
	if err != nil {
		t.Fatal(err)
	}
	return Compile(rb)
}

// device is a known one at a level, held down by one rule.
func device(t *testing.T, p *Program, level, attributes string) Device {
	t.Helper()
	rep, err := p.rb.Dict.ParseReport([]byte(`{"identity":{"id":"d"},"evidence":{`+attributes+`}}`), now)
	if err != nil {
		t.Fatal(err)
	}
	var rec *evidence.Record
	view := evidence.NewResolver(p.rb.Dict, p.rb.Policy).Resolve(rec.With(rep), evidence.Facts{}, now)
	return Device{ID: "d", Known: true, Level: rulebook.Level(p.rb.LevelType.Enum.Index(level)), View: view,
		Below: func(rulebook.Level) []Obstacle {
			return []Obstacle{{Rule: "laptop/os", Verdict: "fail",
				Why: []condition.Leaf{{Path: "os.version", Required: ">= 14", Observed: "13"}}}}
		}}
}

func yes() *bool { b := true; return &b }
func no() *bool  { b := false; return &b }

func TestDecisions(t *testing.T) {
	p := compile(t, book)
	office := netip.MustParseAddr("10.20.1.1")
	finance := []string{"finance", "office"}
	cases := []struct {
		name    string
		q       Request
		level   string // "" for an unknown device
		outcome Outcome
		gates   string // the numbers of those that matched
		says    string // a part of the reason for the administrator
	}{
		{"strong in the office", Request{Known: true, User: "maren", Groups: finance, Resource: "payroll",
			Action: "open", IP: office}, "strong", Allow, "210", "gate 210 is met"},
		{"strong with a second factor",
			Request{Known: true, User: "maren", Groups: finance, Resource: "payroll", Action: "open",
				MFA: yes()}, "strong", Allow, "210", ""},
		{"strong at home steps up", Request{Known: true, User: "maren", Groups: finance, Resource: "payroll",
			Action: "open", IP: netip.MustParseAddr("192.0.2.1"), MFA: no()}, "strong", StepUp, "210",
			"auth.mfa is false"},
		{"where nothing is said, it steps up too",
			Request{Known: true, User: "maren", Groups: finance, Resource: "payroll", Action: "open"},
			"strong", StepUp, "210", "the request does not say"},
		{"a second factor would not help a limited one",
			Request{Known: true, User: "maren", Groups: finance, Resource: "payroll", Action: "open",
				MFA: no()}, "limited", Deny, "210", "level is limited, needs >= strong"},
		{"the answer says what holds the device",
			Request{Known: true, User: "maren", Groups: finance, Resource: "payroll", Action: "open",
				MFA: yes()}, "limited", Deny, "210", "laptop/os is fail: os.version is 13, needs >= 14"},
		{"an unknown device counts as uncovered",
			Request{Known: true, User: "maren", Groups: finance, Resource: "payroll", Action: "open",
				MFA: yes()}, "", Deny, "210", "level is unproven"},
		{"when false, the gate does not apply",
			Request{Known: true, User: "maren", Groups: finance, Resource: "payroll", Action: "export",
				MFA: yes()}, "strong", Allow, "215", ""},
		{"when unknown, it applies", Request{Known: true, User: "erik", Groups: finance, Resource: "payroll",
			IP: office}, "strong", Allow, "210", ""},
		{"a listed user alone", Request{Known: true, User: "erik", Groups: finance, Resource: "payroll",
			Action: "export", MFA: yes()}, "strong", Deny, "", "no enforced gate matches"},
		{"an excepted group", Request{Known: true, User: "anna", Groups: []string{"finance", "auditors"},
			Resource: "payroll", Action: "open", IP: office}, "strong", Deny, "", "no enforced gate matches"},
		{"a tag", Request{Known: true, User: "erik", Groups: finance, Resource: "till", Action: "sell"},
			"sound", Allow, "220", ""},
		{"a person in no group", Request{Known: true, User: "nobody", Resource: "till", Action: "sell"},
			"strong", Deny, "", "no enforced gate matches"},
		{"an excepted user", Request{Known: true, User: "outcast", Resource: "board"}, "strong", Deny, "310",
			"no enforced gate matches"},
		{"an unlisted resource", Request{Known: true, User: "maren", Groups: finance, Resource: "attic"},
			"strong", Deny, "", "no enforced gate matches"},
		{"evidence in a gate that is missing denies", Request{Known: true, User: "x", Resource: "rota"},
			"strong", Deny, "400", "storage.encrypted is not known (never reported)"},
		{"of an unknown device all is unknown", Request{Known: true, User: "x", Resource: "rota"}, "", Deny,
			"400", "storage.encrypted is not known (the device is unknown)"},
		{"a break-glass account passes all", Request{Known: true, User: "harbourmaster", Resource: "payroll"},
			"", Allow, "", "break-glass account"},
		{"a device that asks for itself is no user", Request{Resource: "board"}, "strong", Allow, "300 310", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			if c.level != "" {
				c.q.Device = device(t, p, c.level, `"form":"laptop"`)
			}
			d := p.Decide(&c.q, now)
			var numbers []string
			for _, g := range d.Gates {
				numbers = append(numbers, value.OfInt(int64(g.Number)).String())
				if len(g.Why) == 0 && g.Need != "true" {
					t.Errorf("gate %d says %s without a reason", g.Number, g.Verdict)
				}
			}
			if d.Outcome != c.outcome || strings.Join(numbers, " ") != c.gates {
				t.Errorf("the outcome is %s by %v, want %s by %s: %s", d.Outcome, numbers, c.outcome, c.gates,
					d.ReasonAdmin["en"])
			}
			if !strings.Contains(d.ReasonAdmin["en"], c.says) {
				t.Errorf("the reason is %q, want %q in it", d.ReasonAdmin["en"], c.says)
			}
			if d.ReasonUser["en"] == "" || (d.Outcome == Allow) != (len(d.ToAllow) == 0) {
				t.Errorf("the person is told %q, and it would take %v", d.ReasonUser["en"], d.ToAllow)
			}
			if d.BreakGlass != (c.q.User == "harbourmaster") {
				t.Errorf("break_glass is %v", d.BreakGlass)
			}
		})
	}
}

func TestAGateWithoutANumberGoesByItsId(t *testing.T) {
	p := compile(t, strings.Replace(book, "id: money, number: 220,", "id: money,", 1))
	if last := p.rb.Gates[len(p.rb.Gates)-1]; last.ID != "money" {
		t.Errorf("the last gate is %s, want the one without a number", last.ID)
	}
	d := p.Decide(&Request{Known: true, User: "e", Groups: []string{"office"}, Resource: "till"}, now)
	if got := d.ReasonAdmin["en"]; !strings.HasPrefix(got, "Gate money says deny: ") ||
		d.ToAllow[0] != "gate money needs level >= sound" {
		t.Errorf("the reason is %q, and it would take %v", got, d.ToAllow)
	}
}

func TestShadowGatesHaveNoEffect(t *testing.T) {
	p := compile(t, book)
	d := p.Decide(&Request{Known: true, User: "x", Resource: "board",
		Device: device(t, p, "strong", `"form":"phone"`)}, now)
	if d.Outcome != Allow || d.ShadowOutcome != Deny || !d.Gates[1].Shadow || d.Gates[1].Verdict != "deny" {
		t.Errorf("the answer is %s, in the shadow %s: %+v", d.Outcome, d.ShadowOutcome, d.Gates)
	}
	if d := p.Decide(&Request{Known: true, User: "x", Resource: "board",
		Device: device(t, p, "strong", `"form":"laptop"`)}, now); d.ShadowOutcome != "" {
		t.Errorf("where both agree, the shadow says %s", d.ShadowOutcome)
	}
}

func TestUnmatchedMayBeAllowed(t *testing.T) {
	p := compile(t, book+"unmatched: allow\n")
	if d := p.Decide(&Request{Known: true, User: "x", Resource: "attic"}, now); d.Outcome != Allow {
		t.Errorf("what no gate guards is %s", d.Outcome)
	}
	if d := p.Decide(&Request{Known: true, User: "x", Resource: "rota"}, now); d.Outcome != Deny {
		t.Errorf("what a gate guards is %s", d.Outcome)
	}
}

func TestHowLongAnAnswerHolds(t *testing.T) {
	p := compile(t, book)
	dev := device(t, p, "strong", `"form":"laptop"`)
	q := Request{Known: true, User: "e", Groups: []string{"office"}, Resource: "till", Device: dev}
	if d := p.Decide(&q, now); d.ValidUntil != "2026-11-20T09:00:00Z" {
		t.Errorf("it holds until %s, want the hour of gate 220", d.ValidUntil)
	}
	q.Device.Next = func() int64 { return now + 60_000_000 }
	if d := p.Decide(&q, now); d.ValidUntil != "2026-11-20T08:01:00Z" {
		t.Errorf("it holds until %s, want the moment the device may change", d.ValidUntil)
	}
	q.Device.Level = 0
	if d := p.Decide(&q, now); d.ValidUntil != "2026-11-20T08:00:00Z" {
		t.Errorf("a refusal holds until %s, want no longer than now", d.ValidUntil)
	}
}

// An answer holds no longer than what its gates ask of the request and the evidence itself, though they say eight hours.
func TestAnAnswerHoldsNoLongerThanItsConditions(t *testing.T) {
	for gate, want := range map[string]string{
		"need: level >= sound":                           "2026-11-20T16:00:00Z",
		"need: auth.mfa and age(auth.at) < 30m":          "2026-11-20T08:20:00Z", // signed in ten minutes ago
		"need: not (age(auth.at) > 30m)":                 "2026-11-20T08:20:00Z",
		"need: level >= sound, when: age(auth.at) < 45m": "2026-11-20T08:35:00Z", // whether it is asked turns too
		"need: storage.encrypted":                        "2026-11-20T10:00:00Z", // the reading is stale after two hours
		"need: age(os.patched_at) < 1d":                  "2026-11-20T09:00:00Z",
		"need: known_device and form == laptop":          "2026-11-20T16:00:00Z", // what a device is does not go stale
		"need: 'request.at < 2026-12-01'":                "2026-11-20T08:00:00Z",
		"mode: shadow, need: age(auth.at) < 30m":         "2026-11-20T08:05:00Z", // of no effect: the default counts
	} {
		p := compile(t, "rulebook: r\nfreshness: {default: 2h}\nunmatched: allow\nresources: [{id: till}]\ngates: [{id: g, who: {everyone: true}, "+
			"what: {everything: true}, valid_for: 8h, "+gate+"}]\n")
		q := Request{User: "maren", Known: true, Resource: "till", Action: "open", MFA: yes(),
			AuthAt: now - 10*60*1_000_000,
			Device: device(t, p, "strong", `"storage.encrypted":true,"form":"laptop","os.patched_at":"2026-11-19T09:00:00Z"`)}
		q.Device.Next = func() int64 { return condition.Always }
		d := p.Decide(&q, now)
		got, err := value.ParseTime(d.ValidUntil)
		if err != nil {
			t.Fatal(err)
		}
		until, _ := value.ParseTime(want)
		if late := got.Num() - until.Num(); d.Outcome != Allow || late < 0 || late > 1 { // a bound may still be met itself
			t.Errorf("%s: %s until %s, want %s", gate, d.Outcome, d.ValidUntil, want)
		}
	}
}

func TestMessagesReachThePerson(t *testing.T) {
	p := compile(t, book)
	q := Request{Known: true, User: "maren", Groups: []string{"finance"}, Resource: "payroll", Action: "open",
		Device: device(t, p, "limited", "")}
	d := p.Decide(&q, now)
	if d.ReasonUser["en"] != "Use a healthy laptop." || len(d.Remedies) != 1 || d.Remedies[0].Rule != "laptop/os" {
		t.Errorf("the person is told %q with %v", d.ReasonUser["en"], d.Remedies)
	}
	q.Device.Level = p.rb.Top()
	if d := p.Decide(&q, now); !strings.Contains(d.ReasonUser["en"], "second factor") || len(d.Remedies) != 0 {
		t.Errorf("for a step-up the person is told %q with %v", d.ReasonUser["en"], d.Remedies)
	}
}

func TestEvaluationsAreChecked(t *testing.T) {
	const whole = `{"subject":{"type":"user","id":"m","properties":{"x":1}},"action":{"name":"open"},"resource":{"type":"app","id":"payroll"},"context":{"ip":"10.20.1.1","auth":{"mfa":true,"at":"2026-11-20T07:00:00Z"},"device":{"serial":" GF-1 "},"other":{"a":[1]}},"more":1}`
	e, err := ParseEvaluation([]byte(whole))
	if err != nil {
		t.Fatal(err)
	}
	q := e.Request()
	if q.User != "m" || q.Resource != "payroll" || !*q.MFA || q.IP.String() != "10.20.1.1" || q.AuthAt == 0 ||
		q.Methods != nil {
		t.Errorf("the request is %+v", q)
	}
	for _, c := range []struct{ old, new, pointer string }{
		{`"id":"m"`, `"id":""`, "/subject/id"}, {`"type":"user",`, ``, "/subject/type"},
		{`{"name":"open"}`, `{}`, "/action/name"}, {`"type":"app",`, ``, "/resource/type"},
		{`"payroll"`, `7`, "/resource/id"}, {`"10.20.1.1"`, `"10.20"`, "/context/ip"},
		{`"mfa":true`, `"mfa":"yes"`, "/context/auth/mfa"},
		{`"2026-11-20T07:00:00Z"`, `"soon"`, "/context/auth/at"},
		{`"ip":"10.20.1.1"`, `"country":"SWE"`, "/context/country"},
		{`"id":"m"`, `"id":"` + strings.Repeat("m", 600) + `"`, "/subject/id"},
	} {
		_, err := ParseEvaluation([]byte(strings.Replace(whole, c.old, c.new, 1)))
		var field *FieldError
		if !errors.As(err, &field) || field.Pointer != c.pointer {
			t.Errorf("with %s the error is %v, want it at %s", c.new, err, c.pointer)
		}
	}
	if _, err := ParseEvaluation([]byte(`{"subject"`)); err == nil {
		t.Error("half a request is taken")
	}
}

func TestWhichDeviceAsks(t *testing.T) {
	known := map[evidence.Key]string{{Kind: evidence.ByID, Text: "d1"}: "d1",
		{Kind: evidence.BySerial, Text: "gf-1"}: "d1", {Kind: evidence.ByHardware, Text: "aa"}: "d2",
		{Kind: evidence.ByCertificate, Text: "beef"}: "d1"}
	find := func(k evidence.Key) (string, bool) { id, ok := known[k]; return id, ok }
	for raw, want := range map[string]string{
		`{"context":{"device":{"id":"d1"}}}`:                             "d1",
		`{"context":{"device":{"serial":"GF-1"}}}`:                       "d1",
		`{"context":{"device":{"certificate_sha256":"BEEF"}}}`:           "d1",
		`{"context":{"device":{"id":"d1","serial":"gf-1"}}}`:             "d1",
		`{"context":{"device":{"id":"d1","hardware_id":"aa"}}}`:          "", // two devices: doubt
		`{"context":{"device":{"id":"d1","certificate_sha256":"dead"}}}`: "", // a certificate nobody knows
		`{"context":{}}`: "",
		`{"subject":{"type":"device","id":"d1"}}`: "d1",
		`{"subject":{"type":"user","id":"d1"}}`:   "",
	} {
		var e Evaluation
		if err := json.Unmarshal([]byte(raw), &e); err != nil {
			t.Fatal(err)
		}
		if got, ok := e.Find(find); got != want || ok != (want != "") {
			t.Errorf("%s asks from %q, want %q", raw, got, want)
		}
	}
}
