package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/client"
)

func (a *app) waiverCmd() *cobra.Command {
	c := &cobra.Command{Use: "waiver",
		Short: "Waivers: dated, reasoned exceptions for one device and one rule", Aliases: []string{"waivers"},
		Long: "A waiver lifts one rule for one device until a moment, with a reason that everybody can read. It takes effect, and ends, at once."}
	p := api.ListWaiversParams{}
	list := &cobra.Command{
		Use: "list", Short: "List waivers, those that end first at the top", Args: cobra.NoArgs,
		Example: "  ironledger waiver list --within 7d\n  ironledger waiver list --device GF-L-1042 --state ended",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Waivers(cmd.Context(), p)
			if err != nil {
				return err
			}
			return show(a, got, []string{"ID", "DEVICE", "RULE", "STATE", "ENDS", "RULE SAYS", "BY",
				"REASON"}, func(g api.Grant) []string {
				return []string{g.Id, g.Device, g.Rule, string(g.State), a.ends(g), g.Verdict, g.Author,
					a.clipped(g.Reason, 40)}
			})
		},
	}
	grantFlags(list, &p.Device, &p.State, &p.Within)
	c.AddCommand(list, a.grantCmd("grant DEVICE BASELINE/RULE",
		"Make an exception for one device and one rule",
		"  ironledger waiver grant GF-L-1042 laptop/firewall --for 14d --reason 'Measuring software of the dock needs the ports, ticket 4711'", 2,
		func(ctx context.Context, cl *client.Client, g api.GrantDraft) (*client.Reply[api.Grant], error) {
			return cl.Waive(ctx, g)
		}),
		a.revokeCmd("waiver", func(ctx context.Context, cl *client.Client,
			id, reason string) (*client.Reply[api.Grant], error) {
			return cl.RevokeWaiver(ctx, id, reason)
		}))
	return c
}

func (a *app) vouchCmd() *cobra.Command {
	c := &cobra.Command{Use: "vouch", Short: "Vouches: dated, reasoned statements that a device is genuine",
		Aliases: []string{"vouches"},
		Long:    "A vouch makes the attribute vouched true for one device until a moment, with a reason that everybody can read."}
	p := api.ListVouchesParams{}
	list := &cobra.Command{
		Use: "list", Short: "List vouches, those that end first at the top", Args: cobra.NoArgs,
		Example: "  ironledger vouch list --within 7d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Vouches(cmd.Context(), p)
			if err != nil {
				return err
			}
			return show(a, got, []string{"ID", "DEVICE", "STATE", "ENDS", "BY", "REASON"},
				func(g api.Grant) []string {
					return []string{g.Id, g.Device, string(g.State), a.ends(g), g.Author, a.clipped(g.Reason, 60)}
				})
		},
	}
	grantFlags(list, &p.Device, &p.State, &p.Within)
	c.AddCommand(list, a.grantCmd("give DEVICE", "State that a device is genuine",
		"  ironledger vouch give GF-P-3307 --for 90d --reason 'Seen at the desk by the help desk, papers checked'", 1,
		func(ctx context.Context, cl *client.Client, g api.GrantDraft) (*client.Reply[api.Grant], error) {
			return cl.Vouch(ctx, g)
		}),
		a.revokeCmd("vouch", func(ctx context.Context, cl *client.Client,
			id, reason string) (*client.Reply[api.Grant], error) {
			return cl.RevokeVouch(ctx, id, reason)
		}))
	return c
}

func grantFlags(c *cobra.Command, device, state, within *string) {
	c.Flags().StringVar(device, "device", "", "of this device only, by its id")
	c.Flags().StringVar(state, "state", "", "live, ended or revoked (default: all)")
	c.Flags().StringVar(within, "within", "", "those live that end within a time, as 7d")
	must(c.RegisterFlagCompletionFunc("state", cobra.FixedCompletions([]string{"live", "ended", "revoked"},
		cobra.ShellCompDirectiveNoFileComp)))
}

// ends says when a grant ends: for people nearly, for machines exactly.
func (a *app) ends(g api.Grant) string {
	switch {
	case a.format != "table":
		return g.Until
	case g.RevokedAt != "":
		return ago(g.RevokedAt)
	}
	return when(g.Until)
}

func (a *app) clipped(s string, n int) string {
	if a.format != "table" {
		return s
	}
	return clip(s, n)
}

func (a *app) grantCmd(use, short, example string, args int,
	do func(context.Context, *client.Client, api.GrantDraft) (*client.Reply[api.Grant], error)) *cobra.Command {
	g := api.GrantDraft{}
	c := &cobra.Command{
		Use: use, Short: short, Example: example, Args: cobra.ExactArgs(args),
		ValidArgsFunction: func(cmd *cobra.Command, done []string, part string) ([]string,
			cobra.ShellCompDirective) {
			if len(done) == 1 && args == 2 {
				return a.completeRules(cmd, done[0])
			}
			return a.completeDevices(cmd, done, part)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
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
			if a.format != "table" {
				return a.print(listing{head: []string{"ID", "DEVICE", "RULE", "UNTIL"},
					rows: [][]string{{got.Value.Id, got.Value.Device, got.Value.Rule, got.Value.Until}},
					raw:  got.Raw})
			}
			d, err := cl.Device(cmd.Context(), got.Value.Device)
			if err != nil {
				return err
			}
			line(a.out, "%s is in force until %s (%s). %s stands at %s.", got.Value.Id,
				shortTime(got.Value.Until), when(got.Value.Until), d.Value.Id,
				a.mark(d.Value.Level, d.Value.Rank, d.Value.Top))
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&g.For, "for", "", "how long it lives, as 14d")
	f.StringVar(&g.Until, "until", "", "or when it ends, RFC 3339")
	f.StringVar(&g.Reason, "reason", "", "why; everybody who sees the device reads it")
	must(c.MarkFlagRequired("reason"))
	c.MarkFlagsOneRequired("for", "until")
	c.MarkFlagsMutuallyExclusive("for", "until")
	return c
}

func (a *app) completeRules(cmd *cobra.Command, device string) ([]string, cobra.ShellCompDirective) {
	cl, err := a.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	d, err := cl.Device(cmd.Context(), device)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, v := range d.Value.Standing.Verdicts {
		out = append(out, v.Rule+"\t"+v.Verdict.String())
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) revokeCmd(noun string,
	do func(context.Context, *client.Client, string, string) (*client.Reply[api.Grant], error)) *cobra.Command {
	reason := ""
	c := &cobra.Command{
		Use: "revoke ID", Short: "End a " + noun + " before its time, at once", Args: cobra.ExactArgs(1),
		Example: fmt.Sprintf("  ironledger %s revoke %s-… --reason 'The cause is mended'", noun, noun[:1]),
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := do(cmd.Context(), cl, args[0], reason)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.print(listing{head: []string{"ID", "STATE"},
					rows: [][]string{{got.Value.Id, string(got.Value.State)}}, raw: got.Raw})
			}
			line(a.out, "%s of %s is revoked.", got.Value.Id, got.Value.Device)
			return nil
		},
	}
	c.Flags().StringVar(&reason, "reason", "", "why it ends before its time")
	must(c.MarkFlagRequired("reason"))
	return c
}

func (a *app) unmatchedCmd() *cobra.Command {
	c := &cobra.Command{Use: "unmatched", Short: "Reports whose keys point at different devices, and settling them",
		Long: "A report whose keys point at different devices is kept aside: nothing is guessed. A person says whose it is, and its keys point there from then on, or discards it."}
	all := false
	list := &cobra.Command{
		Use: "list", Short: "List the reports that wait for a person", Args: cobra.NoArgs,
		Example: "  ironledger unmatched list\n  ironledger unmatched list --all -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Unmatched(cmd.Context(), all)
			if err != nil {
				return err
			}
			return show(a, got, []string{"ID", "SOURCE", "ARRIVED", "TIMES", "STATE", "ITS KEYS POINT AT",
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
				return []string{u.Id, u.Source, ago(u.At), fmt.Sprint(u.Times), string(u.State),
					strings.Join(keys, "; "), a.clipped(strings.Join(says, "; "), 60)}
			})
		},
	}
	list.Flags().BoolVar(&all, "all", false, "settled ones too, and those that wait for their device")
	in := api.SettleUnmatchedJSONRequestBody{}
	settle := &cobra.Command{
		Use: "settle ID", Short: "Join a report to a device, or discard it", Args: cobra.ExactArgs(1),
		Long: `Join a report to a device, or discard it. Its keys point at the device from then on,
also those that another device had; --dry-run tells beforehand which move.`,
		Example: "  ironledger unmatched settle u-1f6c… --device GF-L-1042 --dry-run\n  ironledger unmatched settle u-1f6c… --device GF-L-1042 --reason 'The board was replaced on 12 November'\n  ironledger unmatched settle u-1f6c… --discard --reason 'Test report of the vendor'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.TrimSpace(in.Reason) == "" && !in.DryRun {
				return usageError{errors.New("say how you know: --reason")}
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Settle(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			if a.format == "table" {
				a.printMoved(got.Value.Moved)
			}
			switch t := got.Value; {
			case in.DryRun && a.format == "table":
				line(a.out, "Nothing is changed: this was a dry run.")
			case a.format != "table":
				return a.print(listing{head: []string{"DEVICE", "LEVEL"},
					rows: [][]string{{t.Device, t.Level}}, raw: got.Raw})
			case t.Device == "":
				line(a.out, "%s is discarded.", args[0])
			default:
				line(a.out, "%s is joined to %s, which stands at %s (was %s).", args[0], t.Device, t.Level,
					t.PreviousLevel)
			}
			return nil
		},
	}
	f := settle.Flags()
	f.StringVar(&in.Device, "device", "", "the device the report is of: its id, serial or hardware id")
	f.BoolVar(&in.Discard, "discard", false, "drop the report")
	f.StringVar(&in.Reason, "reason", "", "how you know")
	f.BoolVar(&in.DryRun, "dry-run", false, "tell which keys would move, and change nothing")
	settle.MarkFlagsOneRequired("device", "discard")
	settle.MarkFlagsMutuallyExclusive("device", "discard")
	c.AddCommand(list, settle)
	return c
}

// printMoved tells of keys that move from one device to another.
func (a *app) printMoved(moved []api.MovedKey) {
	for _, k := range moved {
		from := "nobody's"
		if k.From != "" {
			from = "that of " + k.From
		}
		to := "nobody's any more"
		if k.To != "" {
			to = "points at " + k.To
		}
		line(a.out, "%s %s, until now %s, %s", k.Kind, k.Text, from, to)
	}
}

func (a *app) rosterCmd() *cobra.Command {
	c := &cobra.Command{Use: "roster", Short: "The roster: hardware registered in advance as our own"}
	q := ""
	list := &cobra.Command{
		Use: "list", Short: "List the roster", Args: cobra.NoArgs,
		Example: "  ironledger roster list --find 'on its way'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Roster(cmd.Context(), q)
			if err != nil {
				return err
			}
			return show(a, got, []string{"ID", "SERIAL", "HARDWARE ID", "NOTE", "DEVICE", "SINCE", "BY"},
				func(e api.RosterEntry) []string {
					device := e.Device
					if device == "" && a.format == "table" {
						device = a.dim("not seen yet")
					}
					return []string{e.Id, e.Serial, e.HardwareId, e.Note, device, shortTime(e.At), e.By}
				})
		},
	}
	list.Flags().StringVarP(&q, "find", "q", "", "a part of the serial, hardware id or note")
	p := api.ImportRosterParams{}
	imported := &cobra.Command{
		Use: "import FILE|-", Short: "Register hardware from CSV: serial,hardware_id,note",
		Args:    cobra.ExactArgs(1),
		Example: "  ironledger roster import delivery.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			in, err := a.open(args[0])
			if err != nil {
				return err
			}
			defer in.Close()
			got, err := cl.ImportRoster(cmd.Context(), in, p)
			if err != nil {
				return heldBack(err)
			}
			return a.printIntake(got, args[0], "entries", p.DryRun)
		},
	}
	imported.Flags().BoolVar(&p.DryRun, "dry-run", false,
		"tell what would change, and change nothing; exit code 3 says that it would be held back")
	imported.Flags().StringVar(&p.AcceptImpact, "accept-impact", "",
		"take the file although it would lock people out, and why")
	remove := a.removeCmd("Take an entry off the roster", "is off the roster", (*client.Client).RemoveRoster)
	remove.Example = "  ironledger roster remove gf-3391-k --reason 'Sold'"
	c.AddCommand(list, imported, remove)
	return c
}
