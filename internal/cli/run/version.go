package run

import (
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"

	"ironledger.example/internal/cli/shell"
)

// VersionCmd is the command version.
func VersionCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Tell which version this is, and what it was built from", Args: cobra.NoArgs,
		Example: "  ironledger version\n  ironledger version -o json | jq -r .version",
		RunE: func(*cobra.Command, []string) error {
			is := struct {
				Version  string `json:"version"`
				Commit   string `json:"commit,omitempty"`
				At       string `json:"at,omitempty"`
				Modified bool   `json:"modified,omitempty"` // something differs from the commit
				Go       string `json:"go"`
				Platform string `json:"platform"`
			}{Version: shell.Version(), Go: runtime.Version(), Platform: runtime.GOOS + "/" + runtime.GOARCH}
			if info, ok := debug.ReadBuildInfo(); ok {
				for _, s := range info.Settings {
					switch s.Key {
					case "vcs.revision":
						is.Commit = s.Value
					case "vcs.time":
						is.At = s.Value
					case "vcs.modified":
						is.Modified = s.Value == "true"
					}
				}
			}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"VERSION", "COMMIT", "GO", "PLATFORM"},
					Rows: [][]string{{is.Version, is.Commit, is.Go, is.Platform}}, Raw: is})
			}
			shell.Line(a.Out, "ironledger %s (%s, %s)", is.Version, is.Platform, is.Go)
			if is.Commit != "" {
				shell.Line(a.Out, "built from %s of %s%s", is.Commit, shell.ShortTime(is.At),
					shell.Only(is.Modified, ", with changes"))
			}
			return nil
		},
	}
}
