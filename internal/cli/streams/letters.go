package streams

import (
	"fmt"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
)

func lettersCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "letters STREAM", Short: "List the events that a receiver could not be told and that were given up",
		Args: cobra.ExactArgs(1), ValidArgsFunction: complete(a),
		Example: "  ironledger stream letters st-06h0fkcqq400gcd1xwky\n  ironledger stream letters " +
			"st-06h0fkcqq400gcd1xwky -o csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.ListStreamLetters(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			l := shell.Listing{Head: []string{"EVENT", "ENTRY", "TELLS", "DEVICE", "HAPPENED", "GIVEN UP", "TRIES", "WHY"},
				Raw: got.Raw}
			for _, x := range got.Value.Items {
				at, since, why := x.At, x.Since, x.Why
				if a.Format == "table" {
					at, since, why = shell.Ago(at), shell.Ago(since), shell.Clip(why, 60)
				}
				l.Rows = append(l.Rows, []string{x.ID, fmt.Sprint(x.Seq), x.Event, x.Device, at, since,
					fmt.Sprint(x.Attempts), why})
			}
			return a.Print(l)
		},
	}
}

func resendCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "resend STREAM [EVENT...]", Short: "Send events that were given up once more: those named, or all",
		Long: `Send events that were given up once more: those named, or all. Each is made of its
ledger entry anew, of what the receiver is given today, with the same id; one that the
receiver may not hear of any more is dropped. An event stays in the list until the
receiver has it.`,
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: complete(a),
		Example: "  ironledger stream resend st-06h0fkcqq400gcd1xwky\n  ironledger stream resend " +
			"st-06h0fkcqq400gcd1xwky 8QDkRzbXr9Qn7Vd2TSmBf0qL",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.ResendStreamLetters(cmd.Context(), args[0], api.StreamLetterChoice{IDs: args[1:]})
			if err != nil {
				return err
			}
			return printResent(a, got.Raw, &got.Value)
		},
	}
}

func dropCmd(a *shell.App) *cobra.Command {
	reason, all := "", false
	c := &cobra.Command{
		Use: "drop STREAM [EVENT...]", Short: "Drop events that were given up: those named, or all with --all",
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: complete(a),
		Example: "  ironledger stream drop st-06h0fkcqq400gcd1xwky --all --reason 'The chat room is gone'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if all == (len(args) > 1) {
				return shell.Usagef("name the events to drop, or say --all")
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.DropStreamLetters(cmd.Context(), args[0], api.StreamLetterRemoval{IDs: args[1:], Reason: reason})
			if err != nil {
				return err
			}
			return printResent(a, got.Raw, &got.Value)
		},
	}
	c.Flags().BoolVar(&all, "all", false, "drop all that were given up")
	return shell.WithReason(c, &reason)
}

func printResent(a *shell.App, raw []byte, r *api.StreamResent) error {
	if a.Format != "table" {
		return a.Print(shell.Listing{Head: []string{"SENT", "DROPPED"}, Raw: raw,
			Rows: [][]string{{fmt.Sprint(r.Sent), fmt.Sprint(r.Dropped)}}})
	}
	shell.Line(a.Out, "%d on their way, %d dropped.", r.Sent, r.Dropped)
	return nil
}

func secretCmd(a *shell.App) *cobra.Command {
	var d api.StreamSecretDraft
	c := &cobra.Command{
		Use: "rotate-secret STREAM", Short: "Have the events of a web hook signed with another secret",
		Long: `Have the events of a web hook signed with another secret, which is shown once. For
--overlap each event carries a signature under the secret before too, so that the
receiver can change at its leisure; 0s ends the secret before at once.`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: complete(a),
		Example: "  ironledger stream rotate-secret st-06h0fkcqq400gcd1xwky --reason 'Yearly'\n" +
			"  ironledger stream rotate-secret st-06h0fkcqq400gcd1xwky --overlap 0s --reason 'It stood in a log'",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.RotateStreamSecret(cmd.Context(), args[0], d)
			if err != nil {
				return err
			}
			return print(a, got)
		},
	}
	c.Flags().StringVar(&d.Overlap, "overlap", "", "how long the secret before signs too (default 24h)")
	return shell.WithReason(c, &d.Reason)
}
