package event

import (
	"encoding/json"
	"reflect"
	"testing"

	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/value"
)

// What is recorded of an answer is all of it, in canonical form; what the
// enforcer gets is the decision with its id and code.
func TestARecordIsTheWholeAnswer(t *testing.T) {
	yes := true
	why := []condition.Leaf{{Condition: "level >= sound & \"a\\b\" < <å>", Path: "level",
		Required: ">= sound", Observed: "bar\xc3red\u0000", Holds: condition.False, Source: "standing",
		At: "x", Age: "1h", Unknown: "u"}}
	texts := map[string]string{"en": "Because.", "sv": "Därför.", "zh-Hant": "\u2028\u007f"}
	a := DecisionMade{ID: "06h0fkcqq400gcd1xwky", Code: "K7M2-9XQD", At: "2026-11-20T08:00:00Z", Rulebook: 2,
		KnownPerson: true, Basis: &Basis{Moment: 1_763_625_600_123_456, Device: 3, People: 1, Roster: 2},
		Asked: &access.Evaluation{Subject: access.Entity{Type: "user", ID: "maren"},
			Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "app", ID: "payroll"},
			Context: &access.Context{IP: "10.0.0.1", Country: "NO", Proof: "certificate",
				Network: &access.Joining{Address: "02:00:00:00:00:01", At: "10.0.0.9", Called: "ap", Claimed: true, Port: "7"},
				Device:  &access.DeviceRef{ID: "d", Serial: "s", HardwareID: "h", CertificateSHA256: "c"},
				Auth:    &access.Auth{MFA: &yes, Methods: []string{"hwk"}, At: "2026-11-20T08:00:00Z"}}},
		Decision: &access.Decision{BreakGlass: true, Device: "d", Known: true, Level: "barred",
			Outcome: access.Deny, ReasonAdmin: texts, ReasonUser: texts, ShadowOutcome: access.Allow,
			ToAllow: []string{"mend it"}, ValidUntil: "2026-11-20T08:00:00Z",
			Grant: &access.Granted{Attributes: map[string]string{"Idle-Timeout": "60", "9.1": "å"}, Filter: "f",
				Grant: "2", Instead: []access.NotGranted{{Grant: "1", When: "level >= sound", Why: why}}, Recover: true,
				Session: 60, VLAN: "40"},
			Gates: []access.GateRuling{{Gate: "payroll", Message: texts, Need: "level >= sound",
				Number: 10, Shadow: true, Title: "Payroll", Verdict: "deny", Why: why}},
			Remedies: []access.Obstacle{{Rule: "a/b", Title: "A", Verdict: "fail", Why: why,
				Remedy: map[string]plaintext.Remedy{"en": {Title: "Mend <it>\u2028&",
					Steps: "\x01\xff\t\"Now\" \\o/ 🛥"}, "sv": {Title: "Laga"}}}}},
	}
	if whole := reflect.ValueOf(*a.Decision); whole.NumField() != 13 {
		t.Errorf("a decision has %d members: this test and append know of 13", whole.NumField())
	}
	entry := a.Record(5, "gate")
	response := a.Response()
	got := entry.Body
	if canonical, err := ledger.Canonical(got); err != nil || string(canonical) != string(got) {
		t.Errorf("it is not in canonical form: %s (%v)", got, err)
	}
	want, err := ledger.Canonical(value.JSON(a))
	if err != nil || string(want) != string(got) {
		t.Errorf("it is recorded as\n%s\nand was\n%s (%v)", got, want, err)
	}
	var answer struct {
		Decision bool
		Context  map[string]json.RawMessage
	}
	if err := json.Unmarshal(response, &answer); err != nil || answer.Decision || len(answer.Context) != 15 ||
		answer.Context["asked"] != nil || answer.Context["rulebook"] != nil ||
		string(answer.Context["code"]) != `"K7M2-9XQD"` {
		t.Errorf("the enforcer gets %s (%v)", response, err)
	}
}
