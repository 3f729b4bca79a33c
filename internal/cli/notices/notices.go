// Package notices has the commands about who is told of what.
package notices

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// NoticeCmd is the command notice.
func NoticeCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "notice", Short: "Who is told of what: list, try, mute", Aliases: []string{"notices"}}
	c.AddCommand(listCmd(a), tryCmd(a), muteCmd(a), unmuteCmd(a), mutesCmd(a))
	return c
}

func listCmd(a *shell.App) *cobra.Command {
	var p api.ListNoticesParams
	limit := 0
	c := &cobra.Command{
		Use: "list", Short: "List notices, the newest first: sent, waiting, or why nobody was told", Args: cobra.NoArgs,
		Example: "  ironledger notice list\n  ironledger notice list --state failed\n  ironledger notice list " +
			"--person maren.holt@gullholm.example -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			l, _, err := shell.Pages(limit, func(size int, cursor string) (*client.Reply[api.NoticePage], error) {
				p.Limit, p.Cursor = size, cursor
				return cl.ListNotices(cmd.Context(), p)
			}, []string{"NOTICE", "SAYS", "TO", "STATE", "HAPPENED", "SENT", "WHY NOT"}, func(n api.Notice) []string {
				title, at, sent, why := n.Title, n.At, n.SentAt, n.Why
				if a.Format == "table" {
					title, at, why = shell.Clip(title, 52), shell.Ago(at), shell.Clip(why, 34)
					if sent != "" {
						sent = shell.Ago(sent)
					}
				}
				return []string{n.Notice, title, n.To, n.State, at, sent, why}
			})
			if err != nil {
				return err
			}
			return a.Print(l)
		},
	}
	f := c.Flags()
	f.StringVar(&p.Device, "device", "", "only of a device")
	f.StringVar(&p.Person, "person", "", "only about a person")
	f.StringVar(&p.State, "state", "", "waiting, sending, sent, healed, muted or failed")
	f.IntVar(&limit, "limit", 50, "at most so many (0: all)")
	shell.Must(c.RegisterFlagCompletionFunc("state",
		cobra.FixedCompletions([]string{"waiting", "sending", "sent", "healed",
			"muted", "failed"}, cobra.ShellCompDirectiveNoFileComp)))
	return c
}

func tryCmd(a *shell.App) *cobra.Command {
	var d api.NoticeTrialDraft
	html := ""
	c := &cobra.Command{
		Use: "try NOTICE", Short: "Show what a notice of the rulebook would say; nobody is " +
			"told", Args: cobra.ExactArgs(1),
		Long: `Show what a notice of the rulebook in force would say of a device as it stands now, as
if what it is about had just happened: to whom, in which language, with which remedy.
Nobody is told. Exit code 3 says that nobody would be, and the output why.`,
		Example: "  ironledger notice try fell --device GF-L-1042\n  ironledger notice try fell --device " +
			"GF-L-1042 --html mail.html",
		RunE: func(cmd *cobra.Command, args []string) error {
			d.Notice = args[0]
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.TryNotice(cmd.Context(), d)
			if err != nil {
				return err
			}
			t := got.Value
			if html != "" {
				if err := os.WriteFile(html, []byte(t.HTML), 0o644); err != nil {
					return err
				}
			}
			if a.Format != "table" {
				err = a.Print(shell.Listing{Head: []string{"NOTICE", "WOULD", "TO", "VIA", "SUBJECT", "WHY NOT"}, Raw: got.Raw,
					Rows: [][]string{{t.Notice, fmt.Sprint(t.Would), t.To, t.Via, t.Subject, t.Why}}})
			} else {
				printTrial(a, &t)
			}
			if err == nil && !t.Would {
				err = shell.ErrNo
			}
			return err
		},
	}
	c.Flags().StringVar(&d.Device, "device", "", "the device that it would be about")
	c.Flags().StringVar(&html, "html", "", "write the mail's HTML to a file")
	return c
}

func printTrial(a *shell.App, t *api.NoticeTrial) {
	if !t.Would {
		shell.Line(a.Out, "%s", a.Rust("Nobody would be told: "+t.Why))
	}
	if t.To != "" {
		shell.Line(a.Out, "To        %s, by %s, in %s", t.To, t.Via, t.Language)
	}
	shell.Line(a.Out, "Subject   %s\n", a.Bold(t.Subject))
	for line := range strings.Lines(t.Text) {
		shell.Line(a.Out, "  %s", strings.TrimRight(line, "\n"))
	}
}

func mute(a *shell.App, c *cobra.Command, d *api.MuteDraft, say func(*api.Mute) string) *cobra.Command {
	c.Args = cobra.ExactArgs(1)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		d.Person = args[0]
		cl, err := a.Client()
		if err != nil {
			return err
		}
		got, err := cl.Mute(cmd.Context(), *d)
		if err != nil {
			return err
		}
		if a.Format != "table" {
			return a.Print(shell.Listing{Head: []string{"PERSON", "UNTIL"}, Raw: got.Raw,
				Rows: [][]string{{got.Value.Person, got.Value.Until}}})
		}
		shell.Line(a.Out, "%s", say(&got.Value))
		return nil
	}
	return shell.WithReason(c, &d.Reason)
}

func muteCmd(a *shell.App) *cobra.Command {
	d := &api.MuteDraft{}
	c := &cobra.Command{
		Use: "mute PERSON", Short: "Have a person not be reminded for a while",
		Long: `Have a person not be reminded for a while: before something ends, and of what rises.
That a device fell is always told. People do the same on the page of their device.`,
		Example: "  ironledger notice mute maren.holt@gullholm.example --for 14d --reason 'On leave'",
	}
	c.Flags().StringVar(&d.For, "for", "", "how long, as 14d (default 30d)")
	return mute(a, c, d, func(m *api.Mute) string {
		return fmt.Sprintf("%s is not reminded until %s. That a device fell is told all the same.", m.Person, m.Until)
	})
}

func unmuteCmd(a *shell.App) *cobra.Command {
	return mute(a, &cobra.Command{
		Use: "unmute PERSON", Short: "Have a person be reminded again",
		Example: "  ironledger notice unmute maren.holt@gullholm.example --reason 'Back from leave'",
	}, &api.MuteDraft{For: "0s"}, func(m *api.Mute) string { return m.Person + " is reminded again." })
}

func mutesCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "mutes", Short: "List people who are not reminded", Args: cobra.NoArgs,
		Example: "  ironledger notice mutes",
		RunE: shell.Lists(a, func(cl *client.Client, ctx context.Context) (*client.Reply[api.List[api.Mute]], error) {
			return cl.ListMutes(ctx)
		}, []string{"PERSON", "UNTIL", "BY", "REASON"}, func(m api.Mute) []string {
			return []string{m.Person, m.Until, m.By, m.Reason}
		}),
	}
}
