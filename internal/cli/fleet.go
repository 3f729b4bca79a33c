package cli

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
)

func (a *app) overviewCmd() *cobra.Command {
	p := api.GetOverviewParams{}
	c := &cobra.Command{
		Use: "overview", Short: "The fleet at a glance: levels, what holds it down, what fell, what ends soon", Args: cobra.NoArgs,
		Example: "  ironledger overview\n  ironledger overview --within 30d -o json | jq .ending",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Overview(cmd.Context(), p)
			if err != nil {
				return err
			}
			o := got.Value
			if a.format != "table" {
				l := listing{head: append([]string{"PLATFORM"}, o.Ladder...), raw: got.Raw}
				for _, x := range o.Platforms {
					row := []string{x.Platform}
					for _, n := range x.Levels {
						row = append(row, fmt.Sprint(n))
					}
					l.rows = append(l.rows, row)
				}
				return a.print(l)
			}
			a.overview(&o)
			return nil
		},
	}
	c.Flags().StringVar(&p.Within, "within", "7d", "how near an end must be to be told of")
	return c
}

// numbers writes counts for a table, none as a dot.
func numbers(list []int) []string {
	out := make([]string, len(list))
	for i, n := range list {
		if out[i] = fmt.Sprint(n); n == 0 {
			out[i] = "·"
		}
	}
	return out
}

// shownRows bounds each list of an overview, so that it fits a screen.
const shownRows = 6

func (a *app) overview(o *api.Overview) {
	line(a.out, "%s", a.bold(fmt.Sprintf("%d devices", o.Devices)))
	for i, e := range o.Emergencies {
		if i == 3 {
			line(a.out, "%s and %d times more in the last week", a.rust("Break-glass:"), len(o.Emergencies)-i)
			break
		}
		line(a.out, "%s %s was used to %s %s %s (decision %s)", a.rust("Break-glass:"), e.Person, e.Action,
			e.Resource, ago(e.At), e.Decision)
	}
	if o.Held > 0 {
		line(a.out, "%d devices wait to be taken in: ironledger device enrol list --state held", o.Held)
	}
	line(a.out, "")
	head := []string{"PLATFORM"}
	for i, l := range o.Ladder {
		head = append(head, a.mark(l, i, len(o.Ladder)-1))
	}
	var rows [][]string
	for _, x := range o.Platforms {
		rows = append(rows, append([]string{x.Platform}, numbers(x.Levels)...))
	}
	a.table(head, rows)
	line(a.out, "\n%s", a.bold("What holds devices down"))
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
			numbers([]int{r.Binding, r.Fail, r.Unknown, r.Grace, r.Waived})...))
	}
	a.table([]string{"RULE", "", "BINDS", "FAIL", "UNKNOWN", "GRACE", "WAIVED"}, rows)
	if len(o.Dropped) > 0 {
		line(a.out, "\n%s", a.bold("Fell in the last day"))
		rows = nil
		for i, d := range o.Dropped {
			if i == shownRows {
				rows = append(rows, []string{fmt.Sprintf("and %d more", len(o.Dropped)-i)})
				break
			}
			rows = append(rows, []string{d.Device, a.mark(d.Level, d.Rank, d.Top), ago(d.Since), brief(d.Held)})
		}
		a.table([]string{"DEVICE", "LEVEL", "SINCE", "HELD BY"}, rows)
	}
	if len(o.Ending) > 0 {
		line(a.out, "\n%s", a.bold("Ends soon"))
		rows = nil
		for i, e := range o.Ending {
			if i == shownRows {
				rows = append(rows, []string{fmt.Sprintf("and %d more", len(o.Ending)-i)})
				break
			}
			rows = append(rows, []string{when(e.Until), e.Kind, e.Device, clip(e.About, 50)})
		}
		a.table([]string{"ENDS", "WHAT", "DEVICE", "ABOUT"}, rows)
	}
	if len(o.Quiet)+o.Unmatched > 0 {
		line(a.out, "")
	}
	for _, s := range o.Quiet {
		last := "has never reported"
		if s.LastAt != "" {
			last = "last reported " + ago(s.LastAt)
		}
		line(a.out, "The source %s is quiet: it %s, and should every %s.", a.bold(s.Id), last, s.QuietAfter)
	}
	if o.Unmatched > 0 {
		line(a.out, "Reports that wait for a person: %d (ironledger unmatched list)", o.Unmatched)
	}
}

func (a *app) deviceHistoryCmd() *cobra.Command {
	limit := 0
	c := &cobra.Command{
		Use: "history DEVICE", Short: "What became of a device: its levels and verdicts over time, and why",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeDevices,
		Example: "  ironledger device history GF-T-2107\n  ironledger device history GF-T-2107 --limit 500 -o ndjson",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.History(cmd.Context(), args[0], api.GetDeviceHistoryParams{Limit: limit})
			if err != nil {
				return err
			}
			if a.format == "table" {
				for _, e := range got.Value.Items {
					a.event(&e)
				}
				if len(got.Value.Items) == 0 {
					line(a.out, "Nothing has happened to this device.")
				}
				return nil
			}
			return show(a, got, []string{"SEQ", "AT", "KIND", "ACTOR", "FROM", "TO", "CAUSE"},
				func(e api.Event) []string {
					return []string{fmt.Sprint(e.Seq), e.At, e.Kind, e.Actor, e.Body.From, e.Body.To, e.Body.Cause}
				})
		},
	}
	c.Flags().IntVar(&limit, "limit", 30, "at most so many events, the newest")
	return c
}

// event tells one moment of a history.
func (a *app) event(e *api.Event) {
	b := e.Body
	head := e.Kind
	switch {
	case e.Kind == "standing.changed" && b.From == "":
		head = "first seen, stands at " + a.bold(b.To)
	case e.Kind == "standing.changed" && b.From == b.To:
		head = "stays at " + b.To
	case e.Kind == "standing.changed":
		head = fmt.Sprintf("%s → %s", b.From, a.bold(b.To))
	case b.Rule != "":
		head += " " + b.Rule
	}
	by := e.Actor
	if b.Cause != "" {
		by = b.Cause + ", " + e.Actor
	}
	line(a.out, "%s  %s  %s", shortTime(e.At), head, a.dim("("+by+")"))
	if e.Kind == "device.keyed" {
		line(a.out, "    %s", e.Gist)
	}
	if b.Reason != "" {
		line(a.out, "    %s%s", b.Reason, only(b.Until != "", ", until "+shortTime(b.Until)))
	}
	for _, c := range b.Changed {
		line(a.out, "    %s: %s → %s%s", c.Rule, c.From, c.To, only(c.Why != "", "; "+c.Why))
	}
	for _, c := range b.Evidence {
		was := ""
		if c.From != "" {
			was = ", was " + clip(c.From, 40)
		}
		line(a.out, "    %s", a.dim(fmt.Sprintf("%s said %s %s%s", c.Source, c.Attribute, clip(c.To, 60), was)))
	}
}

func (a *app) certificateCmd() *cobra.Command {
	c := &cobra.Command{Use: "certificate", Short: "The certificates that devices show",
		Aliases: []string{"certificates"}}
	p := api.ListCertificatesParams{}
	limit := 0
	list := &cobra.Command{
		Use: "list", Short: "List certificates of the fleet, those that end first at the top", Args: cobra.NoArgs,
		Long: `List the certificates that devices show. A condition may use the fields of a
certificate (subject, issuer, names, serial, sha256, not_before, not_after,
lifetime, trusted, revoked, issuer_id), device and level, and every attribute of
the device.`,
		Example: `  ironledger certificate list --where 'trusted and until(not_after) < 14d'
  ironledger certificate list --where 'issuer_id == "device-ca" and platform == windows'
  ironledger certificate list --state revoked`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			l := listing{head: []string{"DEVICE", "LEVEL", "SUBJECT", "STATE", "ISSUER", "ENDS", "WHY"},
				items: []json.RawMessage{}}
			total := 0
			for len(l.rows) < limit || limit == 0 {
				p.Limit = 500
				if limit > 0 {
					p.Limit = min(500, limit-len(l.rows))
				}
				got, err := cl.Certificates(cmd.Context(), p)
				if err != nil {
					return err
				}
				for _, x := range got.Value.Items {
					row := []string{x.Device, a.mark(x.Level, x.Rank, x.Top), x.Subject, string(x.State),
						x.IssuerId, x.NotAfter, x.Why}
					if a.format == "table" {
						row[2], row[5], row[6] = clip(x.Subject, 40), when(x.NotAfter), clip(x.Why, 40)
					}
					l.rows = append(l.rows, row)
				}
				l.items = append(l.items, itemsOf(got.Raw)...)
				total = got.Value.Total
				if p.Cursor = got.Value.Next; p.Cursor == "" {
					break
				}
			}
			l.raw, l.foot = l.items, fmt.Sprintf("%d of %d certificates", len(l.rows), total)
			return a.print(l)
		},
	}
	f := list.Flags()
	f.StringVar(&p.Where, "where", "", "a condition over the certificate and its device")
	f.StringVarP(&p.Q, "find", "q", "", "a part of the subject, issuer, serial, digest or device")
	f.StringVar(&p.State, "state", "", "trusted, ending, revoked, untrusted, unknown or authority")
	f.IntVar(&limit, "limit", 0, "at most so many (0: all)")
	must(list.RegisterFlagCompletionFunc("state",
		cobra.FixedCompletions([]string{"trusted", "ending", "revoked", "untrusted", "unknown", "authority"},
			cobra.ShellCompDirectiveNoFileComp)))
	c.AddCommand(list)
	return c
}

func (a *app) sourceCmd() *cobra.Command {
	c := &cobra.Command{Use: "source", Short: "Sources: who supplies evidence, and what of it was refused",
		Aliases: []string{"sources"}}
	c.AddCommand(&cobra.Command{
		Use: "list", Short: "List sources", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Sources(cmd.Context())
			if err != nil {
				return err
			}
			return show(a, got, []string{"SOURCE", "RANK", "PROVIDES", "DEVICES", "READINGS", "COUNT",
				"STALE", "LAST", "REFUSED"}, func(s api.Source) []string {
				last := ago(s.LastAt)
				if s.LastAt == "" {
					last = "never"
				}
				if s.Quiet {
					last += a.rust(" (quiet)")
				}
				var refused []string
				for _, r := range s.Refused {
					refused = append(refused, fmt.Sprintf("%s on %d", r.Attribute, r.Devices))
				}
				return []string{s.Id, fmt.Sprint(s.Rank), joined(s.Provides), fmt.Sprint(s.Devices),
					fmt.Sprint(s.Readings), fmt.Sprint(s.Counting), fmt.Sprint(s.Stale), last,
					strings.Join(refused, ", ")}
			})
		},
	})
	return c
}

func (a *app) deviceSearchCmd() *cobra.Command {
	c := &cobra.Command{Use: "search", Short: "Searches kept under a name: keep, list, drop"}
	q := api.SearchDraft{}
	keep := &cobra.Command{
		Use: "keep NAME", Short: "Keep a search under a name", Args: cobra.ExactArgs(1),
		Example: "  ironledger device search keep 'Quiet tablets' --where 'form == tablet and age(seen_at) > 2d' --columns custom.chart_pack",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			q.Name = args[0]
			if _, err = cl.KeepSearch(cmd.Context(), q); err == nil {
				line(a.out, "Kept. Run it with: ironledger device list --search %q", q.Name)
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
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Searches(cmd.Context())
			if err != nil {
				return err
			}
			return show(a, got, []string{"NAME", "WHERE", "FIND", "SORT", "COLUMNS", "BY"},
				func(s api.Search) []string {
					return []string{s.Name, s.Where, s.Q, s.Sort, joined(s.Columns), s.By}
				})
		},
	}, &cobra.Command{
		Use: "drop NAME", Short: "Forget a search", Args: cobra.ExactArgs(1),
		Example: "  ironledger device search drop 'Quiet tablets'",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err == nil {
				err = cl.DropSearch(cmd.Context(), args[0])
			}
			return err
		},
	})
	return c
}
