package records

import (
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
			t := &follow.Tail{As: as, Origin: now.Value.Origin, Resume: resume, Out: a.Out,
				Clock: func(at int64) string { return entryTime(string(ledger.AppendTime(nil, at))) }}
			next := max(1, now.Value.Size-int64(last)+1)
			if from > 0 {
				next = from
			}
			if kept, err := t.Kept(); err != nil {
				return err
			} else if kept > 0 {
				next = kept + 1
			}
			if target != "" {
				if t.Syslog, err = follow.NewSyslog(target); err != nil {
					return shell.Usagef("--syslog: %w", err)
				}
				defer t.Syslog.Close()
				if !cmd.Flags().Changed("as") {
					t.As = follow.OCSF
				}
			}
			defer func() { err = errors.Join(err, t.Save()) }()
			if !goOn {
				return passUntil(ctx, cl, t, next, now.Value.Size)
			}
			return cl.Follow(ctx, next, func(l *ledger.Line) error { return t.Pass(ctx, l) }, func(err error) bool {
				shell.Line(a.Err, "ironledger: %s; trying again", err)
				return true
			})
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
