package follow

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/leodido/go-syslog/v4/rfc5424"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
)

// Syslog sends messages to a collector (RFC 5424).
type Syslog struct {
	network, address, host string
	conn                   net.Conn
}

// NewSyslog makes a sender to tcp://host:port or udp://host:port. It does not reach
// out yet.
func NewSyslog(target string) (*Syslog, error) {
	u, err := url.Parse(target)
	if err != nil || u.Scheme != "tcp" && u.Scheme != "udp" || u.Port() == "" || u.Path != "" {
		return nil, fmt.Errorf("a collector is tcp://host:port or udp://host:port, not %q", target)
	}
	host, err := os.Hostname()
	if err != nil {
		host = "-"
	}
	return &Syslog{network: u.Scheme, address: u.Host, host: host}, nil
}

// Priority: facility 13, log audit, and the severities notice and informational
// (RFC 5424, section 6.2.1).
const (
	syslogNotice = 13*8 + 5
	syslogInfo   = 13*8 + 6
)

// message makes an RFC 5424 message of an entry.
func (s *Syslog) message(l *ledger.Line, text []byte) ([]byte, error) {
	priority := uint8(syslogInfo)
	if event.Notable(l.Kind) {
		priority = syslogNotice
	}
	m := &rfc5424.SyslogMessage{}
	m.SetVersion(1)
	m.SetPriority(priority)
	m.SetTimestamp(string(ledger.AppendTime(nil, l.At)))
	m.SetHostname(s.host)
	m.SetAppname("ironledger")
	m.SetMsgID(string(l.Kind))
	m.SetParameter("meta", "sequenceId", fmt.Sprint(l.Seq%2147483647)) // section 7.3.1
	m.SetMessage(string(text))
	out, err := m.String()
	if err != nil {
		return nil, fmt.Errorf("entry %d as a syslog message: %w", l.Seq, err)
	}
	return []byte(out), nil
}

// Send sends one message. Over TCP it tries again until it is written or ctx ends.
func (s *Syslog) Send(ctx context.Context, l *ledger.Line, text []byte) error {
	m, err := s.message(l, text)
	if err != nil {
		return err
	}
	if s.network == "udp" { // what is lost is lost
		return s.write(ctx, m)
	}
	m = append(fmt.Appendf(nil, "%d ", len(m)), m...) // RFC 6587, section 3.4.1
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = time.Second, 30*time.Second
	_, err = backoff.Retry(ctx, func() (struct{}, error) { return struct{}{}, s.write(ctx, m) },
		backoff.WithBackOff(pauses), backoff.WithMaxElapsedTime(0))
	return err
}

func (s *Syslog) write(ctx context.Context, m []byte) error {
	if s.conn == nil {
		conn, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, s.network, s.address)
		if err != nil {
			return fmt.Errorf("reach the collector: %w", err)
		}
		s.conn = conn
	}
	err := s.conn.SetWriteDeadline(time.Now().Add(10 * time.Second))
	if err == nil {
		_, err = s.conn.Write(m)
	}
	if err != nil {
		err = errors.Join(fmt.Errorf("send to the collector: %w", err), s.conn.Close())
		s.conn = nil
	}
	return err
}

// Close ends the connection.
func (s *Syslog) Close() {
	if s.conn != nil {
		_ = s.conn.Close() // everything was written
	}
}
