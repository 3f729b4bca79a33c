package decisions

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// asking are the flags that say from which device, how and from where.
type asking struct {
	ctx         access.Context
	device      access.DeviceRef
	auth        access.Auth
	action, mfa string
}

func (q *asking) flags(a *shell.App, c *cobra.Command, withDevice bool) {
	f := c.Flags()
	if withDevice {
		f.StringVar(&q.device.ID, "device", "", "the device's id")
		f.StringVar(&q.device.Serial, "serial", "", "the device's serial")
		f.StringVar(&q.device.HardwareID, "hardware-id", "", "the device's hardware id")
		f.StringVar(&q.device.CertificateSHA256, "certificate", "",
			"the SHA-256 of the certificate that the connection showed")
		shell.Must(c.RegisterFlagCompletionFunc("device",
			func(cmd *cobra.Command, _ []string, part string) ([]string, cobra.ShellCompDirective) {
				return a.CompleteDevices(cmd, nil, part)
			}))
	}
	f.StringVar(&q.action, "action", "open", "what the person wants to do")
	f.StringVar(&q.ctx.IP, "ip", "", "the address the person comes from")
	f.StringVar(&q.ctx.Country, "country", "", "the country the person comes from, two letters")
	f.StringVar(&q.ctx.Proof, "proof", "",
		"how the device proves to a network which one it is: certificate or address (default: not said)")
	f.StringVar(&q.mfa, "mfa", "", "whether a second factor was used: true or false (default: not said)")
	f.Lookup("mfa").NoOptDefVal = "true"
	f.StringSliceVar(&q.auth.Methods, "method", nil, "a sign-in method; may be repeated")
}

// evaluation is the request that the flags make of a person and a resource.
func (q *asking) evaluation(person, resource string) (access.Evaluation, error) {
	e := access.Evaluation{Subject: access.Entity{Type: "user", ID: person},
		Resource: access.Entity{Type: "resource", ID: resource}, Action: access.Action{Name: q.action},
		Context: &q.ctx}
	switch q.mfa {
	case "":
	case "true", "false":
		yes := q.mfa == "true"
		q.auth.MFA = &yes
	default:
		return e, shell.Usagef("--mfa is true or false, not %q", q.mfa)
	}
	if q.device != (access.DeviceRef{}) {
		q.ctx.Device = &q.device
	}
	if q.auth.MFA != nil || q.auth.Methods != nil || q.auth.At != "" {
		q.ctx.Auth = &q.auth
	}
	if err := e.Check(); err != nil {
		return e, shell.UsageOf(err)
	}
	return e, nil
}

// AskCmd is the command ask.
func AskCmd(a *shell.App) *cobra.Command {
	var q asking
	candidate, at := "", ""
	c := &cobra.Command{
		Use: "ask PERSON RESOURCE", Short: "Try whether a person would get to a resource, and why",
		Long: `Try whether a person would get to a resource from a device, and why. Nothing is
recorded and nobody is let in. What is not said is unknown to the gates.

With --under, ask what a rulebook that is not in force would answer; with --at,
ask about another moment with the evidence of today.

The exit code is 0 when the answer is allow, 3 when it is deny or step-up.`,
		Example: `  ironledger ask maren.holt@gullholm.example payroll --device GF-L-1042 --ip 10.20.4.7
  ironledger ask maren.holt@gullholm.example payroll --device GF-L-1042 --ip 192.0.2.44 --mfa=true
  ironledger ask maren.holt@gullholm.example payroll --device GF-L-1042 --under demo/rulebook
  ironledger ask birk.strand@gullholm.example ship-wifi --device GF-T-2107 --action join --proof certificate
  ironledger ask who payroll
  ironledger ask what maren.holt@gullholm.example --device GF-L-1042`,
		Args: cobra.ExactArgs(2), ValidArgsFunction: a.CompleteAsk,
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := q.evaluation(args[0], args[1])
			if err != nil {
				return err
			}
			got, err := ask(cmd.Context(), a, e, candidate, at)
			if err != nil {
				return err
			}
			if err := printAnswer(a, &got.Value, nil, got.Raw); err != nil {
				return err
			}
			if got.Value.Outcome != api.Outcome(access.Allow) {
				return shell.ErrNo
			}
			return nil
		},
	}
	q.flags(a, c, true)
	c.Flags().StringVar(&candidate, "under", "", "a rulebook that is not in force: a path, a version or -")
	c.Flags().StringVar(&at, "at", "", "the moment to ask about, RFC 3339 (default: now)")
	c.AddCommand(askWhoCmd(a), askWhatCmd(a))
	return c
}

func ask(ctx context.Context, a *shell.App, e access.Evaluation, candidate, at string) (*client.Reply[api.Answer],
	error) {
	cl, err := a.Client()
	if err != nil {
		return nil, err
	}
	if candidate == "" && at == "" {
		return cl.Ask(ctx, e)
	}
	draft := api.AskDraft{Asked: e, At: at}
	if candidate != "" {
		if draft.Files, err = a.Version(ctx, candidate); err != nil {
			return nil, err
		}
	}
	return cl.AskUnder(ctx, draft)
}

func askWhoCmd(a *shell.App) *cobra.Command {
	var q asking
	all := false
	c := &cobra.Command{
		Use: "who RESOURCE", Short: "Who can get to a resource now, and with which devices",
		Args:    cobra.ExactArgs(1),
		Example: "  ironledger ask who payroll\n  ironledger ask who payroll --mfa --ip 10.20.4.7 --action export",
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := q.evaluation("everybody", args[0])
			if err != nil {
				return err
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.WhoReaches(cmd.Context(), api.WhoReachesParams{Through: !all && a.Format == "table"}, e)
			if err != nil {
				return err
			}
			l := shell.Listing{Head: []string{"PERSON", "BEST", "WITH", "NOT WITH"}, Raw: got.Raw,
				Items: shell.ItemsOf(got.Raw)}
			for _, p := range got.Value.Items {
				l.Rows = append(l.Rows, reachRow(a, p))
			}
			l.Foot = fmt.Sprintf("%d of %d people get through, %d more with a second factor",
				got.Value.Allowed, got.Value.People, got.Value.SteppedUp)
			return a.Print(l)
		},
	}
	q.flags(a, c, false)
	c.Flags().BoolVar(&all, "all", false, "list those too who do not get through")
	return c
}

func reachRow(a *shell.App, p api.ReachPerson) []string {
	var with, without []string
	for _, d := range p.Devices {
		text := d.Device + " (" + d.Level + ")"
		switch d.Outcome {
		case api.Outcome(access.Allow):
			with = append(with, text)
		case api.Outcome(access.StepUp):
			with = append(with, text+" +factor")
		default:
			without = append(without, text+shell.Only(a.Format != "table", ": "+shell.Joined(d.Gates)))
		}
	}
	if p.Unknown == p.Best && p.Best != api.Outcome(access.Deny) {
		with = append(with, "any device")
	}
	switch {
	case p.BreakGlass:
		with, without = []string{"break-glass account"}, nil
	case p.Shared > 0:
		with = append(with, fmt.Sprintf("%d shared devices", p.Shared))
	}
	return []string{p.Person, string(p.Best), shell.Joined(with), shell.Joined(without)}
}

func askWhatCmd(a *shell.App) *cobra.Command {
	var q asking
	c := &cobra.Command{
		Use: "what PERSON", Short: "What a person can get to now, from a device", Args: cobra.ExactArgs(1),
		Example: "  ironledger ask what maren.holt@gullholm.example --device GF-L-1042 --ip 192.0.2.44",
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := q.evaluation(args[0], "everything")
			if err != nil {
				return err
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.WhatReaches(cmd.Context(), e)
			if err != nil {
				return err
			}
			return shell.Show(a, got, []string{"RESOURCE", "ACTION", "ANSWER", "GATES", "WOULD TAKE"},
				func(r api.ReachResource) []string {
					answer := string(r.Outcome)
					if r.Outcome != api.Outcome(access.Allow) {
						answer = a.Rust(answer)
					}
					return []string{r.Resource, r.Action, answer, shell.Joined(r.Gates),
						strings.Join(r.ToAllow, "; ")}
				})
		},
	}
	q.flags(a, c, true)
	return c
}

// GateCmd is the command gate.
func GateCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "gate", Short: "Gates: list, coverage", Aliases: []string{"gates"}}
	c.AddCommand(&cobra.Command{
		Use: "list", Short: "List the gates by number, with what the last week brought", Args: cobra.NoArgs,
		Example: "  ironledger gate list",
		RunE: shell.Lists(a, (*client.Client).ListGates, []string{"NO", "GATE", "MODE", "WHO", "WHAT", "NEEDS",
			"ELSE", "MET",
			"DENIED", "STEP-UP"}, func(g api.Gate) []string {
			return []string{shell.Only(g.Number > 0, fmt.Sprint(g.Number)), g.ID, string(g.Mode),
				brief(a, g.Who), brief(a, g.What), brief(a, g.Need), string(g.Otherwise),
				fmt.Sprint(g.Week.Met), fmt.Sprint(g.Week.Denied), fmt.Sprint(g.Week.SteppedUp)}
		}),
	}, coverageCmd(a))
	return c
}

// brief shortens a text for a table; other formats have it whole.
func brief(a *shell.App, text string) string {
	if a.Format == "table" {
		return shell.Clip(text, 38)
	}
	return text
}

func coverageCmd(a *shell.App) *cobra.Command {
	platforms := false
	c := &cobra.Command{
		Use: "coverage", Short: "What it takes for each group to reach each resource", Args: cobra.NoArgs,
		Long: `What it takes for each group to reach each resource: the least level under which
any request gets through, +f where none does without a second factor, * where not
every request with these does. OPEN stands
where no enforced gate guards and everybody gets through, a dot where nobody does.

With --platforms, what the rulebook has for each platform.`,
		Example: "  ironledger gate coverage\n  ironledger gate coverage --platforms\n  ironledger gate " +
			"coverage -o csv > coverage.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.GetCoverage(cmd.Context(), api.GetCoverageParams{})
			if err != nil {
				return err
			}
			cov := &got.Value
			if platforms {
				l := shell.Listing{Head: []string{"PLATFORM", "DEVICES", "BASELINES", "GATES IT CAN NEVER PASS"},
					Raw: got.Raw}
				for _, p := range cov.Platforms {
					baselines := shell.Joined(p.Baselines)
					if len(p.Baselines) == 0 {
						baselines = a.Rust("none")
					}
					l.Rows = append(l.Rows, []string{p.Platform, fmt.Sprint(p.Devices), baselines,
						shell.Joined(p.Never)})
				}
				return a.Print(l)
			}
			l := shell.Listing{Head: append([]string{"GROUP"}, cov.Resources...), Raw: got.Raw,
				Foot: "+f: only with a second factor; *: more is asked; a dot: nobody gets through; OPEN: no " +
					"gate guards it"}
			for i, g := range cov.Groups {
				row := []string{cmp.Or(g, "(no group)")}
				for _, c := range cov.Cells[i] {
					row = append(row, cell(a, c))
				}
				l.Rows = append(l.Rows, row)
			}
			return a.Print(l)
		},
	}
	c.Flags().BoolVar(&platforms, "platforms", false, "what the rulebook has for each platform")
	return c
}

// cell writes what it takes in a few letters.
func cell(a *shell.App, c access.Cell) string {
	switch {
	case c.Kind == access.Open:
		return a.Rust(c.String())
	case c.Kind == access.Closed && a.Format == "table":
		return "·"
	}
	return c.String()
}

func sessionEndCmd(a *shell.App) *cobra.Command {
	d := api.SessionsEnd{}
	c := &cobra.Command{
		Use: "end", Short: "End sessions of a device, a person or a resource", Args: cobra.NoArgs,
		Long: `End all sessions of a device, of a person, of a resource, or of what is all that is said.
Receivers hear that they were revoked, and a proxy asks anew: who may still come in is
let in again. To keep a device out, put it into quarantine.`,
		Example: `  ironledger session end --person maren.holt@gullholm.example --reason 'Left her laptop unlocked'
  ironledger session end --device GF-L-1042 --resource payroll --reason 'Ticket 5120'`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.EndSessions(cmd.Context(), d)
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"ENDED"},
					Rows: [][]string{{fmt.Sprint(got.Value.Ended)}}, Raw: got.Raw})
			}
			shell.Line(a.Out, "%d sessions ended.", got.Value.Ended)
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&d.Device, "device", "", "from this device")
	f.StringVar(&d.Person, "person", "", "of this person")
	f.StringVar(&d.Resource, "resource", "", "of this resource")
	return shell.WithReason(c, &d.Reason)
}

// SessionCmd is the command session.
func SessionCmd(a *shell.App) *cobra.Command {
	var p api.ListLiveSessionsParams
	list := &cobra.Command{
		Use: "list", Short: "List the allows that an enforcer may still rely on", Args: cobra.NoArgs,
		Long: `List the allows that an enforcer may still rely on. One ends with the change that
takes its ground, and forward-auth refuses from that moment.`,
		Example: "  ironledger session list --device GF-L-1042",
		RunE: shell.Lists(a, func(cl *client.Client,
			ctx context.Context) (*client.Reply[api.List[api.LiveSession]], error) {
			return cl.ListLiveSessions(ctx, p)
		}, []string{"DECISION", "PERSON", "RESOURCE", "ACTION", "DEVICE", "LEVEL",
			"SINCE", "UNTIL", "ENFORCER"}, func(s api.LiveSession) []string {
			return []string{s.Decision, s.Person, s.Resource, s.Action, s.Device, s.Level,
				shell.ShortTime(s.At), shell.ShortTime(s.Until), s.Enforcer}
		}),
	}
	f := list.Flags()
	f.StringVar(&p.Person, "person", "", "of this person")
	f.StringVar(&p.Device, "device", "", "from this device")
	f.StringVar(&p.Resource, "resource", "", "of this resource")
	c := &cobra.Command{Use: "session", Short: "Sessions: list the allows that still may be relied on, and end them",
		Aliases: []string{"sessions"}}
	c.AddCommand(list, sessionEndCmd(a))
	return c
}
