package e2e

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/letsencrypt/challtestsrv"
	"github.com/letsencrypt/pebble/v2/ca"
	"github.com/letsencrypt/pebble/v2/db"
	"github.com/letsencrypt/pebble/v2/va"
	"github.com/letsencrypt/pebble/v2/wfe"
)

// The service gets its own certificate from an ACME server that was not written by us, for its name and no other, and
// keeps it.
func TestACertificateByACME(t *testing.T) {
	t.Parallel()
	const host = "posture.gullholm.example"
	listen, names := freePort(t), freePort(t)
	dns, err := challtestsrv.New(challtestsrv.Config{DNSAddrs: []string{names}, Log: log.New(io.Discard, "", 0)})
	if err != nil {
		t.Fatal(err)
	}
	dns.SetDefaultDNSIPv4("127.0.0.1")
	dns.SetDefaultDNSIPv6("")
	go dns.Run()
	t.Cleanup(dns.Shutdown)
	_, port, err := net.SplitHostPort(listen)
	if err != nil {
		t.Fatal(err)
	}
	tlsPort, err := strconv.Atoi(port)
	if err != nil {
		t.Fatal(err)
	}
	quiet, kept := log.New(io.Discard, "", 0), db.NewMemoryStore()
	authority := ca.New(quiet, kept, "", "ecdsa", 0, 1,
		map[string]ca.Profile{"default": {ValidityPeriod: 7 * 24 * 3600}})
	w := wfe.New(quiet, kept, va.New(quiet, 0, tlsPort, false, names, kept), authority, []string{"acme.example"},
		false, false, 1, 1)
	acme := httptest.NewTLSServer(w.Handler())
	t.Cleanup(acme.Close)
	trusted := filepath.Join(t.TempDir(), "acme.pem")
	if err := os.WriteFile(trusted, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
		Bytes: acme.Certificate().Raw}), 0o600); err != nil {
		t.Fatal(err)
	}
	data := t.TempDir()
	flags := []string{"--listen", listen, "--acme-host", host, "--acme-directory", acme.URL + wfe.DirectoryPath,
		"--acme-ca", trusted,
		"--public-url", "https://" + host}
	offline(t, "", "serve", "--data", data, "--acme-host", host).want(t, 2, "--acme-directory is the https URL")
	s := start(t, "serve", data, flags...)
	shown := func(name string) (*x509.Certificate, error) {
		c, err := tls.Dial("tcp", listen, &tls.Config{ServerName: name, InsecureSkipVerify: true})
		if err != nil {
			return nil, err
		}
		defer c.Close()
		return c.ConnectionState().PeerCertificates[0], nil
	}
	var first *x509.Certificate
	within(t, "the certificate comes", func() bool { first, err = shown(host); return err == nil })
	if err := first.VerifyHostname(host); err != nil {
		t.Error(err)
	}
	roots := x509.NewCertPool()
	roots.AddCert(authority.GetRootCert(0).Cert)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, ServerName: host}}}
	if r, err := client.Get("https://" + listen + "/healthz"); err != nil || r.StatusCode != http.StatusOK {
		t.Errorf("over the certificate: %v, %v", r, err)
	} else {
		_ = r.Body.Close()
	}
	if c, err := shown("other.gullholm.example"); err == nil {
		t.Errorf("for another name it shows %v", c.DNSNames)
	}
	if info, err := os.Stat(filepath.Join(data, "acme")); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("where the keys are: %v, %v", info, err)
	}
	s.stop(t)
	s = start(t, "serve", data, flags...)
	again, err := shown(host)
	if err != nil || again.SerialNumber.Cmp(first.SerialNumber) != 0 {
		t.Errorf("after a restart it has another: %v", err)
	}
	s.stop(t)
	if text := s.log.String(); strings.Contains(text, "PRIVATE") {
		t.Error("the log has a key")
	}
}

// A certificate in files is read again when it changes, and goes on while the new one cannot be used.
func TestACertificateIsReadAgain(t *testing.T) {
	t.Parallel()
	b := &workbench{nil, t.TempDir(), t}
	make := func(name string) {
		b.does("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes",
			"-keyout", name+".key", "-out", name+".pem",
			"-subj", "/CN="+name, "-addext", "subjectAltName=IP:127.0.0.1", "-days", "2")
	}
	put := func(from, to string) {
		t.Helper()
		raw, err := os.ReadFile(b.path(from))
		if err != nil {
			t.Fatal(err)
		}
		b.write(to, string(raw))
	}
	make("one")
	make("two")
	put("one.pem", "tls.pem")
	put("one.key", "tls.key")
	listen, door := freePort(t), freePort(t)
	s := start(t, "serve", t.TempDir(), "--listen", listen, "--device-listen", door, "--tls-cert",
		b.path("tls.pem"), "--tls-key", b.path("tls.key"))
	shown := func(at string) string {
		c, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		return c.ConnectionState().PeerCertificates[0].Subject.CommonName
	}
	if shown(listen) != "one" || shown(door) != "one" {
		t.Error("the first certificate is not shown")
	}
	put("two.pem", "tls.pem") // and not yet its key
	for range 12 {
		if got := shown(listen); got != "one" {
			t.Fatalf("while the files do not fit it shows %s", got)
		}
		time.Sleep(200 * time.Millisecond)
	}
	put("two.key", "tls.key")
	within(t, "the new certificate is shown", func() bool { return shown(listen) == "two" && shown(door) == "two" })
	s.stop(t)
}
