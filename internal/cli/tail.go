package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/client"
)

func (a *app) ledgerTailCmd() *cobra.Command {
	var follow bool
	var from int64
	var as, resume, target string
	last := 0
	c := &cobra.Command{
		Use: "tail", Short: "Print the newest entries, and follow what comes", Args: cobra.NoArgs,
		Long: `Print the newest entries, oldest first, and with --follow every one that comes, none
twice and none left out: entries are numbered without a gap, and a gap is an
error. With --resume the number of the newest entry passed on is kept in a file,
and the next run goes on behind it; after a crash the last few may come twice.

With --syslog entries go to a collector as RFC 5424 messages, over TCP (RFC 6587,
octet counting) or UDP; --as says in which form. Over UDP what is lost is lost.`,
		Example: "  ironledger ledger tail -f\n  ironledger ledger tail -f --as ocsf --syslog tcp://siem.gullholm.example:601 --resume /var/lib/ironledger-tail/seq",
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if as != "text" && as != "ndjson" && as != "ocsf" {
				return usageError{fmt.Errorf("--as is text, ndjson or ocsf, not %q", as)}
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
			defer stop()
			if _, err := a.witness(ctx, cl, ""); err != nil {
				return err
			}
			now, err := cl.Ledger(ctx)
			if err != nil {
				return err
			}
			t := &tail{app: a, as: as, origin: now.Value.Origin, resume: resume}
			next := max(1, now.Value.Size-int64(last)+1)
			if from > 0 {
				next = from
			}
			if kept, err := t.kept(); err != nil {
				return err
			} else if kept > 0 {
				next = kept + 1
			}
			if target != "" {
				if t.syslog, err = newSyslog(target); err != nil {
					return usageError{err}
				}
				defer t.syslog.close()
				if !cmd.Flags().Changed("as") {
					t.as = "ocsf"
				}
			}
			defer func() { err = errors.Join(err, t.save()) }()
			if !follow {
				if next > now.Value.Size {
					return nil
				}
				body, err := cl.ExportLedger(ctx, api.ExportLedgerParams{From: next, To: now.Value.Size, Format: "ndjson"})
				if err != nil {
					return err
				}
				_, err = client.EachLine(body, func(l *ledger.Line) error { return t.pass(ctx, l) })
				return errors.Join(err, body.Close())
			}
			return cl.Follow(ctx, next, func(l *ledger.Line) error { return t.pass(ctx, l) }, func(err error) bool {
				line(a.err, "ironledger: %s; trying again", err)
				return true
			})
		},
	}
	f := c.Flags()
	f.BoolVarP(&follow, "follow", "f", false, "go on with what comes, until interrupted")
	f.IntVarP(&last, "lines", "n", 10, "begin so many entries before the newest")
	f.Int64Var(&from, "from", 0, "begin with this entry")
	f.StringVar(&as, "as", "text", "text, ndjson or ocsf (to syslog: ocsf)")
	f.StringVar(&resume, "resume", "", "keep the newest number in this file, and go on behind it")
	f.StringVar(&target, "syslog", "", "where to send entries: tcp://host:port or udp://host:port")
	must(c.RegisterFlagCompletionFunc("as", cobra.FixedCompletions([]string{"text", "ndjson", "ocsf"}, cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// tail passes entries on.
type tail struct {
	*app
	as, origin, resume string
	syslog             *syslogSender
	passed             int64 // the newest entry passed on
	saved              time.Time
}

// kept is the newest entry that an earlier run passed on, 0 for none.
func (t *tail) kept() (int64, error) {
	if t.resume == "" {
		return 0, nil
	}
	raw, err := os.ReadFile(t.resume)
	if errors.Is(err, os.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	seq, err := strconv.ParseInt(strings.TrimSpace(string(raw)), 10, 64)
	if err != nil || seq < 0 {
		return 0, fmt.Errorf("%s does not hold the number of an entry", t.resume)
	}
	return seq, nil
}

func (t *tail) pass(ctx context.Context, l *ledger.Line) error {
	var messages [][]byte
	switch t.as {
	case "text":
		messages = [][]byte{fmt.Appendf(nil, "%7d  %s  %-18s %-16s %s", l.Seq, entryTime(string(ledger.AppendTime(nil, l.At))), l.Kind, l.Actor, cmp.Or(event.Gist(&l.Entry), l.About))}
	case "ndjson":
		messages = [][]byte{bytes.TrimSpace(ledger.AppendLine(nil, l))}
	default:
		events, err := event.OCSF(&l.Entry, t.origin)
		if err != nil {
			return err
		}
		for _, e := range events {
			messages = append(messages, e)
		}
	}
	for _, m := range messages {
		if t.syslog != nil {
			if err := t.syslog.send(ctx, l, m); err != nil {
				return err
			}
		} else if _, err := fmt.Fprintf(t.out, "%s\n", m); err != nil {
			return err
		}
	}
	if t.passed = l.Seq; time.Since(t.saved) < resumePause {
		return nil
	}
	return t.save()
}

// resumePause is how often the number of the newest entry is kept at most.
const resumePause = 200 * time.Millisecond

func (t *tail) save() error {
	if t.resume == "" || t.passed == 0 {
		return nil
	}
	t.saved = time.Now()
	return writeWhole(t.resume, strings.NewReader(fmt.Sprintln(t.passed)))
}
