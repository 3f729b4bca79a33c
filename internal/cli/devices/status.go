package devices

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
)

// StatusCmd is the command status.
func StatusCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "The service at a glance", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.GetStatus(cmd.Context())
			if err != nil {
				return err
			}
			s := got.Value
			l := shell.Listing{Head: []string{"LEVEL", "DEVICES", ""}, Raw: got.Raw}
			for i := len(s.Levels) - 1; i >= 0; i-- {
				n := s.Levels[i].Devices
				bar := ""
				if s.Devices > 0 {
					bar = strings.Repeat("█", (40*n+s.Devices-1)/s.Devices)
				}
				l.Rows = append(l.Rows, []string{a.Mark(s.Levels[i].Level, i, len(s.Levels)-1), fmt.Sprint(n), bar})
			}
			if a.Format == "csv" {
				for i := range l.Rows {
					l.Rows[i] = l.Rows[i][:2]
				}
				l.Head = l.Head[:2]
			}
			if a.Format != "table" {
				return a.Print(l)
			}
			shell.Line(a.Out, "Iron Ledger %s, started %s", s.Version, shell.ShortTime(s.StartedAt))
			if s.Rulebook.Version == 0 {
				shell.Line(a.Out, "No rulebook has been published: every request is denied.")
			} else {
				shell.Line(a.Out, "Rulebook version %d of %s by %s", s.Rulebook.Version,
					shell.ShortTime(s.Rulebook.At),
					s.Rulebook.Author)
			}
			shell.Line(a.Out, "%d devices, %d people, %d decisions recorded", s.Devices, s.People, s.Decisions)
			shell.Line(a.Out, "%s\n", sizeText(&s.Records))
			a.Table(l.Head, l.Rows)
			return nil
		},
	}
}

// sizeText tells how the records grow.
func sizeText(r *api.RecordsSize) string {
	out := "Records of " + shell.Bytes(r.Bytes)
	if r.Free > 0 {
		out += ", " + shell.Bytes(r.Free) + " of it to be filled again"
	}
	if r.Archives > 0 {
		out += "; archives of " + shell.Bytes(r.Archives) + " in the folder"
	}
	if r.GrowthADay == 0 {
		return out + "; how they grow is known after an hour"
	}
	out += fmt.Sprintf("\n%d entries a day, about %s", r.EntriesADay, shell.Bytes(r.GrowthADay))
	if r.DiskTotal > 0 {
		out += fmt.Sprintf("; %s of %s of the disk are left", shell.Bytes(r.DiskLeft), shell.Bytes(r.DiskTotal))
	}
	if r.FullAt != "" {
		out += ", enough until " + shell.ShortTime(r.FullAt)
	}
	return out
}
