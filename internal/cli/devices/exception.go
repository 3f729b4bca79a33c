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
	c.AddCommand(list, grantCmd(a, "grant DEVICE...|- BASELINE/RULE",
		"Make an exception for devices and one rule",
		`Make an exception for devices and one rule: for all that are named, or none. It counts at
once, unless the rulebook has a second person approve waivers of the rule.`,
		`  ironledger waiver grant GF-L-1042 laptop/firewall --for 14d --reason 'The dock needs the ports, ticket 4711'
  ironledger waiver grant laptop/firewall --where 'tags contains "dock"' --for 14d --reason 'Ticket 4711'`, 1,
		(*client.Client).WaiveDevices),
		approveCmd(a),
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
	c.AddCommand(list, grantCmd(a, "give DEVICE...|-", "State that devices are genuine",
		"State that devices are genuine: all that are named, or none.",
		"  ironledger vouch give GF-P-3307 --for 90d --reason 'Seen at the desk by the help desk, papers checked'", 0,
		(*client.Client).VouchDevices),
		revokeCmd(a, "vouch", func(ctx context.Context, cl *client.Client,
			id, reason string) (*client.Reply[api.Exception], error) {
			return cl.RevokeVouch(ctx, id, api.Reason{Reason: reason})
		}))
	return c
}

func grantFlags(c *cobra.Command, device, state, within *string) {
	c.Flags().StringVar(device, "device", "", "of this device only, by its id")
	c.Flags().StringVar(state, "state", "", "asked, live, ended or revoked (default: all)")
	c.Flags().StringVar(within, "within", "", "those live that end within a time, as 7d")
	shell.Must(c.RegisterFlagCompletionFunc("state",
		cobra.FixedCompletions([]string{"asked", "live", "ended", "revoked"},
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

func grantCmd(a *shell.App, use, short, long, example string, rules int,
	do func(*client.Client, context.Context, api.ExceptionsDraft) (*client.Reply[api.List[api.Exception]],
		error)) *cobra.Command {
	g, x := api.ExceptionsDraft{}, choice{}
	c := &cobra.Command{
		Use: use, Short: short, Long: long, Example: example,
		ValidArgsFunction: func(cmd *cobra.Command, done []string, part string) ([]string,
			cobra.ShellCompDirective) {
			if len(done) == 1 && rules == 1 {
				return a.CompleteRules(cmd, done[0])
			}
			return a.CompleteDevices(cmd, done, part)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			named := args[:len(args)-rules]
			if rules == 1 {
				g.Rule = args[len(args)-1]
			}
			ids, err := x.devices(cmd.Context(), a, cl, named, map[int]string{0: "vouched for",
				1: "excepted from " + g.Rule}[rules])
			if err != nil {
				return err
			}
			got, err := act(cmd.Context(), a, ids, func(part []string) (*client.Reply[api.List[api.Exception]], error) {
				g.Devices = part
				return do(cl, cmd.Context(), g)
			})
			if err != nil {
				return err
			}
			return granted(cmd.Context(), a, cl, got, named)
		},
	}
	f := c.Flags()
	f.StringVar(&g.For, "for", "", "how long it lives, as 14d")
	f.StringVar(&g.Until, "until", "", "or when it ends, RFC 3339")
	f.StringVar(&g.Reason, "reason", "", "why; everybody who sees the device reads it")
	x.addTo(c, rules)
	shell.Must(c.MarkFlagRequired("reason"))
	c.MarkFlagsOneRequired("for", "until")
	c.MarkFlagsMutuallyExclusive("for", "until")
	return c
}

// granted tells of exceptions that were just made, and what speaks against them.
func granted(ctx context.Context, a *shell.App, cl *client.Client, got *client.Reply[api.List[api.Exception]],
	named []string) error {
	items := got.Value.Items
	for i, x := range items {
		if x.Warning == "" {
			continue
		}
		if i >= shownLines {
			shell.Line(a.Err, "Warning: of others too it changes nothing; see them with -o json")
			break
		}
		shell.Line(a.Err, "Warning: it changes nothing now: %s", x.Warning)
	}
	if a.Format != "table" {
		l := shell.Listing{Head: []string{"ID", "DEVICE", "RULE", "STATE", "UNTIL", "WARNING"}, Raw: oneOf(got, named),
			Items: shell.ItemsOf(got.Raw)}
		for _, x := range items {
			l.Rows = append(l.Rows, []string{x.ID, x.Device, x.Rule, x.State, x.Until, x.Warning})
		}
		return a.Print(l)
	}
	if len(items) > 1 {
		told(a, items, func(x api.Exception) string {
			return fmt.Sprintf("%s  %s %s until %s", x.ID, a.Bold(x.Device), x.State, shell.ShortTime(x.Until))
		})
		return nil
	}
	x := items[0]
	d, err := cl.GetDevice(ctx, x.Device)
	if err != nil {
		return err
	}
	stands := fmt.Sprintf("%s stands at %s.", d.Value.ID, a.Mark(d.Value.Level, d.Value.Rank, d.Value.Top))
	if x.State == "asked" {
		shell.Line(a.Out, "%s waits until a second person approves it: ironledger waiver approve %s --reason ...\n%s",
			x.ID, x.ID, stands)
		return nil
	}
	shell.Line(a.Out, "%s is in force until %s (%s). %s", x.ID, shell.ShortTime(x.Until), shell.When(x.Until), stands)
	return nil
}

func approveCmd(a *shell.App) *cobra.Command {
	reason := ""
	c := &cobra.Command{
		Use: "approve ID", Short: "Make a waiver count that needs a second person", Args: cobra.ExactArgs(1),
		Long: "Make a waiver count that the rulebook has a second person approve (waivers: {approve: [...]}). " +
			"Whoever granted it cannot.",
		Example: "  ironledger waiver list --state asked\n" +
			"  ironledger waiver approve w-06h0fkcqq400gcd1xwky --reason 'Spoke with the engine room'",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.ApproveWaiver(cmd.Context(), args[0], api.Reason{Reason: reason})
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"ID", "STATE", "APPROVED BY"}, Raw: got.Raw,
					Rows: [][]string{{got.Value.ID, got.Value.State, got.Value.ApprovedBy}}})
			}
			shell.Line(a.Out, "%s of %s counts until %s.", got.Value.ID, got.Value.Device,
				shell.ShortTime(got.Value.Until))
			return nil
		},
	}
	return shell.WithReason(c, &reason)
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
