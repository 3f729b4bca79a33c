package agent

import (
	"bytes"
	"cmp"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/smallstep/pkcs7"
)

// Enrolment is how a device gets its first certificate.
type Enrolment struct {
	Settings
	Code string
	// The service is trusted by these certificates, PEM; by the authority whose certificate has this SHA-256; or,
	// with neither, by those that the machine trusts.
	Trusted     []byte
	Fingerprint string
	// Waiting is told why a person must decide first, and for how long it is waited.
	Waiting func(why string, wait time.Duration)
	Again   bool // though there is a certificate
}

const (
	maxAnswer = 1 << 20          // bytes of an answer
	callFor   = 30 * time.Second // one call
)

// AnswerError is what the service said instead of doing what was asked.
type AnswerError struct {
	Status     int
	Message    string
	RetryAfter time.Duration // 0 when it does not say
}

func (e *AnswerError) Error() string {
	if e.Message == "" {
		return fmt.Sprintf("the service answers %d %s", e.Status, http.StatusText(e.Status))
	}
	return e.Message
}

// caller calls the service. With a certificate it shows that.
type caller struct {
	base   string
	client *http.Client
}

func newCaller(base string, trusted *x509.CertPool, own *tls.Certificate) *caller {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.TLSClientConfig = &tls.Config{RootCAs: trusted, MinVersion: tls.VersionTLS12}
	if own != nil {
		t.TLSClientConfig.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate,
			error) {
			return own, nil
		}
	}
	return &caller{base, &http.Client{Transport: t, Timeout: callFor,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

func (c *caller) close() { c.client.CloseIdleConnections() }

// do calls the service; the error is an [*AnswerError] when it answers anything but 200.
func (c *caller) do(ctx context.Context, method, path string, body []byte, head map[string]string) ([]byte, error) {
	r, err := http.NewRequestWithContext(ctx, method, c.base+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	r.Header.Set("User-Agent", "ironledger-agent")
	for k, v := range head {
		r.Header.Set(k, v)
	}
	w, err := c.client.Do(r)
	if err != nil {
		return nil, told(err)
	}
	defer w.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(w.Body, maxAnswer+1))
	switch {
	case err != nil:
		return nil, told(err)
	case len(raw) > maxAnswer:
		return nil, fmt.Errorf("the answer is larger than %d bytes", maxAnswer)
	case w.StatusCode != http.StatusOK:
		e := &AnswerError{Status: w.StatusCode, Message: messageOf(w, raw)}
		if n, err := strconv.Atoi(w.Header.Get("Retry-After")); err == nil && n > 0 {
			e.RetryAfter = time.Duration(n) * time.Second
		}
		return nil, e
	}
	return raw, nil
}

// told says what went wrong with a call, and what may be behind it.
func told(err error) error {
	var address *url.Error
	if errors.As(err, &address) {
		err = address.Err
	}
	var bad x509.CertificateInvalidError
	var unknown x509.UnknownAuthorityError
	switch {
	case errors.As(err, &bad) && bad.Reason == x509.Expired:
		return fmt.Errorf("the service's certificate does not count at this machine's time, %s; is its clock right? %w",
			time.Now().UTC().Format(time.RFC3339), err)
	case errors.As(err, &unknown):
		return fmt.Errorf("the service is not who it is trusted to be: %w", err)
	}
	return fmt.Errorf("the service cannot be reached: %w", err)
}

func messageOf(w *http.Response, raw []byte) string {
	var problem struct{ Detail, Title string }
	if strings.HasPrefix(w.Header.Get("Content-Type"), "application/problem+json") && json.Unmarshal(raw,
		&problem) == nil {
		return cmp.Or(problem.Detail, problem.Title)
	}
	if !strings.HasPrefix(w.Header.Get("Content-Type"), "text/plain") {
		return ""
	}
	return strings.TrimSpace(string(raw[:min(len(raw), 1000)]))
}

// est is where enrolment is spoken (RFC 7030, section 3.2.2).
func est(profile, operation string) string {
	if profile != "" {
		profile = "/" + url.PathEscape(profile)
	}
	return "/.well-known/est" + profile + "/" + operation
}

// certsIn reads the certificates of an answer (RFC 7030, section 4.1.3; RFC 8951, section 3.1).
func certsIn(raw []byte) ([]*x509.Certificate, error) {
	der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(raw)), ""))
	if err != nil {
		return nil, errors.New("the answer is not base64")
	}
	p7, err := pkcs7.Parse(der)
	if err != nil {
		return nil, fmt.Errorf("the answer is no PKCS #7: %w", err)
	}
	if len(p7.Certificates) == 0 {
		return nil, errors.New("the answer holds no certificate")
	}
	return p7.Certificates, nil
}

// authorities asks for the certificates of the authority.
func (c *caller) authorities(ctx context.Context) ([]*x509.Certificate, error) {
	raw, err := c.do(ctx, http.MethodGet, est("", "cacerts"), nil, nil)
	if err != nil {
		return nil, err
	}
	return certsIn(raw)
}

// byFingerprint asks whoever answers for the authority's certificates, and takes those of which one has the SHA-256
// that was told by another way (RFC 7030, section 4.1.1). Nothing else is said to whoever that is.
func byFingerprint(ctx context.Context, base, fingerprint string) ([]byte, error) {
	want, err := hex.DecodeString(strings.NewReplacer(":", "", " ", "").Replace(strings.ToLower(fingerprint)))
	if err != nil || len(want) != sha256.Size {
		return nil, fmt.Errorf("%q is no SHA-256 of a certificate, which is 64 digits of 0 to 9 and a to f",
			fingerprint)
	}
	c := newCaller(base, nil, nil)
	defer c.close()
	c.client.Transport.(*http.Transport).TLSClientConfig.InsecureSkipVerify = true // see above
	certs, err := c.authorities(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range certs {
		if sum := sha256.Sum256(x.Raw); subtle.ConstantTimeCompare(sum[:], want) == 1 && x.IsCA {
			return pemOf(x), nil
		}
	}
	return nil, fmt.Errorf("the authority of %s has another fingerprint than the one given; nothing was sent "+
		"to it", base)
}

func pemOf(certs ...*x509.Certificate) (out []byte) {
	for _, c := range certs {
		out = append(out, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
	}
	return out
}

// Enrol gets the first certificate of a device by a code. What the service may be trusted by, and what the agent was
// told, is kept before it asks, so that a run that was broken off goes on when it is started again.
func (f *Folder) Enrol(ctx context.Context, e Enrolment) (*x509.Certificate, error) {
	var got *x509.Certificate
	err := f.alone(ctx, func() error {
		if c, err := f.Certificate(); err == nil && !e.Again && time.Now().Before(c.Leaf.NotAfter) {
			return fmt.Errorf("this device has a certificate already, for %s until %s; --again asks for another",
				c.Leaf.Subject.CommonName, c.Leaf.NotAfter.UTC().Format(time.RFC3339))
		}
		if was, err := f.Settings(); err == nil && was.Device != e.Device { // another's key is none for this one
			if err := os.RemoveAll(f.path(nextKeyFile)); err != nil {
				return err
			}
		}
		c, err := f.trust(ctx, &e)
		if err != nil {
			return err
		}
		defer c.close()
		got, err = f.ask(ctx, c, &e)
		return err
	})
	return got, err
}

// trust settles by whom the service is trusted, and calls it so.
func (f *Folder) trust(ctx context.Context, e *Enrolment) (c *caller, err error) {
	if e.Fingerprint != "" {
		if e.Trusted, err = byFingerprint(ctx, e.Service, e.Fingerprint); err != nil {
			return nil, err
		}
	}
	if e.Trusted == nil {
		err = os.RemoveAll(f.path(trustedFile))
	} else if !x509.NewCertPool().AppendCertsFromPEM(e.Trusted) {
		err = errors.New("what the service is to be trusted by holds no certificate in PEM")
	} else {
		err = f.write(trustedFile, e.Trusted, 0o644)
	}
	if err != nil {
		return nil, err
	}
	pool, err := f.trusted()
	if err != nil {
		return nil, err
	}
	c = newCaller(e.Service, pool, nil)
	own, err := c.authorities(ctx)
	for _, x := range own {
		e.OwnTrust = e.OwnTrust || e.Trusted != nil && bytes.Contains(e.Trusted, bytes.TrimSpace(pemOf(x)))
	}
	if err == nil {
		err = f.writeJSON(settingsFile, &e.Settings, 0o644)
	}
	if err != nil {
		c.close()
		return nil, err
	}
	return c, nil
}

// ask asks with the code until there is an answer.
func (f *Folder) ask(ctx context.Context, c *caller, e *Enrolment) (*x509.Certificate, error) {
	basic := "Basic " + base64.StdEncoding.EncodeToString([]byte(e.Device+":"+e.Code))
	for {
		cert, err := f.request(ctx, c, &e.Settings, "simpleenroll", basic)
		var a *AnswerError
		if !errors.As(err, &a) || a.Status != http.StatusAccepted && a.Status != http.StatusServiceUnavailable ||
			a.RetryAfter == 0 {
			return cert, err
		}
		if e.Waiting != nil {
			e.Waiting(a.Message, a.RetryAfter)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(a.RetryAfter):
		}
	}
}

// request asks for a certificate and puts it in force.
func (f *Folder) request(ctx context.Context, c *caller, s *Settings, operation,
	authorization string) (*x509.Certificate, error) {
	key, err := f.nextKey(s.Key)
	if err != nil {
		return nil, err
	}
	der, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: s.Device}}, key)
	if err != nil {
		return nil, err
	}
	head := map[string]string{"Content-Type": "application/pkcs10", "Content-Transfer-Encoding": "base64"}
	if authorization != "" {
		head["Authorization"] = authorization
	}
	raw, err := c.do(ctx, http.MethodPost, est(s.Profile, operation),
		[]byte(base64.StdEncoding.EncodeToString(der)), head)
	if err != nil {
		return nil, err
	}
	got, err := certsIn(raw)
	if err != nil {
		return nil, err
	}
	if own, ok := key.Public().(interface{ Equal(crypto.PublicKey) bool }); !ok || !own.Equal(got[0].PublicKey) {
		return nil, errors.New("the certificate that came is for another key; nothing was kept")
	}
	if name := got[0].Subject; name.CommonName != s.Device && strings.EqualFold(name.SerialNumber, s.Device) {
		s.Device = name.CommonName // it came by its serial, and is known
		if err := f.writeJSON(settingsFile, s, 0o644); err != nil {
			return nil, err
		}
	}
	if got[0].Subject.CommonName != s.Device {
		return nil, fmt.Errorf("the certificate that came is for %.100q; nothing was kept", got[0].Subject.CommonName)
	}
	return got[0], f.keep(key, got)
}

// Renew gets the next certificate by the one that there is, and asks by whom the service is trusted from now on.
func (f *Folder) Renew(ctx context.Context) (*x509.Certificate, error) {
	var got *x509.Certificate
	err := f.alone(ctx, func() error {
		s, c, err := f.known()
		if err != nil {
			return err
		}
		defer c.close()
		if got, err = f.request(ctx, c, s, "simplereenroll", ""); err != nil {
			return err
		}
		if !s.OwnTrust {
			return nil
		}
		own, err := c.authorities(ctx)
		if err != nil {
			return fmt.Errorf("the certificate was renewed, but not by whom the service is trusted: %w", err)
		}
		return f.write(trustedFile, pemOf(own...), 0o644)
	})
	return got, err
}

// known is a caller that shows the certificate of the device.
func (f *Folder) known() (*Settings, *caller, error) {
	s, err := f.Settings()
	if err != nil {
		return nil, nil, err
	}
	own, err := f.Certificate()
	if err != nil {
		return nil, nil, err
	}
	pool, err := f.trusted()
	if err != nil {
		return nil, nil, err
	}
	return s, newCaller(s.Service, pool, own), nil
}
