package statement

import (
	"encoding/json"
	"strings"
	"testing"
	"time"
)

func claims() *Claims {
	c := &Claims{Issuer: "https://posture.example", Subject: "d1", Audience: "gate", IssuedAt: 1_000,
		Expires: 1_900, ID: "s-1",
		Nonce: "12345678", Confirm: &Confirm{Certificate: "abc"},
		Standing: &Standing{Level: "limited", Ladder: []string{"barred", "limited", "sound"}, Binding: []string{}}}
	c.Complete("1.0", "house:3", Warning)
	return c
}

// A statement is relied on by whom it is for, until it ends, and for what it says alone.
func TestWhatAStatementIsGoodFor(t *testing.T) {
	t.Parallel()
	at := func(seconds int64) time.Time { return time.Unix(seconds, 0) }
	for name, c := range map[string]struct {
		e    Expected
		want string
	}{
		"for me":                 {Expected{Audience: "gate", Now: at(1_500)}, ""},
		"for whoever":            {Expected{Now: at(1_500)}, "say the audience"},
		"for another":            {Expected{Audience: "Gate", Now: at(1_500)}, `is for "gate", not for "Gate"`},
		"the last second":        {Expected{Audience: "gate", Now: at(1_899)}, ""},
		"its end":                {Expected{Audience: "gate", Now: at(1_900)}, "ended at"},
		"its end with leeway":    {Expected{Audience: "gate", Now: at(1_903), Leeway: 5 * time.Second}, ""},
		"before it":              {Expected{Audience: "gate", Now: at(999)}, "which is to come"},
		"before it, with leeway": {Expected{Audience: "gate", Now: at(999), Leeway: time.Second}, ""},
		"the issuer": {Expected{Audience: "gate", Now: at(1_500),
			Issuer: "https://posture.example"}, ""},
		"another issuer": {Expected{Audience: "gate", Now: at(1_500), Issuer: "https://x.example"},
			`not of "https://x.example"`},
		"the nonce":       {Expected{Audience: "gate", Now: at(1_500), Nonce: "12345678"}, ""},
		"another nonce":   {Expected{Audience: "gate", Now: at(1_500), Nonce: "12345679"}, "not the nonce"},
		"another device":  {Expected{Audience: "gate", Now: at(1_500), Device: "d2"}, `not about "d2"`},
		"the certificate": {Expected{Audience: "gate", Now: at(1_500), Certificate: "abc"}, ""},
		"another certificate": {Expected{Audience: "gate", Now: at(1_500), Certificate: "abd"},
			"not of the key"},
		"the level":     {Expected{Audience: "gate", Now: at(1_500), Least: "limited"}, ""},
		"less would do": {Expected{Audience: "gate", Now: at(1_500), Least: "barred"}, ""},
		"more is needed": {Expected{Audience: "gate", Now: at(1_500), Least: "sound"},
			"stands at limited, and sound is needed"},
		"a level that there is not": {Expected{Audience: "gate", Now: at(1_500), Least: "strong"},
			"there is no level"},
	} {
		err := claims().Check(c.e)
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v; %q was expected", name, err, c.want)
		}
	}
	unbound := claims()
	unbound.Confirm = nil
	if err := unbound.Check(Expected{Audience: "gate", Now: at(1_500), Certificate: "abc"}); err == nil {
		t.Error("a statement that is bound to no key passes for one that is")
	}
}

// What is no whole statement is none, whatever else is signed with the same keys.
func TestWhatIsNoStatement(t *testing.T) {
	t.Parallel()
	whole, err := json.Marshal(claims())
	if err != nil {
		t.Fatal(err)
	}
	if c, err := Read(whole); err != nil || c.Standing.Level != "limited" || c.Submods["device"].Status != Warning {
		t.Fatalf("a whole one: %+v, %v", c, err)
	}
	for name, spoil := range map[string]func(map[string]any){
		"no profile":           func(m map[string]any) { delete(m, "eat_profile") },
		"another's profile":    func(m map[string]any) { m["eat_profile"] = "https://x.example" },
		"no standing":          func(m map[string]any) { delete(m, "https://ironledger.example/standing") },
		"no appraisal":         func(m map[string]any) { delete(m, "submods") },
		"no end":               func(m map[string]any) { delete(m, "exp") },
		"no beginning":         func(m map[string]any) { delete(m, "iat") },
		"nobody's":             func(m map[string]any) { delete(m, "sub") },
		"for nobody":           func(m map[string]any) { delete(m, "aud") },
		"for several":          func(m map[string]any) { m["aud"] = []string{"gate", "x"} },
		"an end in words":      func(m map[string]any) { m["exp"] = "never" },
		"a level of no ladder": func(m map[string]any) { m["https://ironledger.example/standing"].(map[string]any)["level"] = "top" },
	} {
		var m map[string]any
		if err := json.Unmarshal(whole, &m); err != nil {
			t.Fatal(err)
		}
		spoil(m)
		raw, err := json.Marshal(m)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Read(raw); err == nil {
			t.Errorf("%s: it is taken for a statement", name)
		}
	}
	for _, c := range []struct{ audience, nonce, want string }{{"gate", "", ""}, {"", "", "for whom"}, {"a b", "",
		"without spaces"},
		{strings.Repeat("x", 201), "", "up to 200"}, {"gate", "1234567", "8 to 88"}, {"gate", strings.Repeat("1",
			89), "8 to 88"},
		{"gate", "1234567\n", "8 to 88"}, {"gate", "12345678", ""}} {
		err := CheckAsked(c.audience, c.nonce)
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q, %q: %v; %q was expected", c.audience, c.nonce, err, c.want)
		}
	}
	for _, c := range []struct {
		rank, compliant int
		covered         bool
		want            string
	}{{0, 1, true, Contraindicated}, {0, 0, false, Contraindicated}, {1, 2, true, Warning}, {2, 2, true, Affirming},
		{3, 2, false, None}, {1, 2, false, None}} {
		if got := Status(c.rank, c.compliant, c.covered); got != c.want {
			t.Errorf("%+v: %s", c, got)
		}
	}
}
