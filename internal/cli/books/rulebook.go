// Package books has the commands about rulebooks, and those that work on files alone.
package books

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// RulebookCmd is the command rulebook.
func RulebookCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{
		Use: "rulebook", Short: "The rulebook: init, check, review, fmt, test, diff (on files); rehearse, publish, " +
			"show, history, back",
		Long: "The rulebook is one YAML file or a folder of files, merged by key. check, review, fmt,\ntest, " +
			"diff and schema work on files without a service.",
	}
	c.AddCommand(rulebookInitCmd(a), rulebookCheckCmd(a), rulebookReviewCmd(a), rulebookFmtCmd(a), rulebookTestCmd(a),
		rulebookDiffCmd(a), rulebookSchemaCmd(a), rulebookControlsCmd(a),
		rulebookRehearseCmd(a), rulebookPublishCmd(a), rulebookBackCmd(a), rulebookShowCmd(a),
		rulebookHistoryCmd(a))
	return c
}

func rulebookCheckCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "check PATH|-", Short: "Find everything wrong with a rulebook", Args: cobra.ExactArgs(1),
		Example: "  ironledger rulebook check demo/rulebook\n  git show HEAD:rules.yaml | ironledger rulebook " +
			"check - -o json",
		RunE: func(_ *cobra.Command, args []string) error {
			rb, err := a.LoadRulebook(args[0])
			var problems rulebook.Problems
			if err != nil && !errors.As(err, &problems) {
				return err
			}
			if a.Format != "table" {
				l := shell.Listing{Head: []string{"FILE", "LINE", "COLUMN", "MESSAGE"},
					Raw: append(rulebook.Problems{}, problems...), Items: []json.RawMessage{}}
				for _, p := range problems {
					raw, err := json.Marshal(p)
					if err != nil {
						return err
					}
					l.Items = append(l.Items, raw)
					l.Rows = append(l.Rows, []string{p.File, fmt.Sprint(p.Line), fmt.Sprint(p.Column), p.Message})
				}
				if err := a.Print(l); err != nil {
					return err
				}
				return shell.FailedIf(len(problems) > 0)
			}
			if len(problems) > 0 {
				return rulebookError(args[0], err)
			}
			rules := 0
			for _, b := range rb.Baselines {
				rules += len(b.Rules)
			}
			shell.Line(a.Out, "%s is right: %d baselines with %d rules, %d gates, %d resources, %d examples.",
				rb.Name, len(rb.Baselines), rules, len(rb.Gates), len(rb.Resources), len(rb.Examples))
			return nil
		},
	}
}

func rulebookFmtCmd(a *shell.App) *cobra.Command {
	write, check := false, false
	c := &cobra.Command{
		Use: "fmt PATH|-", Short: "Print the conditions of a rulebook in the canonical way",
		Args: cobra.ExactArgs(1),
		Long: "Print the conditions of a rulebook in the canonical way; comments and order stay. With --write the " +
			"files are changed in place, with --check they are listed that would be (exit code 3); else the result is " +
			"printed.",
		Example: "  ironledger rulebook fmt rules.yaml\n  ironledger rulebook fmt --write demo/rulebook\n" +
			"  ironledger rulebook fmt --check demo/rulebook",
		RunE: func(_ *cobra.Command, args []string) error {
			files, err := a.RulebookFiles(args[0])
			if err != nil {
				return err
			}
			done, err := rulebook.Format(files)
			if err != nil {
				return rulebookError(args[0], err)
			}
			differs := false
			for i, f := range done {
				if !write && !check {
					fmt.Fprint(a.Out, f.Text)
					continue
				}
				if f.Text == files[i].Text {
					continue
				}
				path := args[0]
				if info, err := os.Stat(path); err == nil && info.IsDir() {
					path = filepath.Join(path, f.Name)
				}
				if differs = true; write {
					if err := os.WriteFile(path, []byte(f.Text), 0o644); err != nil {
						return err
					}
				}
				shell.Line(a.Out, "%s", path)
			}
			if check && differs {
				return shell.ErrNo
			}
			return nil
		},
		PreRunE: func(_ *cobra.Command, args []string) error {
			if write && args[0] == "-" {
				return shell.Usagef("--write needs a file or folder, not -")
			}
			return nil
		},
	}
	c.Flags().BoolVarP(&write, "write", "w", false, "change the files in place and list those changed")
	c.Flags().BoolVar(&check, "check", false, "list the files that would be changed, and change none")
	c.MarkFlagsMutuallyExclusive("write", "check")
	return c
}

func rulebookTestCmd(a *shell.App) *cobra.Command {
	at := ""
	c := &cobra.Command{
		Use: "test PATH|-", Short: "Run the examples of a rulebook", Args: cobra.ExactArgs(1),
		Example: "  ironledger rulebook test demo/rulebook",
		RunE: func(_ *cobra.Command, args []string) error {
			now, err := shell.Moment(at)
			if err != nil {
				return err
			}
			rb, err := a.LoadRulebook(args[0])
			if err != nil {
				return rulebookError(args[0], err)
			}
			outcomes := rehearsal.Examples(rb, value.Micros(now))
			l := shell.Listing{Head: []string{"", "EXAMPLE", "WANT", "GOT"}, Raw: outcomes,
				Items: []json.RawMessage{}}
			failed := 0
			for _, o := range outcomes {
				raw, err := json.Marshal(o)
				if err != nil {
					return err
				}
				sign := "ok"
				if !o.Passed {
					failed++
					sign = a.Rust("FAIL")
				}
				l.Items = append(l.Items, raw)
				l.Rows = append(l.Rows, []string{sign, o.Title, o.Want, o.Got})
			}
			l.Foot = fmt.Sprintf("%d of %d examples come out as they must", len(outcomes)-failed, len(outcomes))
			if err := a.Print(l); err != nil {
				return err
			}
			if a.Format == "table" {
				for _, o := range outcomes {
					for _, why := range o.Reasons {
						shell.Line(a.Out, "%s:%d: %s", o.File, o.Line, why)
					}
				}
			}
			return shell.FailedIf(failed > 0)
		},
	}
	c.Flags().StringVar(&at, "at", "", "the moment to work at, RFC 3339 (default: now)")
	return c
}

func rulebookPublishCmd(a *shell.App) *cobra.Command {
	message, accept, base := "", "", int64(0)
	c := &cobra.Command{
		Use: "publish PATH|-", Short: "Put a rulebook in force", Args: cobra.ExactArgs(1),
		Long: `Put a rulebook in force. It takes effect for every device before the command
returns. A rulebook with anything wrong, or with an example that fails, is
refused whole and the one in force stays.

One that would lock people out is refused too: that denies every administrator,
takes something from more people than the guard allows, or leaves no break-glass
account. The answer says who and why; --accept-impact publishes it all the same,
and the reason is recorded.`,
		Example: "  ironledger rulebook publish demo/rulebook -m 'Tablets need iPadOS 17.5'",
		RunE: func(cmd *cobra.Command, args []string) error {
			files, err := a.RulebookFiles(args[0])
			if err != nil {
				return err
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			for flag, text := range map[string]string{"message": message, "accept-impact": accept} {
				if cmd.Flags().Changed(flag) && strings.TrimSpace(text) == "" {
					return shell.Usagef("--%s is empty", flag)
				}
			}
			draft := api.Draft{Files: files, Message: message, AcceptImpact: accept}
			if cmd.Flags().Changed("base") {
				draft.Base = &base
			}
			got, err := cl.PublishRulebook(cmd.Context(), draft)
			var held *client.ProblemError
			if errors.As(err, &held) && len(held.Impacts) > 0 {
				return fmt.Errorf("%w\nrehearse it, or publish it all the same with --accept-impact and a reason", err)
			}
			if err != nil {
				return err
			}
			return published(a, got)
		},
	}
	c.Flags().StringVarP(&message, "message", "m", "", "what the change is for; kept with the version")
	c.Flags().StringVar(&accept, "accept-impact", "", "publish although it would lock people out, and why")
	c.Flags().Int64Var(&base, "base", 0, "refuse unless this version is the one in force; 0: unless none is")
	return c
}

func rulebookShowCmd(a *shell.App) *cobra.Command {
	dir := ""
	c := &cobra.Command{
		Use: "show [VERSION]", Short: "Print a published rulebook (default: the one in force)",
		Args: cobra.MaximumNArgs(1),
		Long: "Print a published rulebook, the one in force by default. With --out its files are written into a " +
			"folder as they were published: one that is there and differs is not overwritten.",
		Example: "  ironledger rulebook show\n  ironledger rulebook show 2 -o json\n  ironledger rulebook show --out rulebook",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			version := "current"
			if len(args) > 0 {
				version = args[0]
			}
			got, err := cl.GetRulebook(cmd.Context(), version)
			if err != nil {
				return shell.NonePublished(version, err)
			}
			if dir != "" {
				return writeFiles(a, dir, got.Value.Files)
			}
			if a.Format != "table" {
				r := got.Value
				return a.Print(shell.Listing{Head: []string{"VERSION", "AT", "AUTHOR", "MESSAGE", "DIGEST"},
					Rows: [][]string{{fmt.Sprint(r.Version), r.At, r.Author, r.Message, r.Digest}}, Raw: got.Raw})
			}
			r := got.Value
			shell.Line(a.Out, "# Version %d of %s by %s: %s", r.Version, shell.ShortTime(r.At), r.Author, r.Message)
			for _, f := range r.Files {
				shell.Line(a.Out, "# --- %s", f.Name)
				fmt.Fprint(a.Out, f.Text)
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "out", "", "write the files into this folder")
	return c
}

// writeFiles writes the files of a rulebook into a folder, all of them or none: what is there and differs stays.
func writeFiles(a *shell.App, dir string, files []rulebook.File) error {
	for _, f := range files {
		if f.Name != filepath.Base(f.Name) || !rulebook.IsRulebookFile(f.Name) {
			return fmt.Errorf("%q is no name of a file of a rulebook", f.Name)
		}
		switch old, err := os.ReadFile(filepath.Join(dir, f.Name)); {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return err
		case string(old) != f.Text:
			return fmt.Errorf("%s is there, and differs: nothing was written", filepath.Join(dir, f.Name))
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, f := range files {
		path := filepath.Join(dir, f.Name)
		if err := os.WriteFile(path, []byte(f.Text), 0o644); err != nil {
			return err
		}
		shell.Line(a.Out, "%s", path)
	}
	return nil
}

func rulebookHistoryCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "history", Short: "List the published versions, newest first", Args: cobra.NoArgs,
		RunE: shell.Lists(a, (*client.Client).ListRulebooks, []string{"VERSION", "PUBLISHED", "AUTHOR", "MESSAGE",
			"DIGEST"},
			func(r api.RulebookInfo) []string {
				return []string{fmt.Sprint(r.Version), shell.ShortTime(r.At), r.Author, r.Message,
					r.Digest[:min(12, len(r.Digest))]}
			}),
	}
}
