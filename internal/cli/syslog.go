package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
)

// syslogSender sends messages to a collector.
type syslogSender struct {
	network, address, host string
	conn                   net.Conn
}

func newSyslog(target string) (*syslogSender, error) {
	u, err := url.Parse(target)
	if err != nil || u.Scheme != "tcp" && u.Scheme != "udp" || u.Port() == "" || u.Path != "" {
		return nil, fmt.Errorf("--syslog is tcp://host:port or udp://host:port, not %q", target)
	}
	host, err := os.Hostname()
	if err != nil {
		host = "-"
	}
	return &syslogSender{network: u.Scheme, address: u.Host, host: host}, nil
}

// Priority: facility 13, log audit, and the severities notice and informational
// (RFC 5424, section 6.2.1).
const (
	syslogNotice = 13*8 + 5
	syslogInfo   = 13*8 + 6
)

// message makes an RFC 5424 message of an entry.
func (s *syslogSender) message(l *ledger.Line, text []byte) ([]byte, error) {
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

// send sends one message. Over TCP it tries again until it is written or ctx
// ends.
func (s *syslogSender) send(ctx context.Context, l *ledger.Line, text []byte) error {
	m, err := s.message(l, text)
	if err != nil {
		return err
	}
	if s.network == "tcp" {
		m = append(fmt.Appendf(nil, "%d ", len(m)), m...) // RFC 6587, section 3.4.1
	}
	for pause := time.Second; ; pause = min(2*pause, 30*time.Second) {
		if err = s.write(ctx, m); err == nil || s.network == "udp" || ctx.Err() != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause):
		}
	}
}

func (s *syslogSender) write(ctx context.Context, m []byte) error {
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

func (s *syslogSender) close() {
	if s.conn != nil {
		_ = s.conn.Close() // everything was written
	}
}
