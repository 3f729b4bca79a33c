package standin

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"html/template"
	"io"
	"math/big"
	"mime"
	"mime/multipart"
	"net"
	"net/http"
	"net/mail"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// Mailbox stands in for a mail server and everybody's mail: it takes mail over SMTP with
// STARTTLS (RFC 5321, RFC 3207), and shows it on a page.
type Mailbox struct {
	cert  tls.Certificate
	trust []byte // PEM

	mu    sync.Mutex
	mails []Letter
	count int
	down  bool // whether it takes nothing for now
}

// Letter is a mail that came.
type Letter struct {
	At                    time.Time
	From, To, Subject, ID string
	Text, HTML            string
	TLS                   bool // whether it came under TLS
	Header                mail.Header
	Number                int
}

// NewMailbox is a mailbox with a certificate of its own for this machine.
func NewMailbox() (*Mailbox, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	plan := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()),
		Subject:   pkix.Name{CommonName: "mail.gullholm.example"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(30 * 24 * time.Hour), IsCA: true, BasicConstraintsValid: true,
		KeyUsage:    x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"localhost"}}
	der, err := x509.CreateCertificate(rand.Reader, plan, plan, key.Public(), key)
	if err != nil {
		return nil, err
	}
	return &Mailbox{cert: tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key},
		trust: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})}, nil
}

// Trust is the certificate that the mail server shows, PEM.
func (b *Mailbox) Trust() []byte { return b.trust }

// Serve takes mail on a free port of this machine until ctx ends. It returns the address.
func (b *Mailbox) Serve(ctx context.Context) (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	s := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session,
		error) {
		return &letterIn{box: b, conn: c}, nil
	}))
	s.Domain, s.TLSConfig = "mail.gullholm.example", &tls.Config{Certificates: []tls.Certificate{b.cert},
		MinVersion: tls.VersionTLS12}
	s.MaxMessageBytes, s.MaxRecipients = 1<<20, 10
	s.ReadTimeout, s.WriteTimeout = 30*time.Second, 30*time.Second
	go s.Serve(l) //nolint:errcheck // ends with Close
	context.AfterFunc(ctx, func() { s.Close() })
	return l.Addr().String(), nil
}

// Mails are those that came, the newest first.
func (b *Mailbox) Mails() []Letter {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.mails)
}

// SetDown has the mail server take nothing for now, or everything again.
func (b *Mailbox) SetDown(down bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.down = down
}

// letterIn is a mail on its way in.
type letterIn struct {
	box      *Mailbox
	conn     *smtp.Conn
	from, to string
}

func (l *letterIn) Reset()        { l.from, l.to = "", "" }
func (l *letterIn) Logout() error { return nil }

func (l *letterIn) Mail(from string, _ *smtp.MailOptions) error {
	l.box.mu.Lock()
	defer l.box.mu.Unlock()
	if l.box.down {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "not now"}
	}
	l.from = from
	return nil
}

func (l *letterIn) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, "nobody@") {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "there is nobody of that name"}
	}
	l.to = to
	return nil
}

func (l *letterIn) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	_, secure := l.conn.TLSConnectionState()
	in := Letter{At: time.Now(), From: l.from, To: l.to, ID: m.Header.Get("Message-Id"), TLS: secure, Header: m.Header}
	if in.Subject, err = new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject")); err != nil {
		return err
	}
	_, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil {
		return err
	}
	for parts := multipart.NewReader(m.Body, params["boundary"]); ; {
		p, err := parts.NextPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		text, err := io.ReadAll(p)
		if err != nil {
			return err
		}
		if strings.HasPrefix(p.Header.Get("Content-Type"), "text/html") {
			in.HTML = string(text)
		} else {
			in.Text = string(text)
		}
	}
	l.box.mu.Lock()
	defer l.box.mu.Unlock()
	l.box.count++
	in.Number = l.box.count
	l.box.mails = slices.Insert(l.box.mails, 0, in)
	l.box.mails = l.box.mails[:min(len(l.box.mails), maxHeard)]
	return nil
}

var mailPage = template.Must(template.New("mail").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<meta http-equiv="refresh" content="5"><title>The mail of Gullholm, a stand-in</title>
<style>body{font:15px/1.5 sans-serif;margin:2rem;max-width:60rem;color:#222}article{border-top:1px solid #ccc;padding:1rem 0}
h2{margin:0;font-size:17px}.meta{color:#666}iframe{border:1px solid #ddd;width:100%;height:22rem;margin-top:.5rem}
details{margin-top:.5rem}pre{white-space:pre-wrap}</style>
<h1>The mail of Gullholm</h1><p>A stand-in for a mail server: what anybody is sent arrives here.</p>
<form method="post" action="/down"><button>{{if .Down}}Take mail again{{else}}Take no mail for now{{end}}</button></form>
{{range .Mails}}<article><h2>{{.Subject}}</h2><div class="meta">to {{.To}}, {{.At.Format "15:04:05"}}{{if .TLS}}, under TLS{{end}}</div>
<iframe sandbox src="/mail/{{.Number}}" title="{{.Subject}}"></iframe><details><summary>As plain text</summary><pre>{{.Text}}</pre></details>
</article>{{else}}<p>Nothing yet.</p>{{end}}</html>`))

// ServeHTTP shows the mail.
func (b *Mailbox) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.URL.Path == "/down" && r.Method == http.MethodPost:
		b.mu.Lock()
		b.down = !b.down
		b.mu.Unlock()
		http.Redirect(w, r, "/", http.StatusSeeOther)
	case strings.HasPrefix(r.URL.Path, "/mail/"):
		for _, m := range b.Mails() {
			if r.URL.Path == fmt.Sprint("/mail/", m.Number) {
				w.Header().Set("Content-Type", "text/html; charset=utf-8")
				w.Header().Set("Content-Security-Policy", "sandbox; default-src 'none'; style-src 'unsafe-inline'")
				_, _ = io.WriteString(w, m.HTML)
				return
			}
		}
		http.NotFound(w, r)
	case r.URL.Path == "/":
		b.mu.Lock()
		defer b.mu.Unlock()
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = mailPage.Execute(w, struct {
			Mails []Letter
			Down  bool
		}{b.mails, b.down})
	default:
		http.NotFound(w, r)
	}
}
