package heard

import (
	"errors"
	"strings"
	"testing"
	"time"

	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
)

const book = `rulebook: x
sources:
  - id: sensor
    provides: [threat]
    signals: {issuer: "https://s.example", jwks: "https://s.example/k", audience: us, map: {risk-level-change: {sets: threat.score, words: {LOW: 0, MEDIUM: 50, HIGH: 95}}}}
`

const caep = "https://schemas.openid.net/secevent/caep/event-type/"

func heardOf(t testing.TB) (*rulebook.Heard, *evidence.Dictionary) {
	t.Helper()
	rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: book}})
	if err != nil {
		t.Fatal(err)
	}
	return rb.HeardFrom("https://s.example"), rb.Dict
}

var now = time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC).UnixMicro()

// The moment of an event is its own, or that of its token; its device is called as the source calls it.
func TestWhatAnEventSays(t *testing.T) {
	h, dict := heardOf(t)
	for claims, want := range map[string]string{
		`{"iss":"https://s.example","jti":"1","iat":1795161600,"aud":"us","sub_id":{"format":"opaque","id":"x-1"},"events":{"` + caep + `risk-level-change":{"current_level":"HIGH","event_timestamp":1795161000}}}`:     "x-1 2026-11-20T07:50:00Z 95",
		`{"iss":"https://s.example","jti":"1","iat":1795161600,"aud":["us"],"sub_id":{"format":"opaque","id":"x-1"},"events":{"` + caep + `risk-level-change":{"current_level":"LOW","event_timestamp":1795161000000}}}`: "x-1 2026-11-20T07:50:00Z 0",
		`{"iss":"https://s.example","jti":"1","iat":1795161600,"toe":1795161300,"aud":"us","events":{"` + caep +
			`risk-level-change":{"current_level":"MEDIUM","subject":{"format":"iss_sub","iss":"https://s.example","sub":"x-2"}}}}`: "x-2 2026-11-20T07:55:00Z 50",
		`{"iss":"https://s.example","jti":"1","iat":1795161600.5,"aud":"us","sub_id":{"format":"complex","user":{"format":"email","email":"a@b"},"device":{"format":"opaque","id":"x-3"}},"events":{"` + caep + `risk-level-change":{"current_level":"LOW"}}}`: "x-3 2026-11-20T08:00:00.5Z 0",
	} {
		tok, err := Parse([]byte(claims))
		if err == nil {
			err = tok.Check(h, now)
		}
		if err != nil {
			t.Fatalf("%s: %v", claims, err)
		}
		effects, err := tok.Effects(h, dict, now)
		if err != nil || len(effects) != 1 || effects[0].Report == nil {
			t.Fatalf("%s: %+v %v", claims, effects, err)
		}
		r := effects[0].Report
		got := r.ExternalID + " " + time.UnixMicro(r.At).UTC().Format(time.RFC3339Nano) +
			" " + r.Value("threat.score").String()
		if got != want || r.Source != "sensor" {
			t.Errorf("%s: %s of %s, want %s", claims, got, r.Source, want)
		}
	}
}

// Whatever claims say, they say it without a panic, name whom they are about, and nothing from the future.
func FuzzToken(f *testing.F) {
	f.Add(`{"iss":"https://s.example","jti":"1","iat":1795161600,"aud":"us","sub_id":{"format":"opaque","id":"x"},"events":{"` + caep + `risk-level-change":{"current_level":"HIGH"}}}`)
	f.Add(`{"iss":"https://s.example","jti":"1","iat":1e300,"aud":["us"],"sub_id":{"format":"complex"},"events":{"` + caep + `session-revoked":{"reason_admin":{"sv":"x"}}}}`)
	f.Add(`{"jti":"1","events":{"x":null}}`)
	f.Add(`{"iss":"https://s.example","jti":"1","iat":1795161600,"aud":"us","events":{"":{"":""}}}`)
	f.Add(`{"iss":"https://s.example","jti":"1","iat":1795161600,"aud":"us","events":{"https://s.example/x/":{}}}`)
	f.Add(`{"iss":"https://s.example","jti":"1","iat":1795161600,"aud":"us","events":{"/":{}}}`)
	f.Fuzz(func(t *testing.T, claims string) {
		h, dict := heardOf(t)
		tok, err := Parse([]byte(claims))
		if err == nil {
			err = tok.Check(h, now)
		}
		var refused *Error
		if err != nil {
			if !errors.As(err, &refused) || refused.Code == "" {
				t.Errorf("%s: %v", claims, err)
			}
			return
		}
		effects, err := tok.Effects(h, dict, now)
		if err != nil && (!errors.As(err, &refused) || refused.Code == "") {
			t.Errorf("%s: %v", claims, err)
		}
		for _, e := range effects {
			if r := e.Report; r != nil && (r.Source != h.Source || r.ExternalID == "" || r.At > now+evidence.Skew) {
				t.Errorf("%s: %+v", claims, r)
			}
			if e.Revoke != nil && *e.Revoke == (Key{}) {
				t.Errorf("%s revokes nobody's sessions", claims)
			}
			if e.Event == "" || strings.ContainsRune(e.Event, '\uFFFD') && !strings.ContainsRune(claims, '\uFFFD') &&
				!strings.Contains(claims, "\\u") {
				t.Errorf("%s: event %q", claims, e.Event)
			}
		}
	})
}
