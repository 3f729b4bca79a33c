package shell

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ironledger.example/internal/client"
)

// settings is the client's own settings file.
type settings struct {
	URL   string `yaml:"url"`
	Token string `yaml:"token"`
}

// SettingsCmd is the command settings.
func (a *App) SettingsCmd() *cobra.Command {
	c := &cobra.Command{Use: "settings", Short: "Keep the URL and token of a service for later commands"}
	c.AddCommand(&cobra.Command{
		Use: "save", Short: "Keep --url and --token in the settings file, readable by you alone",
		Args:    cobra.NoArgs,
		Example: "  ironledger settings save --url http://127.0.0.1:8600 --token il_…",
		RunE: func(*cobra.Command, []string) error {
			if a.URL == "" || a.Token == "" {
				return Usagef("settings save needs --url and --token")
			}
			if _, err := client.New(a.URL, a.Token, ""); err != nil {
				return UsageOf(err)
			}
			raw, err := yaml.Marshal(settings{a.URL, a.Token})
			if err == nil {
				err = os.MkdirAll(filepath.Dir(a.Settings), 0o700)
			}
			if err == nil {
				err = os.WriteFile(a.Settings, raw, 0o600)
			}
			if err != nil {
				return err
			}
			fmt.Fprintln(a.Out, "Kept in", a.Settings)
			return nil
		},
	}, &cobra.Command{
		Use: "path", Short: "Print where the settings file is", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.Format == "table" {
				Line(a.Out, "%s", a.Settings)
				return nil
			}
			return a.Print(Listing{Head: []string{"PATH"}, Rows: [][]string{{a.Settings}},
				Raw: map[string]string{"path": a.Settings}})
		},
	})
	return c
}
