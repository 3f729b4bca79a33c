package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ironledger.example/api"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/client"
)

func (a *app) deviceCmd() *cobra.Command {
	c := &cobra.Command{Use: "device", Short: "Devices: list, show, history, import, enrol, retire, search",
		Aliases: []string{"devices"}}
	c.AddCommand(a.deviceListCmd(), a.deviceShowCmd(), a.deviceHistoryCmd(), a.deviceImportCmd(),
		a.deviceEnrolCmd(), a.deviceRetireCmd(), a.deviceSearchCmd())
	return c
}

func (a *app) deviceListCmd() *cobra.Command {
	p := api.ListDevicesParams{}
	limit, columns, search := 0, []string(nil), ""
	c := &cobra.Command{
		Use: "list", Short: "List devices with their standing", Args: cobra.NoArgs,
		Example: `  ironledger device list
  ironledger device list --where 'level < sound and platform == windows' --sort -seen_at
  ironledger device list --where 'age(seen_at) > 2d' -o csv > quiet.csv
  ironledger device list --where 'form == tablet' --columns custom.chart_pack,passcode.length
  ironledger device list --search 'Quiet tablets'`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			if search != "" {
				if err := a.kept(cmd.Context(), cl, search, &p, &columns); err != nil {
					return err
				}
			}
			p.Columns = strings.Join(columns, ",")
			l := listing{head: []string{"DEVICE", "LEVEL", "NAME", "PLATFORM", "OS", "OWNER", "HELD BY",
				"SEEN"}, items: []json.RawMessage{}}
			for _, name := range columns {
				l.head = append(l.head, strings.ToUpper(name))
			}
			total := 0
			for len(l.rows) < limit || limit == 0 {
				p.Limit = 500
				if limit > 0 {
					p.Limit = min(500, limit-len(l.rows))
				}
				page, err := cl.Devices(cmd.Context(), p)
				if err != nil {
					return err
				}
				for _, d := range page.Value.Items {
					row := []string{d.Id, a.mark(d.Level, d.Rank, d.Top), d.Name, d.Platform, d.OsVersion,
						d.Owner, joined(d.Binding), d.SeenAt}
					if a.format == "table" {
						row[6], row[7] = heldBy(d), ago(d.SeenAt)
					}
					for _, name := range columns {
						row = append(row, d.Values[name])
					}
					l.rows = append(l.rows, row)
				}
				l.items = append(l.items, itemsOf(page.Raw)...)
				total = page.Value.Total
				if p.Cursor = page.Value.Next; p.Cursor == "" {
					break
				}
			}
			l.raw = l.items
			l.foot = fmt.Sprintf("%d of %d devices", len(l.rows), total)
			return a.print(l)
		},
	}
	f := c.Flags()
	f.StringVar(&p.Where, "where", "", "a condition over the attributes, level, id, seen_at and since")
	f.StringVarP(&p.Q, "find", "q", "", "a part of the id, name, serial, owner or model")
	f.StringVar(&p.Sort, "sort", "id", "a column, with - before it for falling order")
	f.IntVar(&limit, "limit", 0, "at most so many devices (0: all)")
	f.StringSliceVar(&columns, "columns", nil, "attributes to show beside the usual")
	f.StringVar(&search, "search", "", "a search that is kept under this name")
	must(c.RegisterFlagCompletionFunc("sort",
		cobra.FixedCompletions([]string{"id", "level", "-level", "since", "-since", "seen_at", "-seen_at",
			"next_change", "name", "platform", "form", "model", "owner", "serial", "os_version"},
			cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// kept fills in a search that is kept; what the command line says wins.
func (a *app) kept(ctx context.Context, cl *client.Client, name string, p *api.ListDevicesParams,
	columns *[]string) error {
	got, err := cl.Searches(ctx)
	if err != nil {
		return err
	}
	for _, q := range got.Value.Items {
		if q.Name == name {
			p.Where, p.Q, p.Sort = cmp.Or(p.Where, q.Where), cmp.Or(p.Q, q.Q), cmp.Or(q.Sort, p.Sort)
			if *columns == nil {
				*columns = q.Columns
			}
			return nil
		}
	}
	return fmt.Errorf("no search is kept under the name %q; see ironledger device search list", name)
}

func heldBy(d api.DeviceSummary) string {
	if !d.Covered {
		return "(no baseline applies)"
	}
	return brief(d.Binding)
}

func (a *app) deviceShowCmd() *cobra.Command {
	all, at := false, ""
	c := &cobra.Command{
		Use: "show DEVICE", Short: "Show a device: its level, why, and what to do for the next one",
		Long:    "Show a device by its id, serial or hardware id: its level, what holds it there, what was observed by whom, and what to pass to reach each higher level.\n\nWith --at it is computed again for a moment of the past, from the rulebook, evidence, waivers and people of then, and compared with what was recorded; exit code 3 says that the two differ.",
		Example: "  ironledger device show GF-T-2107\n  ironledger device show GF-T-2107 -o json | jq .standing.reach\n  ironledger device show GF-T-2107 --at 2026-11-20T08:00:00Z",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: a.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			if at != "" {
				return a.deviceThen(cmd.Context(), cl, args[0], at, all)
			}
			d, err := cl.Device(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			l := listing{head: []string{"RULE", "VERDICT", "HOLDS AT", "REQUIRED", "OBSERVED", "SOURCE",
				"AGE"}, rows: a.rulings(&d.Value.Standing), raw: d.Raw, items: nil}
			if a.format != "table" {
				return a.print(l)
			}
			a.wholeDevice(&d.Value, all)
			return nil
		},
	}
	c.Flags().BoolVar(&all, "readings", false, "also list every reading of the device")
	c.Flags().StringVar(&at, "at", "", "as it stood at this moment, RFC 3339")
	return c
}

// deviceThen shows a device as it stood at a moment.
func (a *app) deviceThen(ctx context.Context, cl *client.Client, id, at string, readings bool) error {
	if _, err := moment(at); err != nil {
		return err
	}
	got, err := cl.DeviceThen(ctx, id, at)
	if err != nil {
		return err
	}
	if a.format == "table" {
		var d api.Device
		if err := json.Unmarshal(got.Raw, &d); err != nil {
			return err
		}
		line(a.out, "As it stood at %s:", shortTime(got.Value.Reproduction.At))
		a.wholeDevice(&d, readings)
		line(a.out, "")
		return a.reproduced(&got.Value.Reproduction, got.Raw)
	}
	if err := a.print(listing{head: []string{"RULE", "VERDICT", "HOLDS AT", "REQUIRED", "OBSERVED", "SOURCE",
		"AGE"}, rows: a.rulings(&got.Value.Standing), raw: got.Raw}); err != nil {
		return err
	}
	if !got.Value.Reproduction.Same {
		return errNo
	}
	return nil
}

// wholeDevice prints a device for people: at a glance first, then rule by rule.
func (a *app) wholeDevice(d *api.Device, readings bool) {
	a.deviceHead(d)
	if rows := a.rulings(&d.Standing); len(rows) > 0 {
		a.table([]string{"RULE", "VERDICT", "HOLDS AT", "REQUIRED", "OBSERVED", "SOURCE", "AGE"}, rows)
	}
	a.remedies(&d.Standing)
	if readings {
		a.readings(d.Readings)
	}
}

func (a *app) completeDevices(cmd *cobra.Command, args []string, part string) ([]string, cobra.ShellCompDirective) {
	cl, err := a.client()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	page, err := cl.Devices(cmd.Context(), api.ListDevicesParams{Q: part, Limit: 100})
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var ids []string
	for _, d := range page.Value.Items {
		ids = append(ids, d.Id+"\t"+d.Level)
	}
	return ids, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) deviceHead(d *api.Device) {
	title := d.Id
	if d.Name != "" {
		title += "  " + d.Name
	}
	line(a.out, "%s   %s", a.bold(title), a.mark(d.Level, d.Rank, d.Top))
	if d.Retired != "" {
		line(a.out, "%s %s. Decisions do not know it.", a.rust("Retired:"), d.Retired)
	}
	facts := []string{}
	for _, s := range []string{d.Platform, d.OsVersion, d.Form, d.Model, d.Ownership} {
		if s != "" {
			facts = append(facts, s)
		}
	}
	if d.Owner != "" {
		facts = append(facts, "of "+d.Owner)
	}
	line(a.out, "%s", joined(facts))
	line(a.out, "%s since %s (%s), last seen %s%s", d.Level, shortTime(d.Since), ago(d.Since), ago(d.SeenAt),
		nextChange(d.Standing.NextChange))
	switch {
	case !d.Covered:
		line(a.out, "No enforced baseline applies to this device; it stands at the level for uncovered devices.")
	case len(d.Binding) > 0:
		line(a.out, "Held at %s by %s.", d.Level, joined(d.Binding))
	default:
		line(a.out, "Nothing holds it down.")
	}
	if d.ShadowLevel != "" {
		line(a.out, "Were the shadow baselines enforced, it would be %s.", d.ShadowLevel)
	}
	for _, t := range d.Threats {
		line(a.out, "%s %s %s%s", a.rust("Threat:"), t.Severity, t.Title, only(t.At != "", ", since "+ago(t.At)))
	}
	for _, g := range append(d.Waivers, d.Vouches...) {
		if g.State == "live" {
			what := "Vouched for"
			if g.Rule != "" {
				what = "Waived: " + g.Rule
			}
			line(a.out, "%s until %s (%s) by %s: %s", what, shortTime(g.Until), when(g.Until), g.Author, g.Reason)
		}
	}
	for _, v := range d.Standing.Verdicts {
		if v.Verdict == posture.Grace {
			line(a.out, "Grace: %s until %s (%s)", v.Rule, shortTime(v.GraceUntil), when(v.GraceUntil))
		}
	}
	for _, c := range d.Certificates {
		if c.State != "trusted" && c.State != "authority" {
			line(a.out, "Certificate: %s is %s, ends %s%s", clip(c.Subject, 50), c.State, when(c.NotAfter),
				only(c.Why != "", " ("+c.Why+")"))
		}
	}
	for _, r := range d.Refused {
		line(a.out, "Refused of %s: %s: %s", r.Source, r.Attribute, r.Message)
	}
	line(a.out, "")
}

func nextChange(at *string) string {
	if at == nil {
		return ""
	}
	return ", may change by itself " + shortTime(*at)
}

// leafWidths are how many letters what was required and what was observed may
// take, so that the columns behind them stay on the terminal.
func (a *app) leafWidths(s *posture.Standing) (required, observed int) {
	w := a.width()
	if w == 0 {
		return 60, 50
	}
	rule := 0
	for _, v := range s.Verdicts {
		rule = max(rule, len(v.Rule))
	}
	const others = 14 + 10 + 10 + 8 + 14 // verdict, holds at, source, age, and the gaps between
	left := max(40, w-rule-others)
	return left * 11 / 20, left * 9 / 20
}

// rulings are the rows of a standing, what holds the device down first.
func (a *app) rulings(s *posture.Standing) [][]string {
	var held, rest [][]string
	required, observed := a.leafWidths(s)
	for _, v := range s.Verdicts {
		verdict := v.Verdict.String()
		if v.Shadow {
			verdict += " (shadow)"
		}
		for i, w := range v.Why {
			row := []string{v.Rule, verdict, v.HoldsAt, clip(w.Condition, required),
				clip(w.Observed, observed), w.Source, w.Age}
			if w.Unknown != "" {
				row[4] = clip(w.Unknown, observed)
			}
			if i > 0 {
				row[0], row[1], row[2] = "", "", ""
			}
			if v.HoldsAt != "" || v.Verdict == posture.Grace || v.Verdict == posture.Waived {
				held = append(held, row)
			} else {
				rest = append(rest, row)
			}
		}
	}
	return append(held, rest...)
}

func (a *app) remedies(s *posture.Standing) {
	for _, step := range s.Reach {
		line(a.out, "\nTo reach %s, pass %s.", a.bold(step.Level), joined(step.Rules))
		break
	}
	told := map[string]bool{}
	for _, v := range s.Verdicts {
		r, ok := rulebook.Language(v.Remedy, "en")
		if !ok || told[r.Title+r.Steps] || !v.Mend {
			continue
		}
		told[r.Title+r.Steps] = true
		line(a.out, "  %s %s. %s", a.rust("→"), a.bold(r.Title), plainLinks(r.Steps))
		if v.GraceUntil != "" {
			line(a.out, "    before %s", shortTime(v.GraceUntil))
		}
	}
}

var markdownLink = regexp.MustCompile(`\[([^\]\n]*)\]\(([^)\n]*)\)`)

// plainLinks writes [text](address) as text (address).
func plainLinks(s string) string { return markdownLink.ReplaceAllString(s, "$1 ($2)") }

func (a *app) readings(list []api.Reading) {
	line(a.out, "")
	var rows [][]string
	for _, r := range list {
		text := r.Text
		if r.Unavailable != "" {
			text = "unavailable: " + r.Unavailable
		}
		note := ""
		if r.Stale {
			note = "stale"
		}
		rows = append(rows, []string{r.Attribute, text, r.Source, r.Age, note})
	}
	a.table([]string{"ATTRIBUTE", "READING", "SOURCE", "AGE", ""}, rows)
}

func (a *app) deviceImportCmd() *cobra.Command {
	format := ""
	c := &cobra.Command{
		Use: "import FILE|-", Short: "Bring evidence from a file: NDJSON, JSON or CSV",
		Long: `Bring evidence from a file: NDJSON (one report a line), JSON or CSV (attributes as
columns). A bad line is told of with its number and the rest goes in; then the
exit code is 1.`,
		Example: "  ironledger device import devices.ndjson\n  mdm-export | ironledger device import -",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			in, err := a.open(args[0])
			if err != nil {
				return err
			}
			defer in.Close()
			first, all := head(in)
			kind := evidence.Detect(args[0], first)
			if format != "" {
				kind = evidence.Format(format)
			}
			media, ok := map[evidence.Format]string{evidence.CSV: "text/csv",
				evidence.JSON: "application/json", evidence.NDJSON: "application/x-ndjson"}[kind]
			if !ok {
				return usageError{fmt.Errorf("--format is ndjson, json or csv, not %q", format)}
			}
			body, done := a.progress(all, args[0])
			got, err := cl.PostEvidence(cmd.Context(), media, body)
			done()
			if err != nil {
				return err
			}
			return a.imported(got)
		},
	}
	c.Flags().StringVar(&format, "format", "", "ndjson, json or csv (default: by the file)")
	return c
}

// progress shows how much of a file has been sent, on a terminal.
func (a *app) progress(in io.Reader, path string) (io.Reader, func()) {
	size := int64(-1)
	if info, err := os.Stat(path); err == nil {
		size = info.Size()
	}
	f, ok := a.err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) || size >= 0 && size < 1<<20 {
		return in, func() {}
	}
	bar := progressbar.NewOptions64(size, progressbar.OptionSetWriter(a.err),
		progressbar.OptionShowBytes(true), progressbar.OptionSetDescription("sending"),
		progressbar.OptionClearOnFinish())
	r := progressbar.NewReader(in, bar)
	return &r, func() { _ = bar.Finish() } // only a picture
}

func (a *app) imported(got *client.Reply[api.Intake]) error {
	in := got.Value
	l := listing{head: []string{"LINE", "DEVICE", "LEVEL", "BEFORE", "REFUSED"}, raw: got.Raw,
		items: []json.RawMessage{}}
	for _, t := range in.Results {
		raw, err := json.Marshal(t)
		if err != nil {
			return err
		}
		l.items = append(l.items, raw)
		var parts []string
		if t.Error != "" {
			parts = append(parts, t.Error)
		}
		for _, r := range t.Refused {
			parts = append(parts, r.Attribute+": "+r.Message)
		}
		if t.Waiting != "" {
			parts = append(parts, "waits until its device is known ("+t.Waiting+")")
		}
		for _, k := range t.Moved {
			parts = append(parts, fmt.Sprintf("was set up again: %s %s is no longer its key", k.Kind, k.Text))
		}
		said := strings.Join(parts, "; ")
		if a.format != "table" || said != "" || t.PreviousLevel != t.Level && !t.New {
			l.rows = append(l.rows, []string{fmt.Sprint(t.Line), t.Device, t.Level, t.PreviousLevel, said})
		}
	}
	if a.format != "table" {
		if err := a.print(l); err != nil {
			return err
		}
		return failedIf(in.Rejected > 0)
	}
	if len(l.rows) > 0 {
		a.table(l.head, l.rows)
	}
	if in.More > 0 {
		line(a.out, "and %d more reports", in.More)
	}
	line(a.out, "%d reports taken, %d refused, %d attributes refused", in.Accepted, in.Rejected, in.Refused)
	if in.Waiting > 0 {
		line(a.out, "%d of them wait until another source makes their device known (ironledger unmatched list --all)", in.Waiting)
	}
	return failedIf(in.Rejected > 0)
}
