package devices

import (
	"context"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// keptMapping is the text of the mapping that the service keeps of a source.
func keptMapping(ctx context.Context, cl *client.Client, source string) (string, error) {
	got, err := cl.ListMappings(ctx)
	if err != nil {
		return "", err
	}
	for _, m := range got.Value.Items {
		if m.Source == source {
			return string(m.Mapping), nil
		}
	}
	return "", fmt.Errorf("no mapping is kept of the source %s; see ironledger source mapping", source)
}

func sourceMappingCmd(a *shell.App) *cobra.Command {
	drop := false
	c := &cobra.Command{
		Use: "mapping [SOURCE]", Short: "How the files of sources are read, as somebody kept it; of one as YAML",
		Long: `How the files of sources are read, as somebody kept it who brought one in in the console. Of one
source it is printed as YAML, for a file in git; "device import --map @SOURCE" uses it.`,
		Example: "  ironledger source mapping\n  ironledger source mapping mdm > mdm.yaml",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			switch {
			case drop && len(args) == 0:
				return shell.Usagef("--drop needs the source whose mapping is to be forgotten")
			case drop:
				if err := cl.DropMapping(cmd.Context(), args[0]); err != nil {
					return err
				}
				shell.Line(a.Out, "The mapping of %s is forgotten.", args[0])
				return nil
			case len(args) == 1:
				return printMapping(cmd.Context(), a, cl, args[0])
			}
			got, err := cl.ListMappings(cmd.Context())
			if err != nil {
				return err
			}
			if a.Format == "table" && len(got.Value.Items) == 0 {
				shell.Line(a.Out, "No mapping is kept.")
				return nil
			}
			return shell.Show(a, got, []string{"SOURCE", "BY", "KEPT"}, func(m api.KeptMapping) []string {
				return []string{m.Source, m.By, shell.Ago(m.At)}
			})
		},
	}
	c.Flags().BoolVar(&drop, "drop", false, "forget it")
	return c
}

func printMapping(ctx context.Context, a *shell.App, cl *client.Client, source string) error {
	text, err := keptMapping(ctx, cl, source)
	if err != nil {
		return err
	}
	if a.Format == "json" {
		shell.Line(a.Out, "%s", text)
		return nil
	}
	raw, err := yaml.JSONToYAML([]byte(text))
	if err == nil {
		shell.Line(a.Out, "%s", strings.TrimRight(string(raw), "\n"))
	}
	return err
}
