// Package identity has the commands of our own certificate authority: the authority itself, codes for devices, and
// certificates that are taken back.
package identity

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/authority"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// AuthorityCmd is the command authority.
func AuthorityCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "authority", Short: "Our own authority for certificates of devices",
		Long: `Our own authority gives devices certificates that prove who they are. It exists when the
rulebook has a section authority; its key is made by the service and kept apart from the
records, or brought from elsewhere.`}
	c.AddCommand(showCmd(a), exportCmd(a), rotateCmd(a), requestCmd(a), installCmd(a), importCmd(a), dropCmd(a))
	return c
}

// print shows the state of the authority.
func print(a *shell.App, got *client.Reply[api.AuthorityState]) error {
	if a.Format != "table" {
		l := shell.Listing{Head: []string{"AUTHORITY", "STATE", "SUBJECT", "KEY", "UNTIL", "LIVE", "REVOKED"},
			Raw: got.Raw}
		for _, x := range got.Value.Authorities {
			l.Rows = append(l.Rows, []string{x.ID, string(x.State), x.Subject, x.Key, x.NotAfter, fmt.Sprint(x.Live),
				fmt.Sprint(x.Revoked)})
		}
		return a.Print(l)
	}
	s := &got.Value
	if len(s.Authorities) == 0 && s.Name == "" {
		shell.Line(a.Out, "The rulebook has no authority; certificates come from the issuers that it trusts.")
		return nil
	}
	if s.Trouble != "" {
		shell.Line(a.Out, "%s %s\n", a.Rust("Nothing can be issued:"), s.Trouble)
	}
	for _, x := range s.Authorities {
		says := map[string]string{"signs": "signs",
			"former": "signs nothing more; what it issued counts until it ends",
			"asks":   "waits for its certificate: authority export --request " + x.ID}[string(x.State)]
		shell.Line(a.Out, "%s  %s", a.Bold(x.ID), says)
		if x.Subject != "" {
			above := ""
			if !x.Root {
				above = ", under an authority above it"
			}
			shell.Line(a.Out, "  %s%s\n  %s until %s, SHA-256 %s", x.Subject, above, x.Key,
				shell.ShortTime(x.NotAfter),
				x.SHA256)
			shell.Line(a.Out, "  %d certificates of devices count, %d are revoked", x.Live, x.Revoked)
		}
		shell.Line(a.Out, "  %s, by %s\n", shell.When(x.At), x.By)
	}
	rows := [][]string{}
	for _, p := range s.Profiles {
		rows = append(rows, []string{p.ID, shell.Clip(p.Applies, 44), p.Lifetime, p.RenewFrom, shell.Joined(p.Keys),
			p.Least, fmt.Sprint(p.Holds)})
	}
	a.Table([]string{"PROFILE", "APPLIES TO", "LIVES", "RENEWED BEFORE", "KEYS", "FROM LEVEL", "HOLDS"}, rows)
	return nil
}

func showCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{Use: "show", Short: "Show the authority and the profiles of certificates",
		Args:    cobra.NoArgs,
		Example: "  ironledger authority show\n  ironledger authority show -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.GetAuthority(cmd.Context())
			if err != nil {
				return err
			}
			return print(a, got)
		}}
}

func exportCmd(a *shell.App) *cobra.Command {
	request := ""
	c := &cobra.Command{Use: "export", Short: "Print the certificates to trust devices by, PEM", Args: cobra.NoArgs,
		Long: `Print the certificates that certificates of devices chain to, in PEM: what a proxy or another
service trusts devices by. With --request, the request of an authority that waits for
its certificate, for the authority above.`,
		Example: "  ironledger authority export > devices.pem\n  ironledger authority export --request " +
			"4f0c9d2e11aa87b3 > request.pem",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.GetAuthority(cmd.Context())
			if err != nil {
				return err
			}
			if request != "" {
				i := slices.IndexFunc(got.Value.Authorities, func(x api.Authority) bool {
					return x.ID == request &&
						x.Request != ""
				})
				if i < 0 {
					return fmt.Errorf("no authority %s waits for a certificate", request)
				}
				fmt.Fprint(a.Out, got.Value.Authorities[i].Request)
				return nil
			}
			if got.Value.Trusted == "" {
				return fmt.Errorf("there is no authority; the rulebook needs the section authority")
			}
			fmt.Fprint(a.Out, got.Value.Trusted)
			return nil
		}}
	c.Flags().StringVar(&request, "request", "", "the authority whose request is printed")
	return c
}

// act is a command that changes the authority for a reason.
func act(a *shell.App, c *cobra.Command, do func(ctx context.Context, cl *client.Client, args []string,
	reason string) (*client.Reply[api.AuthorityState], error)) *cobra.Command {
	reason := ""
	c.RunE = func(cmd *cobra.Command, args []string) error {
		cl, err := a.Client()
		if err != nil {
			return err
		}
		got, err := do(cmd.Context(), cl, args, reason)
		if err != nil {
			return err
		}
		return print(a, got)
	}
	return shell.WithReason(c, &reason)
}

func rotateCmd(a *shell.App) *cobra.Command {
	return act(a, &cobra.Command{Use: "rotate", Short: "Make another key and certificate, which sign from now on",
		Args: cobra.NoArgs,
		Long: `Make another key and certificate, which sign from now on. What the authority before issued
counts until it ends, and devices get certificates of the new one as they renew; give
those who trust devices both (authority export) before that. No more than two count at a
time.`,
		Example: "  ironledger authority rotate --reason 'Yearly'"},
		func(ctx context.Context, cl *client.Client, _ []string, reason string) (*client.Reply[api.AuthorityState],
			error) {
			return cl.RotateAuthority(ctx, api.Reason{Reason: reason})
		})
}

func requestCmd(a *shell.App) *cobra.Command {
	return act(a, &cobra.Command{Use: "csr", Short: "Make a key whose certificate comes from an authority above",
		Args: cobra.NoArgs,
		Long: `Make a key whose certificate is to come from an authority above, as an offline root, and a
request for it. Until "authority install" the authority there is goes on.`,
		Example: "  ironledger authority csr --reason 'Under our root'\n  ironledger authority export " +
			"--request 4f0c9d2e11aa87b3 > request.pem"},
		func(ctx context.Context, cl *client.Client, _ []string, reason string) (*client.Reply[api.AuthorityState],
			error) {
			return cl.RequestAuthority(ctx, api.Reason{Reason: reason})
		})
}

func installCmd(a *shell.App) *cobra.Command {
	return act(a, &cobra.Command{Use: "install CERTIFICATE", Short: "Install the certificate that came for a request",
		Args: cobra.ExactArgs(1),
		Long: "Install the certificate that an authority above gave for the request, with those above it, " +
			"PEM. It signs from now on.",
		Example: "  ironledger authority install chain.pem --reason 'Signed on the 3rd'"},
		func(ctx context.Context, cl *client.Client, args []string, reason string) (*client.Reply[api.AuthorityState],
			error) {
			text, err := a.Read(args[0])
			if err != nil {
				return nil, err
			}
			return cl.InstallAuthority(ctx, api.AuthorityDraft{Certificate: text, Reason: reason})
		})
}

func importCmd(a *shell.App) *cobra.Command {
	key := ""
	c := act(a, &cobra.Command{Use: "import CERTIFICATE --key-file FILE",
		Short: "Bring a key and certificate from elsewhere",
		Args:  cobra.ExactArgs(1),
		Long: `Bring the key of an authority and its certificate, with those above it, PEM. They take the
place of the authority there is, which counts on until what it issued ends.`,
		Example: "  ironledger authority import chain.pem --key-file devices.key --reason 'From the old service'"},
		func(ctx context.Context, cl *client.Client, args []string, reason string) (*client.Reply[api.AuthorityState],
			error) {
			text, err := a.Read(args[0])
			if err != nil {
				return nil, err
			}
			private, err := a.Read(key)
			if err != nil {
				return nil, err
			}
			return cl.ImportAuthority(ctx, api.AuthorityDraft{Key: private, Certificate: text, Reason: reason})
		})
	c.Flags().StringVar(&key, "key-file", "", "the private key, PEM without a password")
	shell.Must(c.MarkFlagRequired("key-file"))
	return c
}

func dropCmd(a *shell.App) *cobra.Command {
	return act(a, &cobra.Command{Use: "drop AUTHORITY", Short: "Give up an authority that does not sign",
		Args: cobra.ExactArgs(1),
		Long: `Give up an authority that waits for its certificate, or a former one: what that issued counts
no more from now on.`,
		Example: "  ironledger authority drop 4f0c9d2e11aa87b3 --reason 'Its key was copied'"},
		func(ctx context.Context, cl *client.Client, args []string, reason string) (*client.Reply[api.AuthorityState],
			error) {
			return cl.DropAuthority(ctx, args[0], api.Reason{Reason: reason})
		})
}

// InviteCmd is the command device invite.
func InviteCmd(a *shell.App) *cobra.Command {
	d := api.InviteDraft{}
	c := &cobra.Command{Use: "invite DEVICE", Short: "Make a code by which a device can ask for a certificate",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteDevices,
		Long: `Make a code by which one device can ask our own authority for a certificate, once. It takes
the place of the code that the device may have, and is void after five wrong ones. A
device of which nothing has been heard yet needs its serial, and is known from then on.`,
		Example: "  ironledger device invite GF-L-1042\n  ironledger device invite GF-L-2001 --serial GF88213 --for 1d",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.InviteDevice(cmd.Context(), args[0], d)
			if err != nil {
				return err
			}
			x := got.Value
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"DEVICE", "CODE", "UNTIL"},
					Rows: [][]string{{x.Device, x.Code,
						x.Until}}, Raw: got.Raw})
			}
			shell.Line(a.Out, "The code for %s, shown this once:\n\n    %s\n\nIt counts until %s.", x.Device,
				a.Bold(x.Code),
				shell.ShortTime(x.Until))
			if x.Service != "" {
				shell.Line(a.Out, "On the device:\n\n    %s", enrolLine(&x))
			}
			return nil
		}}
	c.Flags().StringVar(&d.Serial, "serial", "", "the serial of a device of which nothing has been heard yet")
	c.Flags().StringVar(&d.Profile, "profile", "", "the profile that the code is for (default: any)")
	c.Flags().StringVar(&d.For, "for", "", "how long it counts, as 1h or 1d (default: an hour)")
	return c
}

// RosterInviteCmd is the command roster invite.
func RosterInviteCmd(a *shell.App) *cobra.Command {
	d := api.RosterInviteDraft{}
	c := &cobra.Command{Use: "invite --devices N",
		Short: "Make a code by which devices on the roster can ask for certificates",
		Args:  cobra.NoArgs,
		Long: `Make one code by which so many devices on the roster can ask our own authority for a
certificate, each once and by its serial: for a delivery that is set up by the dozen. It
takes the place of the code for the roster that there may be.`,
		Example: "  ironledger roster invite --devices 20 --for 1d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.InviteRoster(cmd.Context(), d)
			if err != nil {
				return err
			}
			x := got.Value
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"CODE", "UNTIL"}, Rows: [][]string{{x.Code, x.Until}},
					Raw: got.Raw})
			}
			shell.Line(a.Out, "The code for %d devices on the roster, shown this once:\n\n    %s\n\nIt counts "+
				"until %s.", d.Devices, a.Bold(x.Code),
				shell.ShortTime(x.Until))
			if x.Device = "SERIAL"; x.Service != "" {
				shell.Line(a.Out, "On each device, with its serial:\n\n    %s", enrolLine(&x))
			}
			return nil
		}}
	c.Flags().IntVar(&d.Devices, "devices", 0, "for how many devices the code is")
	c.Flags().StringVar(&d.Profile, "profile", "", "the profile that the code is for (default: any)")
	c.Flags().StringVar(&d.For, "for", "", "how long it counts, as 1h or 1d (default: an hour)")
	shell.Must(c.MarkFlagRequired("devices"))
	return c
}

// enrolLine is the command that a device enrols with.
func enrolLine(x *api.Invitation) string {
	line := "ironledger agent enrol --service " + x.Service + " --device " + x.Device + " --code " + x.Code
	if x.Fingerprint != "" {
		line += " \\\n      --fingerprint " + x.Fingerprint
	}
	return line
}

// RevokeCmd is the command certificate revoke.
func RevokeCmd(a *shell.App) *cobra.Command {
	r, code := api.CertificateRevocation{}, "privilegeWithdrawn"
	c := &cobra.Command{Use: "revoke [SERIAL]", Short: "Take back a certificate that we issued, or all of a device",
		Args: cobra.MaximumNArgs(1),
		Long: `Take back a certificate that our own authority issued, by its serial number in hex, or all that
count of a device. From that moment they identify nobody here, and sessions that rest on
them end; others learn of it by the revocation list or by asking (OCSP).`,
		Example: `  ironledger certificate revoke 5a0c9e11f3 --reason 'Replaced by mistake'
  ironledger certificate revoke --device GF-L-1042 --code keyCompromise --reason 'Stolen, ticket 4471'`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				r.Serial = args[0]
			}
			if (r.Serial == "") == (r.Device == "") {
				return shell.Usagef("say a serial, or --device for all of a device")
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			r.Code = api.CertificateRevocationCode(code)
			got, err := cl.RevokeCertificates(cmd.Context(), r)
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return shell.Show(a, got, []string{"SERIAL", "DEVICE", "PROFILE"},
					func(x api.IssuedCertificate) []string { return []string{x.Serial, x.Device, x.Profile} })
			}
			for _, x := range got.Value.Items {
				shell.Line(a.Out, "%s of %s is revoked.", x.Serial, x.Device)
			}
			return nil
		}}
	c.Flags().StringVar(&r.Device, "device", "", "all that count of this device")
	c.Flags().StringVar(&code, "code", code, strings.Join(authority.CodeNames(), ", "))
	shell.Must(c.RegisterFlagCompletionFunc("code", cobra.FixedCompletions(authority.CodeNames(),
		cobra.ShellCompDirectiveNoFileComp)))
	shell.Must(c.RegisterFlagCompletionFunc("device", a.CompleteDevices))
	return shell.WithReason(c, &r.Reason)
}
