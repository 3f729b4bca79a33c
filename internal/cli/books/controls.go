package books

import (
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ironledger.example/core/control"
	"ironledger.example/internal/cli/shell"
)

// asControls is a catalogue as the section controls of a rulebook.
type asControls struct {
	Controls struct {
		Title   string      `yaml:"title,omitempty"`
		Version string      `yaml:"version,omitempty"`
		List    []asControl `yaml:"list"`
	} `yaml:"controls"`
}

type asControl struct {
	ID    string `yaml:"id"`
	Group string `yaml:"group,omitempty"`
	Title string `yaml:"title"`
	Text  string `yaml:"text,omitempty"`
}

func rulebookControlsCmd(a *shell.App) *cobra.Command {
	brief := false
	c := &cobra.Command{
		Use: "controls FILE", Short: "Print what a rulebook needs of an OSCAL catalogue, as YAML", Args: cobra.ExactArgs(1),
		Long: `Read a catalogue of controls as OSCAL has it in JSON, - for standard input, and print the
section controls of a rulebook: ids, titles, groups, and what each control says. A
rulebook may also name the file itself; this is for files that are too large for one,
and for taking some of the controls.`,
		Example: "  ironledger rulebook controls harbour-catalog.json > rulebook/controls.yaml\n  ironledger rulebook " +
			"controls harbour-catalog.json --brief",
		RunE: func(_ *cobra.Command, args []string) error {
			f, err := a.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			read, err := control.ReadOSCAL(f)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			var out asControls
			out.Controls.Title, out.Controls.Version = read.Title, read.Version
			for _, x := range read.Controls {
				one := asControl{ID: x.ID, Group: x.Group, Title: x.Title}
				if !brief {
					one.Text = x.Text
				}
				out.Controls.List = append(out.Controls.List, one)
			}
			raw, err := yaml.Marshal(out)
			if err != nil {
				return err
			}
			_, err = a.Out.Write(raw)
			return err
		},
	}
	c.Flags().BoolVar(&brief, "brief", false, "without what the controls say")
	return c
}
