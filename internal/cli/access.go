package cli

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/core/rulebook"
)

func (a *app) completeAsk(cmd *cobra.Command, args []string, part string) ([]string, cobra.ShellCompDirective) {
	var out []string
	cl, err := a.client()
	switch {
	case err != nil:
	case len(args) == 0:
		if got, err := cl.People(cmd.Context(), api.ListPeopleParams{Q: part, Limit: 50}); err == nil {
			for _, p := range got.Value.Items {
				out = append(out, p.Id+"\t"+p.Name)
			}
		}
	case len(args) == 1:
		if got, err := cl.Vocabulary(cmd.Context()); err == nil {
			for _, r := range got.Value.Resources {
				out = append(out, r.Id+"\t"+r.Title)
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// printAnswer prints a decision with the reasons of each gate.
func (a *app) printAnswer(d *api.Answer, raw any) error {
	l := listing{head: []string{"GATE", "ID", "SAYS", "REQUIRED", "SEEN", "BY"}, raw: raw}
	for _, g := range d.Gates {
		says := string(g.Verdict)
		if g.Shadow {
			says += " (shadow)"
		}
		for i, w := range g.Why {
			row := []string{number(g), g.Gate, says, w.Condition, seen(w), w.Source}
			if i > 0 {
				row[0], row[1], row[2] = "", "", ""
			}
			l.rows = append(l.rows, row)
		}
	}
	if a.format != "table" {
		return a.print(l)
	}
	a.answerHead(d)
	if len(l.rows) > 0 {
		line(a.out, "")
		a.table(l.head, l.rows)
	}
	if len(d.ToAllow) > 0 {
		line(a.out, "\nWhat would make it allow:")
		for _, s := range d.ToAllow {
			line(a.out, "  %s", s)
		}
	}
	for _, m := range access.RemediesIn("en", d.Remedies) {
		line(a.out, "  %s %s. %s", a.rust("→"), a.bold(m.Title), plainLinks(m.Steps))
	}
	return nil
}

// sentences puts each sentence of a reason on a line of its own.
func sentences(reason string) string { return strings.ReplaceAll(reason, ". ", ".\n") }

func seen(w condition.Leaf) string {
	if w.Unknown != "" {
		return w.Unknown
	}
	return w.Observed
}

func (a *app) answerHead(d *api.Answer) {
	word := strings.ToUpper(string(d.Outcome))
	if d.Outcome != api.Outcome(access.Allow) {
		word = a.rust(word)
	}
	device := "an unknown device"
	if d.KnownDevice {
		device = d.Device + " (" + d.Level + ")"
	}
	line(a.out, "%s  %s, %s %s, from %s", a.bold(word), d.Asked.Subject.ID, d.Asked.Action.Name,
		d.Asked.Resource.ID, device)
	if !d.KnownPerson && d.Asked.Subject.Type != "device" {
		line(a.out, "The directory does not know this person: no groups.")
	}
	if reason, ok := rulebook.Language(d.ReasonAdmin, "en"); ok {
		line(a.out, "%s", sentences(reason))
	}
	if reason, ok := rulebook.Language(d.ReasonUser, "en"); ok && d.Outcome != api.Outcome(access.Allow) {
		line(a.out, "The person is told: %s", reason)
	}
	if d.ShadowOutcome != "" {
		line(a.out, "Were the shadow gates enforced, it would be %s.", d.ShadowOutcome)
	}
	if d.Code != "" {
		line(a.out, "The code on the person's page is %s.", a.bold(d.Code))
	}
	if d.Id != "" {
		line(a.out, "Decision %s at %s, asked by %s, entry %d of the ledger, rulebook %d.", d.Id,
			shortTime(d.At), d.Actor, d.Seq, d.Rulebook)
	}
}

func (a *app) decisionCmd() *cobra.Command {
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
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Decision(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if replay {
				again, err := cl.ReplayDecision(cmd.Context(), got.Value.Id)
				if err != nil {
					return err
				}
				if a.format == "table" {
					if err := a.printAnswer(&got.Value, got.Raw); err != nil {
						return err
					}
					line(a.out, "")
				}
				return a.reproduced(&again.Value, again.Raw)
			}
			return a.printAnswer(&got.Value, got.Raw)
		},
	}
	show.Flags().BoolVar(&replay, "replay", false, "make the decision again from what was kept, and compare")
	c.AddCommand(a.decisionListCmd(), show)
	return c
}

// reproduced tells whether something of the past came out the same.
func (a *app) reproduced(r *api.Reproduction, raw any) error {
	l := listing{head: []string{"WHERE", "RECORDED", "COMPUTED AGAIN"}, raw: raw}
	for _, d := range r.Differences {
		l.rows = append(l.rows, []string{d.Pointer, brevity(d.Recorded), brevity(d.Computed)})
	}
	switch {
	case a.format != "table":
		if err := a.print(l); err != nil {
			return err
		}
	case r.Same:
		line(a.out, "%s computed again for %s from rulebook %d, revision %d of the device, %d of the people and %d of the roster.", a.bold("Same:"), shortTime(r.At), r.Rulebook, r.DeviceRevision, r.PeopleRevision, r.RosterRevision)
	default:
		line(a.out, "%s computed again for %s it is not what was recorded.", a.rust("Different:"), shortTime(r.At))
		a.table(l.head, l.rows)
	}
	if !r.Same {
		return errNo
	}
	return nil
}

// brevity is a JSON value for a table.
func brevity(v any) string {
	if v == nil {
		return "(nothing)"
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return clip(string(raw), 60)
}

func (a *app) decisionListCmd() *cobra.Command {
	var p api.ListDecisionsParams
	limit, outcome := 0, ""
	c := &cobra.Command{
		Use: "list", Short: "List recorded decisions, newest first", Args: cobra.NoArgs,
		Example: "  ironledger decision list --outcome deny --resource payroll\n  ironledger decision list --gate payroll-strong --since 2026-11-20T00:00:00Z -o csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			if limit < 1 {
				return usageError{errors.New("--limit is at least 1")}
			}
			p.Outcome = api.Outcome(outcome)
			l := listing{head: []string{"DECISION", "AT", "OUTCOME", "PERSON", "RESOURCE", "ACTION", "DEVICE",
				"LEVEL", "GATES"}}
			for len(l.rows) < limit {
				p.Limit = min(500, limit-len(l.rows))
				page, err := cl.Decisions(cmd.Context(), p)
				if err != nil {
					return err
				}
				for _, d := range page.Value.Items {
					l.rows = append(l.rows, []string{d.Id, shortTime(d.At), string(d.Outcome),
						d.Asked.Subject.ID, d.Asked.Resource.ID, d.Asked.Action.Name, d.Device, d.Level,
						gatesOf(d)})
				}
				l.items = append(l.items, itemsOf(page.Raw)...)
				if p.Cursor = page.Value.Next; p.Cursor == "" {
					break
				}
			}
			l.raw = l.items
			return a.print(l)
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
	f.IntVar(&limit, "limit", 50, "at most so many")
	must(c.RegisterFlagCompletionFunc("outcome", cobra.FixedCompletions([]string{"allow", "deny", "step-up"},
		cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// number is the number of a gate, or nothing.
func number(g api.GateRuling) string {
	if g.Number == 0 {
		return ""
	}
	return fmt.Sprint(g.Number)
}

// gatesOf names the gates that made the outcome.
func gatesOf(d api.Answer) string {
	if d.BreakGlass {
		return "break-glass"
	}
	var list []string
	for _, g := range d.Gates {
		if !g.Shadow && (string(g.Verdict) != "met" || d.Outcome == api.Outcome(access.Allow)) {
			list = append(list, cmp.Or(number(g), g.Gate))
		}
	}
	return joined(list)
}

func (a *app) tokenCmd() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Bearer tokens: create, list, revoke", Aliases: []string{"tokens"}}
	role := ""
	create := &cobra.Command{
		Use: "create NAME", Short: "Make a token; its secret is printed this once", Args: cobra.ExactArgs(1),
		Long: `Make a token; its secret is printed this once and kept nowhere.

Roles: reader sees everything; helpdesk also asks; author also publishes
rulebooks; admin may do everything; enforcer asks for decisions that count;
source brings evidence under the token's name.`,
		Example: "  ironledger token create mdm --role source",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.CreateToken(cmd.Context(), args[0], role)
			if err != nil {
				return err
			}
			if a.format == "table" {
				line(a.out, "%s", got.Value.Secret)
				line(a.err, "Token %s (%s, %s). The line above is its secret; it is not shown again.",
					got.Value.Token.Id, got.Value.Token.Name, got.Value.Token.Role)
				return nil
			}
			return a.print(listing{head: []string{"ID", "NAME", "ROLE", "SECRET"}, raw: got.Raw,
				rows: [][]string{{got.Value.Token.Id, got.Value.Token.Name, got.Value.Token.Role,
					got.Value.Secret}}})
		},
	}
	create.Flags().StringVar(&role, "role", "", "reader, helpdesk, author, admin, enforcer or source")
	must(create.MarkFlagRequired("role"))
	must(create.RegisterFlagCompletionFunc("role",
		cobra.FixedCompletions([]string{"reader", "helpdesk", "author", "admin", "enforcer", "source"},
			cobra.ShellCompDirectiveNoFileComp)))
	c.AddCommand(create, &cobra.Command{
		Use: "list", Short: "List tokens, the revoked ones too", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Tokens(cmd.Context())
			if err != nil {
				return err
			}
			return show(a, got, []string{"ID", "NAME", "ROLE", "MADE", "BY", "REVOKED"},
				func(t api.Token) []string {
					return []string{t.Id, t.Name, t.Role, shortTime(t.CreatedAt), t.CreatedBy,
						shortTime(t.RevokedAt)}
				})
		},
	}, &cobra.Command{
		Use: "revoke ID|NAME", Short: "End a token at once", Args: cobra.ExactArgs(1),
		Example: "  ironledger token revoke mdm",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.RevokeToken(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			line(a.out, "Token %s (%s) is revoked.", got.Value.Id, got.Value.Name)
			return nil
		},
	})
	return c
}

func (a *app) statusCmd() *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "The service at a glance", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Status(cmd.Context())
			if err != nil {
				return err
			}
			s := got.Value
			l := listing{head: []string{"LEVEL", "DEVICES", ""}, raw: got.Raw}
			for i := len(s.Levels) - 1; i >= 0; i-- {
				n := s.Levels[i].Devices
				bar := ""
				if s.Devices > 0 {
					bar = strings.Repeat("█", (40*n+s.Devices-1)/s.Devices)
				}
				l.rows = append(l.rows, []string{a.mark(s.Levels[i].Level, i, len(s.Levels)-1), fmt.Sprint(n), bar})
			}
			if a.format == "csv" {
				for i := range l.rows {
					l.rows[i] = l.rows[i][:2]
				}
				l.head = l.head[:2]
			}
			if a.format != "table" {
				return a.print(l)
			}
			line(a.out, "Iron Ledger %s, started %s", s.Version, shortTime(s.StartedAt))
			if s.Rulebook.Version == 0 {
				line(a.out, "No rulebook has been published: every request is denied.")
			} else {
				line(a.out, "Rulebook version %d of %s by %s", s.Rulebook.Version, shortTime(s.Rulebook.At),
					s.Rulebook.Author)
			}
			line(a.out, "%d devices, %d people, %d decisions recorded\n", s.Devices, s.People, s.Decisions)
			a.table(l.head, l.rows)
			return nil
		},
	}
}
