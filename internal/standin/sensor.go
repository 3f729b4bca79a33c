package standin

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Sensor stands in for a system that watches devices for threats: a transmitter of the OpenID Shared Signals
// Framework 1.0, which pushes the risk of a device as security events (RFC 8935, CAEP 1.0).
type Sensor struct {
	issuer, audience string // as the receiver's rulebook has them
	receiver         string // where events are pushed

	key    *ecdsa.PrivateKey
	signer jose.Signer

	mu      sync.Mutex
	watched []watched
	sent    []sent
}

// watched is a device as the sensor has it: by its serial.
type watched struct{ Serial, Risk string }

// sent is an event as the page shows it.
type sent struct {
	At                  time.Time
	What, About, Effect string
}

// risks are the levels of risk (CAEP 1.0, section 3.8), the lowest first.
var risks = []string{"LOW", "MEDIUM", "HIGH"}

// NewSensor is a sensor that watches devices by their serials.
func NewSensor(issuer, audience, receiver string, serials []string) (*Sensor, error) {
	s := &Sensor{issuer: issuer, audience: audience, receiver: receiver}
	var err error
	if s.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, err
	}
	s.signer, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256,
		Key: jose.JSONWebKey{Key: s.key, KeyID: "sensor-1"}},
		(&jose.SignerOptions{}).WithType("secevent+jwt"))
	for _, serial := range serials {
		s.watched = append(s.watched, watched{serial, risks[0]})
	}
	return s, err
}

// Issuer is who signs the events.
func (s *Sensor) Issuer() string { return s.issuer }

// ServeHTTP shows the keys and the page.
func (s *Sensor) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.Method + " " + r.URL.Path {
	case "GET /jwks.json":
		answer(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: s.key.Public(),
			KeyID: "sensor-1", Use: "sig",
			Algorithm: string(jose.ES256)}}})
	case "GET /.well-known/ssf-configuration":
		answer(w, http.StatusOK, map[string]any{"spec_version": "1_0", "issuer": s.issuer,
			"jwks_uri":                   "http://" + r.Host + "/jwks.json",
			"delivery_methods_supported": []string{"urn:ietf:rfc:8935"}})
	case "POST /risk":
		s.turnTo(r.Context(), r.FormValue("serial"), r.FormValue("to"))
		http.Redirect(w, r, "/", http.StatusSeeOther)
	case "POST /end":
		s.note(s.push(r.Context(), "session-revoked",
			map[string]any{"reason_admin": map[string]string{"en": "The sensor saw a stolen session"}},
			subjectOf(r.FormValue("serial"))), "session-revoked", r.FormValue("serial"))
		http.Redirect(w, r, "/", http.StatusSeeOther)
	case "GET /":
		s.page(w)
	default:
		http.NotFound(w, r)
	}
}

// turnTo gives a device a risk, and tells of it.
func (s *Sensor) turnTo(ctx context.Context, serial, risk string) {
	if !slices.Contains(risks, risk) {
		return
	}
	s.mu.Lock()
	i := slices.IndexFunc(s.watched, func(x watched) bool { return x.Serial == serial })
	was := ""
	if i >= 0 {
		was = s.watched[i].Risk
		s.watched[i].Risk = risk
	}
	s.mu.Unlock()
	if i >= 0 {
		s.note(s.Tell(ctx, serial, was, risk), "risk "+risk, serial)
	}
}

// Tell tells that the risk of a device is another.
func (s *Sensor) Tell(ctx context.Context, serial, was, risk string) error {
	return s.push(ctx, "risk-level-change", map[string]any{"principal": "DEVICE", "previous_level": was,
		"current_level": risk,
		"risk_reason":   "MALWARE"}, subjectOf(serial))
}

// subjectOf names a device by its serial (SSF 1.0, section 3.2).
func subjectOf(serial string) map[string]any {
	return map[string]any{"format": "complex", "device": map[string]string{"format": "opaque", "id": serial}}
}

// push sends an event, a few times if need be.
func (s *Sensor) push(ctx context.Context, event string, payload, subject map[string]any) error {
	now := time.Now()
	payload["event_timestamp"] = now.Unix()
	token, err := jwt.Signed(s.signer).Claims(map[string]any{"iss": s.issuer, "aud": s.audience,
		"iat": now.Unix(), "jti": rand.Text(),
		"sub_id": subject, "events": map[string]any{"https://schemas.openid.net/secevent/caep/event-type/" + event: payload}}).Serialize()
	if err != nil {
		return err
	}
	const tries = 4
	for try := 1; ; try++ {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, s.receiver, bytes.NewReader([]byte(token)))
		if err != nil {
			return err
		}
		r.Header.Set("Content-Type", "application/secevent+jwt")
		r.Header.Set("Accept", "application/json")
		res, err := http.DefaultClient.Do(r)
		if err == nil {
			said, _ := io.ReadAll(io.LimitReader(res.Body, 500)) // for people to read
			_ = res.Body.Close()
			if res.StatusCode == http.StatusAccepted {
				return nil
			}
			if err = fmt.Errorf("%s %s", res.Status, strings.TrimSpace(string(said))); res.StatusCode == http.StatusBadRequest {
				return err
			}
		}
		if try == tries {
			return err
		}
		select {
		case <-time.After(time.Duration(try) * time.Second):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// note keeps what became of an event.
func (s *Sensor) note(err error, what, about string) {
	effect := "taken"
	if err != nil {
		effect = err.Error()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sent = slices.Insert(s.sent, 0, sent{time.Now(), what, about, effect})
	s.sent = s.sent[:min(len(s.sent), maxHeard)]
}

var sensorPage = template.Must(template.New("sensor").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<title>The threat sensor, a stand-in</title>
<style>body{font:15px/1.5 sans-serif;margin:2rem;max-width:64rem;color:#222}table{border-collapse:collapse}
td,th{text-align:left;padding:.15rem .8rem .15rem 0;border-bottom:1px solid #ddd}form{display:inline}
.HIGH{color:#a33;font-weight:bold}.MEDIUM{color:#a33}</style>
<h1>The threat sensor</h1><p>A stand-in for a system that watches devices. It tells of risks as security events (CAEP 1.0), pushed
as RFC 8935 says, and signed with the key at <a href="/jwks.json">/jwks.json</a>.</p>
{{if .Sent}}<h2>What it told last</h2><table>{{range .Sent}}<tr><td>{{.At.Format "15:04:05"}}<td>{{.What}}<td>{{.About}}<td>{{.Effect}}</tr>{{end}}</table>{{end}}
<h2>Devices</h2><table><tr><th>Serial<th>Risk<th></tr>
{{range .Watched}}{{$x := .}}<tr><td>{{.Serial}}<td class="{{.Risk}}">{{.Risk}}<td>{{range $.Risks}}{{if ne . $x.Risk}}
<form method="post" action="/risk"><input type="hidden" name="serial" value="{{$x.Serial}}"><button name="to" value="{{.}}">{{.}}</button></form>{{end}}{{end}}
<form method="post" action="/end"><input type="hidden" name="serial" value="{{$x.Serial}}"><button>End its sessions</button></form></tr>{{end}}</table></html>`))

func (s *Sensor) page(w http.ResponseWriter) {
	s.mu.Lock()
	defer s.mu.Unlock()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = sensorPage.Execute(w, struct {
		Watched []watched
		Sent    []sent
		Risks   []string
	}{s.watched, s.sent, risks})
}
