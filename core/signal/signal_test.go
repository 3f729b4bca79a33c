package signal

import (
	"encoding/json"
	"strings"
	"testing"

	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
)

type owners map[string][2]string // by device: whose it is, and its serial

func (o owners) Owner(d string) string  { return o[d][0] }
func (o owners) Serial(d string) string { return o[d][1] }
func (o owners) Level(string) string    { return "sound" }

func (o owners) View(string) *evidence.View { return nil }

// Reach is what a higher level opens more of.
func (o owners) Reach(_, level string) []string {
	return map[string][]string{"limited": {"rota"}, "sound": {"payroll", "rota"},
		"strong": {"payroll", "rota", "vault"}}[level]
}

const book = `rulebook: r
signals: {compliant_from: limited, risk: {low_from: strong, medium_from: limited}}
baselines: [{id: b, rules: [{id: disk, check: storage.encrypted, cap: limited,
  remedy: {en: {title: Turn encryption on, steps: Open Settings.}, sv: {title: Kryptera}}}]}]
`

func given(t *testing.T, device, person string, events ...string) *Given {
	t.Helper()
	rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: book}})
	if err != nil {
		t.Fatal(err)
	}
	return &Given{Rulebook: rb, Events: events, Device: device, Person: person, CompliantFrom: rb.Signals.CompliantFrom,
		Issuer: "https://posture.gullholm.example", Directory: owners{"d1": {"maren@gullholm.example", "GF-1"},
			"d2": {"", ""}}}
}

// What a change of standing is to those who know two states, three risks, and levels.
func TestAChangeOfStandingIsTold(t *testing.T) {
	for _, c := range []struct {
		from, to string
		want     string // events with what they say, in order
	}{
		{"strong", "barred", "compliant>not-compliant LOW>HIGH strong>barred(decrease) standing"},
		{"barred", "strong", "not-compliant>compliant HIGH>LOW barred>strong(increase) standing"},
		{"strong", "limited", "LOW>MEDIUM strong>limited(decrease) standing"},
		{"limited", "sound", "limited>sound(increase) standing"},
		{"unproven", "barred", "unproven>barred(decrease) standing"},
		{"limited", "limited", "standing"}, // another rule binds
		{"", "strong", "not-compliant>compliant >LOW >strong() standing"},
		{"", "barred", ">HIGH >barred() standing"}, // nobody took it for compliant before
		// A level that today's ladder lacks is as low as any.
		{"golden", "strong", "not-compliant>compliant HIGH>LOW golden>strong(increase) standing"},
		{"strong", "golden", "compliant>not-compliant LOW>HIGH strong>golden(decrease) standing"},
	} {
		var got []string
		for _, s := range given(t, "id", "none", rulebook.SignalNames...).Of(
			&event.StandingChanged{Device: "d1", From: c.from, To: c.to, Cause: event.ByEvidence}, 5_000_000) {
			switch p := s.Payload.(type) {
			case Compliance:
				got = append(got, p.Previous+">"+p.Current)
			case Risk:
				got = append(got, p.Previous+">"+p.Current)
			case Assurance:
				got = append(got, p.Previous+">"+p.Current+"("+p.Direction+")")
			case Standing:
				got = append(got, "standing")
			}
			if s.Device != "d1" || s.At != 5_000_000 {
				t.Errorf("%+v", s)
			}
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s to %s is told as %q, want %q", c.from, c.to, text, c.want)
		}
	}
}

// A receiver hears what it is given, in the forms that it is given.
func TestWhatAReceiverIsGiven(t *testing.T) {
	fell := &event.StandingChanged{Device: "d1", From: "strong", To: "barred"}
	for _, c := range []struct{ device, person, want string }{
		{"id", "none", `{"format":"opaque","id":"d1"}`},
		{"serial", "none", `{"format":"opaque","id":"GF-1"}`},
		{"iss_sub", "none", `{"format":"iss_sub","iss":"https://posture.gullholm.example","sub":"d1"}`},
		{"serial", "email", `{"format":"complex","device":{"format":"opaque","id":"GF-1"},"user":{"format":"email","email":"maren@gullholm.example"}}`},
		{"id", "opaque", `{"format":"complex","device":{"format":"opaque","id":"d1"},"user":{"format":"opaque","id":"maren@gullholm.example"}}`},
	} {
		out := given(t, c.device, c.person, rulebook.ComplianceSignal).Of(fell, 0)
		if len(out) != 1 {
			t.Fatalf("told are %+v", out)
		}
		if raw, err := json.Marshal(out[0].Subject); err != nil || string(raw) != c.want {
			t.Errorf("%s and %s: %s, want %s (%v)", c.device, c.person, raw, c.want, err)
		}
	}
	// A device without a serial or an owner is named by what there is.
	out := given(t, "serial", "email", rulebook.ComplianceSignal).Of(&event.StandingChanged{Device: "d2",
		From: "strong", To: "barred"}, 0)
	if raw, _ := json.Marshal(out[0].Subject); string(raw) != `{"format":"opaque","id":"d2"}` {
		t.Errorf("it is named %s", raw)
	}
	ended := &event.SessionEnded{Decision: "x1", Person: "maren@gullholm.example", Device: "d1", Resource: "till",
		Outcome: "deny", Cause: event.ByStanding}
	if got := given(t, "id", "none", rulebook.ComplianceSignal).Of(ended, 0); got != nil {
		t.Errorf("who is not given ends of sessions hears %+v", got)
	}
	out = given(t, "id", "email", rulebook.SessionSignal).Of(ended, 0)
	if raw, _ := json.Marshal(out[0].Subject); !strings.Contains(string(raw),
		`"session":{"format":"opaque","id":"x1"}`) {
		t.Errorf("an end of a session is about %s", raw)
	}
	if got := given(t, "id", "none", rulebook.SignalNames...).Of(&event.DeviceRetired{Device: "d1"}, 0); got != nil {
		t.Errorf("told are %+v", got)
	}
}

// Administrators read the rules and what was seen, people what to do in their languages.
func TestReasons(t *testing.T) {
	out := given(t, "id", "none", rulebook.ComplianceSignal).Of(&event.StandingChanged{Device: "d1", From: "strong",
		To: "barred", Binding: []string{"b/gone", "b/disk"}, Cause: event.ByTime, Changed: []event.VerdictChange{
			{Rule: "b/disk", To: posture.Fail, Why: "storage.encrypted is false"}}}, 1_700_000_000_000_000)
	raw, err := json.Marshal(out[0].Payload)
	if want := `{"event_timestamp":1700000000,"initiating_entity":"policy","reason_admin":{"en":"Held at barred by b/gone, ` +
		`b/disk (storage.encrypted is false)."},"reason_user":{"en":"Turn encryption on. Open Settings.","sv":"Kryptera."},` +
		`"previous_status":"compliant","current_status":"not-compliant"}`; string(raw) != want || err != nil {
		t.Errorf("it says\n%s, want\n%s (%v)", raw, want, err)
	}
}

func TestNamesOfTypes(t *testing.T) {
	for _, name := range rulebook.SignalNames {
		if NameOf(TypeOf(name)) != name {
			t.Errorf("%s is %s", name, TypeOf(name))
		}
	}
	if NameOf("https://else.example/x") != "" || NameOf(Verification) != "" {
		t.Error("what is not told has a name")
	}
}

// A condition leaves out what it surely excludes, and nothing else.
func TestAConditionOnTheChange(t *testing.T) {
	fall := &event.StandingChanged{Device: "d1", From: "strong", To: "limited", Cause: event.ByEvidence,
		Binding: []string{"b/disk"}}
	first := &event.StandingChanged{Device: "d9", To: "strong", Cause: event.ByEvidence, Binding: []string{}}
	ended := &event.SessionEnded{Decision: "x1", Person: "ada", Device: "d1", Resource: "vault", Cause: event.ByStanding}
	redacted := &event.SessionEnded{Decision: "x1", Cause: event.ByStanding}
	for _, c := range []struct {
		when string
		e    event.Event
		told bool
	}{
		{`change.from >= sound and change.to < sound and "vault" in change.lost`, fall, true},
		{`change.from >= sound and change.to < sound and "rota" in change.lost`, fall, false},
		{`"b/disk" in change.rules and change.cause == "evidence"`, fall, true},
		{`change.cause == "rulebook"`, fall, false},
		{`count r in change.gained > 0`, fall, false},
		{`change.event == "session-revoked"`, fall, false},
		{`change.event == "session-revoked"`, ended, true},
		{`"vault" in change.lost`, ended, true},
		{`"payroll" in change.lost`, ended, false},
		// Of what is not known somebody is told rather once too often.
		{`change.from >= sound`, ended, true},
		{`"payroll" in change.lost`, redacted, true},
		{`storage.encrypted`, fall, true},
		// Whoever was never seen came from where nothing is covered.
		{`change.from == unproven and "vault" in change.gained`, first, true},
		{`change.from >= sound`, first, false},
		{`level == sound`, first, true},
	} {
		rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: strings.Replace(book, "signals: {",
			"signals: {receivers: [{id: chat, form: cloudevents, when: '"+c.when+"'}], ", 1)}})
		if err != nil {
			t.Fatalf("%s: %v", c.when, err)
		}
		g := given(t, "id", "none", rulebook.StandingSignal, rulebook.SessionSignal)
		g.Rulebook, g.When, g.Reach, g.Now = rb, rb.Signals.Receiver("chat").When, true, 5_000_000
		if got := g.Of(c.e, 5_000_000); (len(got) > 0) != c.told {
			t.Errorf("%s of %+v: %v", c.when, c.e, got)
		}
		g.When = nil
		for _, s := range g.Of(fall, 5_000_000) {
			if p := s.Payload.(Standing); strings.Join(p.Lost, " ") != "payroll vault" || len(p.Gained) != 0 {
				t.Errorf("lost %v, gained %v", p.Lost, p.Gained)
			}
		}
	}
}
