// Package feeds has the commands about where partners' inventories are fetched.
package feeds

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/feed"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// FeedCmd is the command feed.
func FeedCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "feed", Short: "Partners' inventories, fetched on a schedule: add, try, run, " +
		"list, pause, remove",
		Aliases: []string{"feeds"}}
	c.AddCommand(listCmd(a), showCmd(a), tryCmd(a), addCmd(a), runCmd(a),
		statusCmd(a, "pause", "Fetch a feed no more until it goes on", "paused"),
		statusCmd(a, "resume", "Have a feed go on that was paused", "enabled"), removeCmd(a))
	return c
}

func complete(a *shell.App) cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		cl, err := a.Client()
		if err != nil || len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		got, err := cl.ListFeeds(cmd.Context())
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, f := range got.Value.Items {
			out = append(out, f.Feed.ID+"\t"+f.Feed.Title)
		}
		return out, cobra.ShellCompDirectiveDefault
	}
}

func listCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List feeds with the last run of each", Args: cobra.NoArgs,
		Example: "  ironledger feed list\n  ironledger feed list -o json",
		RunE: shell.Lists(a, func(cl *client.Client, ctx context.Context) (*client.Reply[api.List[api.Feed]], error) {
			return cl.ListFeeds(ctx)
		}, []string{"FEED", "BRINGS", "SOURCE", "STATUS", "EVERY", "LAST", "OUTCOME", "ITEMS", "REJECTED", "GONE",
			"NEXT", "TROUBLE"},
			func(f api.Feed) []string {
				var last api.FeedRun
				if len(f.Runs) > 0 {
					last = f.Runs[0]
				}
				at, next, outcome, trouble := last.StartedAt, f.NextAt, last.Outcome, last.Error+last.GoneHeld
				if f.Running.StartedAt != "" {
					outcome = "running"
				}
				if a.Format == "table" {
					at, next, trouble = orNever(at), soon(next), shell.Clip(trouble, 60)
				}
				return []string{f.Feed.ID, f.Feed.Kind, f.Feed.Source, f.Status, f.Feed.Every, at, outcome,
					fmt.Sprint(last.Items),
					fmt.Sprint(last.Rejected), fmt.Sprint(last.Gone), next, trouble}
			}),
	}
}

func orNever(at string) string {
	if at == "" {
		return "never"
	}
	return shell.Ago(at)
}

// soon is the time of day of a moment to come.
func soon(at string) string {
	if at == "" {
		return ""
	}
	return shell.ShortTime(at)
}

// show tells a feed in full.
func show(a *shell.App, got *client.Reply[api.Feed]) error {
	f := got.Value
	if a.Format != "table" {
		return a.Print(shell.Listing{Head: []string{"FEED", "SOURCE", "STATUS"}, Raw: got.Raw,
			Rows: [][]string{{f.Feed.ID, f.Feed.Source, f.Status}}})
	}
	s := f.Feed
	shell.Line(a.Out, "%s   %s%s", a.Bold(s.ID), s.Title, shell.Only(f.Status != "enabled", "   "+a.Rust(f.Status)))
	if f.Reason != "" {
		shell.Line(a.Out, "Because   %s (%s)", f.Reason, f.By)
	}
	shell.Line(a.Out, "Brings    %s%s%s", s.Kind, shell.Only(s.Source != "", ", as the source "+s.Source),
		shell.Only(s.Whole, "; what it does not list is gone"))
	shell.Line(a.Out, "From      %s%s", s.URL+s.Folder, shell.Only(s.Format != "", ", "+s.Format))
	in := s.SignIn.By + shell.Only(s.SignIn.User+s.SignIn.ClientID != "", " as "+s.SignIn.User+s.SignIn.ClientID)
	if f.SecretAt != "" {
		in += ", its secret given " + shell.Ago(f.SecretAt) + shell.Only(f.SecretUntil != "",
			", which ends "+shell.When(f.SecretUntil))
	}
	shell.Line(a.Out, "Signs in  %s", in)
	if s.Pages.By != feed.OnePage {
		shell.Line(a.Out, "Pages     by %s", s.Pages.By)
	}
	shell.Line(a.Out, "Every     %s%s%s", s.Every, shell.Only(s.Since.Parameter != "", ", what changed; "+
		"everything every "+s.Since.FullEvery),
		shell.Only(f.NextAt != "", ", next "+shell.When(f.NextAt)))
	if f.Devices > 0 {
		shell.Line(a.Out, "Devices   %d of which %s has said something", f.Devices, s.Source)
	}
	if f.Running.StartedAt != "" {
		shell.Line(a.Out, "Now       %s", progress(&f.Running))
	}
	if len(f.Runs) == 0 {
		shell.Line(a.Out, "\nNo run has ended yet.")
		return nil
	}
	shell.Line(a.Out, "")
	var rows [][]string
	for _, r := range f.Runs {
		rows = append(rows, []string{shell.When(r.StartedAt), r.Outcome, fmt.Sprint(r.Pages), fmt.Sprint(r.Items),
			fmt.Sprint(r.Accepted),
			fmt.Sprint(r.Rejected), fmt.Sprint(r.Refused), fmt.Sprint(r.New), fmt.Sprint(r.Moved), fmt.Sprint(r.Gone),
			shell.Clip(r.Error+r.GoneHeld, 60)})
	}
	a.Table([]string{"RUN", "OUTCOME", "PAGES", "ITEMS", "TAKEN", "REJECTED", "REFUSED", "NEW", "MOVED",
		"GONE", "TROUBLE"}, rows)
	outcome(a, &f.Runs[0])
	return nil
}

// progress tells how far a run is.
func progress(r *api.FeedRun) string {
	return fmt.Sprintf("%d items on %d pages, %d KiB, since %s", r.Items, r.Pages, r.Bytes>>10, shell.Ago(r.StartedAt))
}

// outcome tells what was not taken in a run as it came, and why.
func outcome(a *shell.App, r *api.FeedRun) {
	if len(r.Reasons) > 0 {
		shell.Line(a.Out, "\nNot taken as it came, in the last run:")
		var rows [][]string
		for _, x := range r.Reasons {
			rows = append(rows, []string{x.What, fmt.Sprint(x.Count), x.Message, x.Example})
		}
		a.Table([]string{"WHAT", "HOW OFTEN", "WHY", "AS IN"}, rows)
	}
	for _, t := range []string{r.GoneHeld, r.Error} {
		if t != "" {
			shell.Line(a.Out, "\n%s", a.Rust(t))
		}
	}
	if r.Clock != "" {
		shell.Line(a.Out, "\nThe partner's clock is %s.", r.Clock)
	}
}

func showCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "show FEED", Short: "Show a feed: where it is, how its runs went, what was not " +
			"taken", Args: cobra.ExactArgs(1),
		ValidArgsFunction: complete(a), Example: "  ironledger feed show fleet-desk",
		RunE: shell.OfOne(a, (*client.Client).GetFeed, show),
	}
}

func statusCmd(a *shell.App, verb, short, status string) *cobra.Command {
	reason := ""
	return shell.WithReason(&cobra.Command{
		Use: verb + " FEED", Short: short, Args: cobra.ExactArgs(1), ValidArgsFunction: complete(a),
		Example: "  ironledger feed " + verb + " fleet-desk --reason 'The partner works on it, ticket 812'",
		RunE: shell.OfOne(a, func(cl *client.Client, ctx context.Context, id string) (*client.Reply[api.Feed], error) {
			return cl.SetFeedStatus(ctx, id, api.FeedStatusDraft{Status: status, Reason: reason})
		}, show),
	}, &reason)
}

func removeCmd(a *shell.App) *cobra.Command {
	var d api.FeedRemoval
	c := shell.WithReason(&cobra.Command{
		Use: "remove FEED --readings " +
			"keep|take-back", Short: "Remove a feed, and keep what it said of devices or take it back",
		Args: cobra.ExactArgs(1), ValidArgsFunction: complete(a),
		Long: `Remove a feed. Say what becomes of what it said of devices: keep it, and it counts until
it is stale; or take it back, and it is unavailable at once, with your reason on each
device's page.`,
		Example: "  ironledger feed remove fleet-desk --readings take-back --reason 'The contract ended'",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.RemoveFeed(cmd.Context(), args[0], d)
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"DEVICES"}, Raw: got.Raw,
					Rows: [][]string{{fmt.Sprint(got.Value.Devices)}}})
			}
			shell.Line(a.Out, "Removed %s. %s", args[0], map[bool]string{true: "What it said is kept.",
				false: fmt.Sprintf("What it said of %d devices is taken "+
					"back.", got.Value.Devices)}[d.Readings == "keep"])
			return nil
		},
	}, &d.Reason)
	c.Flags().StringVar(&d.Readings, "readings", "", "what becomes of what it said of devices: keep or take-back")
	shell.Must(c.MarkFlagRequired("readings"))
	shell.Must(c.RegisterFlagCompletionFunc("readings",
		cobra.FixedCompletions([]string{"keep", "take-back"}, cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// brief is JSON in one short line.
func brief(raw any) string { return shell.Clip(strings.TrimSpace(fmt.Sprint(raw)), 90) }
