// Package standin has small simulated stand-ins for the systems around Iron
// Ledger, for the demo and the tests: a page where people sign in, an
// application behind a gate, and a real reverse proxy (nginx) in front of both.
// They protect nothing.
package standin

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// Person is somebody who can sign in.
type Person struct{ ID, Name string }

// signInLength is how long somebody stays signed in.
const signInLength = 8 * time.Hour

const signInCookie = "gullholm_signin"

// SignIn is a sign-in page without passwords: whoever comes says who they are,
// and whether they used a second factor. It answers a proxy at /whoami.
type SignIn struct {
	people []Person
	key    []byte
}

// NewSignIn returns a page for people.
func NewSignIn(people []Person) *SignIn {
	s := &SignIn{people, make([]byte, 32)}
	rand.Read(s.key)
	return s
}

func (s *SignIn) mac(text string) string {
	m := hmac.New(sha256.New, s.key)
	m.Write([]byte(text))
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil))
}

// Cookie is what a browser carries once somebody has signed in.
func (s *SignIn) Cookie(person string, mfa bool, now time.Time) *http.Cookie {
	text := base64.RawURLEncoding.EncodeToString(fmt.Appendf(nil, "%s|%t|%d", person, mfa,
		now.Add(signInLength).Unix()))
	return &http.Cookie{Name: signInCookie, Value: text + "." + s.mac(text), Path: "/", HttpOnly: true,
		Secure: true, SameSite: http.SameSiteLaxMode, MaxAge: int(signInLength.Seconds())}
}

// who reads a cookie.
func (s *SignIn) who(r *http.Request) (person, mfa string, ok bool) {
	c, err := r.Cookie(signInCookie)
	if err != nil {
		return "", "", false
	}
	text, code, _ := strings.Cut(c.Value, ".")
	raw, err := base64.RawURLEncoding.DecodeString(text)
	parts := strings.Split(string(raw), "|")
	if err != nil || len(parts) != 3 || !hmac.Equal([]byte(code), []byte(s.mac(text))) {
		return "", "", false
	}
	var until int64
	if _, err := fmt.Sscan(parts[2], &until); err != nil || time.Now().Unix() > until {
		return "", "", false
	}
	return parts[0], parts[1], true
}

// ServeHTTP serves /whoami for the proxy and /sign-in for people.
func (s *SignIn) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/whoami", "/whoami-if-any":
		person, mfa, ok := s.who(r)
		if !ok && r.URL.Path == "/whoami" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.Header().Set("X-Person", person)
		w.Header().Set("X-Mfa", mfa)
		w.WriteHeader(http.StatusNoContent)
	case "/sign-in":
		s.page(w, r)
	default:
		http.NotFound(w, r)
	}
}

var signInPage = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>Sign in to Gullholm Ferries</title>
<link rel="stylesheet" href="/me/style.css"></head><body><main>
<p class="house">Gullholm Ferries, a stand-in for a sign-in page</p><h1>Who are you?</h1>
<form method="post" action="/sign-in"><input type="hidden" name="to" value="{{.To}}">
<p><label>Person <select name="person">{{range .People}}<option value="{{.ID}}"{{if eq .ID $.Now}} selected{{end}}>{{.Name}} ({{.ID}})</option>{{end}}</select></label></p>
<p><label><input type="checkbox" name="mfa" value="true"> with a second factor</label></p>
<div class="acts"><button class="act">Sign in</button></div></form></main></body></html>`))

func (s *SignIn) page(w http.ResponseWriter, r *http.Request) {
	to := r.FormValue("to")
	if u, err := url.Parse(to); err != nil || u.Host != "" || !strings.HasPrefix(to, "/") ||
		strings.HasPrefix(to, "//") {
		to = "/"
	}
	if r.Method == http.MethodPost {
		for _, p := range s.people {
			if p.ID == r.PostFormValue("person") {
				http.SetCookie(w, s.Cookie(p.ID, r.PostFormValue("mfa") == "true", time.Now()))
				http.Redirect(w, r, to, http.StatusSeeOther)
				return
			}
		}
		http.Error(w, "nobody of that name works here", http.StatusBadRequest)
		return
	}
	now, _, _ := s.who(r)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	if err := signInPage.Execute(w, struct {
		To, Now string
		People  []Person
	}{to, now, s.people}); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
	}
}

var appPage = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>{{.Title}}</title><link rel="stylesheet" href="/me/style.css"></head><body><main>
<p class="house">Gullholm Ferries, a stand-in for an application</p><h1>{{.Title}}</h1>
<p>{{if .Person}}Good day, {{.Person}}. {{end}}You are through.</p>{{if .Decision}}<dl><div><dt>Decision</dt><dd>{{.Decision}}</dd></div></dl>{{end}}
{{if .Links}}<ol>{{range .Links}}<li><a href="/{{index . 0}}/">{{index . 1}}</a></li>{{end}}</ol>{{end}}
<div class="acts"><form method="get" action="/sign-in"><button>Sign in as somebody else</button></form><form method="get" action="/me/device"><button>My device</button></form></div>
</main></body></html>`))

// App is the applications behind the proxy: one page for each, at /id/, and a
// list of them at the root. names gives their titles by id, in turn.
func App(names [][2]string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		page := struct {
			Title, Person, Decision string
			Links                   [][2]string
		}{"What there is", r.Header.Get("X-Forwarded-User"), r.Header.Get("Ironledger-Decision"), names}
		id, _, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
		for _, n := range names {
			if n[0] == id {
				page.Title, page.Links = n[1], nil
			}
		}
		if id != "" && page.Links != nil {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if err := appPage.Execute(w, page); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
	})
}
