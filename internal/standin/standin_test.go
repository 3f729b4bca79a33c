package standin

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"
)

func TestWhoIsSignedIn(t *testing.T) {
	s := NewSignIn([]Person{{"maren", "Maren"}})
	now := time.Now()
	whoami := func(path string, c *http.Cookie) *httptest.ResponseRecorder {
		r, w := httptest.NewRequest("GET", path, nil), httptest.NewRecorder()
		if c != nil {
			r.AddCookie(c)
		}
		s.ServeHTTP(w, r)
		return w
	}
	good := s.Cookie("maren", true, now)
	if w := whoami("/whoami", good); w.Code != 204 || w.Header().Get("X-Person") != "maren" ||
		w.Header().Get("X-Mfa") != "true" {
		t.Errorf("%d %v", w.Code, w.Header())
	}
	forged := *good
	forged.Value = NewSignIn(nil).Cookie("harbourmaster", true, now).Value
	cut := *good
	cut.Value = good.Value[:len(good.Value)-2]
	for name, c := range map[string]*http.Cookie{"no cookie": nil, "another's key": &forged,
		"a cut one": &cut, "an old one": s.Cookie("maren", true, now.Add(-9*time.Hour))} {
		if w := whoami("/whoami", c); w.Code != 401 || w.Header().Get("X-Person") != "" {
			t.Errorf("%s: %d %v", name, w.Code, w.Header())
		}
		if w := whoami("/whoami-if-any", c); w.Code != 204 || w.Header().Get("X-Person") != "" {
			t.Errorf("%s, if any: %d %v", name, w.Code, w.Header())
		}
	}
}

func TestSigningInLeadsBackToTheSameSite(t *testing.T) {
	s := NewSignIn([]Person{{"maren", "Maren"}})
	for to, want := range map[string]string{"/payroll/": "/payroll/", "//elsewhere.example": "/",
		"https://elsewhere.example/": "/", "": "/", "javascript:x": "/"} {
		r := httptest.NewRequest("POST", "/sign-in",
			strings.NewReader(url.Values{"person": {"maren"}, "to": {to}}.Encode()))
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		w := httptest.NewRecorder()
		if s.ServeHTTP(w, r); w.Code != 303 || w.Header().Get("Location") != want {
			t.Errorf("%q leads to %d %q", to, w.Code, w.Header().Get("Location"))
		}
	}
	r := httptest.NewRequest("POST", "/sign-in", strings.NewReader("person=nobody"))
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	w := httptest.NewRecorder()
	if s.ServeHTTP(w, r); w.Code != 400 || len(w.Result().Cookies()) > 0 {
		t.Errorf("nobody is answered %d", w.Code)
	}
}

// The inner server believes headers, so the outer one sets each of them.
func TestTheConfigurationSetsWhatIsBelieved(t *testing.T) {
	p := &Proxy{Listen: "127.0.0.1:8443", Service: "http://127.0.0.1:8600", Token: "il_x",
		SignIn: "127.0.0.1:1", Apps: "127.0.0.1:2", Names: [][2]string{{"payroll", "Payroll"}}}
	conf, err := p.Config()
	if err != nil {
		t.Fatal(err)
	}
	outer, inner, ok := strings.Cut(conf, "listen unix:inner.sock;")
	if !ok {
		t.Fatal(conf)
	}
	for _, h := range []string{"X-Forwarded-User", "X-Forwarded-For", "Client-Cert", "Ironledger-Mfa"} {
		if !strings.Contains(outer, "proxy_set_header "+h+" ") ||
			!strings.Contains(inner, "proxy_set_header "+h+" ") {
			t.Errorf("%s is not set by both", h)
		}
	}
	for _, h := range []string{"Ironledger-Resource", "Ironledger-Action", "X-Forwarded-Uri", "Authorization"} {
		if !strings.Contains(inner, "proxy_set_header "+h+" ") {
			t.Errorf("%s is not set", h)
		}
	}
	p.Service = "https://elsewhere.example"
	if _, err := p.Config(); err == nil {
		t.Error("a service behind TLS is taken, which the configuration does not speak")
	}
}

func TestTheApplications(t *testing.T) {
	app := App([][2]string{{"payroll", "Payroll"}, {"rota", "Crew rota"}})
	for path, want := range map[string]string{"/payroll/": "<h1>Payroll</h1>",
		"/payroll/export": "<h1>Payroll</h1>", "/": "Crew rota</a>", "/attic/": "404"} {
		w := httptest.NewRecorder()
		r := httptest.NewRequest("GET", path, nil)
		r.Header.Set("X-Forwarded-User", "<b>maren")
		app.ServeHTTP(w, r)
		if body := w.Body.String(); !strings.Contains(body, want) || strings.Contains(body, "<b>maren") {
			t.Errorf("%s says %s", path, body)
		}
	}
}
