// Package client calls the HTTP API for the command line.
package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"ironledger.example/api"
)

// Client calls one service with one token.
type Client struct {
	http                 *http.Client
	url, token, language string
}

// transport bounds how long an answer may take to begin, not how long it is: an
// export of a large ledger takes its time.
var transport = func() http.RoundTripper {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.ResponseHeaderTimeout = 10 * time.Minute
	return t
}()

// New returns a client for the service at base.
// language is what the caller reads (BCP 47); "" for no preference.
func New(base, token, language string) (*Client, error) {
	u, err := url.Parse(base)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the URL of a service; http://127.0.0.1:8600 would be one", base)
	}
	return &Client{&http.Client{Transport: transport}, strings.TrimSuffix(base, "/"), token, language}, nil
}

// Trust says by what a service is trusted and what it is shown, in files, PEM; "" for what is not so.
type Trust struct {
	CA               string // certificates to trust it by, in place of those of the machine
	Certificate, Key string // to show
}

// Trusting is [New] with a trust of one's own.
func Trusting(base, token, language string, t Trust) (*Client, error) {
	c, err := New(base, token, language)
	if err != nil || t == (Trust{}) {
		return c, err
	}
	with := &tls.Config{MinVersion: tls.VersionTLS12}
	if t.CA != "" {
		raw, err := os.ReadFile(t.CA)
		if err != nil {
			return nil, fmt.Errorf("the certificates to trust the service by: %w", err)
		}
		with.RootCAs = x509.NewCertPool()
		if !with.RootCAs.AppendCertsFromPEM(raw) {
			return nil, fmt.Errorf("%s holds no certificate in PEM", t.CA)
		}
	}
	switch {
	case (t.Certificate == "") != (t.Key == ""):
		return nil, errors.New("a client certificate needs its key, and a key its certificate")
	case t.Certificate != "":
		pair, err := tls.LoadX509KeyPair(t.Certificate, t.Key)
		if err != nil {
			return nil, fmt.Errorf("the client certificate: %w", err)
		}
		with.Certificates = []tls.Certificate{pair}
	}
	own := transport.(*http.Transport).Clone()
	own.TLSClientConfig = with
	c.http = &http.Client{Transport: own}
	return c, nil
}

// As returns a client for the same service with another token.
func (c *Client) As(token string) (*Client, error) {
	as, err := New(c.url, token, "")
	if err == nil {
		as.http = c.http
	}
	return as, err
}

// Reply is an answer, typed and as it came.
type Reply[T any] struct {
	Value T
	Raw   json.RawMessage
}

// ProblemError is an answer that tells what went wrong (RFC 9457).
type ProblemError struct{ api.Problem }

func (p *ProblemError) Error() string {
	s := p.Detail
	if p.Pointer != "" {
		s = p.Pointer + ": " + s
	}
	if p.Excerpt != "" {
		s += "\n" + p.Excerpt
	}
	if len(p.Impacts) > 0 {
		s = p.Title + "; nothing has changed"
		for _, x := range p.Impacts {
			s += "\n  " + x.Message
		}
	}
	return s
}

// request is what a call asks.
type request struct {
	method, path string
	query        url.Values
	value        any // of a JSON body; nil when there is none, or body is it
	media        string
	body         io.Reader
}

// path fills the parameters of a path template in, in their order.
func path(template string, parameters ...any) string {
	for _, p := range parameters {
		before, rest, _ := strings.Cut(template, "{")
		_, after, _ := strings.Cut(rest, "}")
		template = before + url.PathEscape(fmt.Sprint(p)) + after
	}
	return template
}

// put puts a parameter in a query, unless it is not given.
func put[T comparable](query url.Values, name string, v T) {
	var none T
	if v != none {
		query.Set(name, fmt.Sprint(v))
	}
}

// send sends a request; somebody must close the body of the answer.
func (c *Client) send(ctx context.Context, q request) (*http.Response, error) {
	body, media := q.body, q.media
	if q.value != nil {
		raw, err := json.Marshal(q.value)
		if err != nil {
			return nil, fmt.Errorf("what is to be sent: %w", err)
		}
		body, media = bytes.NewReader(raw), "application/json"
	}
	to := c.url + q.path
	if len(q.query) > 0 {
		to += "?" + q.query.Encode()
	}
	r, err := http.NewRequestWithContext(ctx, q.method, to, body)
	if err != nil {
		return nil, err
	}
	if media != "" {
		r.Header.Set("Content-Type", media)
	}
	if c.token != "" {
		r.Header.Set("Authorization", "Bearer "+c.token)
	}
	if c.language != "" {
		r.Header.Set("Accept-Language", c.language)
	}
	got, err := c.http.Do(r)
	var broken *url.Error
	if errors.As(err, &broken) {
		err = broken.Err
	}
	if err != nil {
		return nil, c.unanswered(err)
	}
	return got, nil
}

// unanswered says why a service gave no answer, plainly where what is wrong is the address or the trust.
func (c *Client) unanswered(err error) error {
	var stranger x509.UnknownAuthorityError
	var name x509.HostnameError
	switch {
	case strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		return fmt.Errorf("%s is answered without TLS; say http:// in place of https://", c.url)
	case errors.As(err, &stranger):
		return fmt.Errorf("the certificate of %s comes from nobody whom this machine trusts; say whom to trust with --ca: %w",
			c.url, err)
	case errors.As(err, &name):
		return fmt.Errorf("the certificate of %s is for another name: %w", c.url, err)
	}
	return fmt.Errorf("no service answers at %s: %w", c.url, err)
}

// call sends a request and reads the answer, or the problem.
func call[T any](ctx context.Context, c *Client, q request) (*Reply[T], error) {
	r, err := c.send(ctx, q)
	if err != nil {
		return nil, err
	}
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, fmt.Errorf("the answer of %s broke off: %w", c.url, err)
	}
	if r.StatusCode >= 300 {
		return nil, c.problem(r, body)
	}
	out := &Reply[T]{Raw: body}
	if r.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.Unmarshal(body, &out.Value); err != nil {
		return nil, fmt.Errorf("the answer of %s is not understood: %w", c.url, err)
	}
	return out, nil
}

// problem is what an answer says went wrong.
func (c *Client) problem(r *http.Response, body []byte) error {
	var p ProblemError
	if r.StatusCode == http.StatusBadRequest && strings.HasPrefix(string(body),
		"Client sent an HTTP request to an HTTPS server") {
		return fmt.Errorf("%s is answered over TLS; say https:// in place of http://", c.url)
	}
	if json.Unmarshal(body, &p.Problem) != nil || p.Detail == "" {
		return fmt.Errorf("%s answered %s", c.url, r.Status)
	}
	return &p
}

// stream sends a request whose answer is not read here: somebody must close it.
func (c *Client) stream(ctx context.Context, q request) (io.ReadCloser, error) {
	r, err := c.send(ctx, q)
	if err != nil {
		return nil, err
	}
	if r.StatusCode == http.StatusOK {
		return r.Body, nil
	}
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, fmt.Errorf("the answer of %s broke off: %w", c.url, err)
	}
	return nil, c.problem(r, body)
}

// URL is where the service is.
func (c *Client) URL() string { return c.url }
