package e2e

import (
	"fmt"
	"net"
	"net/http"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2868"
)

const wirelessBook = `rulebook: wireless
break_glass: [master]
authority:
  name: gullholm.example
  profiles: [{id: any, lifetime: 1d, least: barred, holds: 5}]
resources: [{id: deck-wifi}]
baselines: [{id: b, rules: [{id: disk, check: storage.encrypted, cap: barred, unknown: limited}]}]
gates: [{id: g, who: {everyone: true}, what: {resources: [deck-wifi]}, need: known(request.proof), valid_for: 5m}]
networks:
  - id: deck-wifi
    ssids: [Gullholm Deck]
    grants:
      - {id: crew, when: level >= limited and request.proof == certificate, vlan: 40, filter: crew, session: 2h,
         attributes: {Idle-Timeout: 600}}
      - {id: heal, when: request.proof == certificate, vlan: heal, recover: true}
      - {id: known, when: known_device, vlan: 50}
`

const station = "02:00:5e:00:53:0a"

// told is an access point that is told of changes: of each request the kind and the VLAN, and ACK for an answer.
func told(t *testing.T, secret *string) (port string, heard chan string) {
	t.Helper()
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	heard = make(chan string, 100)
	go func() {
		buffer := make([]byte, radius.MaxPacketLength)
		for {
			n, from, err := conn.ReadFrom(buffer)
			if err != nil {
				return
			}
			p, err := radius.Parse(buffer[:n], []byte(*secret))
			if err != nil || !radius.IsAuthenticRequest(buffer[:n], []byte(*secret)) {
				heard <- "what is no request"
				continue
			}
			_, vlan := rfc2868.TunnelPrivateGroupID_GetString(p)
			heard <- fmt.Sprintf("%s %s %s", p.Code, vlan, rfc2865.CallingStationID_GetString(p))
			if raw, err := p.Response(p.Code + 1).Encode(); err == nil {
				_, _ = conn.WriteTo(raw, from)
			}
		}
	}()
	_, port, _ = net.SplitHostPort(conn.LocalAddr().String())
	return port, heard
}

func hears(t *testing.T, heard chan string, want string) {
	t.Helper()
	select {
	case got := <-heard:
		if got != want {
			t.Errorf("the access point is told %q, and should be %q", got, want)
		}
	case <-time.After(patience):
		t.Fatalf("the access point is not told %q", want)
	}
}

// A supplicant and a client of others (eapol_test, radclient) join a network, are moved, and are turned away.
func TestOthersJoinTheNetwork(t *testing.T) {
	t.Parallel()
	for _, program := range []string{"eapol_test", "radclient"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Fatalf("%s is missing; install the Debian packages eapoltest and freeradius-utils", program)
		}
	}
	w := issues(t, t.TempDir(), "--radius", "127.0.0.1:0", "--radius-accounting", "127.0.0.1:0")
	w.run(t, wirelessBook, "rulebook", "publish", "-", "--accept-impact", "a trial").want(t, 0)
	w.begun()
	secret := "a secret of the deck"
	port, heard := told(t, &secret)
	w.write("secret", secret)
	w.run(t, "", "network", "client", "add", "deck-3", "--at", "127.0.0.1", "--told-at", port, "--secret-file",
		w.path("secret"), "--network", "deck-wifi").want(t, 0, "deck-3 may ask from 127.0.0.1")
	var list struct{ Doors []string }
	w.ask(t, "GET", w.url+"/api/v1/networks/clients", adminToken, "", http.StatusOK, &list)
	doors := map[string]string{}
	for _, d := range list.Doors {
		kind, at, _ := strings.Cut(d, " ")
		_, doors[kind], _ = net.SplitHostPort(at)
	}
	m := w.laptop("A1")
	m.enrol(m.invite()).want(t, 0)
	disk := func(sealed bool) {
		w.run(t, fmt.Sprintf(`{"source":"mdm","identity":{"id":"A1"},"evidence":{"form":"laptop","storage.encrypted":%t}}`, sealed),
			"device", "import", "-").want(t, 0)
	}
	disk(true)
	pem := filepath.Join(m.n.Agent(), "device.pem")
	joins := func(version string) string {
		w.write("eap.conf", fmt.Sprintf(`network={
  key_mgmt=IEEE8021X
  eap=TLS
  identity="A1"
  ca_cert="%s"
  client_cert="%s"
  private_key="%s"
  phase1="%s"
}
`, w.path("ca.pem"), pem, pem, version))
		out, _ := exec.Command("eapol_test", "-c", w.path("eap.conf"), "-a", "127.0.0.1", "-p", doors["radius"], "-s", secret,
			"-M", station, "-N", "30:s:02-00-5E-00-54-03:Gullholm Deck", "-t", "20").CombinedOutput()
		return string(out)
	}
	shows := func(out string, texts ...string) {
		t.Helper()
		for _, text := range texts {
			if !regexp.MustCompile(text).MatchString(out) {
				t.Fatalf("%s is not in\n%s", text, out)
			}
		}
	}
	for version, settings := range map[string]string{"TLSv1.2": "tls_disable_tlsv1_3=1", "TLSv1.3": "tls_disable_tlsv1_3=0"} {
		shows(joins(settings), "Using TLS version "+version, `(?m)^SUCCESS$`, `MPPE keys OK: 1  mismatch: 0`, `(?s)Tunnel-Private-Group-Id\).{1,60}3430`,
			`Attribute 11 .*length=6`, `(?s)Idle-Timeout\).{1,40}600`, `(?s)Session-Timeout\).{1,40}(7200|719\d)`)
	}
	radclient := func(kind, attributes string) string {
		c := exec.Command("radclient", "-x", "-t", "2", "-r", "1", "127.0.0.1:"+doors[map[string]string{"auth": "radius",
			"acct": "radius-accounting"}[kind]], kind, secret)
		c.Stdin = strings.NewReader(attributes)
		out, _ := c.CombinedOutput()
		return string(out)
	}
	about := `Calling-Station-Id="02-00-5E-00-53-0A", Called-Station-Id="02-00-5E-00-54-03:Gullholm Deck"`
	shows(radclient("acct", `Acct-Status-Type=Start, Acct-Session-Id="s-1", Framed-IP-Address=10.40.0.9, User-Name="A1", `+about),
		"Received Accounting-Response")
	w.run(t, "", "network", "stays").want(t, 0, "A1", "crew, VLAN 40", "certificate", station+" 10.40.0.9", "deck-3")
	w.run(t, "", "device", "show", "A1", "-o", "json").want(t, 0, "10.40.0.9", "network")

	disk(false)
	hears(t, heard, "CoA-Request heal 02-00-5E-00-53-0A")
	shows(joins("tls_disable_tlsv1_3=0"), `(?m)^SUCCESS$`, `(?s)Tunnel-Private-Group-Id\).{1,60}6865616c`)
	disk(true)
	hears(t, heard, "CoA-Request 40 02-00-5E-00-53-0A")
	w.run(t, "", "certificate", "revoke", "--device", "A1", "--reason", "stolen").want(t, 0)
	hears(t, heard, "Disconnect-Request  02-00-5E-00-53-0A")
	shows(joins("tls_disable_tlsv1_3=0"), `(?m)^FAILURE$`, "Access-Reject")
	w.run(t, "", "decision", "list", "--limit", "1").want(t, 0, "deny", "deck-wifi")

	// By its address: weak, and said to be; and no password.
	w.run(t, `{"source":"mdm","identity":{"id":"P1"},"evidence":{"form":"printer","network.macs":["02:00:5E:00:53:0B"]}}`,
		"device", "import", "-").want(t, 0)
	printer := strings.ReplaceAll(about, "53-0A", "53-0B")
	shows(radclient("auth", `User-Name="02005e00530b", Service-Type=Call-Check, Message-Authenticator=0x00, `+printer),
		"Received Access-Accept", `Tunnel-Private-Group-Id:0 = "50"|Tunnel-Private-Group-Id = "50"`)
	shows(radclient("auth", `User-Name="02005e00530c", Service-Type=Call-Check, Message-Authenticator=0x00, `+
		strings.ReplaceAll(about, "53-0A", "53-0C")), "Received Access-Reject", "no place for your device")
	shows(radclient("auth", `User-Name="maren", User-Password="secret", Message-Authenticator=0x00, `+about),
		"Received Access-Reject", "Passwords are not taken here")
	// Status-Server (RFC 5997), and an access point that says it is another.
	shows(radclient("auth", `Packet-Type=Status-Server, Message-Authenticator=0x00`), "Received Access-Accept")
	if out := radclient("auth", `User-Name="02005e00530b", Service-Type=Call-Check, Message-Authenticator=0x00, NAS-IP-Address=10.9.9.9, `+
		printer); strings.Contains(out, "Received") {
		t.Errorf("one that says it is another is answered\n%s", out)
	}
	w.run(t, "", "network", "client", "list").want(t, 0, "deck-3", "which is not within its range")
	metrics := w.does("curl", "-s", "-H", "Authorization: Bearer "+adminToken, w.url+"/metrics")
	shows(metrics, `ironledger_network_stays\{grant="known",network="deck-wifi"\} 1`,
		`ironledger_radius_dropped_total\{access_point="deck-3"\} [1-9]`, `ironledger_network_untold\{network="deck-wifi"\} 0`)
	w.run(t, "", "network", "client", "remove", "deck-3", "--reason", "taken down").want(t, 0, "may ask no more")
	w.run(t, "", "network", "client", "remove", "deck-3", "--reason", "again").want(t, 1, "there is no access point deck-3")
	w.run(t, "", "ledger", "verify").want(t, 0, "Sound:")
}

func TestNetworkClientsAreChecked(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.run(t, "", "network", "client", "list").want(t, 0, "Nothing to show", "takes no packets")
	for _, c := range []struct {
		says string
		args []string
	}{
		{"is no address or network", []string{"a", "--at", "deck"}}, {"no network: bits are set", []string{"a", "--at", "10.40.0.7/24"}},
		{"at most a /16", []string{"a", "--at", "0.0.0.0/0"}}, {"an id has small letters", []string{"A b", "--at", "10.40.0.7"}},
		{"no network deck-wifi", []string{"a", "--at", "10.40.0.7", "--network", "deck-wifi"}},
		{"no such file", []string{"a", "--at", "10.40.0.7", "--certificate", "gone.pem"}},
	} {
		s.run(t, "", append([]string{"network", "client", "add"}, c.args...)...).want(t, 1, c.says)
	}
	s.run(t, "", "network", "client", "add", "a").want(t, 2, `"at" not set`)
	var made struct{ Secret string }
	s.run(t, "", "network", "client", "add", "deck", "--at", "10.40.0.0/24", "-o", "json").into(t, &made)
	if len(made.Secret) < 26 {
		t.Errorf("the secret is %q", made.Secret)
	}
	s.run(t, "", "network", "client", "list", "-o", "json").want(t, 0, "10.40.0.0/24").not(t, made.Secret)
	s.run(t, "", "ledger", "list", "--kind", "access-point.changed", "-o", "json").want(t, 0, "deck").not(t, made.Secret)
	s.run(t, "", "network", "client", "add", "other", "--at", "10.40.0.0/24").want(t, 1, "the range of deck already")
	s.run(t, "", "network", "client", "add", "one", "--at", "10.40.0.7").want(t, 0, "one may ask from 10.40.0.7")
	s.run(t, "", "network", "stays").want(t, 0, "Nothing to show")
}

// The console shows networks, who is there and which access points ask; a tablet falls and is moved in sight.
func TestConsoleNetworks(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir(), "--with-network")
	ctx := browser(t)
	signIn(t, ctx, s)
	do(t, ctx, chromedp.Navigate(s.url+"/networks"))
	for _, text := range []string{"Network aboard", "to get well in", "3 devices", "BYO-5102", "not known here", "dunlin-saloon"} {
		until(t, ctx, text)
	}
	picture(t, ctx, "console-networks")
	level := func(score int) {
		s.run(t, fmt.Sprintf(`{"source":"mdm","identity":{"id":"GF-T-2107"},"evidence":{"os.version":"17.6.1"}}
{"source":"sensor","identity":{"id":"GF-T-2107"},"evidence":{"threat.score":%d}}`, score), "device", "import", "-").want(t, 0)
	}
	level(0)
	until(t, ctx, "VLAN 40")
	s.run(t, "", "network", "stays", "--device", "GF-T-2107").want(t, 0, "crew, VLAN 40")
	level(95)
	untilNot(t, ctx, "VLAN 40")
	press(t, ctx, "get-well")
	for _, text := range []string{"What it is granted", "Not granted", "level >= sound", "by its certificate"} {
		until(t, ctx, text)
	}
	picture(t, ctx, "console-admission")
	do(t, ctx, chromedp.Navigate(s.url+"/networks"))
	until(t, ctx, "Access points")
	press(t, ctx, "Add one…")
	until(t, ctx, "Let it ask")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=client-id]`), "deck-3"),
		chromedp.SendKeys(chromedp.CSS(`input[name=client-range]`), "10.40.0.7/24"))
	press(t, ctx, "Let it ask")
	until(t, ctx, "bits are set behind its prefix")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=client-range]`), "\b\b\b"))
	press(t, ctx, "Let it ask")
	until(t, ctx, "shown this once")
	until(t, ctx, "10.40.0.7")
	press(t, ctx, "I have put it where it belongs")
	untilNot(t, ctx, "shown this once")
	s.run(t, "", "network", "client", "list").want(t, 0, "deck-3")
	s.run(t, "", "network", "client", "remove", "deck-3", "--reason", "taken down").want(t, 0)
	untilNot(t, ctx, "10.40.0.7")
}
