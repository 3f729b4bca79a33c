package access

import (
	"strings"
	"testing"

	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

const deck = `rulebook: deck
freshness: {default: 4h}
break_glass: [harbourmaster]
resources: [{id: deck-wifi}, {id: board}]
gates:
  - {id: deck, number: 10, who: {everyone: true}, what: {resources: [deck-wifi]}, need: known_device, valid_for: 5m}
  - {id: mfa, number: 20, who: {users: [solveig]}, what: {resources: [deck-wifi]}, need: auth.mfa, otherwise: step-up}
networks:
  - id: deck-wifi
    ssids: [Gullholm Deck]
    grants:
      - {id: crew, when: level >= sound and request.proof == certificate, vlan: 40, filter: crew, session: 8h,
         attributes: {Idle-Timeout: 600, 64999.1: a}}
      - {id: old, when: os.version < 14, vlan: 41}
      - {id: heal, when: request.proof == certificate, vlan: heal, session: 10m, recover: true}
    otherwise: reject
`

func TestWhatAnAdmissionCarries(t *testing.T) {
	p := compile(t, deck)
	for name, c := range map[string]struct {
		user, level, evidence, proof, resource string
		claimed                                bool
		outcome                                Outcome
		grant                                  string // as it is told; "" for none
		until                                  string // RFC 3339
		says                                   string // a part of the reason for the administrator
		cures                                  int
	}{
		"a good device": {level: "sound", proof: "certificate", outcome: Allow,
			grant: "grant crew, VLAN 40, filter crew, 64999.1=a, Idle-Timeout=600, for 8h", until: "2026-11-20T16:00:00Z",
			says: "On deck-wifi: grant crew"},
		"one whose system is old": {level: "sound", evidence: `"os.version":"13"`, outcome: Allow,
			grant: "grant old, VLAN 41, for 1h", until: "2026-11-20T09:00:00Z"},
		"one that fails, in the place to get well in": {level: "barred", proof: "certificate", outcome: Allow,
			grant: "grant heal, VLAN heal, for 10m", until: "2026-11-20T08:10:00Z", cures: 1,
			says: "not crew: level is barred, needs >= sound; not old: os.version is not known"},
		"by its address alone": {level: "sound", proof: "address", outcome: Deny,
			says: "no grant of the network deck-wifi is true (not crew: request.proof is address, needs == certificate"},
		"of which nothing is said": {level: "sound", outcome: Deny, says: "request.proof is not known"},
		"one that is not known": {proof: "certificate", outcome: Deny,
			says: "Gate 10 (deck) says deny: known_device is false"},
		"a sign-in that nobody can confirm here": {user: "solveig", level: "strong", proof: "certificate", outcome: StepUp,
			says: "Gate 20 (mfa) says step-up"},
		"another resource": {level: "strong", proof: "certificate", resource: "board", outcome: Deny,
			says: "no enforced gate matches"},
		"break-glass": {user: "harbourmaster", level: "barred", proof: "certificate", outcome: Allow,
			grant: "grant heal, VLAN heal, for 10m", says: "break-glass account"},
		"break-glass with no grant": {user: "harbourmaster", level: "sound", outcome: Allow, says: "break-glass account"},
		"break-glass by an address": {user: "harbourmaster", level: "sound", proof: "address", outcome: Deny,
			says: "no grant"},
		"break-glass that is only claimed": {user: "harbourmaster", proof: "certificate", claimed: true, outcome: Deny,
			says: "known_device is false"},
	} {
		q := &Request{User: c.user, Known: true, Resource: "deck-wifi", Action: "join", Proof: c.proof, Claimed: c.claimed}
		if c.resource != "" {
			q.Resource = c.resource
		}
		if c.level != "" {
			q.Device = device(t, p, c.level, c.evidence)
		}
		d := p.Decide(q, now)
		grant := ""
		if d.Grant != nil {
			grant = d.Grant.String()
		}
		if d.Outcome != c.outcome || grant != c.grant || !strings.Contains(d.ReasonAdmin["en"], c.says) ||
			len(d.Remedies) < c.cures || c.until != "" && d.ValidUntil != c.until {
			t.Errorf("%s: %s, %q until %s: %s (%d remedies)", name, d.Outcome, grant, d.ValidUntil,
				d.ReasonAdmin["en"], len(d.Remedies))
		}
		v := p.Evaluator().Evaluate(q, now)
		if v.Outcome != d.Outcome || (v.Grant == nil) != (d.Grant == nil) {
			t.Errorf("%s: evaluating gives %+v", name, v)
		}
		if v.Outcome != Deny && !p.Evaluator().Possible(q, now) {
			t.Errorf("%s: it is said to be impossible", name)
		}
	}
}

// A certificate that is shown and not trusted opens less than none, to whomever.
func TestACertificateThatIsNotTrustedJoinsNothing(t *testing.T) {
	p := compile(t, strings.Replace(deck, "{id: heal, when: request.proof == certificate,", "{id: heal, when: true,", 1))
	for _, user := range []string{"", "maren", "harbourmaster"} {
		for name, c := range map[string]*bool{"of which nothing fresh is known": nil, "taken back": no()} {
			q := &Request{User: user, Known: true, Resource: "deck-wifi", Proof: "certificate", Shown: true, Certificate: c,
				Device: device(t, p, "strong", "")}
			d := p.Decide(q, now)
			if v := p.Evaluator().Evaluate(q, now); v.Outcome != Deny || d.Outcome != Deny || d.Grant != nil ||
				v.Grant != nil || p.Evaluator().Possible(q, now) {
				t.Errorf("%s, for %q: %+v, %s", name, user, v, d.Outcome)
			}
			if says := map[bool]string{true: "nothing fresh is known", false: "is not trusted"}[c == nil]; !strings.Contains(
				d.ReasonAdmin["en"], says) {
				t.Errorf("%s it says: %s", name, d.ReasonAdmin["en"])
			}
			if q.Certificate = yes(); p.Decide(q, now).Outcome != Allow {
				t.Errorf("for %q one that is trusted joins nothing", user)
			}
		}
	}
}

// What is granted may turn when evidence goes stale, and so may not be relied on for longer.
func TestAnAdmissionEndsWhenItsGrantMayTurn(t *testing.T) {
	p := compile(t, strings.NewReplacer("session: 10m", "session: 8h", "vlan: 41",
		"vlan: 41, session: 8h").Replace(deck))
	q := &Request{Known: true, Resource: "deck-wifi", Proof: "certificate",
		Device: device(t, p, "barred", `"os.version":"13"`)}
	if d := p.Decide(q, now); d.ValidUntil != "2026-11-20T12:00:00Z" || d.Grant.Grant != "old" {
		t.Errorf("what rests on evidence good for 4 h: %+v until %s", d.Grant, d.ValidUntil)
	}
	q.Device = device(t, p, "barred", `"os.version":"15"`) // a grant before it may come to be given
	if d := p.Decide(q, now); d.ValidUntil != "2026-11-20T12:00:00Z" || d.Grant.Grant != "heal" {
		t.Errorf("behind one that rests on evidence good for 4 h: %+v until %s", d.Grant, d.ValidUntil)
	}
}

func TestWhatNetworksSayIsChecked(t *testing.T) {
	for text, want := range map[string]string{
		"networks: [{id: deck-wlan, grants: [{when: true}]}]":                                 "deck-wlan is not a resource; did you mean deck-wifi?",
		"networks: [{id: deck-wifi}]":                                                         "the network deck-wifi needs grants",
		"networks: [{id: deck-wifi, grants: [{vlan: 40}]}]":                                   "the grant 1 needs when",
		"networks: [{id: deck-wifi, grants: [{when: levle == sound}]}]":                       "did you mean level?",
		"networks: [{id: deck-wifi, grants: [{when: request.proof == adress}]}]":              "adress",
		"networks: [{id: deck-wifi, grants: [{when: true, vlan: 4095}]}]":                     "between 1 and 4094",
		"networks: [{id: deck-wifi, grants: [{when: true, vlan: 007}]}]":                      "between 1 and 4094",
		"networks: [{id: deck-wifi, grants: [{when: true, session: 10s}]}]":                   "between 1m and 7d",
		"networks: [{id: deck-wifi, grants: [{when: true, attributes: {Idle-Tiemout: 1}}]}]":  "did you mean Idle-Timeout?",
		"networks: [{id: deck-wifi, grants: [{when: true, attributes: {Idle-Timeout: no}}]}]": "a whole number",
		"networks: [{id: deck-wifi, grants: [{when: true, attributes: {0.1: a}}]}]":           "VENDOR.TYPE",
		"networks: [{id: deck-wifi, grants: [{when: true}], otherwise: accept}]":              "accept is not a choice",
		"networks: [{id: deck-wifi, person: anybody, grants: [{when: true}]}]":                "anybody is not a person",
		"networks: [{id: deck-wifi, ssids: ['" + strings.Repeat("x", 33) +
			"'], grants: [{when: true}]}]": "1 to 32 bytes",
		"networks: [{id: deck-wifi, ssids: [a], grants: [{when: true}]}, {id: board, ssids: [a], grants: [{when: true}]}]": "both called a",
		"networks: [{id: deck-wifi, grants: [{id: a, when: true}, {id: a, when: true}]}]":                                  "a",
		"examples: [{resource: board, grant: a, outcome: allow}]":                                                          "needs a resource that is a network",
	} {
		_, err := rulebook.Load([]rulebook.File{{Name: "r.yaml",
			Text: "rulebook: r\nresources: [{id: deck-wifi}, {id: board}]\n" + text}})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
	if value.FormatDuration(rulebook.DefaultAdmission) != "1h" {
		t.Errorf("an admission lasts %s", value.FormatDuration(rulebook.DefaultAdmission))
	}
}

// A cell of the coverage takes what a grant takes beside the gates.
func TestCoverageKnowsGrants(t *testing.T) {
	cell := func(grants, unmatched string) string {
		p := compile(t, "rulebook: r\nunmatched: "+unmatched+
			"\nresources: [{id: w}]\nnetworks: [{id: w, grants: ["+grants+"]}]\n"+
			"gates: [{id: g, who: {groups: [crew]}, what: {resources: [w]}, need: true}]\n")
		c := p.Cover([]string{"crew"})
		return c.Cells[0][0].String() + " " + c.Cells[1][0].String()
	}
	for grants, want := range map[string][2]string{
		"{when: true}":                             {"closed any", "any any"},
		"{when: level >= sound}":                   {"closed sound", "sound sound"},
		"{when: level >= sound}, {when: auth.mfa}": {"closed any *", "any *  any *"},
		"{when: false}":                            {"closed closed", "closed closed"},
	} {
		for i, unmatched := range []string{"deny", "allow"} {
			if got := cell(grants, unmatched); strings.ReplaceAll(got, "  ", " ") != strings.ReplaceAll(want[i], "  ", " ") {
				t.Errorf("%s, unmatched %s: %q, expected %q", grants, unmatched, got, want[i])
			}
		}
	}
}
