package books

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/review"
	"ironledger.example/core/revision"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/rulebook/form"
	"ironledger.example/core/value"
	"ironledger.example/internal/cli/devices"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

func rulebookReviewCmd(a *shell.App) *cobra.Command {
	fleet, at := false, ""
	c := &cobra.Command{
		Use: "review PATH|-", Short: "Find what is allowed in a rulebook and likely not meant",
		Args: cobra.ExactArgs(1),
		Long: `Find what is allowed in a rulebook and likely not meant: rules that can never
apply, attributes that no source supplies, gates that change nothing, levels that
nobody can reach, missing remedies, no break-glass account.

With --fleet a service looks at its fleet too: baselines that cover no device and
devices under no baseline. The exit code is 3 when there are remarks.`,
		Example: "  ironledger rulebook review demo/rulebook\n  ironledger rulebook review demo/rulebook --fleet",
		RunE: func(cmd *cobra.Command, args []string) error {
			now, err := shell.Moment(at)
			if err != nil {
				return err
			}
			files, err := a.RulebookFiles(args[0])
			if err != nil {
				return err
			}
			rb, err := rulebook.Load(files)
			if err != nil {
				return rulebookError(args[0], err)
			}
			remarks := review.Of(rb, nil, value.Micros(now))
			if fleet {
				cl, err := a.Client()
				if err != nil {
					return err
				}
				got, err := cl.CheckRulebook(cmd.Context(), api.Draft{Files: files})
				if err != nil {
					return err
				}
				remarks = got.Value.Remarks
			}
			return printRemarks(a, remarks)
		},
	}
	c.Flags().BoolVar(&fleet, "fleet", false, "look at the fleet of the service too")
	c.Flags().StringVar(&at, "at", "", "the moment to work at, RFC 3339 (default: now)")
	return c
}

// printRemarks prints what was found, and is shell.ErrNo when that is something.
func printRemarks(a *shell.App, remarks []review.Remark) error {
	l := shell.Listing{Head: []string{"KIND", "ABOUT", "WHERE", "REMARK"},
		Raw: append([]review.Remark{}, remarks...), Items: []json.RawMessage{}}
	for _, r := range remarks {
		raw, err := json.Marshal(r)
		if err != nil {
			return err
		}
		where := ""
		if r.Where.File != "" {
			where = fmt.Sprintf("%s:%d", r.Where.File, r.Where.Line)
		}
		l.Items = append(l.Items, raw)
		l.Rows = append(l.Rows, []string{r.Kind, r.About, where, r.Message})
	}
	if a.Format == "table" && len(remarks) == 0 {
		shell.Line(a.Out, "Nothing to remark.")
		return nil
	}
	if err := a.Print(l); err != nil || len(remarks) == 0 {
		return err
	}
	return shell.ErrNo
}

func rulebookSchemaCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of rulebooks, for editors", Args: cobra.NoArgs,
		Long: "Print the JSON Schema (draft 2020-12) of rulebooks. A service serves it at /schema/rulebook.json.",
		Example: "  ironledger rulebook schema > rulebook.schema.json\n  # then, at the top of a rulebook:\n  " +
			"# yaml-language-server: $schema=rulebook.schema.json",
		RunE: func(*cobra.Command, []string) error {
			raw, err := shell.Indented(form.Schema())
			if err == nil {
				_, err = fmt.Fprintln(a.Out, string(raw))
			}
			return err
		},
	}
}

func rulebookDiffCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "diff OLD NEW", Short: "Tell in words what differs between two rulebooks", Args: cobra.ExactArgs(2),
		Long: "Tell in words, rule by rule, what differs between two rulebooks. Each is a path, the number " +
			"of a published version, or current. The exit code is 3 when they differ.",
		Example: "  ironledger rulebook diff current demo/rulebook\n  ironledger rulebook diff 3 4 -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			var books []*rulebook.Rulebook
			for _, name := range args {
				files, err := a.Version(cmd.Context(), name)
				if err != nil {
					return err
				}
				rb, err := rulebook.Load(files)
				if err != nil {
					return rulebookError(name, err)
				}
				books = append(books, rb)
			}
			diff := append([]revision.Difference{}, revision.Compare(books[0], books[1])...)
			l := shell.Listing{Head: []string{"SECTION", "ABOUT", "CHANGE", "TEXT"}, Raw: diff,
				Items: []json.RawMessage{}}
			sign := map[string]string{"added": "+", "removed": "-", "changed": "~"}
			for _, d := range diff {
				raw, err := json.Marshal(d)
				if err != nil {
					return err
				}
				l.Items = append(l.Items, raw)
				l.Rows = append(l.Rows, []string{d.Section, d.About, d.Change, d.Text})
				if a.Format == "table" {
					shell.Line(a.Out, "%s %s", a.Rust(sign[d.Change]), d.Text)
				}
			}
			if a.Format == "table" && len(diff) == 0 {
				shell.Line(a.Out, "They mean the same.")
			}
			if a.Format != "table" {
				if err := a.Print(l); err != nil {
					return err
				}
			}
			if len(diff) > 0 {
				return shell.ErrNo
			}
			return nil
		},
	}
}

func rulebookBackCmd(a *shell.App) *cobra.Command {
	message := ""
	c := &cobra.Command{
		Use: "back VERSION", Short: "Put an earlier version in force again, as a new version",
		Args:    cobra.ExactArgs(1),
		Example: "  ironledger rulebook back 3 -m 'Version 4 barred the kiosks'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if n, err := strconv.Atoi(args[0]); err != nil || n < 1 {
				return shell.Usagef("%q is not the number of a version", args[0])
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			old, err := cl.GetRulebook(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			now, err := cl.GetRulebook(cmd.Context(), "current")
			if err != nil {
				return err
			}
			if old.Value.Digest == now.Value.Digest {
				return fmt.Errorf("version %d, in force, is the same as version %s", now.Value.Version, args[0])
			}
			text := "Back to version " + args[0]
			if message != "" {
				text += ": " + message
			}
			got, err := cl.PublishRulebook(cmd.Context(),
				api.Draft{Files: old.Value.Files, Message: text, Base: &now.Value.Version})
			if err != nil {
				return err
			}
			return published(a, got)
		},
	}
	c.Flags().StringVarP(&message, "message", "m", "", "why; kept with the new version")
	return c
}

func published(a *shell.App, got *client.Reply[api.Publication]) error {
	r := got.Value.Rulebook
	if a.Format == "table" {
		text := "Version %d is in force; %d devices changed level."
		if got.Value.Unchanged {
			text = "Version %d, in force, has the same files; no version was made of them, and %d devices changed level."
		}
		shell.Line(a.Out, text, r.Version, got.Value.Moved)
		return nil
	}
	return a.Print(shell.Listing{Head: []string{"VERSION", "MOVED", "DIGEST"},
		Rows: [][]string{{fmt.Sprint(r.Version), fmt.Sprint(got.Value.Moved), r.Digest}}, Raw: got.Raw})
}

// rehearseDevice shows how one device would stand under a rulebook.
func rehearseDevice(ctx context.Context, a *shell.App, cl *client.Client, device, book string,
	files []rulebook.File) error {
	got, err := cl.RehearseDevice(ctx, device, api.Draft{Files: files})
	if err != nil {
		return err
	}
	if a.Format != "table" {
		return a.Print(shell.Listing{Head: []string{"DEVICE", "LEVEL"},
			Rows: [][]string{{got.Value.ID, got.Value.Level}}, Raw: got.Raw})
	}
	shell.Line(a.Out, "%s", a.Dim("Under "+book+", which is not in force:"))
	devices.WholeDevice(a, &got.Value, false)
	return nil
}

// rehearseFleet shows what a rulebook would do to the fleet, and to the requests of days.
func rehearseFleet(ctx context.Context, a *shell.App, cl *client.Client, files []rulebook.File, days int) error {
	got, err := cl.RehearseRulebook(ctx, api.Draft{Files: files})
	if err != nil {
		return err
	}
	asked, err := cl.ReplayRulebook(ctx, api.ReplayRulebookParams{Days: days}, api.Draft{Files: files})
	if err != nil {
		return err
	}
	weighed, err := cl.WeighRulebook(ctx, api.Draft{Files: files})
	if err != nil {
		return err
	}
	refuses := weighed.Value.Items
	if a.Format != "table" {
		l, err := shiftListing(got)
		if err != nil {
			return err
		}
		l.Raw = map[string]any{"devices": got.Raw, "requests": asked.Raw, "impacts": shell.ItemsOf(weighed.Raw)}
		if err := addAccess(&l, &asked.Value); err != nil {
			return err
		}
		if err := a.Print(l); err != nil {
			return err
		}
	} else {
		shift(a, &got.Value)
		shell.Line(a.Out, "")
		accessShift(a, &asked.Value)
		for _, x := range refuses {
			shell.Line(a.Out, "%s %s.", a.Rust("The guard would refuse it:"), x.Message)
		}
	}
	if len(refuses) > 0 {
		return shell.ErrNo
	}
	return nil
}

// addAccess adds the requests that would be answered otherwise to a listing of devices that would move.
func addAccess(l *shell.Listing, s *rehearsal.AccessShift) error {
	for i, row := range l.Rows {
		l.Rows[i] = append(row, "", "", "", "")
	}
	l.Head = append(l.Head, "PERSON", "ACTION", "RESOURCE", "TIMES")
	for _, c := range s.Changes {
		raw, err := json.Marshal(c)
		if err != nil {
			return err
		}
		l.Items = append(l.Items, raw)
		l.Rows = append(l.Rows, []string{c.Device, "", "", "", string(c.From), string(c.To), shell.Joined(c.Gates),
			c.Person, c.Action, c.Resource, fmt.Sprint(c.Times)})
	}
	return nil
}

func rulebookRehearseCmd(a *shell.App) *cobra.Command {
	device, shadow, days := "", false, 7
	c := &cobra.Command{
		Use: "rehearse PATH|VERSION|-", Short: "What a rulebook would do to today's fleet, before it is published",
		Args: func(cmd *cobra.Command, args []string) error {
			if shadow {
				return cobra.NoArgs(cmd, args)
			}
			return cobra.ExactArgs(1)(cmd, args)
		},
		Long: `Work out what a rulebook would do to today's fleet: which devices would move from
level to level, by which rule, by platform and group; and to the requests of the
last days: who would be newly denied, newly asked for a second factor, newly
allowed, or locked out entirely. Nothing is changed by it. Exit code 3 says that the guard would
refuse to publish it, and why is said.

With --device, show how one device would stand. With --shadow, show what enforcing
the shadow baselines of the rulebook in force would do.`,
		Example: "  ironledger rulebook rehearse demo/rulebook\n  ironledger rulebook rehearse demo/rulebook " +
			"--device GF-L-1042\n  ironledger rulebook rehearse --shadow\n  ironledger rulebook rehearse " +
			"demo/rulebook -o json | jq '.devices.moves[] | select(.falls)'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if shadow {
				cl, err := a.Client()
				if err != nil {
					return err
				}
				got, err := cl.GetShadow(cmd.Context())
				if err != nil {
					return err
				}
				return printShift(a, got)
			}
			files, err := a.Version(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			if device != "" {
				return rehearseDevice(cmd.Context(), a, cl, device, args[0], files)
			}
			return rehearseFleet(cmd.Context(), a, cl, files, days)
		},
	}
	c.Flags().StringVar(&device, "device", "", "show how this device would stand")
	c.Flags().IntVar(&days, "days", 7, "replay the requests of so many days")
	c.Flags().BoolVar(&shadow, "shadow", false, "what enforcing the shadow baselines in force would do")
	c.MarkFlagsMutuallyExclusive("device", "shadow")
	shell.Must(c.RegisterFlagCompletionFunc("device", func(cmd *cobra.Command, _ []string, part string) ([]string,
		cobra.ShellCompDirective) {
		return a.CompleteDevices(cmd, nil, part)
	}))
	return c
}

func printShift(a *shell.App, got *client.Reply[api.Shift]) error {
	if a.Format == "table" {
		shift(a, &got.Value)
		return nil
	}
	l, err := shiftListing(got)
	if err != nil {
		return err
	}
	return a.Print(l)
}

// shiftListing lists the devices that would move.
func shiftListing(got *client.Reply[api.Shift]) (shell.Listing, error) {
	l := shell.Listing{Head: []string{"DEVICE", "NAME", "PLATFORM", "OWNER", "FROM", "TO", "RULES"}, Raw: got.Raw,
		Items: []json.RawMessage{}}
	for _, m := range got.Value.Moves {
		raw, err := json.Marshal(m)
		if err != nil {
			return l, err
		}
		l.Items = append(l.Items, raw)
		l.Rows = append(l.Rows, []string{m.Device, m.Name, m.Platform, m.Owner, m.From, m.To,
			shell.Joined(m.Rules)})
	}
	return l, nil
}

// shift prints a rehearsal for people: the matrix, who moves, and by what.
func shift(a *shell.App, s *rehearsal.Shift) {
	shell.Line(a.Out, "%s  %d would fall, %d would rise, %d stay.\n", a.Bold(fmt.Sprintf("%d devices:", s.Devices)),
		s.Falls, s.Rises, s.Devices-s.Falls-s.Rises)
	head := []string{"FROM \\ TO"}
	for i, l := range s.To {
		head = append(head, a.Mark(l, i, len(s.To)-1))
	}
	var rows [][]string
	for i, counts := range s.Matrix {
		row := append([]string{a.Mark(s.From[i], i, len(s.From)-1)}, shell.Numbers(counts)...)
		for j, n := range counts {
			if n > 0 && s.From[i] != s.To[j] {
				row[j+1] = a.Rust(row[j+1])
			}
		}
		rows = append(rows, row)
	}
	a.Table(head, rows)
	if len(s.Moves) == 0 {
		shell.Line(a.Out, "\nNo device would change level.")
		return
	}
	for _, part := range []struct {
		name string
		list []rehearsal.Count
	}{{"RULE", s.Rules}, {"PLATFORM", s.Platforms}, {"GROUP", s.Groups}} {
		moved := slices.DeleteFunc(slices.Clone(part.list),
			func(c rehearsal.Count) bool { return c.Falls+c.Rises == 0 })
		var cells []string
		for _, c := range moved {
			cells = append(cells, strings.TrimSpace(fmt.Sprintf("%s%s%s", c.ID,
				shell.Only(c.Falls > 0, fmt.Sprintf(" -%d", c.Falls)),
				shell.Only(c.Rises > 0, fmt.Sprintf(" +%d", c.Rises)))))
		}
		if len(cells) > 0 {
			shell.Line(a.Out, "\n%s  %s", a.Bold(part.name), shell.Joined(cells))
		}
	}
	shell.Line(a.Out, "")
	rows = nil
	for i, m := range s.Moves {
		if i == 25 {
			rows = append(rows, []string{fmt.Sprintf("and %d more", s.Falls+s.Rises-i)})
			break
		}
		rows = append(rows, []string{m.Device, m.Name, m.Owner, m.From + " → " + a.Bold(m.To),
			shell.Brief(m.Rules)})
	}
	a.Table([]string{"DEVICE", "NAME", "OWNER", "WOULD MOVE", "BY"}, rows)
}

// accessShift prints what a rulebook would have answered to recorded requests.
func accessShift(a *shell.App, s *rehearsal.AccessShift) {
	shell.Line(a.Out, "%s  %d newly denied, %d newly asked for a second factor, %d newly allowed.",
		a.Bold(fmt.Sprintf("%d requests of the last %d days, %d different ones of %d people:", s.Requests,
			s.Days, s.Distinct, s.People)), s.Denied, s.SteppedUp, s.Allowed)
	if s.Regranted > 0 {
		shell.Line(a.Out, "%d granted something else on their network.", s.Regranted)
	}
	if len(s.LockedOut) > 0 {
		shell.Line(a.Out, "%s", a.Rust("Locked out of everything they reach today: "+shell.Joined(s.LockedOut)))
	}
	for _, text := range s.Raised {
		shell.Line(a.Out, "%s.", strings.ToUpper(text[:1])+text[1:])
	}
	if len(s.Changes) == 0 {
		shell.Line(a.Out, "No answer would change.")
		return
	}
	shell.Line(a.Out, "")
	var rows [][]string
	for i, c := range s.Changes {
		if i == 25 {
			rows = append(rows, []string{fmt.Sprintf("and %d more", len(s.Changes)-i)})
			break
		}
		rows = append(rows, []string{c.Person, c.Action + " " + c.Resource, c.Device,
			answered(c.From, c.FromGrant) + " → " + a.Bold(answered(c.To, c.ToGrant)),
			shell.Brief(c.Gates) + shell.Only(c.ByLevel, " (its level changes)"), fmt.Sprint(c.Times)})
	}
	a.Table([]string{"PERSON", "ASKED", "DEVICE", "WOULD CHANGE", "BY", "TIMES"}, rows)
}

// answered tells an outcome, and what is granted with it.
func answered(o access.Outcome, grant string) string {
	if grant == "" {
		return string(o)
	}
	return string(o) + " with " + grant
}
