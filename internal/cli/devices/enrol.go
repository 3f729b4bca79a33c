package devices

import (
	"cmp"
	"context"

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

func deviceRetireCmd(a *shell.App) *cobra.Command {
	reason := ""
	c := &cobra.Command{
		Use: "retire DEVICE", Short: "Take a device out of service", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteDevices,
		Long: `Take a device out of service. To decisions it is unknown from that moment, and its
reports are refused until it is enrolled again. What is known of it is kept.`,
		Example: "  ironledger device retire GF-L-1042 --reason 'Lost at sea, ticket 4471'",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.RetireDevice(cmd.Context(), args[0], api.Reason{Reason: reason})
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"DEVICE", "BY", "REASON"},
					Rows: [][]string{{got.Value.Device, got.Value.By, got.Value.Reason}}, Raw: got.Raw})
			}
			shell.Line(a.Out, "%s is retired; decisions do not know it any more.", got.Value.Device)
			return nil
		},
	}
	return shell.WithReason(c, &reason)
}
