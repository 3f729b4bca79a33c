package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// watcher is a transmitter of security events, written from RFC 8417, RFC 8935 and CAEP 1.0.
type watcher struct {
	signer jose.Signer
	url    string
}

func openWatcher(t *testing.T) *watcher {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	w := &watcher{}
	if w.signer, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: key, KeyID: "w"}},
		(&jose.SignerOptions{}).WithType("secevent+jwt")); err != nil {
		t.Fatal(err)
	}
	s := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		_ = json.NewEncoder(rw).Encode(map[string]any{"keys": []any{jose.JSONWebKey{Key: key.Public(), KeyID: "w",
			Use: "sig"}}})
	}))
	t.Cleanup(s.Close)
	w.url = s.URL
	return w
}

// risk is a token that says the risk of a device.
func (w *watcher) risk(t *testing.T, jti, audience, serial, level string) string {
	t.Helper()
	now := time.Now()
	token, err := jwt.Signed(w.signer).Claims(map[string]any{"iss": "https://watcher.example", "aud": audience,
		"jti": jti, "iat": now.Unix(),
		"sub_id": map[string]any{"format": "complex", "device": map[string]string{"format": "opaque", "id": serial}},
		"events": map[string]any{caepTypes + "risk-level-change": map[string]any{"principal": "DEVICE",
			"current_level":   level,
			"event_timestamp": now.Unix()}}}).Serialize()
	if err != nil {
		t.Fatal(err)
	}
	return token
}

// push sends a token (RFC 8935, section 2.1).
func (s *server) push(token string) (status int, body string, err error) {
	r, err := http.NewRequest(http.MethodPost, s.url+"/ssf/events", strings.NewReader(token))
	if err != nil {
		return 0, "", err
	}
	r.Header.Set("Content-Type", "application/secevent+jwt")
	r.Header.Set("Accept", "application/json")
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, "", err
	}
	defer res.Body.Close()
	said, err := io.ReadAll(res.Body)
	return res.StatusCode, string(said), err
}

func watchedBook(keys string) string {
	return fmt.Sprintf(`rulebook: r
sources:
  - {id: agent, provides: ["*"]}
  - {id: watcher, rank: 2, provides: [threat], signals: {issuer: "https://watcher.example", jwks: %q, audience: "https://us.example", device: serial,
     map: {risk-level-change: threat.level}}}
baselines: [{id: b, rules: [{id: calm, check: threat.level <= medium, cap: barred, unknown: limited}]}]
`, keys)
}

// A partner pushes events to the service: taken ones count at once, wrong ones get the error of RFC 8935, and who
// floods with wrong ones keeps nobody else from being heard.
func TestEventsArePushed(t *testing.T) {
	t.Parallel()
	w := openWatcher(t)
	s := start(t, "serve", t.TempDir(), "--call-inside", "127.0.0.0/8")
	s.run(t, watchedBook(w.url), "rulebook", "publish", "-", "--accept-impact", "a trial").want(t, 0)
	s.run(t, `{"source":"agent","identity":{"id":"d1","serial":"S-1"},"evidence":{"threat.level":"none"}}`,
		"device", "import", "-").want(t, 0)
	send := func(token string, status int, text string) {
		t.Helper()
		if got, body, err := s.push(token); err != nil || got != status || !strings.Contains(body, text) ||
			status == 202 && body != "" {
			t.Errorf("it answers %d %s (%v), want %d %s", got, body, err, status, text)
		}
	}
	high := w.risk(t, "1", "https://us.example", "S-1", "HIGH")
	send(high, 202, "")
	s.run(t, "", "device", "show", "d1").want(t, 0, "barred", "watcher")
	send(w.risk(t, "2", "https://us.example", "S-1", "LOW"), 202, "")
	send(high, 202, "") // once more: answered, and without effect
	s.run(t, "", "device", "show", "d1").want(t, 0, "strong")
	send(w.risk(t, "3", "https://them.example", "S-1", "HIGH"), 400, `"err":"invalid_audience"`)
	send("nonsense", 400, `"err":"invalid_request"`)
	other := openWatcher(t) // with another key
	send(other.risk(t, "4", "https://us.example", "S-1", "HIGH"), 400, `"err":"invalid_key"`)
	s.call(t, "POST", "/ssf/events", "", "application/json", high).into(t, 400, nil)
	s.run(t, "", "source", "list").want(t, 0, "3 taken, 2 refused")
	s.run(t, "", "alert", "list").want(t, 0, "Security events of the source watcher are refused")
	for range 400 {
		if _, _, err := s.push("nonsense"); err != nil {
			t.Fatal(err)
		}
	}
	send("nonsense", 429, "too many events that were refused")
	send(w.risk(t, "5", "https://us.example", "S-1", "MEDIUM"), 202, "")
}

// Killed while events come in, the service has done what it said that it took, once.
func TestAKilledServiceHeardWhatItTook(t *testing.T) {
	t.Parallel()
	w, dir := openWatcher(t), t.TempDir()
	s := start(t, "serve", dir, "--call-inside", "127.0.0.0/8")
	s.run(t, watchedBook(w.url), "rulebook", "publish", "-", "--accept-impact", "a trial").want(t, 0)
	var reports strings.Builder
	const devices = 20
	for d := range devices {
		fmt.Fprintf(&reports, `{"source":"agent","identity":{"id":"d%d","serial":"S-%d"},"evidence":{"threat.level":"none"}}`+"\n", d, d)
	}
	s.run(t, reports.String(), "device", "import", "-").want(t, 0)
	jti, taken := 0, 0
	for round := range min(rounds(), 10) {
		says := make([]string, devices) // the last level of each device that was taken
		var wg sync.WaitGroup
		var mu sync.Mutex
		stop := make(chan struct{})
		for d := range devices {
			wg.Go(func() {
				for n := 0; ; n++ {
					select {
					case <-stop:
						return
					default:
					}
					level := []string{"HIGH", "LOW"}[n%2]
					mu.Lock()
					jti++
					token := w.risk(t, fmt.Sprint("k", jti), "https://us.example", fmt.Sprint("S-", d), level)
					mu.Unlock()
					status, _, err := s.push(token)
					mu.Lock()
					switch {
					case err != nil: // it may have been taken or not
						says[d] = ""
						mu.Unlock()
						return
					case status == 202:
						says[d] = level
						taken++
					}
					mu.Unlock()
				}
			})
		}
		time.Sleep(time.Duration(200+37*round%300) * time.Millisecond)
		s.kill(t)
		close(stop)
		wg.Wait()
		s = start(t, "serve", dir, "--call-inside", "127.0.0.0/8")
		for d, level := range says {
			// The moment of an event is a second: of two in one second the later one counts.
			if level == "" {
				continue
			}
			want := map[string]string{"HIGH": "barred", "LOW": "strong"}[level]
			if got := s.levelOf(t, fmt.Sprint("d", d)); got != want {
				t.Errorf("d%d stands at %s; the last event that was taken says %s", d, got, level)
			}
		}
	}
	if taken == 0 {
		t.Error("nothing was taken")
	}
	t.Logf("%d events were taken over the kills", taken)
	s.run(t, "", "ledger", "verify").want(t, 0)
}
