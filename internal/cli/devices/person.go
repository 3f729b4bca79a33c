package devices

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// PersonCmd is the command person.
func PersonCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "person", Short: "The directory: list, show, import, remove",
		Aliases: []string{"people"}}
	c.AddCommand(personListCmd(a), personShowCmd(a), personImportCmd(a), personRemoveCmd(a))
	return c
}

func personListCmd(a *shell.App) *cobra.Command {
	p := api.ListPeopleParams{}
	c := &cobra.Command{
		Use: "list", Short: "List people and their groups", Args: cobra.NoArgs,
		Example: "  ironledger person list --group finance\n  ironledger person list --find birk",
		RunE: shell.Lists(a, func(cl *client.Client,
			ctx context.Context) (*client.Reply[api.PeoplePage], error) {
			return cl.ListPeople(ctx, p)
		}, []string{"PERSON", "NAME", "GROUPS"}, func(p api.Person) []string {
			return []string{p.ID, p.Name, shell.Joined(p.Groups)}
		}),
	}
	c.Flags().StringVarP(&p.Q, "find", "q", "", "a part of the id, name or a group")
	c.Flags().StringVar(&p.Group, "group", "", "those in this group")
	c.Flags().IntVar(&p.Limit, "limit", 0, "at most so many; 0 for all")
	return c
}

// lately is how many decisions are shown with a person.
const lately = 5

func personShowCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "show ID", Short: "Show a person: groups, devices and what was decided lately",
		Args:    cobra.ExactArgs(1),
		Example: "  ironledger person show birk.strand@gullholm.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.GetPerson(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			made, err := cl.ListDecisions(cmd.Context(), api.ListDecisionsParams{Person: args[0], Limit: lately})
			if err != nil {
				return err
			}
			if p := got.Value; !p.Known && !p.BreakGlass && len(p.Devices)+len(made.Value.Items) == 0 {
				return fmt.Errorf("nobody is known as %q: neither to the directory nor as the owner of a "+
					"device, and nothing was decided for them", args[0])
			}
			p, l := got.Value, shell.Listing{Head: []string{"DEVICE", "LEVEL", "NAME", "PLATFORM", "OS", "HELD BY",
				"SEEN"}, Raw: got.Raw}
			for _, d := range p.Devices {
				row := []string{d.ID, a.Mark(d.Level, d.Rank, d.Top), d.Name, d.Platform, d.OSVersion,
					shell.Joined(d.Binding), d.SeenAt}
				if a.Format == "table" {
					row[5], row[6] = heldBy(d), shell.Ago(d.SeenAt)
				}
				l.Rows = append(l.Rows, row)
			}
			if a.Format != "table" {
				return a.Print(l)
			}
			personHead(a, &p)
			if len(l.Rows) > 0 {
				shell.Line(a.Out, "")
				a.Table(l.Head, l.Rows)
			}
			if p.More > 0 {
				shell.Line(a.Out, "and %d more: ironledger device list --where 'owner == %q'", p.More, p.ID)
			}
			if len(made.Value.Items) == 0 {
				shell.Line(a.Out, "\nNothing was ever decided for this person.")
				return nil
			}
			shell.Line(a.Out, "\nDecided lately")
			var rows [][]string
			for _, d := range made.Value.Items {
				rows = append(rows, []string{shell.Ago(d.At), string(d.Outcome),
					d.Asked.Action.Name + " " + d.Asked.Resource.ID, d.Device, shell.GatesOf(&d.Answer), d.Code, d.ID})
			}
			a.Table([]string{"WHEN", "OUTCOME", "ASKED", "DEVICE", "GATES", "CODE", "DECISION"}, rows)
			return nil
		},
	}
}

func personHead(a *shell.App, p *api.PersonPage) {
	title := p.ID
	if p.Name != "" {
		title = p.Name + "   " + p.ID
	}
	shell.Line(a.Out, "%s", a.Bold(title))
	switch {
	case p.BreakGlass:
		shell.Line(a.Out, "%s passes every gate.", a.Rust("A break-glass account"))
	case !p.Known:
		shell.Line(a.Out, "The directory does not know this person: no groups.")
	case len(p.Groups) == 0:
		shell.Line(a.Out, "Groups: none")
	}
	if len(p.Groups) > 0 {
		shell.Line(a.Out, "Groups: %s", shell.Joined(p.Groups))
	}
	if len(p.Devices) == 0 {
		shell.Line(a.Out, "No device has this person for its owner.")
	}
}

func personImportCmd(a *shell.App) *cobra.Command {
	p := api.ImportPeopleParams{}
	c := &cobra.Command{
		Use: "import FILE|-", Short: "Add people, or replace those with the same id, from CSV (id,name,groups) " +
			"or YAML", Args: cobra.ExactArgs(1),
		Long: `Add people, or replace those with the same id, from CSV (id,name,groups; groups are
parted by ;) or YAML.

With --whole the file is the whole directory, and people who are not in it are
removed. What changes in who reaches what is told, with --dry-run beforehand. A
file that would shut an administrator out, take something from many, or leave out
more than a fifth of the directory and more than five people, is held back;
--accept-impact takes it all the same, with a reason that is recorded.`,
		Example: "  ironledger person import people.csv --dry-run\n  ironledger person import everybody.csv --whole",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			text, err := a.Read(args[0])
			if err != nil {
				return err
			}
			media := "application/yaml"
			if first, _, _ := strings.Cut(text, "\n"); strings.Contains(first, ",") &&
				!strings.ContainsAny(first, ":{[") {
				media = "text/csv"
			}
			got, err := cl.ImportPeople(cmd.Context(), p, media, strings.NewReader(text))
			if err != nil {
				return shell.HeldBack(err)
			}
			return a.PrintIntake(got, args[0], "people", p.DryRun)
		},
	}
	c.Flags().BoolVar(&p.Whole, "whole", false, "the file is the whole directory: remove who is not in it")
	c.Flags().BoolVar(&p.DryRun, "dry-run", false,
		"tell what would change, and change nothing; exit code 3 says that it would be held back")
	c.Flags().StringVar(&p.AcceptImpact, "accept-impact", "",
		"take the file although it would lock people out or leaves out many, and why")
	return c
}

func personRemoveCmd(a *shell.App) *cobra.Command {
	c := removeCmd(a, "Take a person out of the directory", "is no longer in the directory",
		(*client.Client).RemovePerson)
	c.Long = `Take a person out of the directory. They are in no group from that moment, and
their sessions end where a gate asked for one. Their devices stay: retire those.`
	c.Example = "  ironledger person remove lasse.vass@gullholm.example --reason 'Left on 30 November'"
	return c
}

// removeCmd is the verb that removes one thing by its id, for a reason.
func removeCmd(a *shell.App, short, said string, remove func(cl *client.Client, ctx context.Context, id string,
	how api.Removal) (*client.Reply[api.ListIntake], error)) *cobra.Command {
	var how api.Removal
	c := &cobra.Command{
		Use: "remove ID", Short: short, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.TrimSpace(how.Reason) == "" && !how.DryRun {
				return shell.Usagef("say why: --reason")
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := remove(cl, cmd.Context(), args[0], how)
			switch {
			case err != nil:
				return shell.HeldBack(err)
			case how.DryRun:
				return a.PrintIntake(got, args[0], "", true)
			case a.Format != "table":
				return a.PrintIntake(got, args[0], "", false)
			}
			shell.Line(a.Out, "%s %s.", args[0], said)
			return nil
		},
	}
	c.Flags().StringVar(&how.Reason, "reason", "", "why")
	c.Flags().BoolVar(&how.DryRun, "dry-run", false,
		"tell what would change in who reaches what, and change nothing")
	c.Flags().StringVar(&how.AcceptImpact, "accept-impact", "", "go on although it would lock people out, and why")
	return c
}
