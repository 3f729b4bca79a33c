package e2e

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

func TestTheFirstTokenIsMadeOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	print := func() string {
		t.Helper()
		cmd := exec.Command(binary, "serve", "--data", dir, "--listen", "127.0.0.1:0", "--log-json")
		cmd.Env = append(os.Environ(), "IRONLEDGER_ADMIN_TOKEN=")
		out, err := cmd.StderrPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		var said strings.Builder
		for lines := bufio.NewScanner(out); lines.Scan(); {
			said.WriteString(lines.Text() + "\n")
			if strings.Contains(lines.Text(), "answers at") {
				cmd.Process.Signal(os.Interrupt)
			}
		}
		if err := cmd.Wait(); err != nil {
			t.Errorf("%v\n%s", err, &said)
		}
		return said.String()
	}
	token := regexp.MustCompile(`il_[\w-]{40,}`)
	if said := print(); token.MatchString(said) || !strings.Contains(said, "first-admin.token") {
		t.Errorf("the first start prints a token, or does not say where it is: %s", said)
	}
	kept, err := os.ReadFile(filepath.Join(dir, "first-admin.token"))
	first := token.FindString(string(kept))
	if err != nil || first == "" {
		t.Fatalf("no token is made at the first start: %v", err)
	}
	if err := os.Remove(filepath.Join(dir, "first-admin.token")); err != nil {
		t.Fatal(err)
	}
	if again := print(); token.MatchString(again) || strings.Contains(again, "first-admin.token") {
		t.Errorf("a token is made at the second start: %s", again)
	}
	raw, err := os.ReadFile(filepath.Join(dir, "ironledger.db"))
	if err != nil || strings.Contains(string(raw), first) { // it is kept as a hash
		t.Errorf("the token stands in the records (%v)", err)
	}
}

func TestTLS(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1),
		Subject: pkix.Name{CommonName: "ledger.gullholm.example"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for name, block := range map[string]*pem.Block{"cert.pem": {Type: "CERTIFICATE", Bytes: der},
		"key.pem": {Type: "PRIVATE KEY", Bytes: private}} {
		if err := os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command(binary, "serve", "--data", dir, "--listen", "0.0.0.0:0", "--tls-cert",
		filepath.Join(dir, "cert.pem"), "--tls-key", filepath.Join(dir, "key.pem"))
	cmd.Env = append(os.Environ(), "IRONLEDGER_ADMIN_TOKEN="+adminToken)
	out, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	lines, port := bufio.NewScanner(out), ""
	for port == "" && lines.Scan() {
		if m := regexp.MustCompile(`answers at https://.*:(\d+)`).FindStringSubmatch(lines.Text()); m != nil {
			port = m[1]
		}
	}
	go func() {
		for lines.Scan() { // keep the pipe empty
		}
	}()
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	r, err := client.Post(fmt.Sprintf("https://127.0.0.1:%s/api/v1/session", port), "application/json",
		strings.NewReader(`{"token":"`+adminToken+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	r.Body.Close()
	if len(r.Cookies()) != 1 || !r.Cookies()[0].Secure {
		t.Errorf("over TLS the cookie is %v", r.Cookies())
	}
	client.CloseIdleConnections()
	cmd.Process.Signal(os.Interrupt)
	if err := cmd.Wait(); err != nil {
		t.Error(err)
	}
}

func TestTwoServicesDoNotShareRecords(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	offline(t, "", "serve", "--data", s.data, "--listen", "127.0.0.1:0").want(t, 1,
		"another service is running on these records")
}

func TestSettingsAreKept(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	home := t.TempDir()
	client := func(args ...string) (string, error) {
		cmd := exec.Command(binary, args...)
		cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+home, "IRONLEDGER_URL=", "IRONLEDGER_TOKEN=")
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	if out, err := client("status"); err == nil || !strings.Contains(out, "no token: give --token") {
		t.Errorf("without settings: %s", out)
	}
	if out, err := client("settings", "save", "--url", s.url, "--token", adminToken); err != nil {
		t.Fatal(out)
	}
	if out, err := client("status"); err != nil || !strings.Contains(out, "71 devices") {
		t.Errorf("with settings: %s", out)
	}
	info, err := os.Stat(filepath.Join(home, "ironledger", "settings.yaml"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the settings are readable by others: %v (%v)", info, err)
	}
}
