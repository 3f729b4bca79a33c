package records

import (
	"cmp"
	"context"
	"errors"
	"os"
	"os/signal"
	"slices"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
	"ironledger.example/internal/follow"
)

// passUntil passes on the entries from one on to another.
func passUntil(ctx context.Context, cl *client.Client, t *follow.Tail, from, to int64) error {
	if from > to {
		return nil
	}
	body, err := cl.ExportLedger(ctx, api.ExportLedgerParams{From: from, To: to, Format: "ndjson"})
	if err != nil {
		return err
	}
	_, err = client.EachLine(body, func(l *ledger.Line) error { return t.Pass(ctx, l) })
	return errors.Join(err, body.Close())
}

func ledgerTailCmd(a *shell.App) *cobra.Command {
	var goOn bool
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
		Example: "  ironledger ledger tail -f\n  ironledger ledger tail -f --as ocsf --syslog " +
			"tcp://siem.gullholm.example:601 --resume /var/lib/ironledger-tail/seq",
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if !slices.Contains(follow.Forms, as) {
				return shell.Usagef("--as is text, ndjson or ocsf, not %q", as)
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
			defer stop()
			if _, err := witness(ctx, a, cl, ""); err != nil {
				return err
			}
			now, err := cl.GetLedger(ctx)
			if err != nil {
				return err
			}
			t, next, err := newTail(a, now.Value, as, resume, cmp.Or(from, now.Value.Size-int64(last)+1))
			if err != nil {
				return err
			}
			if target != "" {
				if err := collector(t, target, cmd.Flags().Changed("as")); err != nil {
					return err
				}
				defer t.Syslog.Close()
			}
			defer func() { err = errors.Join(err, t.Save()) }()
			if !goOn {
				return passUntil(ctx, cl, t, next, now.Value.Size)
			}
			return cl.Follow(ctx, next, func(l *ledger.Line) error { return t.Pass(ctx, l) }, tryAgain(a))
		},
	}
	f := c.Flags()
	f.BoolVarP(&goOn, "follow", "f", false, "go on with what comes, until interrupted")
	f.IntVarP(&last, "lines", "n", 10, "begin so many entries before the newest")
	f.Int64Var(&from, "from", 0, "begin with this entry")
	f.StringVar(&as, "as", follow.Text, "text, ndjson or ocsf (to syslog: ocsf)")
	f.StringVar(&resume, "resume", "", "keep the newest number in this file, and go on behind it")
	f.StringVar(&target, "syslog", "", "where to send entries: tcp://host:port or udp://host:port")
	shell.Must(c.RegisterFlagCompletionFunc("as",
		cobra.FixedCompletions(follow.Forms, cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// newTail passes entries on, from the one behind the last that resume names, else from.
func newTail(a *shell.App, now api.Ledger, as, resume string, from int64) (*follow.Tail, int64, error) {
	t := &follow.Tail{As: as, Origin: now.Origin, Resume: resume, Out: a.Out,
		Clock: func(at int64) string { return entryTime(string(ledger.AppendTime(nil, at))) }}
	kept, err := t.Kept()
	if kept > 0 {
		return t, kept + 1, err
	}
	return t, max(1, from), err
}

// tryAgain says what failed, and that it is tried again.
func tryAgain(a *shell.App) func(error) bool {
	return func(err error) bool {
		shell.Line(a.Err, "ironledger: %s; trying again", err)
		return true
	}
}

// collector lets t send to target, as OCSF unless a form was chosen.
func collector(t *follow.Tail, target string, chosen bool) (err error) {
	if t.Syslog, err = follow.NewSyslog(target); err != nil {
		return shell.Usagef("--syslog: %w", err)
	}
	if !chosen {
		t.As = follow.OCSF
	}
	return nil
}
