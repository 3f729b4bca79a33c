package devices

import (
	"context"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// RosterCmd is the command roster.
func RosterCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "roster", Short: "The roster: hardware registered in advance as our own"}
	q := ""
	list := &cobra.Command{
		Use: "list", Short: "List the roster", Args: cobra.NoArgs,
		Example: "  ironledger roster list --find 'on its way'",
		RunE: shell.Lists(a, func(cl *client.Client,
			ctx context.Context) (*client.Reply[api.List[api.RosterEntry]], error) {
			return cl.ListRoster(ctx, api.ListRosterParams{Q: q})
		}, []string{"ID", "SERIAL", "HARDWARE ID", "NOTE", "DEVICE", "SINCE", "BY"},
			func(e api.RosterEntry) []string {
				device := e.Device
				if device == "" && a.Format == "table" {
					device = a.Dim("not seen yet")
				}
				return []string{e.ID, e.Serial, e.HardwareID, e.Note, device, shell.ShortTime(e.At), e.By}
			}),
	}
	list.Flags().StringVarP(&q, "find", "q", "", "a part of the serial, hardware id or note")
	p := api.ImportRosterParams{}
	imported := &cobra.Command{
		Use: "import FILE|-", Short: "Register hardware from CSV: serial,hardware_id,note",
		Args:    cobra.ExactArgs(1),
		Example: "  ironledger roster import delivery.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			in, err := a.Open(args[0])
			if err != nil {
				return err
			}
			defer in.Close()
			got, err := cl.ImportRoster(cmd.Context(), p, "text/csv", in)
			if err != nil {
				return shell.HeldBack(err)
			}
			return a.PrintIntake(got, args[0], "entries", p.DryRun)
		},
	}
	imported.Flags().BoolVar(&p.DryRun, "dry-run", false,
		"tell what would change, and change nothing; exit code 3 says that it would be held back")
	imported.Flags().StringVar(&p.AcceptImpact, "accept-impact", "",
		"take the file although it would lock people out, and why")
	remove := removeCmd(a, "Take an entry off the roster", "is off the roster", (*client.Client).RemoveRoster)
	remove.Example = "  ironledger roster remove gf-3391-k --reason 'Sold'"
	c.AddCommand(list, imported, remove)
	return c
}
