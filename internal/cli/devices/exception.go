package devices

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// WaiverCmd is the command waiver.
func WaiverCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "waiver",
		Short: "Waivers: dated, reasoned exceptions for one device and one rule", Aliases: []string{"waivers"},
		Long: "A waiver lifts one rule for one device until a moment, with a reason that everybody can read. " +
			"It takes effect, and ends, at once."}
	p := api.ListWaiversParams{}
	list := &cobra.Command{
		Use: "list", Short: "List waivers, those that end first at the top", Args: cobra.NoArgs,
		Example: "  ironledger waiver list --within 7d\n  ironledger waiver list --device GF-L-1042 --state ended",
		RunE: shell.Lists(a, func(cl *client.Client,
			ctx context.Context) (*client.Reply[api.List[api.Exception]], error) {
			return cl.ListWaivers(ctx, p)
		}, []string{"ID", "DEVICE", "RULE", "STATE", "ENDS", "RULE SAYS", "BY",
			"REASON"}, func(g api.Exception) []string {
			return []string{g.ID, g.Device, g.Rule, string(g.State), ends(a, g), g.Verdict, g.Author,
				clipped(a, g.Reason, 40)}
		}),
	}
	grantFlags(list, &p.Device, &p.State, &p.Within)
	c.AddCommand(list, grantCmd(a, "grant DEVICE BASELINE/RULE",
		"Make an exception for one device and one rule",
		"  ironledger waiver grant GF-L-1042 laptop/firewall --for 14d --reason 'Measuring software of the "+
			"dock needs the ports, ticket 4711'", 2,
		func(ctx context.Context, cl *client.Client, g api.ExceptionDraft) (*client.Reply[api.Exception], error) {
			return cl.CreateWaiver(ctx, g)
		}),
		revokeCmd(a, "waiver", func(ctx context.Context, cl *client.Client,
			id, reason string) (*client.Reply[api.Exception], error) {
			return cl.RevokeWaiver(ctx, id, api.Reason{Reason: reason})
		}))
	return c
}

// VouchCmd is the command vouch.
func VouchCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "vouch", Short: "Vouches: dated, reasoned statements that a device is genuine",
		Aliases: []string{"vouches"},
		Long: "A vouch makes the attribute vouched true for one device until a moment, with a reason that " +
			"everybody can read."}
	p := api.ListVouchesParams{}
	list := &cobra.Command{
		Use: "list", Short: "List vouches, those that end first at the top", Args: cobra.NoArgs,
		Example: "  ironledger vouch list --within 7d",
		RunE: shell.Lists(a, func(cl *client.Client,
			ctx context.Context) (*client.Reply[api.List[api.Exception]], error) {
			return cl.ListVouches(ctx, p)
		}, []string{"ID", "DEVICE", "STATE", "ENDS", "BY", "REASON"},
			func(g api.Exception) []string {
				return []string{g.ID, g.Device, string(g.State), ends(a, g), g.Author, clipped(a, g.Reason, 60)}
			}),
	}
	grantFlags(list, &p.Device, &p.State, &p.Within)
	c.AddCommand(list, grantCmd(a, "give DEVICE", "State that a device is genuine",
		"  ironledger vouch give GF-P-3307 --for 90d --reason 'Seen at the desk by the help desk, papers checked'", 1,
		func(ctx context.Context, cl *client.Client, g api.ExceptionDraft) (*client.Reply[api.Exception], error) {
			return cl.CreateVouch(ctx, g)
		}),
		revokeCmd(a, "vouch", func(ctx context.Context, cl *client.Client,
			id, reason string) (*client.Reply[api.Exception], error) {
			return cl.RevokeVouch(ctx, id, api.Reason{Reason: reason})
		}))
	return c
}

func grantFlags(c *cobra.Command, device, state, within *string) {
	c.Flags().StringVar(device, "device", "", "of this device only, by its id")
	c.Flags().StringVar(state, "state", "", "live, ended or revoked (default: all)")
	c.Flags().StringVar(within, "within", "", "those live that end within a time, as 7d")
	shell.Must(c.RegisterFlagCompletionFunc("state", cobra.FixedCompletions([]string{"live", "ended", "revoked"},
		cobra.ShellCompDirectiveNoFileComp)))
}

// ends says when a grant ends: for people nearly, for machines exactly.
func ends(a *shell.App, g api.Exception) string {
	switch {
	case a.Format != "table":
		return g.Until
	case g.RevokedAt != "":
		return shell.Ago(g.RevokedAt)
	}
	return shell.When(g.Until)
}

func clipped(a *shell.App, s string, n int) string {
	if a.Format != "table" {
		return s
	}
	return shell.Clip(s, n)
}

func grantCmd(a *shell.App, use, short, example string, args int,
	do func(context.Context, *client.Client, api.ExceptionDraft) (*client.Reply[api.Exception], error)) *cobra.Command {
	g := api.ExceptionDraft{}
	c := &cobra.Command{
		Use: use, Short: short, Example: example, Args: cobra.ExactArgs(args),
		ValidArgsFunction: func(cmd *cobra.Command, done []string, part string) ([]string,
			cobra.ShellCompDirective) {
			if len(done) == 1 && args == 2 {
				return a.CompleteRules(cmd, done[0])
			}
			return a.CompleteDevices(cmd, done, part)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			if g.Device = args[0]; len(args) > 1 {
				g.Rule = args[1]
			}
			got, err := do(cmd.Context(), cl, g)
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"ID", "DEVICE", "RULE", "UNTIL"},
					Rows: [][]string{{got.Value.ID, got.Value.Device, got.Value.Rule, got.Value.Until}},
					Raw:  got.Raw})
			}
			d, err := cl.GetDevice(cmd.Context(), got.Value.Device)
			if err != nil {
				return err
			}
			shell.Line(a.Out, "%s is in force until %s (%s). %s stands at %s.", got.Value.ID,
				shell.ShortTime(got.Value.Until), shell.When(got.Value.Until), d.Value.ID,
				a.Mark(d.Value.Level, d.Value.Rank, d.Value.Top))
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&g.For, "for", "", "how long it lives, as 14d")
	f.StringVar(&g.Until, "until", "", "or when it ends, RFC 3339")
	f.StringVar(&g.Reason, "reason", "", "why; everybody who sees the device reads it")
	shell.Must(c.MarkFlagRequired("reason"))
	c.MarkFlagsOneRequired("for", "until")
	c.MarkFlagsMutuallyExclusive("for", "until")
	return c
}

func revokeCmd(a *shell.App, noun string,
	do func(context.Context, *client.Client, string, string) (*client.Reply[api.Exception], error)) *cobra.Command {
	reason := ""
	c := &cobra.Command{
		Use: "revoke ID", Short: "End a " + noun + " before its time, at once", Args: cobra.ExactArgs(1),
		Example: fmt.Sprintf("  ironledger %s revoke %s-… --reason 'The cause is mended'", noun, noun[:1]),
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := do(cmd.Context(), cl, args[0], reason)
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"ID", "STATE"},
					Rows: [][]string{{got.Value.ID, string(got.Value.State)}}, Raw: got.Raw})
			}
			shell.Line(a.Out, "%s of %s is revoked.", got.Value.ID, got.Value.Device)
			return nil
		},
	}
	c.Flags().StringVar(&reason, "reason", "", "why it ends before its time")
	shell.Must(c.MarkFlagRequired("reason"))
	return c
}

// UnmatchedCmd is the command unmatched.
func UnmatchedCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "unmatched", Short: "Reports whose keys point at different devices, and settling them",
		Long: "A report whose keys point at different devices is kept aside: nothing is guessed. A person says " +
			"whose it is, and its keys point there from then on, or discards it."}
	c.AddCommand(unmatchedListCmd(a), unmatchedSettleCmd(a))
	return c
}

func unmatchedListCmd(a *shell.App) *cobra.Command {
	all := false
	c := &cobra.Command{
		Use: "list", Short: "List the reports that wait for a person", Args: cobra.NoArgs,
		Example: "  ironledger unmatched list\n  ironledger unmatched list --all -o json",
		RunE: shell.Lists(a, func(cl *client.Client,
			ctx context.Context) (*client.Reply[api.List[api.Unmatched]], error) {
			return cl.ListUnmatched(ctx, api.ListUnmatchedParams{All: all})
		}, []string{"ID", "SOURCE", "ARRIVED", "TIMES", "STATE", "ITS KEYS POINT AT",
			"SAYS"}, func(u api.Unmatched) []string {
			var keys, says []string
			for _, k := range u.Keys {
				to := k.Device
				if to == "" {
					to = "no device"
				}
				keys = append(keys, fmt.Sprintf("%s %s: %s", k.Kind, k.Text, to))
			}
			for _, r := range u.Readings {
				says = append(says, r.Attribute+" "+r.Text)
			}
			return []string{u.ID, u.Source, shell.Ago(u.At), fmt.Sprint(u.Times), string(u.State),
				strings.Join(keys, "; "), clipped(a, strings.Join(says, "; "), 60)}
		}),
	}
	c.Flags().BoolVar(&all, "all", false, "settled ones too, and those that wait for their device")
	return c
}

func unmatchedSettleCmd(a *shell.App) *cobra.Command {
	in := api.SettleUnmatchedJSONRequestBody{}
	c := &cobra.Command{
		Use: "settle ID", Short: "Join a report to a device, or discard it", Args: cobra.ExactArgs(1),
		Long: `Join a report to a device, or discard it. Its keys point at the device from then on,
also those that another device had; --dry-run tells beforehand which move.`,
		Example: "  ironledger unmatched settle u-1f6c… --device GF-L-1042 --dry-run\n  ironledger unmatched " +
			"settle u-1f6c… --device GF-L-1042 --reason 'The board was replaced on 12 November'\n  ironledger " +
			"unmatched settle u-1f6c… --discard --reason 'Test report of the vendor'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.TrimSpace(in.Reason) == "" && !in.DryRun {
				return shell.Usagef("say how you know: --reason")
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.SettleUnmatched(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			if a.Format == "table" {
				printMoved(a, got.Value.Moved)
			}
			switch t := got.Value; {
			case in.DryRun && a.Format == "table":
				shell.Line(a.Out, "Nothing is changed: this was a dry run.")
			case a.Format != "table":
				return a.Print(shell.Listing{Head: []string{"DEVICE", "LEVEL"},
					Rows: [][]string{{t.Device, t.Level}}, Raw: got.Raw})
			case t.Device == "":
				shell.Line(a.Out, "%s is discarded.", args[0])
			default:
				shell.Line(a.Out, "%s is joined to %s, which stands at %s (was %s).", args[0], t.Device, t.Level,
					t.PreviousLevel)
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&in.Device, "device", "", "the device the report is of: its id, serial or hardware id")
	f.BoolVar(&in.Discard, "discard", false, "drop the report")
	f.StringVar(&in.Reason, "reason", "", "how you know")
	f.BoolVar(&in.DryRun, "dry-run", false, "tell which keys would move, and change nothing")
	c.MarkFlagsOneRequired("device", "discard")
	c.MarkFlagsMutuallyExclusive("device", "discard")
	return c
}

// printMoved tells of keys that move from one device to another.
func printMoved(a *shell.App, moved []api.MovedKey) {
	for _, k := range moved {
		from := "nobody's"
		if k.From != "" {
			from = "that of " + k.From
		}
		to := "nobody's any more"
		if k.To != "" {
			to = "points at " + k.To
		}
		shell.Line(a.Out, "%s %s, until now %s, %s", k.Kind, k.Text, from, to)
	}
}
