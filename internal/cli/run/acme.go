package run

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"

	"ironledger.example/internal/cli/shell"
)

// acmeOptions are where the service's own certificate comes from by ACME (RFC 8555).
type acmeOptions struct {
	hosts               []string
	directory, mail, ca string
}

// acmeFolder is where keys and certificates are kept, in the folder of the records.
const acmeFolder = "acme"

// config has the service get its certificate for some names by itself, and the next one before it ends. That it is
// reached by them it proves in the handshake (RFC 8737), so that nothing else need be open.
func (o *acmeOptions) config(dir string) (*tls.Config, error) {
	if u, err := url.Parse(o.directory); err != nil || u.Scheme != "https" || u.Host == "" {
		return nil, shell.Usagef("--acme-directory is the https URL of an ACME directory, not %q", o.directory)
	}
	client := &acme.Client{DirectoryURL: o.directory, UserAgent: "ironledger/" + shell.Version(),
		HTTPClient: &http.Client{Timeout: 30 * time.Second}}
	if o.ca != "" {
		raw, err := os.ReadFile(o.ca)
		if err != nil {
			return nil, err
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(raw) {
			return nil, fmt.Errorf("%s holds no certificate in PEM", o.ca)
		}
		t := http.DefaultTransport.(*http.Transport).Clone()
		t.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
		client.HTTPClient.Transport = t
	}
	m := &autocert.Manager{Prompt: autocert.AcceptTOS, HostPolicy: autocert.HostWhitelist(o.hosts...), Email: o.mail,
		Cache: autocert.DirCache(filepath.Join(dir, acmeFolder)), Client: client}
	return &tls.Config{GetCertificate: m.GetCertificate, NextProtos: []string{"h2", "http/1.1", acme.ALPNProto},
		MinVersion: tls.VersionTLS12, CipherSuites: suites()}, nil
}
