package e2e

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/smallstep/pkcs7"

	"ironledger.example/internal/standin"
)

const grantsBook = `rulebook: grants
break_glass: [master]
authority:
  name: gullholm.example
  title: Gullholm devices
  profiles:
    - {id: crew, applies: form == laptop, lifetime: 7d, renew_from: 2d, least: limited}
    - {id: any, lifetime: 1d}
resources: [{id: till, url: "https://till.gullholm.example/"}]
baselines: [{id: b, rules: [{id: disk, check: storage.encrypted, cap: barred}]}]
gates: [{id: g, who: {everyone: true}, what: {everything: true}, need: request.certificate and level >= limited}]
`

// bench is a folder in which a person with curl and openssl works against a service that issues certificates.
type workbench struct {
	*server
	dir string
	t   *testing.T
}

// issues starts a service with an authority.
func issues(t *testing.T, data string, flags ...string) *workbench {
	t.Helper()
	w := &workbench{start(t, "serve", data, append([]string{"--device-listen", "127.0.0.1:0"}, flags...)...),
		t.TempDir(), t}
	if w.door == "" {
		t.Fatal("nothing says where devices are answered")
	}
	return w
}

func (w *workbench) path(name string) string { return filepath.Join(w.dir, name) }

func (w *workbench) write(name, text string) {
	w.t.Helper()
	if err := os.WriteFile(w.path(name), []byte(text), 0o600); err != nil {
		w.t.Fatal(err)
	}
}

// does runs a program in the folder, and fails unless it ends well.
func (w *workbench) does(program string, args ...string) string {
	w.t.Helper()
	c := exec.CommandContext(w.t.Context(), program, args...)
	c.Dir = w.dir
	out, err := c.CombinedOutput()
	if err != nil {
		w.t.Fatalf("%s %s: %v\n%s", program, strings.Join(args, " "), err, out)
	}
	return string(out)
}

// asks makes a key and a request for it, by openssl.
func (w *workbench) asks(name, device string) {
	w.t.Helper()
	w.does("openssl", "ecparam", "-name", "prime256v1", "-genkey", "-noout", "-out", name+".key")
	w.does("openssl", "req", "-new", "-key", name+".key", "-subj", "/CN="+device, "-outform", "DER", "-out",
		name+".der")
	w.does("openssl", "base64", "-in", name+".der", "-out", name+".b64")
}

// enrols sends a request by curl, and returns the status and the body. A certificate is kept as NAME.pem.
func (w *workbench) enrols(name, operation string, flags ...string) (string, string) {
	w.t.Helper()
	status := w.does("curl", append([]string{"-s", "--cacert", "ca.pem", "-o", name + ".out", "-D", name + ".headers",
		"-w", "%{http_code}",
		"-H", "Content-Type: application/pkcs10", "--data-binary", "@" + name + ".b64", w.door +
			"/.well-known/est/" + operation}, flags...)...)
	body, err := os.ReadFile(w.path(name + ".out"))
	if err != nil {
		w.t.Fatal(err)
	}
	if status == "200" {
		w.does("openssl", "base64", "-d", "-in", name+".out", "-out", name+".p7")
		w.does("openssl", "pkcs7", "-inform", "DER", "-in", name+".p7", "-print_certs", "-out", name+".pem")
	}
	return status, string(body)
}

// code makes a code for a device.
func (w *workbench) code(device string, flags ...string) string {
	w.t.Helper()
	var in struct{ Code string }
	w.run(w.t, "", append([]string{"device", "invite", device, "-o", "json"}, flags...)...).into(w.t, &in)
	return in.Code
}

func (w *workbench) begin() {
	w.t.Helper()
	w.run(w.t, grantsBook, "rulebook", "publish", "-", "--accept-impact", "a trial").want(w.t, 0)
	w.begun()
}

// begun waits for the authority of the rulebook, and makes a person and a device known.
func (w *workbench) begun() {
	w.t.Helper()
	within(w.t, "the authority is made", func() bool {
		return strings.Contains(w.run(w.t, "", "authority", "show").out,
			"signs")
	})
	w.write("ca.pem", w.run(w.t, "", "authority", "export").out)
	w.run(w.t, "id,name,groups\nmaren,Maren,\n", "person", "import", "-", "--accept-impact", "a trial").want(w.t, 0)
	w.run(w.t, `{"source":"mdm","identity":{"id":"L1","serial":"GF-1"},"evidence":{"form":"laptop","storage.encrypted":true}}`,
		"device", "import", "-").want(w.t, 0)
}

// A device gets a certificate, renews it and loses it, by curl and openssl alone; nginx and openssl ask after it.
func TestDevicesGetCertificates(t *testing.T) {
	t.Parallel()
	w := issues(t, t.TempDir())
	w.run(t, "", "authority", "show").want(t, 0, "The rulebook has no authority")
	w.run(t, "", "authority", "export").want(t, 1, "there is no authority")
	w.run(t, "", "device", "invite", "L1").want(t, 1, "the rulebook has no authority")
	w.begin()
	w.run(t, "", "authority", "show").want(t, 0, "signs", "O=gullholm.example", "crew", "form == laptop", "7d",
		"0 certificates of devices count")

	if out := w.does("curl", "-s", "--cacert", "ca.pem", w.door+"/.well-known/est/cacerts"); !strings.Contains(out,
		"\n") {
		t.Errorf("cacerts says %s", out)
	} else if p7, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(out, "\n", "")); err != nil {
		t.Error(err)
	} else if read, err := pkcs7.Parse(p7); err != nil || len(read.Certificates) != 1 || !read.Certificates[0].IsCA {
		t.Errorf("cacerts has %+v, %v", read, err)
	}
	w.does("curl", "-sf", "--cacert", "ca.pem", "-o", "attrs", w.door+"/.well-known/est/crew/csrattrs")
	w.does("openssl", "base64", "-d", "-in", "attrs", "-out", "attrs.der")
	if out := w.does("openssl", "asn1parse", "-inform", "DER", "-in", "attrs.der"); !strings.Contains(out,
		"prime256v1") || !strings.Contains(out, "ED25519") {
		t.Errorf("csrattrs has\n%s", out)
	}

	w.asks("a", "L1")
	if status, body := w.enrols("a", "simpleenroll"); status != "401" || !strings.Contains(body,
		"say the device as the user") {
		t.Errorf("without a code: %s %s", status, body)
	}
	if status, _ := w.enrols("a", "simpleenroll", "-u", "L1:wrong"); status != "401" {
		t.Errorf("with a code that was never made: %s", status)
	}
	code := w.code("L1")
	w.asks("stray", "L2")
	if status, body := w.enrols("stray", "crew/simpleenroll", "-u", "L1:"+code); status != "403" ||
		!strings.Contains(body, `"L2", which is not the device L1`) {
		t.Errorf("in another's name: %s %s", status, body)
	}
	w.does("openssl", "req", "-new", "-newkey", "rsa:2048", "-nodes", "-keyout", "rsa.key", "-subj", "/CN=L1",
		"-outform", "DER", "-out", "rsa.der")
	w.does("openssl", "base64", "-in", "rsa.der", "-out", "rsa.b64")
	if status, body := w.enrols("rsa", "simpleenroll", "-u", "L1:"+code); status != "403" || !strings.Contains(body,
		"expected p256") {
		t.Errorf("with a key of another kind: %s %s", status, body)
	}
	w.write("bad.b64", "!!!")
	if status, body := w.enrols("bad", "simpleenroll", "-u", "L1:"+code); status != "400" || !strings.Contains(body,
		"base64") {
		t.Errorf("nonsense: %s %s", status, body)
	}
	if status, body := w.enrols("a", "serverkeygen", "-u", "L1:"+code); status != "501" || !strings.Contains(body,
		"its own key") {
		t.Errorf("a key of the server's: %s %s", status, body)
	}
	if status, body := w.enrols("a", "crew/simpleenroll", "-u", "L1:"+code); status != "200" {
		t.Fatalf("enrolment: %s %s", status, body)
	}
	if headers, _ := os.ReadFile(w.path("a.headers")); !regexp.MustCompile(`(?i)content-type: application/pkcs7-mime; smime-type=certs-only`).Match(headers) {
		t.Errorf("the headers are %s", headers)
	}
	if out := w.does("openssl", "verify", "-x509_strict", "-purpose", "sslclient", "-CAfile", "ca.pem",
		"a.pem"); !strings.Contains(out, "OK") {
		t.Error(out)
	}
	w.run(t, "", "certificate", "list").want(t, 0, "L1", "trusted", "house")

	// Over the certificate it reports of itself, and of nobody else.
	says := func(text string, flags ...string) string {
		return w.does("curl", append([]string{"-s", "--cacert", "ca.pem", "-w", " %{http_code}", "-H",
			"Content-Type: application/json", "-d", text,
			w.door + "/api/v1/evidence"}, flags...)...)
	}
	shown := []string{"--cert", "a.pem", "--key", "a.key"}
	if out := says(`{"evidence":{"storage.encrypted":false}}`, shown...); !strings.Contains(out,
		`"level":"barred"`) ||
		!strings.HasSuffix(out, " 200") {
		t.Errorf("its own report: %s", out)
	}
	if w.decides("a.pem") {
		t.Error("a device that says of itself that it is not encrypted is let in")
	}
	if out := says(`{"evidence":{"storage.encrypted":true}}`, shown...); !strings.Contains(out, `"level":"strong"`) ||
		!w.decides("a.pem") {
		t.Errorf("its own report: %s", out)
	}
	if out := says(`{"identity":{"id":"L2"},"evidence":{"storage.encrypted":true}}`, shown...); !strings.Contains(out,
		"reports as L2") || !strings.HasSuffix(out, " 422") {
		t.Errorf("a report of another: %s", out)
	}
	if out := says(`{"evidence":{}}`); !strings.Contains(out, "with its certificate") || !strings.HasSuffix(out,
		" 401") {
		t.Errorf("a report without a certificate: %s", out)
	}

	// Renewed by itself; a used code gives no other key one.
	w.asks("b", "L1")
	if status, _ := w.enrols("b", "simpleenroll", "-u", "L1:"+code); status != "401" {
		t.Errorf("with a used code: %s", status)
	}
	if status, body := w.enrols("b", "simplereenroll"); status != "401" {
		t.Errorf("renewal without a certificate: %s %s", status, body)
	}
	if status, body := w.enrols("b", "simplereenroll", "--cert", "a.pem", "--key", "a.key"); status != "200" {
		t.Fatalf("renewal: %s %s", status, body)
	}
	w.does("openssl", "verify", "-x509_strict", "-CAfile", "ca.pem", "b.pem")

	ask := func(name string, flags ...string) string {
		t.Helper()
		out := w.does("openssl", append([]string{"ocsp", "-issuer", "ca.pem", "-cert", name, "-url", w.url +
			"/authority/ocsp", "-CAfile",
			"ca.pem"}, flags...)...)
		if strings.Contains(out, "WARNING") || !strings.Contains(out, "Response verify OK") {
			t.Errorf("openssl doubts the answer:\n%s", out)
		}
		return out
	}
	if out := ask("a.pem", "-no_nonce"); !strings.Contains(out, "a.pem: good") {
		t.Error(out)
	}
	if out := ask("a.pem"); !strings.Contains(out, "a.pem: good") {
		t.Error(out)
	}
	serial := strings.TrimPrefix(strings.TrimSpace(w.does("openssl", "x509", "-in", "a.pem", "-noout", "-serial")),
		"serial=")
	w.run(t, "", "certificate", "revoke", serial).want(t, 2, `"reason" not set`)
	w.run(t, "", "certificate", "revoke", serial, "--reason", "x", "--code", "whim").want(t, 1, "the code is one of")
	w.run(t, "", "certificate", "revoke", serial, "--reason", "Its key was copied", "--code", "keyCompromise").want(t,
		0, "of L1 is revoked")
	if out := ask("a.pem"); !strings.Contains(out, "a.pem: revoked") || !strings.Contains(out, "keyCompromise") {
		t.Error(out)
	}
	if out := ask("b.pem"); !strings.Contains(out, "b.pem: good") {
		t.Error(out)
	}
	w.run(t, "", "certificate", "list", "--state", "revoked").want(t, 0, "L1")
	if status, body := w.enrols("b", "simplereenroll", "--cert", "a.pem", "--key", "a.key"); status != "401" ||
		!strings.Contains(body, "revoked") {
		t.Errorf("renewal of a revoked one: %s %s", status, body)
	}
	uri := regexp.MustCompile(`http://[^\s]*\.crl`).FindString(w.does("openssl", "x509", "-in", "b.pem", "-noout",
		"-text"))
	w.does("curl", "-sf", "-o", "list.der", uri)
	w.does("openssl", "crl", "-inform", "DER", "-in", "list.der", "-out", "list.pem")
	if out := w.does("openssl", "crl", "-in", "list.pem", "-CAfile", "ca.pem", "-noout",
		"-text"); !strings.Contains(out, "verify OK") || !strings.Contains(strings.ToUpper(out), serial) {
		t.Error(out)
	}

	// The ledger has it all, and what the device is asked is decided by it.
	w.run(t, "", "ledger", "list", "--device", "L1").want(t, 0, "certificate.issued", "certificate.revoked",
		"certificate.refused", "device.invited")
	w.run(t, "", "device", "show", "L1").want(t, 0, "is revoked")
	w.run(t, "", "ledger", "verify").want(t, 0, "Sound:")
	for name, want := range map[string]bool{"a.pem": false, "b.pem": true} {
		if got := w.decides(name); got != want {
			t.Errorf("with %s the answer is %t", name, got)
		}
	}
	t.Run("nginx takes them", func(t *testing.T) { w.nginx(t) })
}

// decides asks by forward-auth, as a proxy does that saw a certificate.
func (w *workbench) decides(name string) bool {
	w.t.Helper()
	raw, err := os.ReadFile(w.path(name))
	if err != nil {
		w.t.Fatal(err)
	}
	block, _ := pem.Decode(raw)
	r, err := http.NewRequestWithContext(w.t.Context(), http.MethodGet, w.url+"/forward-auth", nil)
	if err != nil {
		w.t.Fatal(err)
	}
	for k, v := range map[string]string{"Authorization": "Bearer " + adminToken, "X-Forwarded-User": "maren",
		"X-Forwarded-Method": "GET",
		"X-Forwarded-Uri":    "/", "X-Forwarded-Host": "till.gullholm.example", "X-Forwarded-Proto": "https",
		"Client-Cert": ":" + base64.StdEncoding.EncodeToString(block.Bytes) + ":"} {
		r.Header.Set(k, v)
	}
	answer, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		w.t.Fatal(err)
	}
	answer.Body.Close()
	return answer.StatusCode < 300
}

// nginx has a proxy check certificates by itself: those of our authority, with its list.
func (w *workbench) nginx(t *testing.T) {
	t.Helper()
	program, err := standin.Find()
	if err != nil {
		t.Fatal(err)
	}
	at := freePort(t)
	w.does("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "site.key", "-out", "site.pem",
		"-subj", "/CN=localhost", "-days", "2")
	w.write("nginx.conf", fmt.Sprintf(`daemon off; pid nginx.pid; error_log stderr warn; worker_processes 1;
events {}
http { access_log off; client_body_temp_path body; proxy_temp_path proxy; fastcgi_temp_path f; uwsgi_temp_path u; scgi_temp_path s;
 server { listen %s ssl; ssl_certificate site.pem; ssl_certificate_key site.key;
  ssl_client_certificate ca.pem; ssl_crl list.pem; ssl_verify_client on;
  location / { return 200 "in as $ssl_client_s_dn\n"; } } }
`, at))
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	c := exec.CommandContext(ctx, program, "-p", w.dir, "-c", "nginx.conf", "-e", "stderr")
	c.Cancel = func() error { return c.Process.Signal(os.Interrupt) }
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { stop(); _ = c.Wait() }()
	get := func(name string) string {
		out, _ := exec.CommandContext(t.Context(), "curl", "-sk", "--cert", w.path(name+".pem"), "--key",
			w.path(name+".key"), "https://"+at+"/").Output()
		return string(out)
	}
	within(t, "nginx lets the device in", func() bool { return strings.Contains(get("b"), "CN=L1") })
	if out := get("a"); strings.Contains(out, "in as") {
		t.Errorf("nginx lets a revoked one in: %s", out)
	}
}

// Whatever the kind of key is, openssl takes what the authority signs: certificates, the list, answers with a nonce.
func TestEveryKindOfKeySigns(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"p384", "ed25519"} {
		w := issues(t, t.TempDir())
		w.run(t, strings.Replace(grantsBook, "authority:", "authority:\n  key: "+kind, 1), "rulebook", "publish",
			"-", "--accept-impact", "a trial").want(t, 0)
		w.begun()
		w.asks("a", "L1")
		if status, body := w.enrols("a", "simpleenroll", "-u", "L1:"+w.code("L1")); status != "200" {
			t.Fatalf("%s: %s %s", kind, status, body)
		}
		w.does("openssl", "verify", "-x509_strict", "-CAfile", "ca.pem", "a.pem")
		out := w.does("openssl", "ocsp", "-issuer", "ca.pem", "-cert", "a.pem", "-url", w.url+"/authority/ocsp",
			"-CAfile", "ca.pem")
		if !strings.Contains(out, "a.pem: good") || strings.Contains(out, "WARNING") {
			t.Errorf("%s: %s", kind, out)
		}
	}
}

// Killed again and again while devices get and renew certificates, the service has an entry of each certificate that
// somebody holds, and a device for each that it issued.
func TestAKilledServiceKnowsWhatItIssued(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	w := issues(t, data)
	w.begin()
	const devices = 4
	for n := range devices {
		w.run(t, fmt.Sprintf(`{"source":"mdm","identity":{"id":"K%d"},"evidence":{"form":"laptop","storage.encrypted":true}}`, n), "device", "import", "-").want(t, 0)
		w.asks(fmt.Sprint("k", n), fmt.Sprintf("K%d", n))
	}
	held := map[string]string{} // by serial: the device that was given it
	var mu sync.Mutex
	for round := range rounds() + 1 { // the last one without a fall
		codes := make([]string, devices)
		for n := range devices {
			codes[n] = w.code(fmt.Sprintf("K%d", n))
		}
		var wg sync.WaitGroup
		for n := range devices {
			wg.Go(func() {
				name := fmt.Sprint("k", n)
				out := fmt.Sprintf("%s.%d", name, round)
				c := exec.CommandContext(t.Context(), "curl", "-s", "--cacert", "ca.pem", "-o", out, "-w",
					"%{http_code}", "-H",
					"Content-Type: application/pkcs10",
					"--data-binary", "@"+name+".b64", "-u", fmt.Sprintf("K%d:%s", n,
						codes[n]), w.door+"/.well-known/est/simpleenroll")
				c.Dir = w.dir
				status, err := c.Output()
				if err != nil || string(status) != "200" { // or cut off behind the status
					return
				}
				raw, err := os.ReadFile(w.path(out))
				if err != nil {
					t.Error(err)
					return
				}
				p7, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(string(raw), "\n", ""))
				if err != nil {
					return // cut off: it holds nothing
				}
				read, err := pkcs7.Parse(p7)
				if err != nil {
					return
				}
				mu.Lock()
				defer mu.Unlock()
				held[read.Certificates[0].SerialNumber.Text(16)] = fmt.Sprintf("K%d", n)
			})
		}
		if round == rounds() {
			wg.Wait()
			break
		}
		time.Sleep(time.Duration(10+37*round%300) * time.Millisecond)
		w.kill(t)
		wg.Wait()
		w.server = start(t, "serve", data, "--device-listen", "127.0.0.1:0")
		for n := range devices { // room for the next
			w.run(t, "", "certificate", "revoke", "--device", fmt.Sprintf("K%d", n), "--reason", "a trial")
		}
	}
	var list struct {
		Items []struct {
			Kind, About string
			Body        struct{ Serial, Device string }
		}
	}
	issued := map[string]string{}
	w.ask(t, "GET", w.url+"/api/v1/ledger/entries?kind=certificate.issued&limit=500", adminToken, "", http.StatusOK,
		&list)
	for _, e := range list.Items {
		issued[e.Body.Serial] = e.Body.Device
	}
	for serial, device := range held {
		if issued[serial] != device {
			t.Errorf("%s holds %s, and the ledger says %q", device, serial, issued[serial])
		}
	}
	for serial := range issued {
		if out := w.does("curl", "-s", "-H", "Authorization: Bearer "+adminToken,
			w.url+"/api/v1/certificates?limit=1&q="+serial); !strings.Contains(out, serial) {
			t.Errorf("of the entry of %s there is no certificate", serial)
		}
	}
	if len(held) < devices {
		t.Errorf("%d certificates were received, and one at least of each device is due", len(held))
	}
	t.Logf("%d certificates were issued over the kills, %d were received", len(issued), len(held))
	w.run(t, "", "ledger", "verify").want(t, 0, "Sound:")
}

// A request that is bound to its connection (RFC 7030, section 3.5) is granted on that one and on no other.
func TestARequestIsBoundToItsConnection(t *testing.T) {
	t.Parallel()
	w := issues(t, t.TempDir())
	w.begin()
	ca := x509.NewCertPool()
	if raw, err := os.ReadFile(w.path("ca.pem")); err != nil || !ca.AppendCertsFromPEM(raw) {
		t.Fatal(err)
	}
	w.does("openssl", "ecparam", "-name", "prime256v1", "-genkey", "-noout", "-out", "a.key")
	asks := func(bound string) string {
		w.write("req.cnf", "[req]\ndistinguished_name=dn\nattributes=at\nprompt=no\nstring_mask=utf8only\n[dn]\nCN=L1\n[at]\nchallengePassword="+bound+"\n")
		w.does("openssl", "req", "-new", "-key", "a.key", "-config", "req.cnf", "-outform", "DER", "-out", "a.der")
		w.does("openssl", "base64", "-in", "a.der", "-out", "a.b64")
		raw, err := os.ReadFile(w.path("a.b64"))
		if err != nil {
			t.Fatal(err)
		}
		return string(raw)
	}
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		try := func(bound func(tls.ConnectionState) string) (int, string) {
			t.Helper()
			c, err := tls.Dial("tcp", strings.TrimPrefix(w.door, "https://"), &tls.Config{RootCAs: ca,
				MinVersion: version, MaxVersion: version})
			if err != nil {
				t.Fatal(err)
			}
			defer c.Close()
			body := asks(bound(c.ConnectionState()))
			r, err := http.NewRequest("POST", w.door+"/.well-known/est/simpleenroll", strings.NewReader(body))
			if err != nil {
				t.Fatal(err)
			}
			r.Header.Set("Content-Type", "application/pkcs10")
			r.SetBasicAuth("L1", w.code("L1"))
			if err := r.Write(c); err != nil {
				t.Fatal(err)
			}
			a, err := http.ReadResponse(bufio.NewReader(c), r)
			if err != nil {
				t.Fatal(err)
			}
			defer a.Body.Close()
			said, err := io.ReadAll(a.Body)
			if err != nil {
				t.Fatal(err)
			}
			return a.StatusCode, string(said)
		}
		exporter := func(s tls.ConnectionState) string {
			raw, err := s.ExportKeyingMaterial("EXPORTER-Channel-Binding", nil, 32)
			if err != nil {
				t.Fatal(err)
			}
			return base64.StdEncoding.EncodeToString(raw)
		}
		unique := func(s tls.ConnectionState) string { return base64.StdEncoding.EncodeToString(s.TLSUnique) }
		var elsewhere string
		if status, said := try(func(s tls.ConnectionState) string { elsewhere = exporter(s); return elsewhere }); status != http.StatusOK {
			t.Errorf("%x, by its exporter: %d %s", version, status, said)
		}
		if version == tls.VersionTLS12 {
			if status, said := try(unique); status != http.StatusOK {
				t.Errorf("by tls-unique: %d %s", status, said)
			}
		}
		w.run(t, "", "certificate", "revoke", "--device", "L1", "--reason", "room").want(t, 0)
		for name, bound := range map[string]string{"another connection": elsewhere, "a password": "secret"} {
			if status, said := try(func(tls.ConnectionState) string { return bound }); status != http.StatusForbidden || !strings.Contains(said, "bound to another connection") {
				t.Errorf("%x, %s: %d %s", version, name, status, said)
			}
		}
	}
}
