package access

import (
	"net/netip"
	"testing"

	"ironledger.example/core/rulebook"
)

// What is said to be impossible is denied however the person signs in, from wherever.
func TestNothingThatIsImpossibleIsAllowed(t *testing.T) {
	const head = `rulebook: possible
places: {aboard: {networks: [10.30.0.0/16]}}
break_glass: [master]
resources: [{id: rota}]
gates:
`
	yes := true
	no := false
	for _, c := range []struct {
		gates string
		from  string // the lowest level at which it is possible
	}{
		{`  - {id: a, who: {everyone: true}, what: {everything: true}, need: level >= sound}`, "sound"},
		{`  - {id: a, who: {everyone: true}, what: {everything: true}, need: level >= sound and auth.mfa}`, "sound"},
		{`  - {id: a, who: {everyone: true}, what: {everything: true}, otherwise: step-up, need: level >= sound and auth.mfa}`,
			"sound"},
		{`  - {id: a, who: {everyone: true}, what: {everything: true}, need: 'level >= sound or "aboard" in request.places'}`,
			"barred"},
		{`  - {id: a, who: {everyone: true}, what: {everything: true}, when: '"aboard" in request.places', need: level >= limited}
  - {id: b, who: {everyone: true}, what: {everything: true}, need: level >= unproven}`, "unproven"},
		{`  - {id: a, who: {everyone: true}, what: {everything: true}, need: level >= limited}
  - {id: b, mode: shadow, who: {everyone: true}, what: {everything: true}, need: level >= strong}
  - {id: c, mode: draft, who: {everyone: true}, what: {everything: true}, need: level >= strong}`, "limited"},
		{`  - {id: a, who: {groups: [deck]}, what: {everything: true}, need: level >= barred}`, ""},
	} {
		rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: head + c.gates + "\n"}})
		if err != nil {
			t.Fatal(err)
		}
		trial, lowest := Compile(rb).Evaluator(), ""
		for l := rb.Top(); l >= 0; l-- {
			ask := Request{User: "ada", Known: true, Groups: []string{"crew"}, Resource: "rota", Action: "open",
				Device: Device{ID: "d-1", Known: true, Level: l}}
			possible := trial.Possible(&ask, 1)
			if possible {
				lowest = rb.LevelName(l)
			}
			allowed := false
			for _, mfa := range []*bool{nil, &no, &yes} {
				for _, ip := range []string{"", "10.30.1.1", "192.0.2.7"} {
					ask.MFA, ask.IP = mfa, netip.Addr{}
					if ip != "" {
						ask.IP = netip.MustParseAddr(ip)
					}
					got := trial.Evaluate(&ask, 1).Outcome
					allowed = allowed || got != Deny
					if got != Deny && !trial.Possible(&ask, 1) {
						t.Errorf("%s\nat %s: %s, though it is said to be impossible", c.gates, rb.LevelName(l), got)
					}
				}
			}
			if allowed && !possible {
				t.Errorf("%s\nat %s some request is let in, and none is said to be", c.gates, rb.LevelName(l))
			}
		}
		if lowest != c.from {
			t.Errorf("%s\nis possible from %q, want %q", c.gates, lowest, c.from)
		}
		stranger := Request{User: "eve", Resource: "rota", Device: Device{ID: "d-1", Known: true, Level: rb.Top()}}
		master := Request{User: "master", Resource: "rota"}
		if trial.Possible(&stranger, 1) || !trial.Possible(&master, 1) {
			t.Error("somebody whom the directory does not know may come in, or the emergency account may not")
		}
	}
}
