package standin

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
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

// Provider stands in for an identity provider that hears of devices and people by the
// OpenID Shared Signals Framework 1.0. It creates its stream itself, checks every event,
// ends its own sign-ins when it is told to, and shows what it was told.
type Provider struct {
	transmitter, token string
	secret             string // that the transmitter must send along
	issuer, audience   string

	mu     sync.Mutex
	closed bool // whether it refuses what comes
	keys   jose.JSONWebKeySet
	told   []heard
	ids    map[string]bool
	signIn map[string]string // by person, how they stand here
}

// heard is an event as the provider's page shows it.
type heard struct {
	At                         time.Time
	Event, About, Says, Effect string
}

// NewProvider is a provider with people signed in, which hears of a transmitter with a
// receiver's token.
func NewProvider(transmitter, token string, people []Person) *Provider {
	p := &Provider{transmitter: transmitter, token: token, secret: "Bearer " + rand.Text(), ids: map[string]bool{},
		signIn: map[string]string{}}
	for _, x := range people {
		p.signIn[x.ID] = "signed in"
	}
	return p
}

// call asks the transmitter.
func (p *Provider) call(ctx context.Context, method, url string, in, out any) error {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(raw)
	}
	r, err := http.NewRequestWithContext(ctx, method, url, body)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+p.token)
	r.Header.Set("Content-Type", "application/json")
	got, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer got.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(got.Body, 1<<20))
	if err == nil && got.StatusCode >= 300 {
		err = fmt.Errorf("%s answered %s: %s", url, got.Status, raw)
	}
	if err == nil && out != nil {
		err = json.Unmarshal(raw, out)
	}
	return err
}

// Subscribe reads the transmitter's metadata and keys, and creates a stream to an
// address at which the provider answers.
func (p *Provider) Subscribe(ctx context.Context, at string) error {
	var m struct {
		Issuer  string `json:"issuer"`
		Keys    string `json:"jwks_uri"`
		Streams string `json:"configuration_endpoint"`
	}
	if err := p.call(ctx, http.MethodGet, p.transmitter+"/.well-known/ssf-configuration", nil, &m); err != nil {
		return err
	}
	var keys jose.JSONWebKeySet
	if err := p.call(ctx, http.MethodGet, m.Keys, nil, &keys); err != nil {
		return err
	}
	p.mu.Lock()
	p.issuer, p.keys = m.Issuer, keys
	p.mu.Unlock()
	var made struct {
		Audience string `json:"aud"`
	}
	err := p.call(ctx, http.MethodPost, m.Streams, map[string]any{"description": "The sign-in of the harbour, " +
		"a stand-in",
		"delivery": map[string]string{"method": "urn:ietf:rfc:8935", "endpoint_url": at + "/events",
			"authorization_header": p.secret}}, &made)
	p.mu.Lock()
	p.audience = made.Audience
	p.mu.Unlock()
	return err
}

// name is a subject identifier (RFC 9493).
type name struct {
	Format string `json:"format"`
	ID     string `json:"id"`
	Email  string `json:"email"`
}

// set is a security event token (RFC 8417).
type set struct {
	Issuer   string `json:"iss"`
	ID       string `json:"jti"`
	Audience string `json:"aud"`
	Subject  struct {
		name
		Device *name `json:"device"`
		User   *name `json:"user"`
	} `json:"sub_id"`
	Events map[string]map[string]any `json:"events"`
}

// check verifies a token; the code is that of RFC 8935, section 2.4.
func (p *Provider) check(token string) (x set, code string, err error) {
	parsed, err := jwt.ParseSigned(token, []jose.SignatureAlgorithm{jose.ES256, jose.RS256})
	if err != nil {
		return x, "invalid_request", err
	}
	p.mu.Lock()
	keys, issuer, audience := p.keys, p.issuer, p.audience
	p.mu.Unlock()
	if err := parsed.Claims(keys, &x); err != nil {
		return x, "invalid_key", err
	}
	if x.Issuer != issuer {
		return x, "invalid_issuer", errors.New("it is of another issuer")
	}
	if x.Audience != audience {
		return x, "invalid_audience", errors.New("it is for somebody else")
	}
	if len(x.Events) != 1 {
		return x, "invalid_request", errors.New("it has not one event")
	}
	return x, "", nil
}

// ServeHTTP takes events, and shows what came.
func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/events":
		p.take(w, r)
	case "/door":
		if r.Method != http.MethodPost {
			http.NotFound(w, r)
			return
		}
		p.mu.Lock()
		p.closed = !p.closed
		p.mu.Unlock()
		http.Redirect(w, r, "/", http.StatusSeeOther)
	case "/":
		p.page(w)
	default:
		http.NotFound(w, r)
	}
}

func (p *Provider) take(w http.ResponseWriter, r *http.Request) {
	refuse := func(code string, err error) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusBadRequest)
		json.NewEncoder(w).Encode(map[string]string{"err": code, "description": err.Error()})
	}
	if subtle.ConstantTimeCompare([]byte(r.Header.Get("Authorization")), []byte(p.secret)) != 1 {
		refuse("authentication_failed", errors.New("the Authorization header is not the one that was agreed"))
		return
	}
	token, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<16))
	if err != nil {
		refuse("invalid_request", err)
		return
	}
	x, code, err := p.check(string(token))
	if err != nil {
		refuse(code, err)
		return
	}
	p.mu.Lock()
	closed := p.closed
	p.mu.Unlock()
	if closed {
		refuse("access_denied", errors.New("we take nothing for now"))
		return
	}
	p.hear(&x)
	w.WriteHeader(http.StatusAccepted)
}

// maxHeard bounds how many events the page shows.
const maxHeard = 100

// hear does what an event asks for, once.
func (p *Provider) hear(x *set) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ids[x.ID] {
		return
	}
	p.ids[x.ID] = true
	for typ, says := range x.Events {
		h := heard{At: time.Now(), Event: typ[strings.LastIndex(typ, "/")+1:]}
		person := ""
		if x.Subject.User != nil {
			person = x.Subject.User.Email
		}
		if x.Subject.Device != nil {
			h.About = x.Subject.Device.ID
		} else if x.Subject.Format == "opaque" {
			h.About = x.Subject.ID
		}
		if person != "" {
			h.About = strings.TrimPrefix(h.About+", "+person, ", ")
		}
		for _, k := range []string{"current_status", "current_level", "state"} {
			if v, ok := says[k]; ok {
				h.Says = fmt.Sprint(v)
			}
		}
		if why, ok := says["reason_user"].(map[string]any); ok && why["en"] != nil {
			h.Says = strings.TrimPrefix(h.Says+": "+fmt.Sprint(why["en"]), ": ")
		}
		_, known := p.signIn[person]
		switch {
		case !known:
		case h.Event == "session-revoked", h.Says == "not-compliant" || strings.HasPrefix(h.Says, "not-compliant:"):
			p.signIn[person], h.Effect = "signed out at "+h.At.Format("15:04:05"), "signed out"
		case strings.HasPrefix(h.Says, "compliant"):
			p.signIn[person], h.Effect = "may sign in again", "may sign in again"
		}
		p.told = slices.Insert(p.told, 0, h)
		p.told = p.told[:min(len(p.told), maxHeard)]
	}
}

var providerPage = template.Must(template.New("provider").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<meta http-equiv="refresh" content="1"><title>The harbour's sign-in, a stand-in</title>
<style>body{font:15px/1.5 sans-serif;margin:2rem;max-width:70rem;color:#222}table{border-collapse:collapse;width:100%}
td,th{text-align:left;padding:.35rem .8rem .35rem 0;border-bottom:1px solid #ccc;vertical-align:top}h2{margin-top:2rem}
.out{font-weight:600}</style>
<h1>The harbour's sign-in</h1><p>A stand-in for an identity provider. It hears of devices by Shared Signals, and ends a
sign-in when it is told to.</p>
<form method="post" action="/door"><button>{{if .Closed}}Take events again{{else}}Refuse events for now{{end}}</button></form>
<h2>What it was told</h2>{{if .Told}}<table><tr><th>When<th>Event<th>About<th>Says<th>Here</tr>{{range .Told}}
<tr><td>{{.At.Format "15:04:05.000"}}<td>{{.Event}}<td>{{.About}}<td>{{.Says}}<td class="out">{{.Effect}}</tr>{{end}}</table>
{{else}}<p>Nothing yet.</p>{{end}}
<h2>Who is signed in</h2><table><tr><th>Person<th>Stands</tr>{{range .People}}<tr><td>{{index . 0}}<td>{{index . 1}}</tr>{{end}}</table></html>`))

// Stands is how somebody stands here: signed in, or what became of that.
func (p *Provider) Stands(person string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.signIn[person]
}

func (p *Provider) page(w http.ResponseWriter) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var people [][2]string
	for id, stands := range p.signIn {
		people = append(people, [2]string{id, stands})
	}
	slices.SortFunc(people, func(a, b [2]string) int { // those who were signed out first
		return strings.Compare(map[bool]string{true: "1", false: "0"}[a[1] == "signed in"]+a[0],
			map[bool]string{true: "1", false: "0"}[b[1] == "signed in"]+b[0])
	})
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = providerPage.Execute(w, struct {
		Told   []heard
		People [][2]string
		Closed bool
	}{p.told, people, p.closed})
}
