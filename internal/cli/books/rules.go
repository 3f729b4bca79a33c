package books

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// RuleCmd is the command rule.
func RuleCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "rule", Short: "The rules in force: list, show, with what they say of the fleet",
		Aliases: []string{"rules"}}
	c.AddCommand(&cobra.Command{
		Use: "list", Short: "List the rules in force, with how many devices each says what of", Args: cobra.NoArgs,
		Example: "  ironledger rule list\n  ironledger rule list -o json | jq '.[] | select(.counts.unknown > 0)'",
		RunE: shell.Lists(a, (*client.Client).ListRules, []string{"RULE", "TITLE", "CAP", "PASS", "FAIL", "UNKNOWN",
			"GRACE", "WAIVED", "BINDS"}, func(r api.Rule) []string {
			name := r.Rule
			if r.Mode != "enforce" && a.Format == "table" {
				name += " (" + r.Mode + ")"
			}
			n := r.Counts
			return append([]string{name, r.Title, r.Cap},
				shell.Numbers([]int{n.Pass, n.Fail, n.Unknown, n.Grace, n.Waived, n.Binding})...)
		}),
	}, ruleShowCmd(a))
	return c
}

func ruleShowCmd(a *shell.App) *cobra.Command {
	p := api.GetRuleParams{}
	c := &cobra.Command{
		Use: "show BASELINE/RULE", Short: "Show a rule: what it asks, of whom, what it says by platform and over time",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.CompleteRuleNames,
		Example: "  ironledger rule show laptop/os-current\n  ironledger rule show laptop/os-current --back 30d -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			baseline, rule, ok := strings.Cut(args[0], "/")
			if !ok {
				return shell.Usagef("%q names no rule: say baseline/rule", args[0])
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.GetRule(cmd.Context(), baseline, rule, p)
			if err != nil {
				return err
			}
			rows := [][]string{}
			for _, x := range got.Value.Platforms {
				rows = append(rows, verdictRow(x.Platform, x.Counts))
			}
			head := []string{"PLATFORM", "PASS", "FAIL", "UNKNOWN", "GRACE", "WAIVED", "BINDS"}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: head, Rows: rows, Raw: got.Raw})
			}
			showRule(a, &got.Value, head, append(rows, verdictRow(a.Bold("all"), got.Value.Counts)))
			return nil
		},
	}
	c.Flags().StringVar(&p.Back, "back", "7d", "how far the course of its verdicts reaches back")
	return c
}

func verdictRow(name string, n api.VerdictCounts) []string {
	return append([]string{name}, shell.Numbers([]int{n.Pass, n.Fail, n.Unknown, n.Grace, n.Waived, n.Binding})...)
}

func showRule(a *shell.App, r *api.RuleDetail, head []string, rows [][]string) {
	shell.Line(a.Out, "%s  %s", a.Bold(r.Rule.Rule), r.Title)
	facts := []string{"in " + r.Baseline, r.Mode, "caps at " + r.Cap, "unknown caps at " + r.Unknown}
	if r.Grace != "" {
		facts = append(facts, "after a grace of "+r.Grace)
	}
	if !r.Waivable {
		facts = append(facts, "nobody may be excepted")
	}
	shell.Line(a.Out, "%s", shell.Joined(facts))
	shell.Line(a.Out, "%s %s", a.Dim("for"), r.Applies)
	for _, platform := range slices.Sorted(maps.Keys(r.Checks)) {
		name := platform
		if name == "" && len(r.Checks) > 1 {
			name = "others"
		}
		shell.Line(a.Out, "%s %s", a.Dim(strings.TrimSpace(name+" asks")), r.Checks[platform])
	}
	shell.Line(a.Out, "")
	a.Table(head, rows)
	shell.Line(a.Out, "\n%s  %s", a.Bold("Fails and unknowns over time"), courseOf(r.Course))
	if len(r.Waivers) > 0 {
		shell.Line(a.Out, "\n%s", a.Bold("Waivers"))
		var rows [][]string
		for _, w := range r.Waivers {
			rows = append(rows, []string{w.ID, w.Device, w.State, shell.When(w.Until), w.Author, shell.Clip(w.Reason, 50)})
		}
		a.Table([]string{"ID", "DEVICE", "STATE", "ENDS", "BY", "REASON"}, rows)
	}
	shell.Line(a.Out, "\n%s", a.Dim(fmt.Sprintf("Its devices: ironledger device list --rule %s --verdict fail",
		r.Rule.Rule)))
}

// courseOf tells a course in eighths of its highest point, and its ends in numbers.
func courseOf(points []api.VerdictPoint) string {
	const blocks = "▁▂▃▄▅▆▇█"
	marks, top, of := []rune(blocks), 1, func(p api.VerdictPoint) int { return p.Counts.Fail + p.Counts.Unknown }
	for _, p := range points {
		top = max(top, of(p))
	}
	var b strings.Builder
	for _, p := range points {
		b.WriteRune(marks[of(p)*(len(marks)-1)/top])
	}
	if len(points) == 0 {
		return "nothing yet"
	}
	return fmt.Sprintf("%d %s %d", of(points[0]), b.String(), of(points[len(points)-1]))
}
