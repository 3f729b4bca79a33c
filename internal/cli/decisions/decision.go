// Package decisions has the commands that ask who may reach what.
package decisions

import (
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// printAnswer prints a decision with the reasons of each gate; made is where it is
// recorded, nil for a trial.
func printAnswer(a *shell.App, d *api.Answer, made *api.RecordedDecision, raw any) error {
	l := shell.Listing{Head: []string{"GATE", "ID", "SAYS", "REQUIRED", "SEEN", "BY"}, Raw: raw}
	for _, g := range d.Gates {
		says := string(g.Verdict)
		if g.Shadow {
			says += " (shadow)"
		}
		for i, w := range g.Why {
			row := []string{shell.Number(g), g.Gate, says, w.Condition, shell.Seen(w), w.Source}
			if i > 0 {
				row[0], row[1], row[2] = "", "", ""
			}
			l.Rows = append(l.Rows, row)
		}
	}
	if a.Format != "table" {
		return a.Print(l)
	}
	if made != nil && (made.Redacted || made.Archive != "") {
		what := "was redacted"
		if made.Archive != "" {
			what = "is not here: " + made.Where
		}
		shell.Line(a.Out, "What was decided %s at %s %s.\nIt is entry %d of the ledger, which proves its hash.", made.ID,
			shell.ShortTime(made.At), what, made.Seq)
		return nil
	}
	answerHead(a, d, made)
	if len(l.Rows) > 0 {
		shell.Line(a.Out, "")
		a.Table(l.Head, l.Rows)
	}
	if len(d.ToAllow) > 0 {
		shell.Line(a.Out, "\nWhat would make it allow:")
		for _, s := range d.ToAllow {
			shell.Line(a.Out, "  %s", s)
		}
	}
	for _, m := range access.RemediesIn("en", d.Remedies) {
		shell.Line(a.Out, "  %s %s. %s", a.Rust("→"), a.Bold(m.Title), shell.PlainLinks(m.Steps))
	}
	return nil
}

// answerHead tells an answer in words; made is where it is recorded, nil for a trial.
func answerHead(a *shell.App, d *api.Answer, made *api.RecordedDecision) {
	word := strings.ToUpper(string(d.Outcome))
	if d.Outcome != api.Outcome(access.Allow) {
		word = a.Rust(word)
	}
	device := "an unknown device"
	if d.Known {
		device = d.Device + " (" + d.Level + ")"
	}
	shell.Line(a.Out, "%s  %s, %s %s, from %s", a.Bold(word), d.Asked.Subject.ID, d.Asked.Action.Name,
		d.Asked.Resource.ID, device)
	if !d.KnownPerson && d.Asked.Subject.Type != "device" {
		shell.Line(a.Out, "The directory does not know this person: no groups.")
	}
	for _, x := range d.Strangers {
		shell.Line(a.Out, "%s %s %s is known to nobody%s", a.Rust("Note:"), x.What, a.Bold(x.Name),
			shell.Only(len(x.Nearest) > 0, "; did you mean "+strings.Join(x.Nearest, " or ")+
				"?")+shell.Only(len(x.Nearest) == 0, "."))
	}
	if reason, ok := plaintext.Language(d.ReasonAdmin, "en"); ok {
		shell.Line(a.Out, "%s", shell.Sentences(reason))
	}
	if reason, ok := plaintext.Language(d.ReasonUser, "en"); ok && d.Outcome != api.Outcome(access.Allow) {
		shell.Line(a.Out, "The person is told: %s", reason)
	}
	if d.ShadowOutcome != "" {
		shell.Line(a.Out, "Were the shadow gates enforced, it would be %s.", d.ShadowOutcome)
	}
	if d.Code != "" {
		shell.Line(a.Out, "The code on the person's page is %s.", a.Bold(d.Code))
	}
	if made != nil {
		shell.Line(a.Out, "Decision %s at %s, asked by %s, entry %d of the ledger, rulebook %d.", made.ID,
			shell.ShortTime(made.At), made.Actor, made.Seq, made.Rulebook)
	}
}

// DecisionCmd is the command decision.
func DecisionCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "decision", Short: "Recorded decisions: list, show", Aliases: []string{"decisions"}}
	replay := false
	show := &cobra.Command{
		Use: "show ID|CODE", Short: "Show a recorded decision with all its reasons", Args: cobra.ExactArgs(1),
		Long: `Show a recorded decision with all its reasons: by its id, or by the code that the
person reads from the page that refused them.

With --replay the decision is made again, from the rulebook, evidence, waivers and
people of that moment, and compared with what was recorded. Exit code 3 says that
it comes out otherwise.`,
		Example: "  ironledger decision show 06h0fkcqq400gcd1xwky\n  ironledger decision show K7M2-9XQD --replay",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.GetDecision(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if replay {
				again, err := cl.ReplayDecision(cmd.Context(), got.Value.ID)
				if err != nil {
					return err
				}
				if a.Format == "table" {
					if err := printAnswer(a, &got.Value.Answer, &got.Value, got.Raw); err != nil {
						return err
					}
					shell.Line(a.Out, "")
				}
				return a.Reproduced(&again.Value, again.Raw)
			}
			return printAnswer(a, &got.Value.Answer, &got.Value, got.Raw)
		},
	}
	show.Flags().BoolVar(&replay, "replay", false, "make the decision again from what was kept, and compare")
	c.AddCommand(decisionListCmd(a), show)
	return c
}

func decisionListCmd(a *shell.App) *cobra.Command {
	var p api.ListDecisionsParams
	limit, outcome := 0, ""
	c := &cobra.Command{
		Use: "list", Short: "List recorded decisions, newest first", Args: cobra.NoArgs,
		Example: "  ironledger decision list --outcome deny --resource payroll\n  ironledger decision list " +
			"--gate payroll-strong --since 2026-11-20T00:00:00Z -o csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			p.Outcome = api.Outcome(outcome)
			l, _, err := shell.Pages(limit,
				func(size int, cursor string) (*client.Reply[api.List[api.RecordedDecision]], error) {
					p.Limit, p.Cursor = size, cursor
					return cl.ListDecisions(cmd.Context(), p)
				}, []string{"DECISION", "AT", "OUTCOME", "PERSON", "RESOURCE", "ACTION", "DEVICE", "LEVEL", "GATES"},
				func(d api.RecordedDecision) []string {
					return []string{d.ID, shell.ShortTime(d.At), string(d.Outcome), d.Asked.Subject.ID,
						d.Asked.Resource.ID, d.Asked.Action.Name, d.Device, d.Level, shell.GatesOf(&d.Answer)}
				})
			if err != nil {
				return err
			}
			return a.Print(l)
		},
	}
	f := c.Flags()
	f.StringVar(&p.Person, "person", "", "of this person")
	f.StringVar(&p.Device, "device", "", "from this device")
	f.StringVar(&p.Resource, "resource", "", "about this resource")
	f.StringVar(&p.Gate, "gate", "", "that this gate spoke to, by its id")
	f.StringVar(&p.Since, "since", "", "not before this moment, RFC 3339")
	f.StringVar(&p.Until, "until", "", "before this moment, RFC 3339")
	f.StringVar(&outcome, "outcome", "", "allow, deny or step-up")
	f.IntVar(&limit, "limit", 50, "at most so many (0: all)")
	shell.Must(c.RegisterFlagCompletionFunc("outcome", cobra.FixedCompletions([]string{"allow", "deny", "step-up"},
		cobra.ShellCompDirectiveNoFileComp)))
	return c
}
