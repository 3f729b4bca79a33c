package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// The receivers here are written from the specifications alone: OpenID Shared Signals
// Framework 1.0, CAEP 1.0, RFC 8417, 8935, 8936 and 9493. They share no code with the
// transmitter.

const signalBook = `rulebook: signals
signals:
  compliant_from: sound
  receivers:
    - {id: idp, device: serial, person: email}
    - {id: gateway, events: [device-compliance-change, standing-change]}
break_glass: [keeper]
resources: [{id: till}]
baselines: [{id: b, rules: [{id: disk, title: Storage is encrypted, check: storage.encrypted, cap: limited,
  remedy: {en: {title: Turn encryption on}, de: {title: Verschlüsselung einschalten}}}]}]
gates: [{id: g, number: 1, who: {everyone: true}, what: {resources: [till]}, need: level >= sound, valid_for: 1h}]
`

// tokenOf makes a token of a role and returns its secret.
func (s *server) tokenOf(t *testing.T, name, role string) string {
	t.Helper()
	var made struct{ Secret string }
	s.call(t, "POST", "/api/v1/tokens", adminToken, "application/json",
		fmt.Sprintf(`{"name":%q,"role":%q}`, name, role)).into(t, http.StatusCreated, &made)
	return made.Secret
}

// signalling starts a service whose rulebook has receivers, with a device and its person.
func signalling(t *testing.T, data string) *server {
	t.Helper()
	s := start(t, "serve", data, "--call-inside", "127.0.0.0/8")
	s.run(t, signalBook, "rulebook", "publish", "-").want(t, 0)
	s.run(t, "id,name,groups\nmaren@gullholm.example,Maren,office\n", "person", "import", "-").want(t, 0)
	s.shows(t, "d1", true)
	return s
}

// shows has a device report whether its storage is encrypted.
func (s *server) shows(t *testing.T, id string, encrypted bool) {
	t.Helper()
	s.call(t, "POST", "/api/v1/evidence", adminToken, "application/json", fmt.Sprintf(
		`{"identity":{"id":%q,"serial":"GF-%s"},"evidence":{"storage.encrypted":%v,"owner":"maren@gullholm.example"}}`,
		id, id, encrypted)).into(t, http.StatusOK, nil)
}

// metadata is the transmitter's (SSF 1.0, section 7.1).
type metadata struct {
	Spec    string   `json:"spec_version"`
	Issuer  string   `json:"issuer"`
	Keys    string   `json:"jwks_uri"`
	Methods []string `json:"delivery_methods_supported"`
	Config  string   `json:"configuration_endpoint"`
	Status  string   `json:"status_endpoint"`
	Add     string   `json:"add_subject_endpoint"`
	Remove  string   `json:"remove_subject_endpoint"`
	Verify  string   `json:"verification_endpoint"`
}

func (s *server) metadata(t *testing.T) metadata {
	t.Helper()
	var m metadata
	s.call(t, "GET", "/.well-known/ssf-configuration", "", "", "").into(t, http.StatusOK, &m)
	if m.Spec != "1_0" || m.Issuer != s.url || len(m.Methods) != 2 {
		t.Fatalf("the metadata is %+v", m)
	}
	return m
}

// set is a security event token (RFC 8417) as a receiver reads it.
type set struct {
	Issuer   string                     `json:"iss"`
	ID       string                     `json:"jti"`
	IssuedAt int64                      `json:"iat"`
	Audience string                     `json:"aud"`
	Subject  map[string]any             `json:"sub_id"`
	Events   map[string]json.RawMessage `json:"events"`
}

// one is the type of the event of a token and what it says.
func (x *set) one(t *testing.T) (string, map[string]any) {
	t.Helper()
	if len(x.Events) != 1 {
		t.Fatalf("a token has %d events", len(x.Events))
	}
	for typ, raw := range x.Events {
		var says map[string]any
		if err := json.Unmarshal(raw, &says); err != nil {
			t.Fatal(err)
		}
		return typ[strings.LastIndex(typ, "/")+1:], says
	}
	return "", nil
}

// check verifies a token with the keys that the transmitter shows.
func (m *metadata) check(t *testing.T, token, audience string) *set {
	t.Helper()
	r, err := http.Get(m.Keys)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	var keys jose.JSONWebKeySet
	if err := json.NewDecoder(r.Body).Decode(&keys); err != nil {
		t.Fatal(err)
	}
	for _, k := range keys.Keys {
		if !k.IsPublic() {
			t.Fatal("a private key is shown")
		}
	}
	parsed, err := jwt.ParseSigned(token, []jose.SignatureAlgorithm{jose.ES256})
	if err != nil {
		t.Fatal(err)
	}
	if typ := parsed.Headers[0].ExtraHeaders["typ"]; typ != "secevent+jwt" {
		t.Errorf("the type of the token is %v", typ)
	}
	var out set
	var all map[string]any
	if err := parsed.Claims(keys, &out, &all); err != nil {
		t.Fatalf("the token does not verify: %v", err)
	}
	if out.Issuer != m.Issuer || out.Audience != audience || out.ID == "" || all["sub"] != nil || all["exp"] != nil ||
		time.Since(time.Unix(out.IssuedAt, 0)).Abs() > time.Minute {
		t.Errorf("the claims are %v", all)
	}
	conforms(t, &out)
	return &out
}

// inbox is a receiver to which events are sent (RFC 8935).
type inbox struct {
	*httptest.Server
	mu     sync.Mutex
	got    []string // tokens, as they came
	answer func(n int, w http.ResponseWriter) bool
}

func openInbox(t *testing.T) *inbox {
	b := &inbox{}
	b.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if r.Method != http.MethodPost || r.Header.Get("Content-Type") != "application/secevent+jwt" ||
			r.Header.Get("Accept") != "application/json" || r.Header.Get("Authorization") != "Bearer to-the-inbox" {
			t.Errorf("%s %v", r.Method, r.Header)
		}
		b.mu.Lock()
		defer b.mu.Unlock()
		b.got = append(b.got, string(body))
		if b.answer != nil && b.answer(len(b.got), w) {
			return
		}
		w.WriteHeader(http.StatusAccepted)
	}))
	t.Cleanup(b.Close)
	return b
}

// await waits until n tokens came, and returns them.
func (b *inbox) await(t *testing.T, n int) []string {
	t.Helper()
	var got []string
	if !soon(func() bool {
		b.mu.Lock()
		defer b.mu.Unlock()
		got = slices.Clone(b.got)
		return len(got) >= n
	}) {
		t.Fatalf("%d events came, %d are due", len(got), n)
	}
	return got
}

// ask calls an endpoint of the transmitter and reads its answer.
func (s *server) ask(t *testing.T, method, url, token, body string, status int, into any) {
	t.Helper()
	s.call(t, method, strings.TrimPrefix(url, s.url), token, "application/json", body).into(t, status, into)
}

type configuration struct {
	ID        string   `json:"stream_id"`
	Issuer    string   `json:"iss"`
	Audience  string   `json:"aud"`
	Delivered []string `json:"events_delivered"`
	Supported []string `json:"events_supported"`
	Delivery  struct {
		Method, Secret string
		URL            string `json:"endpoint_url"`
		Header         string `json:"authorization_header"`
	}
}

const caepTypes = "https://schemas.openid.net/secevent/caep/event-type/"

func TestSignalsAreSent(t *testing.T) {
	t.Parallel()
	s := signalling(t, t.TempDir())
	m, box, idp := s.metadata(t), openInbox(t), s.tokenOf(t, "idp", "receiver")
	var c configuration
	s.ask(t, "POST", m.Config, idp, fmt.Sprintf(`{"delivery":{"method":"urn:ietf:rfc:8935","endpoint_url":%q,
		"authorization_header":"Bearer to-the-inbox"},"events_requested":[%q,%q,"https://else.example/x"],"hint":1}`,
		box.URL, caepTypes+"device-compliance-change", caepTypes+"session-revoked"), http.StatusCreated, &c)
	if c.Issuer != m.Issuer || c.Audience != "idp" || c.Delivery.Header != "" || len(c.Delivered) != 2 ||
		len(c.Supported) != 5 {
		t.Fatalf("the stream is %+v", c)
	}
	// An allow, a fall that ends it, and the cure.
	ask := `{"subject":{"type":"user","id":"maren@gullholm.example"},"action":{"name":"open"},
		"resource":{"type":"app","id":"till"},"context":{"device":{"id":"d1"}}}`
	var decided struct{ Decision bool }
	s.ask(t, "POST", s.url+"/access/v1/evaluation", adminToken, ask, http.StatusOK, &decided)
	if !decided.Decision {
		t.Fatal("maren does not get in")
	}
	begin := time.Now()
	s.shows(t, "d1", false)
	got := box.await(t, 2)
	t.Logf("told %s after the report was sent", time.Since(begin))
	s.shows(t, "d1", true)
	seen := map[string]map[string]any{}
	for i, token := range append(got, box.await(t, 3)[2]) {
		x := m.check(t, token, "idp")
		name, says := x.one(t)
		seen[fmt.Sprint(name, " ", says["current_status"])] = says
		device, _ := x.Subject["device"].(map[string]any)
		user, _ := x.Subject["user"].(map[string]any)
		if x.Subject["format"] != "complex" || device["format"] != "opaque" || device["id"] != "GF-d1" ||
			user["format"] != "email" || user["email"] != "maren@gullholm.example" {
			t.Errorf("event %d is about %v", i, x.Subject)
		}
	}
	fell := seen["device-compliance-change not-compliant"]
	if fell["previous_status"] != "compliant" || fell["initiating_entity"] != "system" ||
		!strings.Contains(fmt.Sprint(fell["reason_admin"]), "b/disk") ||
		!strings.Contains(fmt.Sprint(fell["reason_user"]), "Verschlüsselung einschalten") {
		t.Errorf("the fall is told as %v", fell)
	}
	if seen["session-revoked <nil>"] == nil || seen["device-compliance-change compliant"] == nil {
		t.Errorf("told are %v", seen)
	}
	s.run(t, "", "stream", "list").want(t, 0, "idp", "push", "enabled")
	s.run(t, "", "stream", "show", c.ID).want(t, 0, "devices by serial, people by email", "0 events wait", "3 since")
	s.run(t, "", "stream", "test", c.ID).want(t, 0, "The receiver acknowledged")
	s.run(t, "", "ledger", "list", "--kind", "stream.changed").want(t, 0, "idp created")

	t.Run("the receiver asks for verification", func(t *testing.T) {
		n := len(box.await(t, 4))
		s.ask(t, "POST", m.Verify, idp, fmt.Sprintf(`{"stream_id":%q,"state":"from me"}`, c.ID), http.StatusNoContent, nil)
		name, says := m.check(t, box.await(t, n+1)[n], "idp").one(t)
		if name != "verification" || says["state"] != "from me" {
			t.Errorf("it says %s %v", name, says)
		}
		s.ask(t, "POST", m.Verify, idp, fmt.Sprintf(`{"stream_id":%q}`, c.ID), http.StatusTooManyRequests, nil)
	})
	t.Run("a pause holds back, and an administrator's stands", func(t *testing.T) {
		n := len(box.await(t, 5))
		s.run(t, "", "stream", "pause", c.ID, "--reason", "The partner works on it").want(t, 0, "paused",
			"The partner works on it")
		s.shows(t, "d1", false)
		s.ask(t, "POST", m.Status, idp, fmt.Sprintf(`{"stream_id":%q,"status":"enabled"}`, c.ID), http.StatusForbidden, nil)
		time.Sleep(300 * time.Millisecond)
		if now := len(box.await(t, 0)); now != n {
			t.Errorf("%d events were sent over a paused stream", now-n)
		}
		s.run(t, "", "stream", "resume", c.ID, "--reason", "Done").want(t, 0, "enabled")
		if name, says := m.check(t, box.await(t, n+1)[n], "idp").one(t); name != "device-compliance-change" ||
			says["current_status"] != "not-compliant" {
			t.Errorf("then it is told %s %v", name, says)
		}
	})
	t.Run("subjects are taken out and put in", func(t *testing.T) {
		n := len(box.await(t, 6))
		subject := fmt.Sprintf(`{"stream_id":%q,"subject":{"format":"opaque","id":"GF-d1"}}`, c.ID)
		s.ask(t, "POST", m.Remove, idp, subject, http.StatusNoContent, nil)
		s.shows(t, "d1", true)
		s.shows(t, "d2", true)
		name, _ := m.check(t, box.await(t, n+1)[n], "idp").one(t)
		if x := m.check(t, box.await(t, n+1)[n], "idp"); !strings.Contains(fmt.Sprint(x.Subject), "GF-d2") {
			t.Errorf("it is told of %s, %v", name, x.Subject)
		}
		s.ask(t, "POST", m.Add, idp, subject, http.StatusOK, nil)
		s.shows(t, "d1", false)
		if x := m.check(t, box.await(t, n+2)[n+1], "idp"); !strings.Contains(fmt.Sprint(x.Subject), "GF-d1") {
			t.Errorf("it is told of %v", x.Subject)
		}
		s.ask(t, "POST", m.Add, idp, fmt.Sprintf(`{"stream_id":%q,"subject":{"format":"opaque","id":"nobody"}}`, c.ID),
			http.StatusNotFound, nil)
	})
	t.Run("what the rulebook no longer gives is no longer told", func(t *testing.T) {
		n := len(box.await(t, 8))
		s.run(t, strings.Replace(signalBook, "{id: idp, device: serial, person: email}",
			"{id: idp, events: [session-revoked]}", 1), "rulebook", "publish", "-").want(t, 0)
		s.shows(t, "d1", true)
		s.shows(t, "d1", false)
		s.run(t, "", "stream", "test", c.ID).want(t, 0)
		for _, token := range box.await(t, n+1)[n:] {
			if name, _ := m.check(t, token, "idp").one(t); name != "verification" {
				t.Errorf("it is told %s", name)
			}
		}
		s.run(t, strings.Replace(signalBook, "    - {id: idp, device: serial, person: email}\n", "", 1), "rulebook",
			"publish", "-").want(t, 0)
		s.run(t, "", "stream", "show", c.ID).want(t, 0, "names no receiver idp")
	})
	s.ask(t, "DELETE", m.Config+"?stream_id="+c.ID, idp, "", http.StatusNoContent, nil)
	s.ask(t, "GET", m.Config+"?stream_id="+c.ID, idp, "", http.StatusNotFound, nil)
}

func TestSignalsAreFetched(t *testing.T) {
	t.Parallel()
	s := signalling(t, t.TempDir())
	m, gateway, other := s.metadata(t), s.tokenOf(t, "gateway", "receiver"), s.tokenOf(t, "idp", "receiver")
	var c configuration
	s.ask(t, "POST", m.Config, gateway, `{}`, http.StatusCreated, &c)
	if c.Delivery.Method != "urn:ietf:rfc:8936" || !strings.HasPrefix(c.Delivery.URL, m.Issuer) {
		t.Fatalf("the stream is %+v", c)
	}
	type answer struct {
		Sets map[string]string
		More bool `json:"moreAvailable"`
	}
	poll := func(body string) (out answer) {
		t.Helper()
		s.ask(t, "POST", c.Delivery.URL, gateway, body, http.StatusOK, &out)
		return out
	}
	if got := poll(`{"returnImmediately":true}`); len(got.Sets) != 0 {
		t.Errorf("what was before the stream is told: %v", got)
	}
	// A poll that waits is answered when something happens.
	came := make(chan answer)
	go func() {
		var out answer
		r := s.call(t, "POST", strings.TrimPrefix(c.Delivery.URL, s.url), gateway, "application/json", `{"maxEvents":1}`)
		r.into(t, http.StatusOK, &out)
		came <- out
	}()
	time.Sleep(100 * time.Millisecond)
	s.shows(t, "d1", false)
	first := <-came
	if len(first.Sets) != 1 || !first.More {
		t.Fatalf("fetched is %v", first)
	}
	all := poll(`{}`)
	if len(all.Sets) != 2 || all.More {
		t.Fatalf("what was not acknowledged comes again: %v", all)
	}
	var acks []string
	for jti, token := range all.Sets {
		x := m.check(t, token, "gateway")
		if x.ID != jti || x.Subject["format"] != "opaque" || x.Subject["id"] != "d1" || x.Subject["user"] != nil {
			t.Errorf("%s is %+v", jti, x)
		}
		acks = append(acks, fmt.Sprintf("%q", jti))
	}
	refuse := fmt.Sprintf(`{"ack":[%s],"setErrs":{%s:{"err":"invalid_key","description":"no"}},"returnImmediately":true}`,
		acks[0], acks[1])
	if got := poll(refuse); len(got.Sets) != 0 {
		t.Errorf("what was acknowledged comes again: %v", got)
	}
	s.run(t, "", "stream", "show", c.ID).want(t, 0, "1 since the service started, 1 refused",
		"refused with invalid_key: no")
	// Nobody else's business.
	for _, token := range []string{other, s.tokenOf(t, "reader", "reader")} {
		if r := s.call(t, "POST", strings.TrimPrefix(c.Delivery.URL, s.url), token, "application/json",
			`{}`); r.status < 400 {
			t.Errorf("somebody else fetches: %d", r.status)
		}
	}
	stranger := s.tokenOf(t, "stranger", "receiver")
	s.ask(t, "POST", m.Config, stranger, `{}`, http.StatusForbidden, nil)
	for body, status := range map[string]int{
		`{"delivery":{"method":"urn:x"}}`: 400, `{"delivery":{"method":"urn:ietf:rfc:8935","endpoint_url":"http://10.1.2.3/x"}}`: 400,
		`{"delivery":{"method":"urn:ietf:rfc:8935","endpoint_url":"https://user:pw@partner.example/"}}`: 400,
		`{"delivery":{"method":"urn:ietf:rfc:8935","endpoint_url":"https://169.254.169.254/latest"}}`:   400,
		`{"delivery":{"method":"urn:ietf:rfc:8935","endpoint_url":"https://[::ffff:10.0.0.1]/"}}`:       400, `[`: 400,
	} {
		s.ask(t, "POST", m.Config, gateway, body, status, nil)
	}
	s.ask(t, "PATCH", m.Config, gateway, fmt.Sprintf(`{"stream_id":%q,"iss":"https://else.example"}`, c.ID), 400, nil)
	var told configuration
	s.ask(t, "PATCH", m.Config, gateway, fmt.Sprintf(`{"stream_id":%q,"events_requested":[%q]}`, c.ID,
		caepTypes+"device-compliance-change"), http.StatusOK, &told)
	if len(told.Delivered) != 1 {
		t.Errorf("delivered are %v", told.Delivered)
	}
	s.ask(t, "PUT", m.Config, gateway, fmt.Sprintf(`{"stream_id":%q}`, c.ID), http.StatusOK, &told)
	if len(told.Delivered) != 2 {
		t.Errorf("then delivered are %v", told.Delivered)
	}
	s.ask(t, "PATCH", m.Config, gateway, fmt.Sprintf(`{"stream_id":%q,"events_requested":[]}`, c.ID),
		http.StatusOK, &told)
	if len(told.Delivered) != 0 {
		t.Errorf("who asks for nothing is told %v", told.Delivered)
	}
	s.ask(t, "PUT", m.Config, gateway, fmt.Sprintf(`{"stream_id":%q}`, c.ID), http.StatusOK, &told)
	// While disabled nothing is kept.
	s.ask(t, "POST", m.Status, gateway, fmt.Sprintf(`{"stream_id":%q,"status":"disabled","reason":"away"}`,
		c.ID), 200, nil)
	s.shows(t, "d1", true)
	s.ask(t, "POST", m.Status, gateway, fmt.Sprintf(`{"stream_id":%q,"status":"enabled"}`, c.ID), 200, nil)
	time.Sleep(200 * time.Millisecond)
	if got := poll(`{"returnImmediately":true}`); len(got.Sets) != 0 {
		t.Errorf("what happened meanwhile is told: %v", got)
	}
	// A fall that was redacted before its receiver heard of it is told all the same.
	s.run(t, "", "stream", "pause", c.ID, "--reason", "a moment").want(t, 0)
	s.shows(t, "d1", false)
	var fell struct{ Items []struct{ Seq int64 } }
	s.call(t, "GET", "/api/v1/ledger/entries?kind=standing.changed&limit=1", adminToken, "", "").into(t, 200, &fell)
	s.run(t, "", "ledger", "redact", fmt.Sprint(fell.Items[0].Seq), "--reason", "it says too much").want(t, 0)
	// A poll that waits over a paused stream is answered once it goes on.
	waited := make(chan answer)
	go func() { waited <- poll(`{}`) }()
	time.Sleep(200 * time.Millisecond)
	resumed := time.Now()
	s.run(t, "", "stream", "resume", c.ID, "--reason", "done").want(t, 0)
	statuses, got := "", <-waited
	if took := time.Since(resumed); took > 3*time.Second {
		t.Errorf("the poll waited %s on", took)
	}
	for _, token := range got.Sets {
		_, says := m.check(t, token, "gateway").one(t)
		statuses += fmt.Sprint(says["current_status"], says["current_level"], " ")
	}
	if !strings.Contains(statuses, "not-compliant") || !strings.Contains(statuses, "limited") {
		t.Errorf("told is %q", statuses)
	}
	// Who lost its token hears nothing through the stream that it made.
	s.run(t, "", "token", "revoke", "gateway").want(t, 0)
	s.ask(t, "POST", c.Delivery.URL, gateway, `{}`, http.StatusUnauthorized, nil)
	s.run(t, "", "stream", "show", c.ID).want(t, 0, "was revoked")
}

// Many change one stream at once while devices fall and rise; nothing is lost, and the
// last word counts.
func TestAStreamIsChangedByManyAtOnce(t *testing.T) {
	t.Parallel()
	s := signalling(t, t.TempDir())
	m, box, idp := s.metadata(t), openInbox(t), s.tokenOf(t, "idp", "receiver")
	var c configuration
	s.ask(t, "POST", m.Config, idp, fmt.Sprintf(`{"delivery":{"method":"urn:ietf:rfc:8935","endpoint_url":%q,
		"authorization_header":"Bearer to-the-inbox"},"events_requested":[%q]}`, box.URL,
		caepTypes+"device-compliance-change"), http.StatusCreated, &c)
	var wg sync.WaitGroup
	for i := range 6 {
		wg.Go(func() {
			for n := range 10 {
				switch i {
				case 0:
					s.call(t, "PATCH", "/ssf/streams", idp, "application/json",
						fmt.Sprintf(`{"stream_id":%q,"description":"%d"}`, c.ID, n))
				case 1:
					verb := []string{"add", "remove"}[n%2]
					s.call(t, "POST", "/ssf/subjects/"+verb, idp, "application/json",
						fmt.Sprintf(`{"stream_id":%q,"subject":{"format":"email","email":"maren@gullholm.example"}}`, c.ID))
				case 2:
					status := []string{"paused", "enabled"}[n%2]
					s.call(t, "POST", "/ssf/status", idp, "application/json",
						fmt.Sprintf(`{"stream_id":%q,"status":%q}`, c.ID, status))
				case 3:
					s.call(t, "GET", "/api/v1/streams", adminToken, "", "")
				default:
					s.shows(t, fmt.Sprint("m", i), n%2 == 0)
				}
			}
		})
	}
	wg.Wait()
	s.ask(t, "POST", m.Add, idp, fmt.Sprintf(`{"stream_id":%q,"subject":{"format":"email","email":"maren@gullholm.example"}}`,
		c.ID), http.StatusOK, nil)
	s.ask(t, "POST", m.Status, idp, fmt.Sprintf(`{"stream_id":%q,"status":"enabled"}`, c.ID), http.StatusOK, nil)
	s.shows(t, "m4", true)
	s.shows(t, "m5", true)
	// The newest that was told of each device is how it stands.
	newest := map[string]any{}
	if !soon(func() bool {
		seen := map[string]bool{}
		for _, token := range box.await(t, 0) {
			x := claimsOf(t, token)
			if device, _ := x.Subject["device"].(map[string]any); device != nil && !seen[x.ID] {
				_, says := x.one(t)
				newest[fmt.Sprint(device["id"])] = says["current_status"]
			}
			seen[x.ID] = true
		}
		return newest["GF-m4"] == "compliant" && newest["GF-m5"] == "compliant"
	}) {
		t.Fatalf("told is %v", newest)
	}
}

// A receiver that is down, or wrong, misses nothing: killed services included.
func TestSignalsMissNothing(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := signalling(t, data)
	m, box, idp := s.metadata(t), openInbox(t), s.tokenOf(t, "idp", "receiver")
	_ = m
	// What it answers at first: a page, a redirect, trouble, a page of an error.
	paging, redirected, refused := true, false, 0 // held by box.mu
	box.answer = func(_ int, w http.ResponseWriter) bool {
		switch {
		case paging:
			w.WriteHeader(http.StatusOK)
		case !redirected:
			redirected = true
			w.Header().Set("Location", "http://10.0.0.1/")
			w.WriteHeader(http.StatusTemporaryRedirect)
		default:
			return false
		}
		refused++
		return true
	}
	var c configuration
	s.ask(t, "POST", s.metadata(t).Config, idp, fmt.Sprintf(`{"delivery":{"method":"urn:ietf:rfc:8935","endpoint_url":%q,
		"authorization_header":"Bearer to-the-inbox"},"events_requested":[%q]}`, box.URL,
		caepTypes+"device-compliance-change"), http.StatusCreated, &c)
	changes := 0
	change := func(n int) {
		for range n {
			changes++
			s.shows(t, "d1", changes%2 == 0)
		}
	}
	change(1)
	box.await(t, 1)
	within(t, "the trouble is shown", func() bool {
		return strings.Contains(s.run(t, "", "stream", "show", c.ID).out, "only 202 says that it has the event")
	})
	box.mu.Lock()
	paging = false
	box.mu.Unlock()
	for range rounds() {
		change(5)
		s.kill(t)
		s = start(t, "serve", data, "--call-inside", "127.0.0.0/8")
		change(2)
	}
	// Each change is told, in order, some more than once.
	want, at := changes, 0
	if !soon(func() bool {
		at = 0
		seen := map[string]bool{}
		box.mu.Lock()
		for i, token := range box.got {
			if i < refused {
				continue // it was not acknowledged
			}
			x := claimsOf(t, token)
			if seen[x.ID] {
				continue
			}
			seen[x.ID] = true
			at++
			_, says := x.one(t)
			if compliant := says["current_status"] == "compliant"; compliant != (at%2 == 0) {
				t.Errorf("change %d is told as %v", at, says["current_status"])
			}
		}
		box.mu.Unlock()
		return at == want
	}) {
		t.Fatalf("%d changes were told of %d", at, want)
	}
	t.Run("one that refuses everything is paused", func(t *testing.T) {
		box.mu.Lock()
		box.answer = func(_ int, w http.ResponseWriter) bool {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusBadRequest)
			fmt.Fprint(w, `{"err":"invalid_audience","description":"who are you"}`)
			return true
		}
		box.mu.Unlock()
		change(22)
		within(t, "it is paused", func() bool {
			return strings.Contains(s.run(t, "", "stream", "show", c.ID).out,
				"paused")
		})
		s.run(t, "", "stream", "show", c.ID).want(t, 0, "20 events one after another could not be told",
			"invalid_audience: who are you")
	})
}

// kill ends the service at once, as a crash does.
func (s *server) kill(t *testing.T) {
	t.Helper()
	if err := s.cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	<-s.done
	s.cmd = nil
}

// claimsOf reads a token without checking it.
func claimsOf(t *testing.T, token string) *set {
	t.Helper()
	parsed, err := jwt.ParseSigned(token, []jose.SignatureAlgorithm{jose.ES256})
	if err != nil {
		t.Fatal(err)
	}
	var out set
	if err := parsed.UnsafeClaimsWithoutVerification(&out); err != nil {
		t.Fatal(err)
	}
	return &out
}

// caepSchemas are the events of CAEP 1.0 as its text has them.
var caepSchemas = map[string]string{
	"device-compliance-change": `"required":["previous_status","current_status"],"properties":{%s,
		"previous_status":{"enum":["compliant","not-compliant"]},"current_status":{"enum":["compliant","not-compliant"]}}`,
	"risk-level-change": `"required":["principal","current_level"],"properties":{%s,"risk_reason":{"type":"string"},
		"principal":{"enum":["USER","DEVICE","SESSION","TENANT","ORG_UNIT","GROUP"]},
		"previous_level":{"enum":["LOW","MEDIUM","HIGH"]},"current_level":{"enum":["LOW","MEDIUM","HIGH"]}}`,
	"assurance-level-change": `"required":["namespace","current_level"],"properties":{%s,"namespace":{"type":"string"},
		"previous_level":{"type":"string"},"current_level":{"type":"string"},
		"change_direction":{"enum":["increase","decrease"]}}`,
	"session-revoked": `"properties":{%s}`,
}

const caepCommon = `"event_timestamp":{"type":"integer","minimum":1500000000,"maximum":5000000000},
	"initiating_entity":{"enum":["admin","user","policy","system"]},
	"reason_admin":{"type":"object","minProperties":1,"additionalProperties":{"type":"string"}},
	"reason_user":{"type":"object","minProperties":1,"additionalProperties":{"type":"string"}}`

// conforms compares the event of a token with the schema of its type.
func conforms(t *testing.T, x *set) {
	t.Helper()
	for typ, raw := range x.Events {
		name, ours := strings.CutPrefix(typ, caepTypes)
		if !ours {
			continue
		}
		doc, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"type":"object","additionalProperties":false,` +
			fmt.Sprintf(caepSchemas[name], caepCommon) + `}`))
		if err != nil {
			t.Fatal(name, err)
		}
		compiler := jsonschema.NewCompiler()
		if err := compiler.AddResource("event.json", doc); err != nil {
			t.Fatal(err)
		}
		schema, err := compiler.Compile("event.json")
		if err != nil {
			t.Fatal(err)
		}
		says, err := jsonschema.UnmarshalJSON(strings.NewReader(string(raw)))
		if err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(says); err != nil {
			t.Errorf("%s is no event of CAEP: %v", raw, err)
		}
	}
}

// What an administrator sees of streams in the console, beside the stand-in that hears.
func TestTheConsoleShowsSignals(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir(), "--with-partners")
	var provider string
	var list struct {
		Items []struct{ Endpoint string }
	}
	within(t, "the stand-in has a stream", func() bool {
		s.call(t, "GET", "/api/v1/streams", adminToken, "", "").into(t, http.StatusOK, &list)
		if len(list.Items) > 1 {
			provider = strings.TrimSuffix(list.Items[0].Endpoint, "/events")
		}
		return provider != ""
	})
	for _, score := range []int{95, 0, 95} {
		s.call(t, "POST", "/api/v1/evidence", adminToken, "application/json", fmt.Sprintf(
			`{"source":"sensor","identity":{"id":"GF-L-1042"},"evidence":{"threat.score":%d}}`, score)).into(t, 200, nil)
	}
	ctx := browser(t)
	signIn(t, ctx, s)
	open(t, ctx, s.url+"/signals", "harbour-sign-in")
	press(t, ctx, "Test")
	until(t, ctx, "Acknowledged after")
	press(t, ctx, "Create a stream…")
	do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=receiver]`)),
		chromedp.SendKeys(chromedp.CSS(`input[name=receiver]`), "nobody\r"))
	until(t, ctx, "names no receiver nobody")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=receiver]`),
		strings.Repeat(kb.Backspace, len("nobody"))+"quay-gateway\r"))
	until(t, ctx, "fetched; devices by id")
	press(t, ctx, "Pause…")
	do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=reason]`)),
		chromedp.SendKeys(chromedp.CSS(`input[name=reason]`), "They work on it\r"))
	until(t, ctx, "paused")
	picture(t, ctx, "console-signals")
	press(t, ctx, "Go on…")
	do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=reason]`)),
		chromedp.SendKeys(chromedp.CSS(`input[name=reason]`), "Done\r"))
	untilNot(t, ctx, "They work on it")
	// What a receiver refuses is kept, and sent again when it takes events again.
	door(t, provider)
	s.call(t, "POST", "/api/v1/evidence", adminToken, "application/json",
		`{"source":"sensor","identity":{"id":"GF-L-1043"},"evidence":{"threat.score":95}}`).into(t, 200, nil)
	until(t, ctx, "refused with access_denied")
	do(t, ctx, chromedp.Click(chromedp.CSS(`main button[aria-expanded=false]`)))
	until(t, ctx, "Send all again")
	picture(t, ctx, "console-letters")
	door(t, provider)
	press(t, ctx, "Send all again")
	until(t, ctx, "None: the receiver has been told everything")
	press(t, ctx, "Secret…")
	do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=reason]`)),
		chromedp.SendKeys(chromedp.CSS(`input[name=reason]`), "Yearly\r"))
	until(t, ctx, "whsec_")
	open(t, ctx, s.url+"/signals/notices", "fell from strong to barred")
	picture(t, ctx, "console-notices")
	open(t, ctx, s.url+"/sources/feeds/phone-desk", "the schedule")
	picture(t, ctx, "console-feed")
	open(t, ctx, s.url+"/devices/GF-L-1042", "by mail, in en")
	open(t, ctx, s.url+"/alerts", "The account for emergencies")
	until(t, ctx, "to look at")
	picture(t, ctx, "console-alerts")
	press(t, ctx, "Seen…")
	do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=note]`)),
		chromedp.SendKeys(chromedp.CSS(`input[name=note]`), "The harbourmaster told us\r"))
	until(t, ctx, "The harbourmaster told us")
	s.run(t, "", "alert", "list", "--check").want(t, 3, "more were seen")
	s.run(t, "", "alert", "seen", "--all", "--note", "looked").want(t, 0, "There is no other")
	s.run(t, "", "alert", "list", "--check").want(t, 0)
	s.run(t, "", "alert", "seen", "nonsense").want(t, 1, "there is no alert nonsense")
	s.run(t, "", "ledger", "list", "--kind", "alert.seen").want(t, 0, "The harbourmaster told us")
	open(t, ctx, provider, "signed out")
	until(t, ctx, "device-compliance-change")
	picture(t, ctx, "partner-sign-in")
}

// door opens or closes the stand-in for a chat room.
func door(t *testing.T, room string) {
	t.Helper()
	r, err := http.Post(room+"/door", "", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Body.Close()
}
