// Package alerts has the commands about what needs a person.
package alerts

import (
	"fmt"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
)

// AlertCmd is the command alert.
func AlertCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "alert", Short: "What needs a person: list, seen", Aliases: []string{"alerts"}}
	c.AddCommand(listCmd(a), seenCmd(a))
	return c
}

func show(a *shell.App, raw []byte, list *api.AlertList, all bool) error {
	l := shell.Listing{Head: []string{"ALERT", "SAYS", "SINCE", "SEEN BY", "NOTE"}, Raw: raw}
	for _, x := range list.Items {
		if x.SeenBy != "" && !all {
			continue
		}
		title, since := x.Title, x.Since
		if a.Format == "table" {
			title = shell.Clip(title, 90)
			if since != "" {
				since = shell.Ago(since)
			}
		}
		l.Rows = append(l.Rows, []string{x.ID, title, since, x.SeenBy, x.Note})
	}
	return a.Print(l)
}

func listCmd(a *shell.App) *cobra.Command {
	all, check := false, false
	c := &cobra.Command{
		Use: "list", Short: "List what needs a person and nobody has seen", Args: cobra.NoArgs,
		Long: `List what needs a person and nobody has seen: an account for emergencies that was used, a
source that is quiet, reports and devices that wait for somebody, a receiver that is
behind, a notice that reached nobody, an issuer that ends, a disk that fills. An alert
goes away with its cause. With --check the exit code is 3 when there is any.`,
		Example: "  ironledger alert list\n  ironledger alert list --all -o json\n  ironledger alert list " +
			"--check >/dev/null || page-somebody",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.ListAlerts(cmd.Context())
			if err != nil {
				return err
			}
			if err := show(a, got.Raw, &got.Value, all || a.Format != "table"); err != nil {
				return err
			}
			if n := len(got.Value.Items) - got.Value.Unseen; n > 0 && !all && a.Format == "table" {
				shell.Line(a.Err, "%d more were seen: --all", n)
			}
			if check && got.Value.Unseen > 0 {
				return shell.ErrNo
			}
			return nil
		},
	}
	c.Flags().BoolVar(&all, "all", false, "those that somebody has seen, too")
	c.Flags().BoolVar(&check, "check", false, "exit with 3 when there is one that nobody has seen")
	return c
}

func seenCmd(a *shell.App) *cobra.Command {
	var d api.AlertSeenDraft
	all := false
	c := &cobra.Command{
		Use: "seen [ALERT...]", Short: "Say that alerts were seen; they stay until their cause is gone",
		Example: "  ironledger alert seen source:quay-seals:2026-11-20T08:00:00Z --note 'The vendor knows, " +
			"ticket 812'\n" +
			"  ironledger alert seen --all",
		ValidArgsFunction: func(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
			cl, err := a.Client()
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			got, err := cl.ListAlerts(cmd.Context())
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			var out []string
			for _, x := range got.Value.Items {
				out = append(out, x.ID+"\t"+x.Title)
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if all == (len(args) > 0) {
				return shell.Usagef("name the alerts that were seen, or say --all")
			}
			d.IDs = args
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.SeeAlerts(cmd.Context(), d)
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return show(a, got.Raw, &got.Value, true)
			}
			shell.Line(a.Out, "Seen. %s", map[bool]string{true: "There is no other.",
				false: fmt.Sprintf("%d are left that nobody has seen.", got.Value.Unseen)}[got.Value.Unseen == 0])
			return nil
		},
	}
	c.Flags().BoolVar(&all, "all", false, "all there are")
	c.Flags().StringVar(&d.Note, "note", "", "what is done about it; others read it")
	return c
}
