package feeds

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/feed"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// example is a feed, for the help.
const example = `    id: fleet-desk
    title: The fleet desk of Skerry Managed Devices
    source: mdm
    url: https://desk.skerry.example/v1/machines
    sign_in: {by: oauth2, client_id: gullholm, token_url: https://desk.skerry.example/token, scopes: [machines.read]}
    pages: {by: cursor, at: /paging/after, parameter: after}
    every: 15m
    whole: true
    mapping:
      items: /machines
      observed_at: /lastContact
      identity: {external_id: /ref, serial: /hardware/serial}
      evidence:
        platform: {from: /os/family, words: {Windows: windows, Mac: macos}}
        storage.encrypted: {from: /disk, words: {sealed: true, open: false}}`

// secretFlags are those by which a secret comes, and when it ends.
type secretFlags struct {
	shell.SecretFlags
	until string
}

// load reads the settings of a feed, YAML or JSON, - for standard input. Certificates in it are PEM, or
// the names of files that stand beside it.
func load(a *shell.App, path string) (s feed.Settings, err error) {
	text, err := a.Read(path)
	if err != nil {
		return s, err
	}
	if s, err = feed.Read(text); err != nil {
		return s, fmt.Errorf("%s: %w", path, err)
	}
	for _, pem := range []*string{&s.SignIn.Certificate, &s.SignIn.Trust} {
		if *pem == "" || strings.Contains(*pem, "-----BEGIN") {
			continue
		}
		raw, err := os.ReadFile(filepath.Join(filepath.Dir(path), *pem))
		if err != nil {
			return s, err
		}
		*pem = string(raw)
	}
	return s, nil
}

func addCmd(a *shell.App) *cobra.Command {
	var secret secretFlags
	replace, noWait := false, false
	c := &cobra.Command{
		Use: "add FILE", Short: "Add a feed, or change one, and fetch it", Args: cobra.ExactArgs(1),
		Long: `Add a feed as a file describes it, - for standard input, and fetch it at once:

` + example + `

Its secret is read from a variable or a file, kept encrypted, and never shown again. With
--replace the settings of a feed that is there are given anew; its secret stays unless it
would go elsewhere.`,
		Example: `  SECRET=… ironledger feed add fleet-desk.yaml --secret-from SECRET --secret-until 2027-06-01T00:00:00Z
  ironledger feed add fleet-desk.yaml --replace`,
		RunE: func(cmd *cobra.Command, args []string) error {
			d := api.FeedDraft{SecretUntil: secret.until}
			var err error
			if d.Feed, err = load(a, args[0]); err != nil {
				return err
			}
			if d.Secret, err = secret.Read(); err != nil {
				return err
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			var got *client.Reply[api.Feed]
			if replace {
				got, err = cl.ChangeFeed(cmd.Context(), d.Feed.ID, d)
			} else {
				got, err = cl.AddFeed(cmd.Context(), d)
			}
			if err != nil {
				return err
			}
			if noWait {
				return show(a, got)
			}
			return wait(cmd.Context(), a, cl, d.Feed.ID, newest(&got.Value))
		},
	}
	secret.Add(c)
	c.Flags().StringVar(&secret.until, "secret-until", "", "when the secret ends (RFC 3339): it is told of before")
	c.Flags().BoolVar(&replace, "replace", false, "give the settings of a feed that is there anew")
	c.Flags().BoolVar(&noWait, "no-wait", false, "do not wait for its first run")
	return c
}

// newest is the number of the last run that has ended; 0 for none.
func newest(f *api.Feed) int {
	if len(f.Runs) == 0 {
		return 0
	}
	return f.Runs[0].Number
}

// wait waits until a run of a feed has ended that had not before, and tells how it went.
func wait(ctx context.Context, a *shell.App, cl *client.Client, id string, before int) error {
	const each = 300 * time.Millisecond
	for {
		got, err := cl.GetFeed(ctx, id)
		if err != nil {
			return err
		}
		f := &got.Value
		if now := newest(f); now != before {
			a.Progress("")
			if err := show(a, got); err != nil {
				return err
			}
			if f.Runs[0].Outcome == feed.Failed {
				return fmt.Errorf("the run failed: %s", f.Runs[0].Error)
			}
			return nil
		}
		if f.Running.StartedAt != "" {
			a.Progress(progress(&f.Running))
		}
		select {
		case <-time.After(each):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func runCmd(a *shell.App) *cobra.Command {
	var d api.FeedRunDraft
	noWait := false
	c := &cobra.Command{
		Use: "run FEED", Short: "Fetch a feed now, and tell how it " +
			"went", Args: cobra.ExactArgs(1), ValidArgsFunction: complete(a),
		Long: `Fetch a feed now, also one that is paused. With --accept, devices that are no longer
listed are gone although they are many, and people are taken though some lose access: the reason
is recorded.`,
		Example: `  ironledger feed run fleet-desk
  ironledger feed run fleet-desk --full
  ironledger feed run fleet-desk --accept 'The engine room was closed, 14 laptops were returned'`,
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.RunFeed(cmd.Context(), args[0], d)
			if err != nil {
				return err
			}
			if noWait {
				return show(a, got)
			}
			return wait(cmd.Context(), a, cl, args[0], newest(&got.Value))
		},
	}
	c.Flags().BoolVar(&d.Full, "full", false, "ask for everything, not for what changed alone")
	c.Flags().StringVar(&d.Accept, "accept", "", "why what looks like a mistake of the partner is none")
	c.Flags().BoolVar(&noWait, "no-wait", false, "do not wait until it has ended")
	return c
}

func tryCmd(a *shell.App) *cobra.Command {
	var secret secretFlags
	var d api.FeedTrialDraft
	c := &cobra.Command{
		Use: "try FILE|FEED", Short: "Fetch a few items and show what they would become; keep nothing",
		Args: cobra.ExactArgs(1), ValidArgsFunction: complete(a),
		Long: `Fetch a few items of a feed and show what they would become: which devices they are about, what
of them is taken, what is not and why. A file that has no mapping yet is answered with what stands
where in the partner's items, and what it might be. Nothing is kept. Exit code 3 says that
something went wrong with the partner, or that an item could not be read.`,
		Example: `  SECRET=… ironledger feed try fleet-desk.yaml --secret-from SECRET
  ironledger feed try fleet-desk --items 20`,
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			if _, missing := os.Stat(args[0]); missing != nil && args[0] != "-" && !strings.ContainsAny(args[0], "/.") {
				got, err := cl.GetFeed(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				d.Feed, d.Of = got.Value.Feed, args[0]
			} else if d.Feed, err = load(a, args[0]); err != nil {
				return err
			}
			if d.Secret, err = secret.Read(); err != nil {
				return err
			}
			got, err := cl.TryFeed(cmd.Context(), d)
			if err != nil {
				return err
			}
			return trial(a, got)
		},
	}
	secret.Add(c)
	c.Flags().IntVar(&d.Items, "items", 5, "how many items are looked at, up to 100")
	c.Flags().StringVar(&d.Of, "of", "", "the feed whose secret is used")
	return c
}

// trial tells what a trial brought.
func trial(a *shell.App, got *client.Reply[api.FeedTrial]) error {
	t, bad := got.Value, got.Value.Failure != ""
	for _, i := range t.Items {
		bad = bad || i.Error != ""
	}
	if a.Format != "table" {
		if err := a.Print(shell.Listing{Head: []string{"ITEM", "DEVICE"}, Raw: got.Raw}); err != nil {
			return err
		}
		return noIf(bad)
	}
	if t.Status != "" {
		shell.Line(a.Out, "The partner answers %s with "+
			"%s%s%s.", t.Status, t.Type, shell.Only(t.ListAt != "", ", its items at "+t.ListAt),
			shell.Only(t.More, "; there is more"))
	}
	if t.Clock != "" {
		shell.Line(a.Out, "Its clock is %s.", t.Clock)
	}
	mapped := false
	for _, i := range t.Items {
		if i.Fate == "" && i.Error == "" {
			continue
		}
		mapped = true
		shell.Line(a.Out, "\n%s   %s%s", a.Bold(fmt.Sprintf("Item %d", i.Item)), i.Fate,
			shell.Only(i.Device != "", ": "+i.Device))
		shell.Line(a.Out, "%s", rows(i.Report))
		for _, r := range i.Remarks {
			shell.Line(a.Out, "  %s", a.Rust(r.Attribute+": "+r.Message))
		}
		if i.Error != "" {
			shell.Line(a.Out, "  %s", a.Rust(i.Error))
		}
	}
	if !mapped && len(t.Places) > 0 {
		var places [][]string
		for _, p := range t.Places {
			places = append(places, []string{p.At, p.Target, readAs(p.Words, p.Form, p.Unit),
				brief(strings.Join(p.Values, ", "))})
		}
		shell.Line(a.Out, "\nWhat stands where, and what it might be:\n")
		a.Table([]string{"AT", "MIGHT BE", "READ AS", "SAYS"}, places)
	}
	if t.Failure != "" {
		shell.Line(a.Out, "\n%s", a.Rust(fmt.Sprintf("It went wrong at the %s: %s", t.Step, t.Failure)))
	}
	return noIf(bad)
}

func noIf(bad bool) error {
	if bad {
		return shell.ErrNo
	}
	return nil
}

// readAs tells how a value would be read.
func readAs(words map[string]any, form, unit string) string {
	var out []string
	for _, w := range slices.Sorted(maps.Keys(words)) {
		out = append(out, fmt.Sprintf("%s: %v", w, words[w]))
	}
	if form != "" {
		out = append(out, "form "+form)
	}
	if unit != "" {
		out = append(out, "unit "+unit)
	}
	return strings.Join(out, ", ")
}

// rows tells a report, an attribute a line.
func rows(report any) string {
	m, is := report.(map[string]any)
	if !is {
		return ""
	}
	var out []string
	add := func(name string, v any) {
		raw, err := json.Marshal(v)
		if err == nil && v != nil {
			out = append(out, fmt.Sprintf("  %-26s %s", name, brief(strings.Trim(string(raw), `"`))))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m)) {
		inner, nested := m[name].(map[string]any)
		if !nested {
			add(name, m[name])
			continue
		}
		for _, k := range slices.Sorted(maps.Keys(inner)) {
			add(k, inner[k])
		}
	}
	return strings.Join(out, "\n")
}
