package devices

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// OverviewCmd is the command overview.
func OverviewCmd(a *shell.App) *cobra.Command {
	p := api.GetOverviewParams{}
	c := &cobra.Command{
		Use: "overview", Short: "The fleet at a glance: levels, what holds it down, what fell, what ends " +
			"soon", Args: cobra.NoArgs,
		Example: "  ironledger overview\n  ironledger overview --within 30d -o json | jq .ending",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.GetOverview(cmd.Context(), p)
			if err != nil {
				return err
			}
			o := got.Value
			if a.Format != "table" {
				l := shell.Listing{Head: append([]string{"PLATFORM"}, o.Ladder...), Raw: got.Raw}
				for _, x := range o.Platforms {
					row := []string{x.Platform}
					for _, n := range x.Levels {
						row = append(row, fmt.Sprint(n))
					}
					l.Rows = append(l.Rows, row)
				}
				return a.Print(l)
			}
			overview(a, &o)
			return nil
		},
	}
	c.Flags().StringVar(&p.Within, "within", "7d", "how near an end must be to be told of")
	return c
}

// shownRows bounds each list of an overview, so that it fits a screen.
const shownRows = 6

func overview(a *shell.App, o *api.Overview) {
	shell.Line(a.Out, "%s%s", a.Bold(fmt.Sprintf("%d devices", o.Devices)),
		shell.Only(o.Retired > 0, fmt.Sprintf(" in service, %d retired", o.Retired)))
	for i, e := range o.Emergencies {
		if i == 3 {
			shell.Line(a.Out, "%s and %d times more in the last week", a.Rust("Break-glass:"), len(o.Emergencies)-i)
			break
		}
		shell.Line(a.Out, "%s %s was used to %s %s %s (decision %s)", a.Rust("Break-glass:"), e.Person, e.Action,
			e.Resource, shell.Ago(e.At), e.Decision)
	}
	if o.Held > 0 {
		shell.Line(a.Out, "%d devices wait to be taken in: ironledger device enrol list --state held", o.Held)
	}
	shell.Line(a.Out, "")
	head := []string{"PLATFORM"}
	for i, l := range o.Ladder {
		head = append(head, a.Mark(l, i, len(o.Ladder)-1))
	}
	var rows [][]string
	for _, x := range o.Platforms {
		rows = append(rows, append([]string{x.Platform}, shell.Numbers(x.Levels)...))
	}
	a.Table(head, rows)
	shell.Line(a.Out, "\n%s", a.Bold("What holds devices down"))
	rows = nil
	for i, r := range o.Rules {
		if i == shownRows {
			rows = append(rows, []string{fmt.Sprintf("and %d more", len(o.Rules)-i)})
			break
		}
		name := r.Rule
		if r.Shadow {
			name += " (shadow)"
		}
		rows = append(rows, append([]string{name, r.Title},
			shell.Numbers([]int{r.Binding, r.Fail, r.Unknown, r.Grace, r.Waived})...))
	}
	a.Table([]string{"RULE", "", "BINDS", "FAIL", "UNKNOWN", "GRACE", "WAIVED"}, rows)
	moves(a, o)
	if len(o.Quiet)+o.Unmatched > 0 {
		shell.Line(a.Out, "")
	}
	for _, s := range o.Quiet {
		last := "has never reported"
		if s.LastAt != "" {
			last = "last reported " + shell.Ago(s.LastAt)
		}
		shell.Line(a.Out, "The source %s is quiet: it %s, and should every %s.", a.Bold(s.ID), last, s.QuietAfter)
	}
	if o.Unmatched > 0 {
		shell.Line(a.Out, "Reports that wait for a person: %d (ironledger unmatched list)", o.Unmatched)
	}
}

// moves tells what fell, and what ends soon.
func moves(a *shell.App, o *api.Overview) {
	if len(o.Dropped) > 0 {
		shell.Line(a.Out, "\n%s", a.Bold("Fell in the last day"))
		var rows [][]string
		for i, d := range o.Dropped {
			if i == shownRows {
				rows = append(rows, []string{fmt.Sprintf("and %d more", len(o.Dropped)-i)})
				break
			}
			rows = append(rows, []string{d.Device, a.Mark(d.Level, d.Rank, d.Top), shell.Ago(d.Since),
				shell.Brief(d.Held)})
		}
		a.Table([]string{"DEVICE", "LEVEL", "SINCE", "HELD BY"}, rows)
	}
	if len(o.Ending) > 0 {
		shell.Line(a.Out, "\n%s", a.Bold("Ends soon"))
		var rows [][]string
		for i, e := range o.Ending {
			if i == shownRows {
				rows = append(rows, []string{fmt.Sprintf("and %d more", o.EndingTotal-i)})
				break
			}
			rows = append(rows, []string{shell.When(e.Until), e.Kind, e.Device, shell.Clip(e.About, 50)})
		}
		a.Table([]string{"ENDS", "WHAT", "DEVICE", "ABOUT"}, rows)
	}
}

func deviceHistoryCmd(a *shell.App) *cobra.Command {
	limit := 0
	c := &cobra.Command{
		Use: "history DEVICE", Short: "What became of a device: its levels and verdicts over time, and why",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.CompleteDevices,
		Example: "  ironledger device history GF-T-2107\n  ironledger device history GF-T-2107 --limit 500 -o ndjson",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			var events []api.HistoryEvent
			l, _, err := shell.Pages(limit,
				func(size int, cursor string) (*client.Reply[api.List[api.HistoryEvent]], error) {
					p := api.GetDeviceHistoryParams{Limit: size, Cursor: cursor}
					return cl.GetDeviceHistory(cmd.Context(), args[0], p)
				}, []string{"SEQ", "AT", "KIND", "ACTOR", "FROM", "TO", "CAUSE"},
				func(e api.HistoryEvent) []string {
					events = append(events, e)
					b := bodyOf(&e)
					return []string{fmt.Sprint(e.Seq), e.At, string(e.Kind), e.Actor, b.From, b.To, b.Cause}
				})
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return a.Print(l)
			}
			for i := range events {
				event(a, &events[i])
			}
			if len(events) == 0 {
				shell.Line(a.Out, "Nothing has happened to this device.")
			}
			a.SayMore(&l)
			return nil
		},
	}
	c.Flags().IntVar(&limit, "limit", 30, "at most so many events, the newest (0: all)")
	return c
}

// bodyOf is what an event says, as far as tables tell it.
func bodyOf(e *api.HistoryEvent) (b api.EventBody) {
	_ = json.Unmarshal(e.Body, &b) // a kind whose members are of other types says nothing here but its gist
	return b
}

// event tells one moment of a history.
func event(a *shell.App, e *api.HistoryEvent) {
	b := bodyOf(e)
	head := string(e.Kind)
	switch {
	case e.Kind == "standing.changed" && b.From == "":
		head = "first seen, stands at " + a.Bold(b.To)
	case e.Kind == "standing.changed" && b.From == b.To:
		head = "stays at " + b.To
	case e.Kind == "standing.changed":
		head = fmt.Sprintf("%s → %s", b.From, a.Bold(b.To))
	case b.Rule != "":
		head += " " + b.Rule
	}
	by := e.Actor
	if b.Cause != "" {
		by = b.Cause + ", " + e.Actor
	}
	shell.Line(a.Out, "%s  %s  %s", shell.ShortTime(e.At), head, a.Dim("("+by+")"))
	if e.Kind == "device.keyed" {
		shell.Line(a.Out, "    %s", e.Gist)
	}
	if b.Reason != "" {
		shell.Line(a.Out, "    %s%s", b.Reason, shell.Only(b.Until != "", ", until "+shell.ShortTime(b.Until)))
	}
	for _, c := range b.Changed {
		shell.Line(a.Out, "    %s: %s → %s%s", c.Rule, c.From, c.To, shell.Only(c.Why != "", "; "+c.Why))
	}
	for _, c := range b.Evidence {
		was := ""
		if c.From != "" {
			was = ", was " + shell.Clip(c.From, 40)
		}
		shell.Line(a.Out, "    %s", a.Dim(fmt.Sprintf("%s said %s %s%s", c.Source, c.Attribute,
			shell.Clip(c.To, 60), was)))
	}
}

// CertificateCmd is the command certificate.
func CertificateCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "certificate", Short: "The certificates that devices show",
		Aliases: []string{"certificates"}}
	p := api.ListCertificatesParams{}
	limit := 0
	list := &cobra.Command{
		Use: "list", Short: "List certificates of the fleet, those that end first at the top", Args: cobra.NoArgs,
		Long: `List the certificates that devices show. A condition may use the fields of a
certificate (subject, issuer, names, serial, sha256, not_before, not_after,
lifetime, trusted, revoked, issuer_id, profile), device and level, and every attribute of
the device.`,
		Example: `  ironledger certificate list --where 'trusted and until(not_after) < 14d'
  ironledger certificate list --where 'issuer_id == "device-ca" and platform == windows'
  ironledger certificate list --state revoked`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			l, total, err := shell.Pages(limit,
				func(size int, cursor string) (*client.Reply[api.CertificatePage], error) {
					p.Limit, p.Cursor = size, cursor
					return cl.ListCertificates(cmd.Context(), p)
				}, []string{"DEVICE", "LEVEL", "SUBJECT", "STATE", "ISSUER", "ENDS", "WHY"},
				func(x api.Certificate) []string {
					row := []string{x.Device, a.Mark(x.Level, x.Rank, x.Top), x.Subject, string(x.State),
						x.IssuerID, x.NotAfter, x.Why}
					if a.Format == "table" {
						row[2], row[5], row[6] = shell.Clip(x.Subject, 40), shell.When(x.NotAfter),
							shell.Clip(x.Why, 40)
					}
					return row
				})
			if err != nil {
				return err
			}
			l.Foot = fmt.Sprintf("%d of %d certificates", len(l.Rows), total)
			return a.Print(l)
		},
	}
	f := list.Flags()
	f.StringVar(&p.Where, "where", "", "a condition over the certificate and its device")
	f.StringVarP(&p.Q, "find", "q", "", "a part of the subject, issuer, serial, digest or device")
	f.StringVar(&p.State, "state", "", "trusted, ending, revoked, untrusted, unknown, authority or overdue")
	f.IntVar(&limit, "limit", 0, "at most so many (0: all)")
	shell.Must(list.RegisterFlagCompletionFunc("state",
		cobra.FixedCompletions([]string{"trusted", "ending", "revoked", "untrusted", "unknown", "authority", "overdue"},
			cobra.ShellCompDirectiveNoFileComp)))
	c.AddCommand(list)
	return c
}

// SourceCmd is the command source.
func SourceCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "source", Short: "Sources: who supplies evidence, and what of it was refused",
		Aliases: []string{"sources"}}
	c.AddCommand(&cobra.Command{
		Use: "list", Short: "List sources", Args: cobra.NoArgs,
		RunE: shell.Lists(a, (*client.Client).ListSources, []string{"SOURCE", "RANK", "PROVIDES", "DEVICES",
			"READINGS", "COUNT",
			"STALE", "LAST", "EVENTS", "REFUSED"}, func(s api.Source) []string {
			last := shell.Ago(s.LastAt)
			if s.LastAt == "" {
				last = "never"
			}
			if s.Quiet {
				last += a.Rust(" (quiet)")
			}
			var refused []string
			for _, r := range s.Refused {
				refused = append(refused, fmt.Sprintf("%s on %d", r.Attribute, r.Devices))
			}
			events := ""
			if s.Signals.Issuer != "" {
				events = fmt.Sprintf("%d taken, %d refused", s.Signals.Taken, s.Signals.Refused)
			}
			return []string{s.ID, fmt.Sprint(s.Rank), shell.Joined(s.Provides), fmt.Sprint(s.Devices),
				fmt.Sprint(s.Readings), fmt.Sprint(s.Counting), fmt.Sprint(s.Stale), last, events,
				strings.Join(refused, ", ")}
		}),
	}, sourceMappingCmd(a))
	return c
}

func deviceSearchCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "search", Short: "Searches kept under a name: keep, list, drop"}
	q := api.SearchDraft{}
	keep := &cobra.Command{
		Use: "keep NAME", Short: "Keep a search under a name", Args: cobra.ExactArgs(1),
		Example: "  ironledger device search keep 'Quiet tablets' --where 'form == tablet and age(seen_at) > " +
			"2d' --columns custom.chart_pack",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			q.Name = args[0]
			if _, err = cl.KeepSearch(cmd.Context(), q); err == nil {
				shell.Line(a.Out, "Kept. Run it with: ironledger device list --search %q", q.Name)
			}
			return err
		},
	}
	keep.Flags().StringVar(&q.Where, "where", "", "a condition")
	keep.Flags().StringVarP(&q.Q, "find", "q", "", "a part of the id, name, serial, owner or model")
	keep.Flags().StringVar(&q.Sort, "sort", "", "a column, with - before it for falling order")
	keep.Flags().StringSliceVar(&q.Columns, "columns", nil, "attributes to show beside the usual")
	c.AddCommand(keep, &cobra.Command{
		Use: "list", Short: "List the searches that are kept", Args: cobra.NoArgs,
		RunE: shell.Lists(a, (*client.Client).ListSearches, []string{"NAME", "WHERE", "FIND", "SORT", "COLUMNS", "BY"},
			func(s api.Search) []string {
				return []string{s.Name, s.Where, s.Q, s.Sort, shell.Joined(s.Columns), s.By}
			}),
	}, &cobra.Command{
		Use: "drop NAME", Short: "Forget a search", Args: cobra.ExactArgs(1),
		Example: "  ironledger device search drop 'Quiet tablets'",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err == nil {
				err = cl.DropSearch(cmd.Context(), args[0])
			}
			return err
		},
	})
	return c
}
