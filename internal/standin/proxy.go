package standin

import (
	"bytes"
	"context"
	"crypto/tls"
	_ "embed"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"text/template"
	"time"
)

// Proxy is a real nginx in front of the applications, which asks Iron Ledger
// about every request.
type Proxy struct {
	Listen   string            // the address it listens on, with TLS
	Service  string            // the URL of Iron Ledger
	Token    string            // of the role enforcer
	SignIn   string            // host:port of the sign-in page
	Apps     string            // host:port of the applications
	Names    [][2]string       // id and title of the applications; one location each
	Actions  map[string]string // what a path beneath an application does, beside opening it
	Cert     string            // PEM
	Key      string            // PEM
	Dir      string            // for its files
	Upstream string            // host:port of Iron Ledger; set from Service
	Headers  []string          // of a client, that go on to the applications
	Lines    []int             // of a certificate in PEM that the configuration reads
}

//go:embed nginx.conf.tmpl
var nginxText string

var nginxConf = template.Must(template.New("nginx.conf").Funcs(template.FuncMap{"headerVariable": headerVariable}).Parse(nginxText))

// headerVariable is how nginx calls a header of a request.
func headerVariable(name string) string { return strings.ToLower(strings.ReplaceAll(name, "-", "_")) }

// clientHeaders are the headers of a client that go on to the applications. All
// others end at the proxy.
var clientHeaders = []string{"Accept", "Accept-Encoding", "Accept-Language", "Cache-Control", "Content-Type",
	"Cookie", "If-Match", "If-Modified-Since", "If-None-Match",
	"Origin", "Range", "Referer", "Sec-Fetch-Dest", "Sec-Fetch-Mode", "Sec-Fetch-Site", "User-Agent",
	"X-Requested-With"}

// maxLines is how many lines of PEM a client's certificate may have: some 4 KB.
const maxLines = 64

// Config writes the configuration.
func (p *Proxy) Config() (string, error) {
	u, err := url.Parse(p.Service)
	if err != nil || u.Scheme != "http" {
		return "", fmt.Errorf("the proxy of the demo reaches Iron Ledger over http on loopback, not at %s",
			p.Service)
	}
	p.Upstream, p.Lines, p.Headers = u.Host, nil, clientHeaders
	for i := range maxLines {
		p.Lines = append(p.Lines, i)
	}
	var out bytes.Buffer
	err = nginxConf.Execute(&out, p)
	return out.String(), err
}

// Find looks for nginx.
func Find() (string, error) {
	for _, name := range []string{"nginx", "/usr/sbin/nginx"} {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", errors.New("nginx is missing; install the Debian package nginx-light")
}

// Run starts nginx and stops it when ctx ends. ready is called once it answers.
func (p *Proxy) Run(ctx context.Context, ready func()) error {
	nginx, err := Find()
	if err != nil {
		return err
	}
	conf, err := p.Config()
	if err != nil {
		return err
	}
	for name, text := range map[string]string{"nginx.conf": conf, "proxy.pem": p.Cert, "proxy.key": p.Key} {
		if err := os.WriteFile(filepath.Join(p.Dir, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	dir, err := filepath.Abs(p.Dir)
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, nginx, "-p", dir, "-c", "nginx.conf", "-e", "stderr")
	cmd.Dir = dir // the socket between its two servers is named without a folder: such names must be short
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	cmd.WaitDelay = 5 * time.Second
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("nginx: %w", err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for {
		if conn, err := tls.Dial("tcp", p.Listen, &tls.Config{InsecureSkipVerify: true}); err == nil { // only whether it answers
			conn.Close()
			break
		}
		select {
		case err := <-ended:
			return fmt.Errorf("nginx did not start: %w: %s", err, strings.TrimSpace(said.String()))
		case <-time.After(50 * time.Millisecond):
		}
	}
	ready()
	if err := <-ended; ctx.Err() == nil {
		return fmt.Errorf("nginx ended: %w: %s", err, strings.TrimSpace(said.String()))
	}
	return nil
}

// Serve serves a handler on a free loopback port until ctx ends, and returns
// its address.
func Serve(ctx context.Context, h http.Handler) (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(l) //nolint:errcheck // ends with Close
	context.AfterFunc(ctx, func() { server.Close() })
	return l.Addr().String(), nil
}
