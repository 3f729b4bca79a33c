package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/client"
)

func (a *app) personCmd() *cobra.Command {
	c := &cobra.Command{Use: "person", Short: "The directory: list, show, import, remove",
		Aliases: []string{"people"}}
	c.AddCommand(a.personListCmd(), a.personShowCmd(), a.personImportCmd(), a.personRemoveCmd())
	return c
}

func (a *app) personListCmd() *cobra.Command {
	p := api.ListPeopleParams{}
	c := &cobra.Command{
		Use: "list", Short: "List people and their groups", Args: cobra.NoArgs,
		Example: "  ironledger person list --group finance\n  ironledger person list --find birk",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.People(cmd.Context(), p)
			if err != nil {
				return err
			}
			return show(a, got, []string{"PERSON", "NAME", "GROUPS"}, func(p api.Person) []string {
				return []string{p.Id, p.Name, joined(p.Groups)}
			})
		},
	}
	c.Flags().StringVarP(&p.Q, "find", "q", "", "a part of the id, name or a group")
	c.Flags().StringVar(&p.Group, "group", "", "those in this group")
	c.Flags().IntVar(&p.Limit, "limit", 0, "at most so many; 0 for all")
	return c
}

// lately is how many decisions are shown with a person.
const lately = 5

func (a *app) personShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show ID", Short: "Show a person: groups, devices and what was decided lately",
		Args:    cobra.ExactArgs(1),
		Example: "  ironledger person show birk.strand@gullholm.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Person(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			made, err := cl.Decisions(cmd.Context(), api.ListDecisionsParams{Person: args[0], Limit: lately})
			if err != nil {
				return err
			}
			if p := got.Value; !p.Known && !p.BreakGlass && len(p.Devices)+len(made.Value.Items) == 0 {
				return fmt.Errorf("nobody is known as %q: neither to the directory nor as the owner of a device, and nothing was decided for them", args[0])
			}
			p, l := got.Value, listing{head: []string{"DEVICE", "LEVEL", "NAME", "PLATFORM", "OS", "HELD BY",
				"SEEN"}, raw: got.Raw}
			for _, d := range p.Devices {
				row := []string{d.Id, a.mark(d.Level, d.Rank, d.Top), d.Name, d.Platform, d.OsVersion,
					joined(d.Binding), d.SeenAt}
				if a.format == "table" {
					row[5], row[6] = heldBy(d), ago(d.SeenAt)
				}
				l.rows = append(l.rows, row)
			}
			if a.format != "table" {
				return a.print(l)
			}
			a.personHead(&p)
			if len(l.rows) > 0 {
				line(a.out, "")
				a.table(l.head, l.rows)
			}
			if p.More > 0 {
				line(a.out, "and %d more: ironledger device list --where 'owner == %q'", p.More, p.Id)
			}
			if len(made.Value.Items) == 0 {
				line(a.out, "\nNothing was ever decided for this person.")
				return nil
			}
			line(a.out, "\nDecided lately")
			var rows [][]string
			for _, d := range made.Value.Items {
				rows = append(rows, []string{ago(d.At), string(d.Outcome),
					d.Asked.Action.Name + " " + d.Asked.Resource.ID, d.Device, gatesOf(d), d.Code, d.Id})
			}
			a.table([]string{"WHEN", "OUTCOME", "ASKED", "DEVICE", "GATES", "CODE", "DECISION"}, rows)
			return nil
		},
	}
}

func (a *app) personHead(p *api.PersonPage) {
	title := p.Id
	if p.Name != "" {
		title = p.Name + "   " + p.Id
	}
	line(a.out, "%s", a.bold(title))
	switch {
	case p.BreakGlass:
		line(a.out, "%s passes every gate.", a.rust("A break-glass account"))
	case !p.Known:
		line(a.out, "The directory does not know this person: no groups.")
	case len(p.Groups) == 0:
		line(a.out, "Groups: none")
	}
	if len(p.Groups) > 0 {
		line(a.out, "Groups: %s", joined(p.Groups))
	}
	if len(p.Devices) == 0 {
		line(a.out, "No device has this person for its owner.")
	}
}

func (a *app) personImportCmd() *cobra.Command {
	p := api.ImportPeopleParams{}
	c := &cobra.Command{
		Use: "import FILE|-", Short: "Add people, or replace those with the same id, from CSV (id,name,groups) or YAML", Args: cobra.ExactArgs(1),
		Long: `Add people, or replace those with the same id, from CSV (id,name,groups; groups are
parted by ;) or YAML.

With --whole the file is the whole directory, and people who are not in it are
removed. What changes in who reaches what is told, with --dry-run beforehand. A
file that would shut an administrator out, take something from many, or leave out
more than a fifth of the directory and more than five people, is held back;
--accept-impact takes it all the same, with a reason that is recorded.`,
		Example: "  ironledger person import people.csv --dry-run\n  ironledger person import everybody.csv --whole",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			text, err := a.read(args[0])
			if err != nil {
				return err
			}
			media := "application/yaml"
			if first, _, _ := strings.Cut(text, "\n"); strings.Contains(first, ",") &&
				!strings.ContainsAny(first, ":{[") {
				media = "text/csv"
			}
			got, err := cl.ImportPeople(cmd.Context(), media, strings.NewReader(text), p)
			if err != nil {
				return heldBack(err)
			}
			return a.printIntake(got, args[0], "people", p.DryRun)
		},
	}
	c.Flags().BoolVar(&p.Whole, "whole", false, "the file is the whole directory: remove who is not in it")
	c.Flags().BoolVar(&p.DryRun, "dry-run", false,
		"tell what would change, and change nothing; exit code 3 says that it would be held back")
	c.Flags().StringVar(&p.AcceptImpact, "accept-impact", "",
		"take the file although it would lock people out or leaves out many, and why")
	return c
}

// heldBack adds to the error of a change that would lock people out what to do.
func heldBack(err error) error {
	var held *client.Problem
	if errors.As(err, &held) && len(held.Impacts) > 0 {
		return fmt.Errorf("%w\nmend it, or go on all the same with --accept-impact and a reason", err)
	}
	return err
}

// printIntake tells what became of a list, or would.
func (a *app) printIntake(got *client.Reply[api.PeopleIntake], path, what string, dry bool) error {
	in := got.Value
	for _, r := range in.Refused {
		line(a.err, "%s:%d: %s", path, r.Line, r.Message)
	}
	if a.format != "table" {
		err := a.print(listing{head: []string{"ADDED", "CHANGED", "UNCHANGED", "REMOVED", "REFUSED"}, raw: got.Raw,
			rows: [][]string{{fmt.Sprint(in.Added), fmt.Sprint(in.Changed), fmt.Sprint(in.Unchanged),
				fmt.Sprint(in.Removed), fmt.Sprint(len(in.Refused))}}})
		return cmp.Or(err, intakeError(&in, dry))
	}
	text := "%d %s added, %d changed, %d as they were, %d removed, %d lines refused"
	if dry {
		text = "Nothing is changed. It would be: " + text
	}
	line(a.out, text, in.Added, what, in.Changed, in.Unchanged, in.Removed, len(in.Refused))
	a.printReach(&in.Reach)
	for _, x := range in.Impacts {
		line(a.out, "%s", a.rust("Held back: "+x.Message))
	}
	return intakeError(&in, dry)
}

func intakeError(in *api.PeopleIntake, dry bool) error {
	if dry && len(in.Impacts) > 0 {
		return errNo
	}
	return failedIf(len(in.Refused) > 0)
}

// maxReachLines bounds how many people are told of whose reach changes.
const maxReachLines = 20

func (a *app) printReach(r *api.ReachShift) {
	if r.Losing+r.Gaining == 0 {
		return
	}
	line(a.out, "Who reaches what: people who lose something %d, who gain something %d.", r.Losing, r.Gaining)
	for i, p := range r.Persons {
		if i == maxReachLines {
			line(a.out, "  and %d more", len(r.Persons)-i)
			break
		}
		text := "  " + p.Person
		if len(p.Lost) > 0 {
			text += a.rust(" loses " + joined(p.Lost))
		}
		if len(p.Gained) > 0 {
			text += " gains " + joined(p.Gained)
		}
		line(a.out, "%s", text)
	}
	if len(r.LockedOut) > 0 {
		line(a.out, "%s", a.rust("Reach nothing any more: "+joined(r.LockedOut)))
	}
}

func (a *app) personRemoveCmd() *cobra.Command {
	c := a.removeCmd("Take a person out of the directory", "is no longer in the directory",
		(*client.Client).RemovePerson)
	c.Long = `Take a person out of the directory. They are in no group from that moment, and
their sessions end where a gate asked for one. Their devices stay: retire those.`
	c.Example = "  ironledger person remove lasse.vass@gullholm.example --reason 'Left on 30 November'"
	return c
}

// removeCmd is the verb that removes one thing by its id, for a reason.
func (a *app) removeCmd(short, said string, remove func(cl *client.Client, ctx context.Context, id string,
	how api.Removal) (*client.Reply[api.PeopleIntake], error)) *cobra.Command {
	var how api.Removal
	c := &cobra.Command{
		Use: "remove ID", Short: short, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.TrimSpace(how.Reason) == "" && !how.DryRun {
				return usageError{errors.New("say why: --reason")}
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := remove(cl, cmd.Context(), args[0], how)
			switch {
			case err != nil:
				return heldBack(err)
			case how.DryRun:
				return a.printIntake(got, args[0], "", true)
			case a.format == "table":
				line(a.out, "%s %s.", args[0], said)
			}
			return nil
		},
	}
	c.Flags().StringVar(&how.Reason, "reason", "", "why")
	c.Flags().BoolVar(&how.DryRun, "dry-run", false,
		"tell what would change in who reaches what, and change nothing")
	c.Flags().StringVar(&how.AcceptImpact, "accept-impact", "", "go on although it would lock people out, and why")
	return c
}
