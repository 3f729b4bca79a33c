package notice

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/netip"
	"net/url"
	"strconv"
	"time"

	gomail "github.com/wneessen/go-mail"
)

// Mail is a message to one address.
type Mail struct {
	ID, To, Subject, Text, HTML, Language string
}

// Mailer sends mail.
type Mailer interface {
	// Send hands a message to a mail server. The error is a [*PermanentError] when it will
	// never take it.
	Send(ctx context.Context, m *Mail) error
}

// PermanentError is a message that a mail server will never take.
type PermanentError struct{ Message string }

func (e *PermanentError) Error() string { return e.Message }

// SMTP is a mail server.
type SMTP struct {
	from   *mail.Address
	host   string
	domain string // of the ids of messages
	option []gomail.Option
}

// mailTimeout is how long a mail server may take.
const mailTimeout = 30 * time.Second

// OpenSMTP reads where a mail server is: smtps://user@host:465 speaks TLS from the
// beginning (RFC 8314), smtp://host:587 must offer STARTTLS (RFC 3207). In the clear it
// is spoken to on this machine alone.
func OpenSMTP(server, password, from string, trusted *tls.Config) (*SMTP, error) {
	u, err := url.Parse(server)
	if err != nil || u.Scheme != "smtp" && u.Scheme != "smtps" || u.Hostname() == "" ||
		u.Path+u.RawQuery+u.Fragment != "" {
		return nil, fmt.Errorf("%q is not a mail server, as smtps://posture@mail.gullholm.example:465", server)
	}
	if _, has := u.User.Password(); has {
		return nil, errors.New("a password does not belong in the address of a mail server")
	}
	address, err := mail.ParseAddress(from)
	if err != nil {
		return nil, fmt.Errorf("%q is not a sender, as \"Iron Ledger <posture@gullholm.example>\"", from)
	}
	s := &SMTP{from: address, host: u.Hostname(), domain: address.Address[1+lastAt(address.Address):]}
	policy := gomail.TLSMandatory
	if ip, err := netip.ParseAddr(s.host); s.host == "localhost" || err == nil && ip.IsLoopback() {
		policy = gomail.TLSOpportunistic
	}
	port := 587
	if u.Scheme == "smtps" {
		port = 465
	}
	if u.Port() != "" {
		if port, err = strconv.Atoi(u.Port()); err != nil || port < 1 || port > 65535 {
			return nil, fmt.Errorf("%s is not a port", u.Port())
		}
	}
	s.option = []gomail.Option{gomail.WithPort(port), gomail.WithTimeout(mailTimeout), gomail.WithTLSPolicy(policy),
		gomail.WithHELO(s.domain)}
	if trusted == nil {
		trusted = &tls.Config{}
	}
	trusted = trusted.Clone()
	trusted.ServerName, trusted.MinVersion = s.host, tls.VersionTLS12
	s.option = append(s.option, gomail.WithTLSConfig(trusted))
	if u.Scheme == "smtps" {
		s.option = append(s.option, gomail.WithSSL())
	}
	if u.User.Username() != "" {
		s.option = append(s.option, gomail.WithSMTPAuth(gomail.SMTPAuthAutoDiscover),
			gomail.WithUsername(u.User.Username()),
			gomail.WithPassword(password))
	}
	return s, nil
}

func lastAt(address string) int {
	for i := len(address) - 1; i >= 0; i-- {
		if address[i] == '@' {
			return i
		}
	}
	return -1
}

// Send hands a message to the mail server.
func (s *SMTP) Send(ctx context.Context, m *Mail) error {
	msg := gomail.NewMsg()
	msg.FromMailAddress(s.from)
	if err := msg.To(m.To); err != nil {
		return &PermanentError{fmt.Sprintf("%q is not an address of mail", m.To)}
	}
	msg.Subject(m.Subject)
	msg.SetMessageIDWithValue(m.ID + "@" + s.domain)
	msg.SetDate()
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	msg.SetGenHeader("Content-Language", m.Language)
	msg.SetBodyString(gomail.TypeTextPlain, m.Text)
	msg.AddAlternativeString(gomail.TypeTextHTML, m.HTML)
	client, err := gomail.NewClient(s.host, s.option...)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, mailTimeout)
	defer cancel()
	err = client.DialAndSendWithContext(ctx, msg)
	var refused *gomail.SendError
	if errors.As(err, &refused) && !refused.IsTemp() && refused.ErrorCode() >= 500 {
		return &PermanentError{fmt.Sprintf("the mail server refused it: %v", err)}
	}
	var unreachable *net.OpError
	if errors.As(err, &unreachable) {
		return fmt.Errorf("the mail server does not answer: %w", err)
	}
	return err
}
