// Package networks has the commands about networks that devices join: who is on them, and which access points ask.
package networks

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/value"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// NetworkCmd is the command network.
func NetworkCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "network", Short: "Networks that devices join: what is granted, who is there, which " +
		"access points ask", Aliases: []string{"networks"}}
	clients := &cobra.Command{Use: "client", Short: "Access points and switches that may ask: add, list, remove",
		Aliases: []string{"clients"}}
	clients.AddCommand(clientListCmd(a), clientAddCmd(a), clientRemoveCmd(a))
	c.AddCommand(listCmd(a), staysCmd(a), clients)
	return c
}

func listCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List networks with what an admission carries, and how many are there", Args: cobra.NoArgs,
		Example: "  ironledger network list\n  ironledger network list -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.ListNetworks(cmd.Context())
			if err != nil {
				return err
			}
			l := shell.Listing{Head: []string{"NETWORK", "SSID", "GRANT", "VLAN", "FILTER", "FOR", "WHEN", "THERE"},
				Raw: got.Value.Items, Items: shell.ItemsOf(got.Raw)}
			for _, n := range got.Value.Items {
				for _, g := range n.Grants {
					id := g.ID
					if g.Recover {
						id += " (to get well)"
					}
					l.Rows = append(l.Rows, []string{n.ID, strings.Join(n.Ssids, ", "), id, g.Vlan, g.Filter,
						value.FormatDuration(g.SessionSeconds * 1_000_000), g.When, fmt.Sprint(g.Stays)})
				}
				l.Rows = append(l.Rows, []string{n.ID, strings.Join(n.Ssids, ", "), "otherwise", "", "", "", "reject", ""})
				if n.Untold > 0 && a.Format == "table" {
					l.Foot += fmt.Sprintf("%s: the access points of %d devices could not be told what is granted now; "+
						"see network stays --untold. ", n.ID, n.Untold)
				}
			}
			return a.Print(l)
		},
	}
}

// grantText tells what is granted in a few letters.
func grantText(g *access.Granted) string {
	if g == nil {
		return ""
	}
	return g.Grant + shell.Only(g.VLAN != "", ", VLAN "+g.VLAN)
}

// stayRow is a stay as a row of a table.
func stayRow(a *shell.App, x *api.Stay) []string {
	untold := ""
	if x.UntoldSince != "" {
		to := grantText(x.Granting)
		if to == "" {
			to = "leave"
		}
		untold = shell.Ago(x.UntoldSince) + ": " + to
	}
	since, until := x.Since, x.Until
	if a.Format == "table" {
		since, until = shell.Ago(since), shell.When(until)
		if untold != "" {
			untold = a.Rust(untold)
		}
	}
	return []string{x.Device, x.Person, x.Network, grantText(x.Granted), x.Level, x.Proof,
		strings.TrimSpace(x.Address + " " + strings.Join(x.Addresses, " ")), x.AccessPoint, since, until, untold}
}

func staysCmd(a *shell.App) *cobra.Command {
	var p api.ListStaysParams
	limit := 0
	c := &cobra.Command{
		Use: "stays", Short: "List who is on which network now", Args: cobra.NoArgs,
		Long: `List who is on which network now, as access points say, the newest first. A device that
is granted something else is moved at once; NOT TOLD says since when its access point could
not be told, and what it would be. The admission ends at UNTIL by itself.`,
		Example: "  ironledger network stays --network bridge-wifi\n  ironledger network stays --untold\n" +
			"  ironledger network stays --device GF-T-0107 -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			l, total, err := shell.Pages(limit, func(size int, cursor string) (*client.Reply[api.StayPage], error) {
				p.Limit, p.Cursor = size, cursor
				return cl.ListStays(cmd.Context(), p)
			}, []string{"DEVICE", "PERSON", "NETWORK", "GRANTED", "LEVEL", "BY", "ADDRESS", "ACCESS POINT", "SINCE", "UNTIL",
				"NOT TOLD"},
				func(x api.Stay) []string { return stayRow(a, &x) })
			if err != nil {
				return err
			}
			last := len(l.Head) - 1
			if a.Format == "table" && !slices.ContainsFunc(l.Rows, func(row []string) bool { return row[last] != "" }) {
				l.Head = l.Head[:last] // all were told
				for i := range l.Rows {
					l.Rows[i] = l.Rows[i][:last]
				}
			}
			if l.Foot = fmt.Sprintf("%d of %d", len(l.Rows), total); len(l.Rows) == total {
				l.Foot = fmt.Sprintf("%d in all", total)
			}
			return a.Print(l)
		},
	}
	f := c.Flags()
	f.StringVar(&p.Network, "network", "", "on this network")
	f.StringVar(&p.Device, "device", "", "of this device")
	f.StringVar(&p.Person, "person", "", "of this person")
	f.StringVar(&p.AccessPoint, "client", "", "at this access point")
	f.StringVar(&p.Grant, "grant", "", "with this grant")
	f.BoolVar(&p.Untold, "untold", false, "only those of which their access point could not be told")
	f.IntVar(&limit, "limit", 50, "at most so many; 0 for all")
	return c
}

func clientListCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List access points, with what was dropped of what they sent", Args: cobra.NoArgs,
		Long: `List access points and switches that may ask, with what was dropped of what they sent since
the service started, and the addresses from which strangers asked.`,
		Example: "  ironledger network client list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.ListNetworkClients(cmd.Context())
			if err != nil {
				return err
			}
			err = shell.Show(a, got, []string{"CLIENT", "AT", "PROVES BY", "NETWORKS", "TOLD AT", "THERE", "ADDED", "DROPPED"},
				func(x api.NetworkClient) []string {
					var dropped []string
					for _, d := range x.Dropped {
						dropped = append(dropped, fmt.Sprintf("%d× %s", d.Times, d.Why))
					}
					networks := strings.Join(x.Networks, ", ")
					if networks == "" {
						networks = "all"
					}
					at := x.At
					if a.Format == "table" {
						at = shell.Ago(at)
					}
					return []string{x.ID, x.Range, x.Proves, networks, fmt.Sprint(x.ToldAt), fmt.Sprint(x.Stays), at,
						strings.Join(dropped, "; ")}
				})
			if err != nil || a.Format != "table" {
				return err
			}
			if len(got.Value.Doors) == 0 {
				shell.Line(a.Err, "The service takes no packets: start it with --radius and --radius-accounting.")
			} else {
				shell.Line(a.Err, "Packets are taken at %s.", strings.Join(got.Value.Doors, ", "))
			}
			for _, s := range got.Value.Strangers {
				shell.Line(a.Err, "%d packets came from %s, which nobody entered.", s.Times, s.Address)
			}
			return nil
		},
	}
}

func clientAddCmd(a *shell.App) *cobra.Command {
	var d api.NetworkClientDraft
	var secret shell.SecretFlags
	certificate := ""
	c := &cobra.Command{
		Use: "add ID --at ADDRESS", Short: "Let an access point, or those of a range, ask", Args: cobra.ExactArgs(1),
		Long: `Let an access point or a switch ask who joins a network, or several in a range of addresses.
It proves itself by a secret, which is made and shown once unless one is given, or over TLS
by its certificate.`,
		Example: `  ironledger network client add deck-3 --at 10.40.3.7 --network bridge-wifi
  SECRET=… ironledger network client add quay --at 10.40.8.0/24 --secret-from SECRET
  ironledger network client add hall --at 10.40.9.2 --certificate hall.pem`,
		RunE: func(cmd *cobra.Command, args []string) error {
			d.ID = args[0]
			var err error
			if d.Secret, err = secret.Read(); err != nil {
				return err
			}
			if certificate != "" {
				if raw, err := os.ReadFile(certificate); err == nil {
					certificate = string(raw)
				} else if len(strings.ReplaceAll(certificate, ":", "")) != 64 {
					return err
				}
				d.Certificate = certificate
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.AddNetworkClient(cmd.Context(), d)
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"CLIENT", "AT", "SECRET"},
					Rows: [][]string{{got.Value.ID, got.Value.Range, got.Value.Secret}}, Raw: got.Raw})
			}
			shell.Line(a.Out, "%s may ask from %s.", got.Value.ID, got.Value.Range)
			if got.Value.Secret != "" {
				shell.Line(a.Out, "Its secret, which is shown this once:\n\n  %s\n", got.Value.Secret)
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&d.Range, "at", "", "the address that it sends from, or a network of several")
	f.StringVar(&d.Title, "title", "", "what people call it")
	f.StringSliceVar(&d.Networks, "network", nil, "a network that it may ask about (default: all)")
	f.IntVar(&d.ToldAt, "told-at", 0, "the port at which it is told of changes (default: 3799)")
	f.StringVar(&certificate, "certificate", "", "the certificate that it shows over TLS, a PEM file, or its SHA-256")
	f.StringVar(&d.Reason, "reason", "", "why")
	secret.Add(c)
	c.MarkFlagsMutuallyExclusive("secret-from", "certificate")
	c.MarkFlagsMutuallyExclusive("secret-file", "certificate")
	shell.Must(c.MarkFlagRequired("at"))
	return c
}

func clientRemoveCmd(a *shell.App) *cobra.Command {
	reason := ""
	c := &cobra.Command{
		Use: "remove ID", Short: "Let an access point ask no more", Args: cobra.ExactArgs(1),
		Long: `Let an access point ask no more. It is told nothing either: devices that it let in stay
there until it ends that.`,
		Example: "  ironledger network client remove deck-3 --reason 'Taken down'",
		ValidArgsFunction: func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			return clientsFor(a, cmd.Context(), args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.RemoveNetworkClient(cmd.Context(), args[0], api.Reason{Reason: reason})
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"REMOVED"}, Rows: [][]string{{got.Value.ID}}, Raw: got.Raw})
			}
			shell.Line(a.Out, "%s may ask no more.", got.Value.ID)
			return nil
		},
	}
	return shell.WithReason(c, &reason)
}

// clientsFor are the access points that a command may be about.
func clientsFor(a *shell.App, ctx context.Context, args []string) ([]string, cobra.ShellCompDirective) {
	cl, err := a.Client()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	got, err := cl.ListNetworkClients(ctx)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, x := range got.Value.Items {
		out = append(out, x.ID+"\t"+x.Range)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
