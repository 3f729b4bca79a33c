package service

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	core "ironledger.example/core/feed"
	told "ironledger.example/core/heard"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/heard"
)

// heardBook is a rulebook that hears a threat sensor whose keys are at an address.
func heardBook(keys string) string {
	return `rulebook: heard
break_glass: [master]
attributes: {custom.fit: {type: bool}}
sources:
  - {id: agent, provides: ["*"]}
  - id: sensor
    rank: 2
    provides: [threat, custom]
    vouches: {for: 24h}
    signals: {issuer: "https://sensor.example", jwks: "` + keys + `", audience: "https://ledger.example", device: serial,
      map: {risk-level-change: threat.level, device-compliance-change: vouched}}
  - {id: other, provides: [threat], signals: {issuer: "https://other.example", jwks: "` + keys + `", audience: "https://ledger.example"}}
resources: [{id: payroll}]
baselines:
  - id: all
    rules:
      - {id: calm, check: threat.level <= medium, cap: barred, unknown: sound}
      - {id: known, check: vouched, cap: sound}
gates: [{id: pay, who: {everyone: true}, what: {resources: [payroll]}, need: level >= limited, valid_for: 1h}]
`
}

// transmitter signs security events, and shows its keys.
type transmitter struct {
	t    *testing.T
	mu   sync.Mutex
	keys map[string]*ecdsa.PrivateKey
	away bool
	url  string
	got  int // how often its keys were fetched
	n    int
}

func newTransmitter(t *testing.T) *transmitter {
	x := &transmitter{t: t, keys: map[string]*ecdsa.PrivateKey{}}
	x.newKey("k1")
	x.url = serve(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		x.mu.Lock()
		defer x.mu.Unlock()
		if x.got++; x.away {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		out := map[string]any{"keys": []any{map[string]string{"kty": "OKP-of-tomorrow", "kid": "odd"}}}
		for _, kid := range slices.Sorted(maps.Keys(x.keys)) {
			out["keys"] = append(out["keys"].([]any), jose.JSONWebKey{Key: x.keys[kid].Public(), KeyID: kid,
				Use: "sig", Algorithm: "ES256"})
		}
		_ = json.NewEncoder(w).Encode(out)
	}))
	return x
}

func (x *transmitter) newKey(kid string) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		x.t.Fatal(err)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.keys[kid] = k
}

type claims map[string]any

// set is a token with one event, as RFC 8417 and SSF 1.0 have it; other changes its claims.
func (x *transmitter) set(event string, payload, subject claims, other func(claims)) string {
	x.n++
	c := claims{"iss": "https://sensor.example", "jti": fmt.Sprint("j", x.n), "iat": time.Now().Unix(),
		"aud":    "https://ledger.example",
		"sub_id": subject, "events": claims{"https://schemas.openid.net/secevent/caep/event-type/" + event: payload}}
	if other != nil {
		other(c)
	}
	return x.signed(c, "k1", "secevent+jwt", x.keys["k1"])
}

func (x *transmitter) signed(c claims, kid, typ string, key any) string {
	x.t.Helper()
	alg := jose.ES256
	if _, is := key.([]byte); is {
		alg = jose.HS256
	}
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: alg, Key: jose.JSONWebKey{Key: key, KeyID: kid}},
		(&jose.SignerOptions{}).WithType(jose.ContentType(typ)))
	if err != nil {
		x.t.Fatal(err)
	}
	token, err := jwt.Signed(s).Claims(map[string]any(c)).Serialize()
	if err != nil {
		x.t.Fatal(err)
	}
	return token
}

func serial(s string) claims {
	return claims{"format": "complex", "device": claims{"format": "opaque", "id": s}}
}

func risk(level string) claims {
	return claims{"principal": "DEVICE", "current_level": level, "previous_level": "LOW",
		"event_timestamp": time.Now().Unix()}
}

// hearing is a service that hears a transmitter, with two devices and two people.
func hearing(t *testing.T, dir string, x *transmitter) *Service {
	t.Helper()
	s := opened(t, dir, nil)
	if s.Snapshot().Book.Rulebook.Name != "heard" {
		people := []directory.Person{{ID: "ada", Name: "Ada", Groups: []string{}, Mail: "ada@gullholm.example"},
			{ID: "bo", Name: "Bo", Groups: []string{}}}
		if _, err := s.Admin.ImportPeople(t.Context(), "author", people,
			admin.ListImport{AcceptImpact: "a trial"}); err != nil {
			t.Fatal(err)
		}
		if _, _, err := s.Admin.Publish(t.Context(), "author",
			api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: heardBook(x.url)}}}); err != nil {
			t.Fatal(err)
		}
		a := &acts{s: s}
		for _, id := range []string{"d1", "d2"} {
			if err := a.take(t.Context(), fmt.Sprintf(`{"source":"agent","identity":{"id":%q,"serial":"S-%s"},"evidence":{"threat.level":"none"}}`, id, id)); err != nil {
				t.Fatal(err)
			}
		}
	}
	s.Heard.Start(loopback)
	t.Cleanup(func() { closed(s) })
	return s
}

// A partner's events set what the rulebook says, of the devices that we know; of others they wait.
func TestEventsOfAPartnerAreEvidence(t *testing.T) {
	t.Parallel()
	x, ctx := newTransmitter(t), t.Context()
	s := hearing(t, t.TempDir(), x)
	take := func(token string) {
		t.Helper()
		if err := s.Heard.Take(ctx, token, ""); err != nil {
			t.Fatal(err)
		}
	}
	level := func(id, want string) {
		t.Helper()
		if l := levelOf(t, s, id); l != want {
			t.Errorf("%s stands at %s, want %s", id, l, want)
		}
	}
	level("d1", "sound")
	bad := x.set("risk-level-change", risk("HIGH"), serial("S-d1"), nil)
	take(bad)
	level("d1", "barred")
	level("d2", "sound")
	take(x.set("risk-level-change", risk("LOW"), serial("S-d1"), nil))
	level("d1", "sound")
	take(bad) // once more: it is there already
	level("d1", "sound")
	// An event that happened before another, and comes after it, counts no more.
	old := risk("HIGH")
	old["event_timestamp"] = time.Now().Add(-time.Hour).Unix()
	take(x.set("risk-level-change", old, serial("S-d1"), nil))
	level("d1", "sound")
	// The partner vouches for it, by a compliance event as the rulebook has it, and takes that back.
	status := func(is string) claims {
		return claims{"current_status": is, "previous_status": "compliant", "event_timestamp": time.Now().Unix()}
	}
	take(x.set("device-compliance-change", status("compliant"), claims{"format": "opaque", "id": "S-d1"}, nil))
	level("d1", "strong")
	take(x.set("device-compliance-change", status("not-compliant"),
		claims{"format": "iss_sub", "iss": "https://sensor.example", "sub": "S-d1"}, nil))
	level("d1", "sound")

	// Of a device that nobody knows it waits, and counts as soon as somebody knows it.
	take(x.set("risk-level-change", risk("HIGH"), serial("S-d9"), nil))
	if n := len(s.Snapshot().Unmatched.List()); n != 1 {
		t.Errorf("%d reports wait", n)
	}
	if err := (&acts{s: s}).take(ctx, `{"source":"agent","identity":{"id":"d9","serial":"S-d9"},"evidence":{"threat.level":"none"}}`); err != nil {
		t.Fatal(err)
	}
	level("d9", "barred")

	// What is about a person, or about the stream, is taken and does nothing.
	person := risk("HIGH")
	person["principal"] = "USER"
	take(x.set("risk-level-change", person, serial("S-d2"), nil))
	take(x.set("x", claims{}, serial("S-d2"), func(c claims) {
		c["events"] = claims{"https://schemas.openid.net/secevent/ssf/event-type/verification": claims{"state": "1"}}
	}))
	level("d2", "sound")
	if c := s.Heard.Counts("sensor"); c.Taken != 9 || c.Refused != 0 {
		t.Errorf("it counts %+v", c)
	}
	if x.got != 1 {
		t.Errorf("the keys were fetched %d times", x.got)
	}
}

// What is not what it says is refused with the code of RFC 8935, and does nothing.
func TestWrongEventsAreRefused(t *testing.T) {
	t.Parallel()
	x, ctx := newTransmitter(t), t.Context()
	s := hearing(t, t.TempDir(), x)
	stranger, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	body := func(other func(claims)) claims {
		c := claims{"iss": "https://sensor.example", "jti": "x", "iat": time.Now().Unix(),
			"aud":    []string{"https://else.example", "https://ledger.example"},
			"sub_id": serial("S-d1"), "events": claims{"https://schemas.openid.net/secevent/caep/event-type/risk-level-change": risk("HIGH")}}
		if other != nil {
			other(c)
		}
		return c
	}
	with := func(other func(claims)) string { return x.signed(body(other), "k1", "secevent+jwt", x.keys["k1"]) }
	good := with(nil)
	header, rest, _ := strings.Cut(good, ".")
	payload, _, _ := strings.Cut(rest, ".")
	for name, c := range map[string]struct{ token, code string }{
		"another audience": {with(func(c claims) { c["aud"] = "https://else.example" }), told.InvalidAudience},
		"no audience":      {with(func(c claims) { delete(c, "aud") }), told.InvalidAudience},
		"another issuer":   {with(func(c claims) { c["iss"] = "https://nobody.example" }), told.InvalidIssuer},
		"the future":       {with(func(c claims) { c["iat"] = time.Now().Add(time.Hour).Unix() }), told.InvalidRequest},
		"long ago": {with(func(c claims) { c["iat"] = time.Now().Add(-9 * 24 * time.Hour).Unix() }),
			told.InvalidRequest},
		"no time":           {with(func(c claims) { delete(c, "iat") }), told.InvalidRequest},
		"a time of nowhere": {with(func(c claims) { c["iat"] = 1e300 }), told.InvalidRequest},
		"it has ended":      {with(func(c claims) { c["exp"] = time.Now().Add(-time.Second).Unix() }), told.InvalidRequest},
		"no id":             {with(func(c claims) { delete(c, "jti") }), told.InvalidRequest},
		"no events":         {with(func(c claims) { c["events"] = claims{} }), told.InvalidRequest},
		"no subject":        {with(func(c claims) { delete(c, "sub_id") }), told.InvalidRequest},
		"events to come": {with(func(c claims) {
			c["events"] = claims{"https://schemas.openid.net/secevent/caep/event-type/risk-level-change": claims{"current_level": "HIGH", "event_timestamp": time.Now().Add(time.Hour).Unix()}}
		}), told.InvalidRequest},
		"a word of its own": {with(func(c claims) {
			c["events"] = claims{"https://schemas.openid.net/secevent/caep/event-type/risk-level-change": claims{"current_level": "AWFUL"}}
		}), told.InvalidRequest},
		"another type":     {x.signed(body(nil), "k1", "JWT", x.keys["k1"]), told.InvalidRequest},
		"a stranger's key": {x.signed(body(nil), "k1", "secevent+jwt", stranger), told.InvalidKey},
		"a shared secret": {x.signed(body(nil), "k1", "secevent+jwt", []byte(strings.Repeat("k", 32))),
			told.InvalidRequest},
		"no signature": {"eyJhbGciOiJub25lIiwidHlwIjoic2VjZXZlbnQrand0In0." + payload + ".", told.InvalidRequest},
		"a part of another": {header + "." + payload +
			"." + strings.Split(with(func(c claims) { c["jti"] = "y" }), ".")[2], told.InvalidKey},
		"nothing":            {"", told.InvalidRequest},
		"something too long": {strings.Repeat("x", 70_000), told.InvalidRequest},
	} {
		var refused *told.Error
		if err := s.Heard.Take(ctx, c.token, ""); !errors.As(err, &refused) || refused.Code != c.code {
			t.Errorf("%s: %v, want %s", name, err, c.code)
		}
	}
	// The key of one partner says nothing for another.
	var refused *told.Error
	if err := s.Heard.Take(ctx, good, "other"); !errors.As(err, &refused) || refused.Code != told.InvalidIssuer {
		t.Errorf("what sensor says is taken of other: %v", err)
	}
	if l := levelOf(t, s, "d1"); l != "sound" {
		t.Errorf("d1 stands at %s", l)
	}
	// A key that is new is looked for; one that is made up does not have the set fetched each time.
	x.newKey("k2")
	var busy *heard.BusyError
	for range 5 {
		if err := s.Heard.Take(ctx, x.signed(body(nil), "k2", "secevent+jwt", x.keys["k2"]), ""); !errors.As(err, &busy) {
			t.Errorf("a key that is new: %v", err)
		}
	}
	if x.got != 1 {
		t.Errorf("the keys were fetched %d times", x.got)
	}
	if err := s.Heard.Take(ctx, good, ""); err != nil || levelOf(t, s, "d1") != "barred" {
		t.Errorf("the token itself: %v, %s", err, levelOf(t, s, "d1"))
	}
}

// Keys that are not to be had refuse nothing: the event is sent again.
func TestAnEventWaitsForKeys(t *testing.T) {
	t.Parallel()
	x := newTransmitter(t)
	x.away = true
	s := hearing(t, t.TempDir(), x)
	var busy *heard.BusyError
	if err := s.Heard.Take(t.Context(), x.set("risk-level-change", risk("HIGH"), serial("S-d1"), nil),
		""); !errors.As(err, &busy) ||
		heard.StatusOf(err) != http.StatusServiceUnavailable {
		t.Errorf("%v", err)
	}
}

func pays(t *testing.T, s *Service, person, device string) string {
	t.Helper()
	a, err := s.Decisions.Decide("proxy", &access.Evaluation{Subject: access.Entity{Type: "user", ID: person},
		Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "resource", ID: "payroll"},
		Context: &access.Context{Device: &access.DeviceRef{ID: device}}})
	if err != nil || a.Outcome != access.Allow {
		t.Fatalf("%+v %v", a, err)
	}
	return a.ID
}

// Sessions end when a partner says so, of whom it names, and no restart brings them back; a token that comes
// again ends no new ones.
func TestAPartnerEndsSessions(t *testing.T) {
	t.Parallel()
	x, dir := newTransmitter(t), t.TempDir()
	s := hearing(t, dir, x)
	live := func() (out []string) {
		for _, l := range s.Decisions.Sessions("", "", "") {
			out = append(out, l.Person+" "+l.Device)
		}
		slices.Sort(out)
		return out
	}
	begin := func() {
		for _, p := range []string{"ada", "bo"} {
			for _, d := range []string{"d1", "d2"} {
				pays(t, s, p, d)
			}
		}
	}
	mail := claims{"format": "email", "email": "ada@gullholm.example"}
	reason := claims{"reason_admin": claims{"en": "Her badge was found"}}
	begin()
	var last string
	for _, c := range []struct {
		name    string
		subject claims
		left    string
	}{
		{"a person on a device", claims{"format": "complex", "user": mail,
			"device": claims{"format": "opaque", "id": "S-d1"}}, "ada d2 bo d1 bo d2"},
		{"a person", mail, "bo d1 bo d2"},
		{"a device", serial("S-d1"), "ada d2 bo d2"},
		{"a device alone", claims{"format": "opaque", "id": "S-d2"}, "ada d1 bo d1"},
		{"a person, and a device that nobody knows",
			claims{"format": "complex", "user": claims{"format": "opaque", "id": "bo"},
				"device": claims{"format": "opaque", "id": "S-none"}}, "ada d1 ada d2"},
		{"nobody whom we know", claims{"format": "email", "email": "x@gullholm.example"}, "ada d1 ada d2 bo d1 bo d2"},
	} {
		begin()
		last = x.set("session-revoked", reason, c.subject, nil)
		if err := s.Heard.Take(t.Context(), last, ""); err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(live(), " "); got != c.left {
			t.Errorf("%s: left are %s, want %s", c.name, got, c.left)
		}
	}
	// A start knows the second in which an allow was given: what was given in that of an end counts as before it.
	time.Sleep(1100 * time.Millisecond)
	begin()
	ending := x.set("session-revoked", reason, mail, nil)
	if err := s.Heard.Take(t.Context(), ending, ""); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = hearing(t, dir, x)
	if got := strings.Join(live(), " "); got != "bo d1 bo d2" {
		t.Errorf("after a restart there are %s", got)
	}
	pays(t, s, "ada", "d1")
	if err := s.Heard.Take(t.Context(), ending, ""); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(live(), " "); got != "ada d1 bo d1 bo d2" {
		t.Errorf("a token that came again ends what began after it: %s", got)
	}
}

// Allows that are decided while sessions end do not outlive it: each is before it and ends, or after it.
func TestSessionsThatBeginWhileTheyEnd(t *testing.T) {
	t.Parallel()
	x := newTransmitter(t)
	s := hearing(t, t.TempDir(), x)
	tokens := make([]string, 40)
	for i := range tokens {
		tokens[i] = x.set("session-revoked", claims{}, serial("S-d1"), nil)
	}
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			for range 40 {
				pays(t, s, "ada", "d1")
			}
		})
	}
	for _, token := range tokens {
		if err := s.Heard.Take(t.Context(), token, ""); err != nil {
			t.Error(err)
		}
	}
	wg.Wait()
	if err := s.Heard.Take(t.Context(), x.set("session-revoked", claims{}, serial("S-d1"), nil), ""); err != nil {
		t.Fatal(err)
	}
	eventually(t, "no session is left", func() bool { return len(s.Decisions.Kept()) == 0 })
}

// Events are polled, acknowledged when they are on record, and refused one by one.
func TestEventsArePolled(t *testing.T) {
	t.Parallel()
	x := newTransmitter(t)
	waiting := map[string]string{}
	for i := range 5 {
		waiting[fmt.Sprint("p", i)] = x.set("risk-level-change", risk([]string{"LOW", "HIGH"}[i%2]),
			serial(fmt.Sprint("S-d", 1+i%2)),
			func(c claims) { c["jti"] = fmt.Sprint("p", i) })
	}
	waiting["p9"] = x.set("risk-level-change", risk("HIGH"), serial("S-d1"),
		func(c claims) { c["jti"], c["aud"] = "p9", "x" })
	refused := map[string]any{}
	url := serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var q struct {
			Max     int            `json:"maxEvents"`
			Ack     []string       `json:"ack"`
			Refused map[string]any `json:"setErrs"`
		}
		if r.Method != http.MethodPost || r.Header.Get("Authorization") != "Bearer sesame" ||
			json.NewDecoder(r.Body).Decode(&q) != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		for _, jti := range q.Ack {
			delete(waiting, jti)
		}
		for jti, why := range q.Refused {
			delete(waiting, jti)
			refused[jti] = why
		}
		sets := map[string]string{}
		for _, jti := range slices.Sorted(maps.Keys(waiting)) {
			if len(sets) < min(q.Max, 2) {
				sets[jti] = waiting[jti]
			}
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{"sets": sets, "moreAvailable": len(waiting) > len(sets)})
	}))
	dir := t.TempDir()
	closed(hearing(t, dir, x))
	s := feeding(t, dir)
	set := core.Settings{ID: "polled", Kind: core.Signals, Source: "sensor", URL: url + "/poll", Every: "5s",
		SignIn: core.SignIn{By: core.Bearer}}
	if _, err := s.Feeds.Add(t.Context(), "ada", api.FeedDraft{Feed: set, Secret: "sesame"}); err != nil {
		t.Fatal(err)
	}
	r := ran(t, s, "polled", 0)
	if r.Outcome != core.Done || r.Items != 6 || r.Accepted != 5 || r.Rejected != 1 || len(waiting) != 0 ||
		len(refused) != 1 {
		t.Errorf("%+v, left %v, refused %v", r, waiting, refused)
	}
	if levelOf(t, s, "d2") != "barred" || levelOf(t, s, "d1") != "sound" {
		t.Errorf("they stand at %s and %s", levelOf(t, s, "d1"), levelOf(t, s, "d2"))
	}
	set.ID, set.Source = "no", "agent"
	if _, err := s.Feeds.Add(t.Context(), "ada", api.FeedDraft{Feed: set, Secret: "sesame"}); err == nil {
		t.Error("events are polled of a source that the rulebook does not hear")
	}
}
