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

	CA         string `yaml:"ca,omitempty"`
	ClientCert string `yaml:"client_cert,omitempty"`
	ClientKey  string `yaml:"client_key,omitempty"`
}

// SettingsCmd is the command settings.
func (a *App) SettingsCmd() *cobra.Command {
	c := &cobra.Command{Use: "settings", Short: "Keep the URL and token of a service for later commands"}
	c.AddCommand(&cobra.Command{
		Use: "save", Short: "Keep --url, --token, --ca and the like in the settings file, readable by you alone",
		Args:    cobra.NoArgs,
		Example: "  ironledger settings save --url http://127.0.0.1:8600 --token il_…",
		RunE: func(*cobra.Command, []string) error {
			if a.URL == "" || a.Token == "" {
				return Usagef("settings save needs --url and --token")
			}
			kept := settings{URL: a.URL, Token: a.Token}
			for from, into := range map[*string]*string{&a.CA: &kept.CA, &a.ClientCert: &kept.ClientCert,
				&a.ClientKey: &kept.ClientKey} {
				if *from == "" {
					continue
				}
				var err error
				if *into, err = filepath.Abs(*from); err != nil { // later commands run elsewhere
					return err
				}
			}
			t := client.Trust{CA: kept.CA, Certificate: kept.ClientCert, Key: kept.ClientKey}
			if _, err := client.Trusting(a.URL, a.Token, "", t); err != nil {
				return UsageOf(err)
			}
			raw, err := yaml.Marshal(kept)
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
