package devices

import (
	"cmp"
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

func deviceEnrolCmd(a *shell.App) *cobra.Command {
	var claims api.Claims
	c := &cobra.Command{
		Use: "enrol", Short: "Ask for a device to be known, or settle who asked", Args: cobra.NoArgs,
		Long: `Ask for a device to be known here. The rulebook's enrolment decides: it lets the
device in, holds it for a person, or refuses it. What is said here decides that,
and is no evidence.

The exit code is 0 when the device is enrolled, 3 when it is held or refused.`,
		Example: `  ironledger device enrol --serial GF-9001-S --platform windows --form laptop
  ironledger device enrol list --state held
  ironledger device enrol admit 06h0fkcqq400gcd1xwky --reason "Shown at the desk"`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.EnrolDevice(cmd.Context(), claims)
			if err != nil {
				return err
			}
			if err := printEnrolment(a, got); err != nil {
				return err
			}
			if got.Value.State != "enrolled" {
				return shell.ErrNo
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&claims.Serial, "serial", "", "the serial")
	f.StringVar(&claims.HardwareID, "hardware-id", "", "the hardware id")
	f.StringVar(&claims.ID, "id", "", "the id it is to have")
	f.StringVar(&claims.Platform, "platform", "", "the platform")
	f.StringVar(&claims.Form, "form", "", "the form: laptop, phone, …")
	f.StringVar(&claims.Model, "model", "", "the model")
	f.StringVar(&claims.Name, "name", "", "what people call it")
	f.StringVar(&claims.Ownership, "ownership", "", "company or personal")
	f.StringVar(&claims.Owner, "owner", "", "whose it is: a person's id")
	c.AddCommand(enrolListCmd(a), enrolSettleCmd(a, "admit", "Take in a device that is held", true),
		enrolSettleCmd(a, "refuse", "Refuse a device that is held", false))
	return c
}

func printEnrolment(a *shell.App, got *client.Reply[api.Enrolment]) error {
	e := got.Value
	if a.Format != "table" {
		return a.Print(shell.Listing{Head: enrolmentHead, Rows: [][]string{enrolmentRow(e)}, Raw: got.Raw})
	}
	switch e.State {
	case "enrolled":
		shell.Line(a.Out, "Enrolled as %s: %s.", a.Bold(e.Device), cmp.Or(e.Reason, e.Why))
	case "held":
		shell.Line(a.Out, "Held as %s: %s.", a.Bold(e.ID), e.Why)
	default:
		shell.Line(a.Out, "Refused: %s.", cmp.Or(e.Reason, e.Why))
	}
	return nil
}

var enrolmentHead = []string{"ENROLMENT", "ASKED", "STATE", "SERIAL", "HARDWARE", "PLATFORM", "OWNERSHIP",
	"OWNER", "ROSTER", "DEVICE", "WHY"}

func enrolmentRow(e api.Enrolment) []string {
	return []string{e.ID, shell.ShortTime(e.At), string(e.State), e.Claims.Serial, e.Claims.HardwareID,
		e.Claims.Platform, e.Claims.Ownership, e.Claims.Owner, shell.Only(e.OnRoster, "yes"), e.Device,
		cmp.Or(e.Reason, e.Why)}
}

func enrolListCmd(a *shell.App) *cobra.Command {
	p := api.ListEnrolmentsParams{}
	c := &cobra.Command{
		Use: "list", Short: "List devices that asked to be known, the newest first", Args: cobra.NoArgs,
		Example: "  ironledger device enrol list --state held",
		RunE: shell.Lists(a, func(cl *client.Client,
			ctx context.Context) (*client.Reply[api.List[api.Enrolment]], error) {
			return cl.ListEnrolments(ctx, p)
		}, enrolmentHead, enrolmentRow),
	}
	c.Flags().StringVar(&p.State, "state", "", "held, enrolled or refused")
	shell.Must(c.RegisterFlagCompletionFunc("state", cobra.FixedCompletions([]string{"held", "enrolled", "refused"},
		cobra.ShellCompDirectiveNoFileComp)))
	return c
}

func enrolSettleCmd(a *shell.App, verb, short string, admit bool) *cobra.Command {
	reason := ""
	c := &cobra.Command{
		Use: verb + " ENROLMENT", Short: short, Args: cobra.ExactArgs(1),
		Example: "  ironledger device enrol " + verb + " 06h0fkcqq400gcd1xwky --reason 'Shown at the desk'",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.DecideEnrolment(cmd.Context(), args[0],
				api.Admission{Admit: admit, Reason: reason})
			if err != nil {
				return err
			}
			return printEnrolment(a, got)
		},
	}
	return shell.WithReason(c, &reason)
}

// holds is until when a quarantine holds, in words.
func holds(q *api.Quarantine) string {
	if q.Until == "" {
		return "until it is lifted"
	}
	return "until " + shell.ShortTime(q.Until)
}

func showOrders(a *shell.App, got *client.Reply[api.List[api.Quarantine]], done string) error {
	if a.Format != "table" {
		return shell.Show(a, got, []string{"DEVICE", "UNTIL", "BY", "REASON"}, func(q api.Quarantine) []string {
			return []string{q.Device, q.Until, q.By, q.Reason}
		})
	}
	told(a, got.Value.Items, func(q api.Quarantine) string { return fmt.Sprintf(done, a.Bold(q.Device), holds(&q)) })
	return nil
}

func deviceTagCmd(a *shell.App) *cobra.Command {
	d, note, owner, x := api.TagsDraft{}, "", "", choice{}
	c := &cobra.Command{
		Use: "tag DEVICE...|-", Short: "Put words on devices, take some off, note something, set the owner",
		ValidArgsFunction: a.CompleteDevices,
		Long: `Put words on devices, take some off, or note something of them: of all that are named, or
none. Conditions ask for the words (tags contains "pilot"), so that a baseline or a gate
can be tried on some devices first. The owner that is set here counts where no source says
another; --owner '' takes it off.`,
		Example: `  ironledger device tag GF-L-1042 GF-L-1043 --add pilot
  ironledger device tag --where 'form == tablet and platform == ipados' --add pilot
  ironledger device tag GF-L-1042 --remove pilot --note 'Lent to the harbour office until May'
  ironledger device tag GF-L-1042 --owner maren.holt@gullholm.example`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("note") {
				d.Note = &note
			}
			if cmd.Flags().Changed("owner") {
				d.Owner = &owner
			}
			got, err := actOn(cmd, a, &x, args, "tagged",
				func(cl *client.Client, part []string) (*client.Reply[api.List[api.DeviceTags]], error) {
					d.Devices = part
					return cl.TagDevices(cmd.Context(), d)
				})
			if err != nil {
				return err
			}
			return shell.Show(a, got, []string{"DEVICE", "TAGS", "NOTE", "OWNER"}, func(t api.DeviceTags) []string {
				return []string{t.Device, shell.Joined(t.Tags), t.Note, t.Owner}
			})
		},
	}
	c.Flags().StringSliceVar(&d.Add, "add", nil, "a word to put on them")
	c.Flags().StringSliceVar(&d.Remove, "remove", nil, "a word to take off")
	c.Flags().StringVar(&note, "note", "", "what to note of them, in place of what was")
	c.Flags().StringVar(&owner, "owner", "", "the person whose they are, where no source says so")
	shell.Must(c.RegisterFlagCompletionFunc("owner", a.CompletePeople))
	x.addTo(c, 0)
	return c
}

func deviceQuarantineCmd(a *shell.App) *cobra.Command {
	d, x := api.QuarantineDraft{}, choice{}
	c := &cobra.Command{
		Use: "quarantine DEVICE...|-", Short: "Order that devices stand at the lowest level",
		ValidArgsFunction: a.CompleteDevices,
		Long: `Order that devices stand at the lowest level, whatever they show, for some time or until
the order is lifted: all that are named, or none. Certificates of our own are on hold
meanwhile.`,
		Example: `  ironledger device quarantine GF-L-1042 --reason 'Looked at for malware, ticket 5120' --for 1d
  ironledger device quarantine --where 'os.version < 17' --reason 'CVE, ticket 5121'`,
		RunE: func(cmd *cobra.Command, args []string) error {
			got, err := actOn(cmd, a, &x, args, "put in quarantine",
				func(cl *client.Client, part []string) (*client.Reply[api.List[api.Quarantine]], error) {
					d.Devices = part
					return cl.QuarantineDevices(cmd.Context(), d)
				})
			if err != nil {
				return err
			}
			return showOrders(a, got, "%s is in quarantine %s.")
		},
	}
	c.Flags().StringVar(&d.For, "for", "", "how long it holds, as 4h or 7d (default: until it is lifted)")
	x.addTo(c, 0)
	return shell.WithReason(c, &d.Reason)
}

func deviceReleaseCmd(a *shell.App) *cobra.Command {
	d, x := api.ReleaseDraft{}, choice{}
	c := &cobra.Command{
		Use: "release DEVICE...|-", Short: "Lift the quarantine of devices", ValidArgsFunction: a.CompleteDevices,
		Long: "Lift the quarantine of devices: of all that are named, or none. They stand as their evidence has it.",
		Example: `  ironledger device release GF-L-1042 --reason 'Nothing was found, ticket 5120'
  ironledger device release --where 'quarantined and os.version >= 17' --reason 'They are up to date, ticket 5121'`,
		RunE: func(cmd *cobra.Command, args []string) error {
			got, err := actOn(cmd, a, &x, args, "released",
				func(cl *client.Client, part []string) (*client.Reply[api.List[api.Quarantine]], error) {
					d.Devices = part
					return cl.ReleaseDevices(cmd.Context(), d)
				})
			if err != nil {
				return err
			}
			return showOrders(a, got, "%s is released; it was in quarantine %s.")
		},
	}
	x.addTo(c, 0)
	return shell.WithReason(c, &d.Reason)
}

func deviceRetireCmd(a *shell.App) *cobra.Command {
	d, x := api.ReleaseDraft{}, choice{}
	c := &cobra.Command{
		Use: "retire DEVICE...|-", Short: "Take devices out of service", ValidArgsFunction: a.CompleteDevices,
		Long: `Take devices out of service: all that are named, or none. To decisions they are unknown
from that moment, their certificates are revoked, and numbers and lists leave them out.
What is known of them is kept.`,
		Example: `  ironledger device retire GF-L-1042 --reason 'Lost at sea, ticket 4471'
  ironledger device retire --where 'age(seen_at) > 90d' --reason 'Cleaning up, ticket 4480' --yes`,
		RunE: func(cmd *cobra.Command, args []string) error {
			got, err := actOn(cmd, a, &x, args, "retired",
				func(cl *client.Client, part []string) (*client.Reply[api.List[api.Retirement]], error) {
					d.Devices = part
					return cl.RetireDevices(cmd.Context(), d)
				})
			if err != nil {
				return err
			}
			if a.Format == "table" {
				told(a, got.Value.Items, func(r api.Retirement) string {
					return r.Device + " is retired; decisions do not know it any more."
				})
				return nil
			}
			l := shell.Listing{Head: []string{"DEVICE", "BY", "REASON"}, Raw: oneOf(got, args),
				Items: shell.ItemsOf(got.Raw)}
			for _, r := range got.Value.Items {
				l.Rows = append(l.Rows, []string{r.Device, r.By, r.Reason})
			}
			return a.Print(l)
		},
	}
	x.addTo(c, 0)
	return shell.WithReason(c, &d.Reason)
}

func devicePurgeCmd(a *shell.App) *cobra.Command {
	d, x := api.PurgeDraft{}, choice{}
	c := &cobra.Command{
		Use: "purge DEVICE...|-", Short: "Remove what is known of retired devices", ValidArgsFunction: a.CompleteDevices,
		Long: `Remove what is known of retired devices, of all that are named or none: their evidence and its
past, waivers, vouches, tags and notes. It cannot be brought back. Their keys stay, by which
they are known as retired should they be reported again. The ledger keeps its entries; with
--redact their bodies are removed, and their hashes stay, so that it still verifies.

The rulebook may say after which time that is done by itself: retention: {retired: 400d}.`,
		Example: `  ironledger device purge GF-L-1042 --reason 'The owner asked for it, ticket 4490' --redact
  ironledger device purge --where 'retired and age(since) > 400d' --reason 'Cleaning up' --yes`,
		RunE: func(cmd *cobra.Command, args []string) error {
			got, err := actOn(cmd, a, &x, args, "purged",
				func(cl *client.Client, part []string) (*client.Reply[api.List[api.Purged]], error) {
					d.Devices = part
					return cl.PurgeDevices(cmd.Context(), d)
				})
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return shell.Show(a, got, []string{"DEVICE", "READINGS", "REDACTED"}, func(p api.Purged) []string {
					return []string{p.Device, fmt.Sprint(p.Readings), fmt.Sprint(p.Redacted)}
				})
			}
			told(a, got.Value.Items, func(p api.Purged) string {
				return fmt.Sprintf("%s: %d readings are removed%s.", a.Bold(p.Device), p.Readings,
					shell.Only(p.Redacted > 0, fmt.Sprintf(", and the bodies of %d entries", p.Redacted)))
			})
			if items := got.Value.Items; len(items) > 0 && len(items[0].Archives) > 0 {
				shell.Line(a.Err, "What archives say of them is not reached: look into %s, and destroy what must go.",
					shell.Joined(items[0].Archives))
			}
			return nil
		},
	}
	c.Flags().BoolVar(&d.Redact, "redact", false, "remove the bodies of the ledger's entries about them too")
	x.addTo(c, 0)
	return shell.WithReason(c, &d.Reason)
}
