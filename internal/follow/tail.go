package follow

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
)

// The forms in which entries are passed on.
const (
	Text   = "text"   // a line for people
	NDJSON = "ndjson" // an entry a line, with its hash
	OCSF   = "ocsf"   // events of the Open Cybersecurity Schema Framework
)

// Forms lists them.
var Forms = []string{Text, NDJSON, OCSF}

// Tail passes entries on.
type Tail struct {
	As     string // one of Forms
	Origin string // the name of the ledger
	// Resume is a file that keeps the number of the newest entry passed on; "" for
	// none.
	Resume string
	Out    io.Writer // where entries go when Syslog is nil
	Syslog *Syslog
	Clock  func(micros int64) string // tells a moment in the form Text

	passed int64 // the newest entry passed on
	saved  time.Time
}

// Kept is the newest entry that an earlier run passed on, 0 for none.
func (t *Tail) Kept() (int64, error) {
	if t.Resume == "" {
		return 0, nil
	}
	raw, err := os.ReadFile(t.Resume)
	if errors.Is(err, os.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	seq, err := strconv.ParseInt(strings.TrimSpace(string(raw)), 10, 64)
	if err != nil || seq < 0 {
		return 0, fmt.Errorf("%s does not hold the number of an entry", t.Resume)
	}
	return seq, nil
}

// Pass passes an entry on.
func (t *Tail) Pass(ctx context.Context, l *ledger.Line) error {
	messages, err := t.messages(l)
	if err != nil {
		return err
	}
	for _, m := range messages {
		if t.Syslog != nil {
			if err := t.Syslog.Send(ctx, l, m); err != nil {
				return err
			}
		} else if _, err := fmt.Fprintf(t.Out, "%s\n", m); err != nil {
			return err
		}
	}
	if t.passed = l.Seq; time.Since(t.saved) < resumePause {
		return nil
	}
	return t.Save()
}

func (t *Tail) messages(l *ledger.Line) (out [][]byte, err error) {
	switch t.As {
	case Text:
		gist := cmp.Or(event.Gist(&l.Entry), l.About)
		return [][]byte{fmt.Appendf(nil, "%7d  %s  %-18s %-16s %s", l.Seq, t.Clock(l.At), l.Kind, l.Actor,
			gist)}, nil
	case NDJSON:
		return [][]byte{bytes.TrimSpace(ledger.AppendLine(nil, l))}, nil
	}
	events, err := event.OCSF(&l.Entry, t.Origin)
	for _, e := range events {
		out = append(out, e)
	}
	return out, err
}

// resumePause is how often the number of the newest entry is kept at most.
const resumePause = 200 * time.Millisecond

// Save keeps the number of the newest entry passed on.
func (t *Tail) Save() error {
	if t.Resume == "" || t.passed == 0 {
		return nil
	}
	t.saved = time.Now()
	return WriteWhole(t.Resume, strings.NewReader(fmt.Sprintln(t.passed)))
}
