package e2e

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ironledger.example/internal/demo"
	"ironledger.example/internal/standin"
)

var agentBook = strings.NewReplacer("resources:", "attributes: {custom.usb_closed: {type: bool}}\nresources:",
	"{id: disk, check: storage.encrypted, cap: barred}",
	`{id: disk, check: storage.encrypted and proved(storage.encrypted), cap: barred},
  {id: usb, title: USB ports, check: custom.usb_closed, cap: unproven, remedy: {en: {title: Close the ports, steps: Call the help desk.}}}`,
	"applies: form == laptop, ", "applies: form == laptop, statement: 5m, ").Replace(grantsBook)

// machine is a laptop with an agent.
type machine struct {
	*workbench
	n      *demo.Newcomer
	device string
}

// laptop is a machine that nobody knows.
func (w *workbench) laptop(device string) *machine {
	w.t.Helper()
	dir, err := os.MkdirTemp("", "ironledger-agent-") // its checks run as nobody, who must get there
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		w.t.Fatal(err)
	}
	n, err := demo.MakeNewcomer(dir)
	if err != nil {
		w.t.Fatal(err)
	}
	for name, text := range map[string]string{"etc/machine-id": fmt.Sprintf("%x", device),
		"sys/class/dmi/id/product_serial": device + "-S"} {
		if err := os.WriteFile(filepath.Join(n.Root(), name), []byte(text), 0o644); err != nil {
			w.t.Fatal(err)
		}
	}
	return &machine{w, n, device}
}

func (m *machine) flags(verb string, args ...string) []string {
	return append([]string{"agent", verb, "--dir", m.n.Agent(), "--root", m.n.Root(), "--checks", m.n.Checks()},
		args...)
}

func (m *machine) agent(verb string, args ...string) result {
	m.t.Helper()
	return m.run(m.t, "", m.flags(verb, args...)...)
}

// invited is what the service says of an invitation.
type invited struct{ Code, Service, Fingerprint string }

func (m *machine) invite() (in invited) {
	m.t.Helper()
	m.run(m.t, "", "device", "invite", m.device, "--serial", m.device+"-S", "-o", "json").into(m.t, &in)
	return in
}

func (m *machine) enrol(in invited) result {
	m.t.Helper()
	return m.agent("enrol", "--service", in.Service, "--device", m.device, "--code", in.Code, "--fingerprint",
		in.Fingerprint)
}

// level is where the service says that the device stands.
func (m *machine) level() string {
	m.t.Helper()
	var d struct{ Level string }
	m.ask(m.t, "GET", m.url+"/api/v1/devices/"+m.device, adminToken, "", http.StatusOK, &d)
	return d.Level
}

// starts has the agent run until the test ends.
func (m *machine) starts(args ...string) *exec.Cmd {
	m.t.Helper()
	c := exec.Command(binary, m.flags("run", args...)...)
	log, err := os.Create(filepath.Join(m.dir, "agent.log"))
	if err != nil {
		m.t.Fatal(err)
	}
	c.Stderr = log
	if err := c.Start(); err != nil {
		m.t.Fatal(err)
	}
	m.t.Cleanup(func() {
		_ = c.Process.Kill()
		_, _ = c.Process.Wait()
		_ = log.Close()
		if m.t.Failed() {
			raw, _ := os.ReadFile(log.Name())
			m.t.Logf("the agent said:\n%s", raw)
		}
	})
	return c
}

func (m *machine) through(gateway string) string {
	m.t.Helper()
	token := strings.TrimSpace(m.agent("statement", "--audience", "gate").want(m.t, 0).out)
	return m.does("curl", "-sk", "--cert", filepath.Join(m.n.Agent(), "device.pem"), "-H",
		"Authorization: Bearer "+token, gateway)
}

// A laptop enrols, speaks for itself, loses and regains its level at once, is let in elsewhere by a statement while
// the service is away, and tells then what it saw meanwhile.
func TestTheAgent(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	fixed := []string{"--listen", freePort(t), "--device-listen", freePort(t)}
	w := issues(t, data, fixed...)
	w.begin()
	w.run(t, agentBook, "rulebook", "publish", "-", "--accept-impact", "a trial").want(t, 0)
	m := w.laptop("A1")
	m.agent("status").want(t, 1, "has no certificate yet")
	m.agent("check").want(t, 1, "has no certificate yet")
	m.agent("run").want(t, 1, "has no certificate yet")
	in := m.invite()
	wrong := in
	wrong.Code = "AAAAA-AAAAA-AAAAA-AAAAA"
	m.enrol(wrong).want(t, 1, "no such code")
	wrong = in
	wrong.Fingerprint = strings.Repeat("ab", 32)
	m.enrol(wrong).want(t, 1, "has another fingerprint")
	wrong.Fingerprint = "ab"
	m.enrol(wrong).want(t, 1, "is no SHA-256")
	wrong = in
	wrong.Service = "http://127.0.0.1:1"
	m.enrol(wrong).want(t, 2, "is a URL with https")
	m.agent("enrol", "--service", in.Service, "--device", "A1", "--code", in.Code).want(t, 1,
		"not who it is trusted to be")
	m.enrol(in).want(t, 0, "A1 has a certificate until", "strong")
	m.enrol(in).want(t, 1, "has a certificate already")
	m.agent("check").want(t, 0, "✓ pass", "USB ports")
	m.agent("status", "--check").want(t, 0)
	m.agent("status", "-o", "csv").want(t, 0, "RULE,VERDICT,TITLE,UNTIL", "b/usb,pass,USB ports,")

	m.starts()
	turn := func(closed bool, want string) {
		t.Helper()
		if err := m.n.Ports(closed); err != nil {
			t.Fatal(err)
		}
		within(t, "the device stands at "+want, func() bool { return m.level() == want })
	}
	turn(false, "unproven")
	m.agent("check").want(t, 3, "✗ fail", "Close the ports", "Call the help desk.")
	m.agent("status", "--check").want(t, 3)
	m.agent("status").want(t, 0)
	turn(true, "strong")

	gate := &standin.Gateway{Name: "gate", Keys: w.url + "/ssf/jwks.json", Least: "limited", Now: time.Now}
	late := &standin.Gateway{Name: "gate", Keys: w.url + "/ssf/jwks.json", Least: "limited",
		Now: func() time.Time { return time.Now().Add(6 * time.Minute) }}
	other := &standin.Gateway{Name: "another", Keys: w.url + "/ssf/jwks.json", Least: "limited", Now: time.Now}
	at := map[*standin.Gateway]string{}
	for _, g := range []*standin.Gateway{gate, late, other} {
		url, err := g.Start(t.Context(), "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		at[g] = url
	}
	lets := func(g *standin.Gateway, want string) {
		t.Helper()
		if got := m.through(at[g]); !strings.Contains(got, want) {
			t.Errorf("the gateway says %q; %q was expected", got, want)
		}
	}
	lets(gate, "Welcome, A1. You stand at strong")
	lets(other, `for "gate", not for "another"`)
	if got := w.does("curl", "-sk", at[gate]); !strings.Contains(got, "show the certificate") {
		t.Errorf("without a certificate: %s", got)
	}
	token := strings.TrimSpace(m.agent("statement", "--audience", "gate").out)
	w.asks("thief", "A1")
	w.does("openssl", "req", "-x509", "-key", "thief.key", "-subj", "/CN=A1", "-days", "1", "-out", "thief.pem")
	if got := w.does("curl", "-sk", "--cert", "thief.pem", "--key", "thief.key", "-H",
		"Authorization: Bearer "+token, at[gate]); !strings.Contains(got,
		"not of the key that the connection proved") {
		t.Errorf("with another's statement: %s", got)
	}

	w.write("keys.json", w.does("curl", "-s", w.url+"/ssf/jwks.json"))
	w.write("statement.jwt", token)
	verify := func(code int, args ...string) result {
		t.Helper()
		return w.run(t, "", append([]string{"statement", "verify", w.path("statement.jwt"), "--jwks",
			w.path("keys.json")}, args...)...).want(t, code)
	}
	var said struct {
		Valid  bool
		Why    string
		Claims struct{ Sub, Aud string }
	}
	verify(0, "--audience", "gate", "--least", "strong", "--certificate", filepath.Join(m.n.Agent(),
		"device.pem"), "-o", "json").into(t, &said)
	if !said.Valid || said.Claims.Sub != "A1" || said.Claims.Aud != "gate" {
		t.Errorf("it says %+v", said)
	}
	verify(3, "--audience", "other").want(t, 3, "Not to rely on")
	verify(3, "--audience", "gate", "--certificate", w.path("thief.pem")).want(t, 3, "not of the key")
	verify(3, "--audience", "gate", "--at", time.Now().Add(time.Hour).UTC().Format(time.RFC3339)).want(t, 3,
		"the statement ended")
	verify(2)
	w.run(t, token, "statement", "verify", "-", "--jwks", w.path("keys.json"), "--audience", "gate").want(t, 0, "A1")
	w.write("nothing.json", "{}")
	w.run(t, token, "statement", "verify", "-", "--jwks", w.path("nothing.json"), "--audience", "gate").want(t, 3,
		"no JSON Web Key Set")

	w.stop(t)
	if r := m.agent("statement", "--audience", "gate").want(t, 0,
		"cannot be reached"); strings.TrimSpace(r.out) != token {
		t.Error("the statement that was kept is another")
	}
	lets(gate, "Welcome, A1")
	lets(late, "the statement ended at")
	m.agent("statement", "--audience", "elsewhere").want(t, 1, "cannot be reached")
	m.agent("statement", "--audience", "gate", "--nonce", "12345678").want(t, 1, "cannot be reached")
	if err := m.n.Ports(false); err != nil {
		t.Fatal(err)
	}
	m.agent("check").want(t, 1, "the report waits to be sent")
	m.agent("status").want(t, 0, "Not reported: the service cannot be reached")
	m.agent("check").want(t, 1)
	if err := m.n.Ports(true); err != nil {
		t.Fatal(err)
	}
	m.agent("check").want(t, 1)
	w.server = start(t, "serve", data, fixed...)
	within(t, "what waited is told", func() bool {
		return !strings.Contains(m.agent("status").out, "Not reported") && m.level() == "strong"
	})
	// The fall while the service was away is on record too.
	var list struct {
		Items []struct {
			Body struct {
				To string
			}
		}
	}
	m.ask(t, "GET", w.url+"/api/v1/ledger/entries?kind=standing.changed&about=A1&limit=20", adminToken, "",
		http.StatusOK, &list)
	fell := 0
	for _, e := range list.Items {
		if e.Body.To == "unproven" {
			fell++
		}
	}
	if fell < 2 {
		t.Errorf("the device fell %d times; once while it was heard, and once while it was not", fell)
	}

	w.run(t, "", "certificate", "revoke", "--device", "A1", "--reason", "lost").want(t, 0)
	m.agent("check").want(t, 1, "identifies no device")
	m.agent("renew").want(t, 1, "identifies no device")
	w.run(t, "", "ledger", "verify").want(t, 0, "Sound:")
}

// serialOf is the serial of the certificate that a machine holds, "" for none.
func (m *machine) serialOf() string {
	m.t.Helper()
	raw, err := os.ReadFile(filepath.Join(m.n.Agent(), "device.pem"))
	if err != nil {
		return ""
	}
	for block, rest := pem.Decode(raw); block != nil; block, rest = pem.Decode(rest) {
		if block.Type == "CERTIFICATE" {
			cert, err := x509.ParseCertificate(block.Bytes)
			if err != nil {
				m.t.Fatal(err)
			}
			return cert.SerialNumber.Text(16)
		}
	}
	m.t.Fatal("the agent's file has no certificate")
	return ""
}

// Agents and the service are killed while certificates are asked for and renewed. What an agent holds is on record,
// and what is on record is what an agent holds, or held: it asks again, and gets what it was given.
func TestKilledAgents(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	fixed := []string{"--listen", freePort(t), "--device-listen", freePort(t)}
	w := issues(t, data, fixed...)
	w.begin()
	held := map[string]string{}
	var m *machine
	kill := func(after time.Duration, args ...string) {
		c := exec.Command(binary, m.flags(args[0], args[1:]...)...)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(after)
		_ = c.Process.Kill()
		_, _ = c.Process.Wait()
	}
	for round := range max(6, rounds()) {
		m = w.laptop(fmt.Sprint("R", round))
		in := m.invite()
		enrol := []string{"enrol", "--service", in.Service, "--device", m.device, "--code", in.Code,
			"--fingerprint", in.Fingerprint}
		for i := range 3 {
			kill(time.Duration(4+(round*7+i*11)%45)*time.Millisecond, enrol...)
		}
		if round%3 == 1 {
			w.kill(t)
			w.server = start(t, "serve", data, fixed...)
		}
		if serial := m.serialOf(); serial == "" {
			m.agent("enrol", enrol[1:]...).want(t, 0)
		}
		held[m.serialOf()] = m.device
		for i := range 3 {
			kill(time.Duration(2+(round*5+i*9)%30)*time.Millisecond, "renew")
			held[m.serialOf()] = m.device
		}
		m.agent("renew").want(t, 0)
		held[m.serialOf()] = m.device
	}
	var list struct {
		Items []struct {
			Body struct{ Serial, Device string }
		}
	}
	w.ask(t, "GET", w.url+"/api/v1/ledger/entries?kind=certificate.issued&limit=500", adminToken, "",
		http.StatusOK, &list)
	issued := map[string]string{}
	for _, e := range list.Items {
		issued[e.Body.Serial] = e.Body.Device
	}
	for serial, device := range held {
		if issued[serial] != device {
			t.Errorf("%s holds %s, and the ledger says %q", device, serial, issued[serial])
		}
	}
	for serial, device := range issued {
		if held[serial] != device {
			t.Errorf("the ledger says that %s has %s, which no agent ever held", device, serial)
		}
	}
	t.Logf("%d certificates were issued, and %d held", len(issued), len(held))
	w.run(t, "", "ledger", "verify").want(t, 0, "Sound:")
}

// In the console a device is invited, by a line that is run on it; then its page says what is proved, and what it was
// given.
func TestConsoleInvites(t *testing.T) {
	t.Parallel()
	w := &workbench{start(t, "demo", t.TempDir(), "--device-listen", "127.0.0.1:0"), t.TempDir(), t}
	ctx := browser(t)
	signIn(t, ctx, w.server)
	do(t, ctx, chromedp.Navigate(w.url+"/devices/GF-L-1043"))
	until(t, ctx, "Certificate…")
	press(t, ctx, "Certificate…")
	until(t, ctx, "--fingerprint")
	picture(t, ctx, "console-invite")
	line, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.querySelector('.invite pre').innerText`))
	if err != nil {
		t.Fatal(err)
	}
	args := strings.Fields(strings.ReplaceAll(line, "\\\n", " "))
	if len(args) < 11 || strings.Join(args[:3], " ") != "ironledger agent enrol" {
		t.Fatalf("the line to enrol by is %q", line)
	}
	m := w.laptop("GF-L-1043")
	m.agent("enrol", args[3:]...).want(t, 0, "GF-L-1043 has a certificate until")
	m.agent("statement", "--audience", "harbour-gateway").want(t, 0)
	do(t, ctx, chromedp.Navigate(w.url+"/devices/GF-L-1043"))
	until(t, ctx, "✓ proved")
	until(t, ctx, "house")
	script(t, ctx, `document.querySelector('.proved').scrollIntoView({block: 'center'}); return ''`)
	picture(t, ctx, "console-proved")
	page := freePort(t)
	if err := m.n.Ports(false); err != nil {
		t.Fatal(err)
	}
	m.starts("--page", page)
	within(t, "the agent reports", func() bool { return m.level() == "unproven" })
	do(t, ctx, chromedp.Navigate("http://"+page+"/"))
	until(t, ctx, "Close the USB ports")
	until(t, ctx, "to be mended")
	picture(t, ctx, "agent-page")
	if err := m.n.Ports(true); err != nil {
		t.Fatal(err)
	}
	press(t, ctx, "Check again")
	until(t, ctx, "Checked just now")
	within(t, "what was mended is in order on the page", func() bool {
		return !strings.Contains(w.does("curl", "-s", "http://"+page+"/me/device"), "to be mended")
	})
	do(t, ctx, chromedp.Navigate(w.url+"/certificates?q=GF-L-1043"))
	until(t, ctx, "crew")
	picture(t, ctx, "console-certificates")
}

// A certificate that goes to and fro between two addresses is flagged, once, and counts until somebody decides.
func TestACertificateInTwoPlaces(t *testing.T) {
	t.Parallel()
	w := issues(t, t.TempDir())
	w.begin()
	m := w.laptop("A1")
	m.enrol(m.invite()).want(t, 0)
	w.write("report.json", `{"evidence":{"storage.encrypted":true}}`)
	for i := range 14 {
		status := w.does("curl", "-s", "-o", "/dev/null", "-w", "%{http_code}", "--interface",
			fmt.Sprintf("127.0.0.%d", 1+i%2), "--cacert", "ca.pem",
			"--cert", filepath.Join(m.n.Agent(), "device.pem"), "-H", "Content-Type: application/json",
			"--data-binary", "@report.json", w.door+"/api/v1/evidence")
		if status != "200" {
			t.Fatalf("report %d: %s", i, status)
		}
	}
	var list struct {
		Items []struct {
			About string
			Body  struct {
				Serial string
				From   []string
			}
		}
	}
	w.ask(t, "GET", w.url+"/api/v1/ledger/entries?kind=certificate.shared", adminToken, "", http.StatusOK, &list)
	if len(list.Items) != 1 || list.Items[0].About != "A1" || len(list.Items[0].Body.From) != 2 ||
		list.Items[0].Body.Serial != m.serialOf() {
		t.Errorf("on record is %+v", list.Items)
	}
	w.run(t, "", "alert", "list").want(t, 0, "A certificate of A1 is used in two places at once", "127.0.0.2")
	w.run(t, "", "certificate", "revoke", "--device", "A1", "--code", "keyCompromise", "--reason",
		"copied").want(t, 0)
	within(t, "the alert is gone", func() bool {
		return !strings.Contains(w.run(t, "", "alert", "list").out,
			"two places")
	})
}

// A laptop that comes with a code is let in by nginx under the certificate that its agent got; a check that turns
// false takes that away within moments, and the cure gives it back.
func TestANewcomerBehindNginx(t *testing.T) {
	t.Parallel()
	f := startFront(t)
	w := &workbench{f.server, t.TempDir(), t}
	m := w.laptop(demo.NewcomerID)
	in := m.invite()
	m.agent("enrol", "--service", in.Service, "--device", m.device, "--code", in.Code, "--fingerprint",
		in.Fingerprint, "--owner", demo.NewcomerOwner,
		"--set", "managed=true", "--set", `ownership="company"`).want(t, 0, "sound")
	m.starts()
	within(t, "it has a certificate of the crew", func() bool {
		return strings.Contains(m.agent("status", "-o", "json").out, `"profile": "crew"`)
	})
	raw, err := os.ReadFile(filepath.Join(m.n.Agent(), "device.pem"))
	if err != nil {
		t.Fatal(err)
	}
	f.card(t, m.device, string(raw), string(raw))
	v := f.visitor(t, m.device, demo.NewcomerOwner, true)
	v.signIn(demo.NewcomerOwner, true)
	opens := func() bool { return strings.Contains(v.open("/crew-rota/").text, "You are through") }
	within(t, "it is let in", opens)
	if err := m.n.Ports(false); err != nil {
		t.Fatal(err)
	}
	within(t, "it is refused", func() bool { return !opens() })
	v.open("/crew-rota/").want(t, "You cannot open this right now", "Close the USB ports")
	if err := m.n.Ports(true); err != nil {
		t.Fatal(err)
	}
	within(t, "it is let in again", opens)
	w.run(t, "", "certificate", "revoke", "--device", m.device, "--reason", "lost").want(t, 0)
	within(t, "it is refused under a revoked certificate", func() bool { return !opens() })
}
