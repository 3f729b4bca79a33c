package e2e

import (
	"crypto/tls"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ironledger.example/demo"
)

// front is the demo behind nginx.
type front struct {
	*server
	at string // https://…
}

func startFront(t *testing.T) *front {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	listen := l.Addr().String()
	l.Close()
	return &front{start(t, "demo", t.TempDir(), "--with-proxy", "--proxy-listen", listen), "https://" + listen}
}

// card keeps a client's certificate and key under a name.
func (f *front) card(t *testing.T, name, certificate, key string) {
	t.Helper()
	for ending, text := range map[string]string{".pem": certificate, ".key": key} {
		if err := os.WriteFile(filepath.Join(f.data, "clients", name+ending), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// visitor is a person at a device, as far as the proxy can tell.
type visitor struct {
	t     *testing.T
	front *front
	http  *http.Client
}

// visitor signs somebody in, from a device that shows its certificate; none for "".
func (f *front) visitor(t *testing.T, device, person string, mfa bool) *visitor {
	t.Helper()
	conf := &tls.Config{InsecureSkipVerify: true} // the proxy's certificate is its own business
	if device != "" {
		pair, err := tls.LoadX509KeyPair(filepath.Join(f.data, "clients", device+".pem"),
			filepath.Join(f.data, "clients", device+".key"))
		if err != nil {
			t.Fatal(err)
		}
		conf.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate,
			error) {
			return &pair, nil
		}
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	v := &visitor{t, f, &http.Client{Jar: jar, Transport: &http.Transport{TLSClientConfig: conf},
		Timeout: 20 * time.Second}}
	v.signIn(person, mfa)
	return v
}

func (v *visitor) signIn(person string, mfa bool) {
	v.t.Helper()
	r, err := v.http.PostForm(v.front.at+"/sign-in",
		url.Values{"person": {person}, "mfa": {fmt.Sprint(mfa)}, "to": {"/sign-in"}})
	if err != nil {
		v.t.Fatal(err)
	}
	r.Body.Close()
}

// page is what a visitor ends up with.
type page struct{ path, title, text string }

var (
	pageTitle = regexp.MustCompile(`<h1[^>]*>([^<]*)</h1>`)
	pageCode  = regexp.MustCompile(`class="code">([^<]*)<`)
	pageTag   = regexp.MustCompile(`<[^>]*>`)
)

// open follows redirects to a page; headers come in pairs.
func (v *visitor) open(path string, headers ...string) page {
	v.t.Helper()
	req, err := http.NewRequest("GET", v.front.at+path, nil)
	if err != nil {
		v.t.Fatal(err)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	return v.page(v.http.Do(req))
}

// spelt opens an address as it is written, which a client that knows what is right
// would not do.
func (v *visitor) spelt(target string) page {
	v.t.Helper()
	req, err := http.NewRequest("GET", v.front.at+"/", nil)
	if err != nil {
		v.t.Fatal(err)
	}
	req.URL.Opaque = target
	return v.page(v.http.Do(req))
}

// spellings writes a path in ways that some reader or other takes for the same.
func spellings(path string) iter.Seq[string] {
	return func(yield func(string) bool) {
		all := map[string]bool{path: false, path + "?x=1": true, path + "/": true, path + "?": true}
		for i := range len(path) {
			before, c, after := path[:i], path[i], path[i+1:]
			for _, escape := range []string{"%%%02x", "%%%02X", "%%25%02x", "%%%%%02x", "%%u00%02x",
				"%%c0%%%02x", "%%25%02X", "%%2525%02x", "%%e0%%80%%%02x", "%%f0%%80%%80%%%02x", "%%00%%%02x"} {
				all[before+fmt.Sprintf(escape, c)+after] = true
			}
			if c == '/' {
				for _, slash := range []string{"//", "/./", "/x/../", "/%2e/", "/x/%2e%2e/", "/.%2e/", "\\",
					"%2f", "%5c", "/;/", "/;x=1/", "/..;/payroll/", "/%00/", "/%0a", "/../payroll/",
					"/%2e%2e%2fpayroll%2f", "///", "/.//", "%c0%af", "%ef%bc%8f"} {
					all[before+slash+after] = true
				}
			}
		}
		for _, tail := range []string{"/.", "/x/..", ";", ";x=1", "%00", "%20/..", "/%2e", "\\", "%3f", "%23",
			"//", "/;/"} {
			all[path+tail] = true
		}
		for spelling, other := range all {
			if other && !yield(spelling) {
				return
			}
		}
	}
}

func (v *visitor) page(r *http.Response, err error) page {
	v.t.Helper()
	if err != nil {
		v.t.Fatal(err)
	}
	defer r.Body.Close()
	raw, err := io.ReadAll(r.Body)
	if err != nil || r.StatusCode >= 500 {
		v.t.Fatal(r.Status, err, string(raw))
	}
	p := page{path: r.Request.URL.Path, text: string(raw)}
	if m := pageTitle.FindSubmatch(raw); m != nil {
		p.title = string(m[1])
	}
	return p
}

func (p page) want(t *testing.T, title string, texts ...string) page {
	t.Helper()
	if p.title != title {
		t.Fatalf("%s is titled %q, want %q:\n%s", p.path, p.title, title, pageTag.ReplaceAllString(p.text, ""))
	}
	for _, s := range texts {
		if !strings.Contains(p.text, s) {
			t.Errorf("%s does not say %q:\n%s", p.path, s, pageTag.ReplaceAllString(p.text, ""))
		}
	}
	return p
}

const (
	maren = "maren.holt@gullholm.example"
	birk  = "birk.strand@gullholm.example"
	no    = "You cannot open this right now"
)

// A person behind a real nginx: let through from a good device, told why from
// others, and cut off and let back in as the device changes.
func TestBehindNginx(t *testing.T) {
	t.Parallel()
	f := startFront(t)
	good := f.visitor(t, "GF-L-1042", maren, true)
	good.open("/payroll/").want(t, "Payroll", "Good day, "+maren)

	t.Run("without a certificate the device is unknown", func(t *testing.T) {
		f.visitor(t, "", maren, true).open("/payroll/").want(t, no, "This device is not known here",
			"Payroll needs a healthy company laptop.")
	})
	t.Run("a revoked certificate is no proof", func(t *testing.T) {
		f.visitor(t, "GF-L-1049", maren, true).open("/payroll/").want(t, no)
	})
	t.Run("a tablet that is behind is told what to do, in the person's language", func(t *testing.T) {
		v := f.visitor(t, "GF-T-2107", birk, false)
		v.open("/chart-room/").want(t, no, "Update the tablet", "16.7.2", "seen 3h")
		refused := v.open("/chart-room/").path
		ctx := browser(t)
		do(t, ctx, chromedp.Navigate(f.url+refused))
		until(t, ctx, "Update the tablet")
		picture(t, ctx, "person-refused")
		v.open("/chart-room/", "Accept-Language", "sv").want(t, "Du kan inte öppna det här just nu",
			"Uppdatera plattan")
	})
	t.Run("a second factor is asked for and leads back", func(t *testing.T) {
		v := f.visitor(t, "GF-L-1042", maren, false)
		p := v.open("/payroll/").want(t, "Confirm that it is you", `href="/sign-in?to=%2fpayroll%2f"`)
		if strings.Contains(p.text, no) {
			t.Error("asking for a second factor reads like a refusal")
		}
		v.signIn(maren, true)
		v.open("/payroll/").want(t, "Payroll")
	})
	t.Run("another action is another question", func(t *testing.T) {
		good.open("/payroll/export").want(t, no, "Export the payroll from a machine in the harbour office.")
	})
	t.Run("what a client says under the proxy's names is not believed", func(t *testing.T) {
		v := f.visitor(t, "", maren, false)
		v.open("/vault/", "X-Forwarded-User", "harbourmaster@gullholm.example", "Ironledger-Mfa", "true",
			"Client-Cert", ":AAAA:", "Ironledger-Resource", "noticeboard").want(t, no)
	})
	t.Run("an address spelt otherwise opens nothing", func(t *testing.T) {
		good.spelt("/payroll/").want(t, "Payroll") // that the way of asking works
		tried := 0
		for spelling := range spellings("/payroll/export") {
			if p := good.spelt(spelling); p.title == "Payroll" {
				t.Errorf("%s is let through", spelling)
			}
			tried++
		}
		if tried < 200 {
			t.Errorf("%d spellings were tried", tried)
		}
	})
	t.Run("nobody is signed in", func(t *testing.T) {
		v := f.visitor(t, "GF-L-1042", "nobody of that name", true)
		v.open("/payroll/").want(t, "Who are you?")
	})
	t.Run("trouble cuts access at once and a cure restores it at once", func(t *testing.T) {
		report := func(score int) {
			t.Helper()
			body := fmt.Sprintf(`{"source":"sensor","observed_at":%q,"identity":{"id":"GF-L-1042"},"evidence":{"threat.score":%d}}`, time.Now().UTC().Format(time.RFC3339), score)
			f.run(t, body, "device", "import", "-").want(t, 0)
		}
		f.run(t, "", "session", "list", "--device", "GF-L-1042", "--resource", "payroll").want(t, 0, maren, "nginx")
		report(95)
		if r := f.run(t, "", "session", "list", "--device", "GF-L-1042", "--resource", "payroll").want(t,
			0); strings.Contains(r.out, maren) {
			t.Errorf("the session goes on:\n%s", r.out)
		}
		p := good.open("/payroll/").want(t, no, "Take the device off the network")
		again := regexp.MustCompile(`action="([^"]*/again)"`).FindStringSubmatch(p.text)
		if again == nil {
			t.Fatal("the page has no way to check again")
		}
		check := func() page {
			return good.page(good.http.PostForm(f.at+again[1], url.Values{"to": {"/payroll/"}}))
		}
		check().want(t, no, "Nothing has changed since.")
		report(0)
		check().want(t, "You can go on", `href="/payroll/"`)
		good.open("/payroll/").want(t, "Payroll")
	})
	t.Run("my device", func(t *testing.T) {
		good.open("/me/device").want(t, "My device", "maren-laptop (GF-L-1042)", "strong", "in order")
		f.visitor(t, "GF-T-2107", birk, false).open("/me/device").want(t, "My device", "limited",
			"Update the tablet")
		f.visitor(t, "", birk, false).open("/me/device").want(t, "My device", "does not say which device")
	})
	t.Run("a device that nobody knows asks to be taken in", func(t *testing.T) {
		now := time.Now()
		f.card(t, "stray", demo.Card("GF-L-1043", now.Add(-time.Hour)), demo.Key("GF-L-1043"))
		f.card(t, "boxed", demo.NewCard("GF-N-7002", now), demo.Key("GF-N-7002"))
		f.run(t, "serial,hardware_id,note\nGF-N-7002,,Boxed\nGF-N-7003,,Boxed\n", "roster", "import",
			"-").want(t, 0)
		enrol := func(v *visitor, serial string) page {
			return v.page(v.http.PostForm(f.at+"/me/device/enrol",
				url.Values{"serial": {serial}, "platform": {"windows"}}))
		}
		hasty := f.visitor(t, "boxed", birk, false)
		hasty.open("/me/device").want(t, "This device is not known here", "Serial number")
		enrol(hasty, "GF-N-7002").want(t, "Confirm that it is you")
		v := f.visitor(t, "boxed", birk, true)
		enrol(v, " ").want(t, "This device is not known here", "The serial number is needed.")
		enrol(v, "HOME-9").want(t, "Somebody at the help desk will look at it", "Number")
		enrol(v, "GF-N-7002").want(t, "This device is known here now", "GF-N-7002")
		v.open("/me/device").want(t, "My device", "GF-N-7002", "unproven")

		// A claim proves nothing: with a certificate that does not name it, ordered
		// hardware waits for a person, and the certificate points at nothing.
		thief := f.visitor(t, "stray", birk, true)
		p := enrol(thief, "GF-N-7003").want(t, "Somebody at the help desk will look at it")
		thief.open("/me/device").want(t, "This device is not known here")
		number := regexp.MustCompile(`06[0-9a-z]{18}`).FindString(p.text)
		f.run(t, "", "device", "enrol", "admit", number, "--reason", "Shown at the desk").want(t, 0, "Enrolled as")
		thief.open("/me/device").want(t, "My device", "GF-N-7003")
		f.run(t, "", "device", "history", "GF-N-7003").want(t, 0, "device.keyed", "approved_certificate")
	})
	t.Run("the help desk finds the refusal by its code", func(t *testing.T) {
		p := f.visitor(t, "GF-T-2107", birk, false).open("/chart-room/")
		code := pageCode.FindStringSubmatch(p.text)
		if code == nil {
			t.Fatal("the page has no code")
		}
		for _, typed := range []string{code[1], strings.ToLower(code[1]), strings.ReplaceAll(code[1], "-", "")} {
			f.run(t, "", "decision", "show", typed).want(t, 0, "DENY", birk, "bridge-tablet", "os.version")
		}
		f.run(t, "", "decision", "show", "ZZZZ-ZZZZ").want(t, 1, "nothing of that id")
	})
	t.Run("the page tells nothing of the rulebook", func(t *testing.T) {
		p := f.visitor(t, "GF-T-2107", birk, false).open("/chart-room/")
		for _, secret := range []string{"level", "gate", "bridge-tablet", "charts", "os.version"} {
			if strings.Contains(pageTag.ReplaceAllString(p.text, ""), secret) {
				t.Errorf("the page says %q", secret)
			}
		}
	})
	t.Run("a ticket cannot be guessed", func(t *testing.T) {
		p := f.visitor(t, "GF-T-2107", birk, false).open("/chart-room/")
		other := p.path[:len(p.path)-3] + "AAA"
		good.open(other).want(t, "This page is no longer there")
	})
}

// What a proxy sends that is wrong is denied, with a reason, and is never a
// fault that it could take for a permission.
func TestForwardAuthFailsClosed(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	secret := strings.TrimSpace(s.run(t, "", "token", "create", "edge", "--role", "enforcer").want(t, 0).out)
	reader := strings.TrimSpace(s.run(t, "", "token", "create", "eyes", "--role", "reader").want(t, 0).out)
	for _, c := range []struct {
		name, token string
		headers     []string
		status      int
		outcome     string
	}{
		{"nobody", "", []string{"X-Forwarded-User", maren}, 401, ""},
		{"somebody without the right", reader, []string{"X-Forwarded-User", maren}, 403, ""},
		{"no person", secret, []string{"Ironledger-Resource", "noticeboard"}, 403, "deny"},
		{"no resource", secret, []string{"X-Forwarded-User", maren, "X-Forwarded-Proto", "https",
			"X-Forwarded-Host", "nowhere.example"}, 403, "deny"},
		{"a certificate that is none", secret,
			[]string{"X-Forwarded-User", maren, "Ironledger-Resource", "noticeboard", "Client-Cert",
				":bm9uZQ==:"}, 403, "deny"},
		{"a certificate in another form", secret,
			[]string{"X-Forwarded-User", maren, "Ironledger-Resource", "noticeboard", "Client-Cert",
				"-----BEGIN"}, 403, "deny"},
		{"an address that is none", secret,
			[]string{"X-Forwarded-User", maren, "Ironledger-Resource", "noticeboard", "X-Forwarded-For",
				"10.20"}, 403, "deny"},
		{"a factor that is neither", secret,
			[]string{"X-Forwarded-User", maren, "Ironledger-Resource", "noticeboard", "Ironledger-Mfa",
				"maybe"}, 403, "deny"},
		{"a resource nobody knows", secret,
			[]string{"X-Forwarded-User", maren, "Ironledger-Resource", "attic"}, 403, "deny"},
		{"an unknown device", secret, []string{"X-Forwarded-User", maren, "Ironledger-Resource",
			"noticeboard"}, 403, "deny"},
		{"the address of a resource", secret, []string{"X-Forwarded-User", "harbourmaster@gullholm.example",
			"X-Forwarded-Proto", "https", "X-Forwarded-Host", "payroll.gullholm.example", "X-Forwarded-Uri",
			"/now?x=1"}, 204, "allow"},
	} {
		t.Run(c.name, func(t *testing.T) {
			req := s.request(t, "POST", "/forward-auth", c.token)
			for i := 0; i < len(c.headers); i += 2 {
				req.Header.Set(c.headers[i], c.headers[i+1])
			}
			r := s.send(t, req)
			if r.status != c.status || r.header.Get("Ironledger-Outcome") != c.outcome {
				t.Errorf("status %d, outcome %q: %s", r.status, r.header.Get("Ironledger-Outcome"), r.body)
			}
		})
	}
}
