// Package devices has the commands about devices, people and what is known of them.
package devices

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ironledger.example/api"
	"ironledger.example/core/evidence"
	"ironledger.example/core/mapping"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/textfile"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// DeviceCmd is the command device.
func DeviceCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "device", Short: "Devices: list, show, history, import, enrol, quarantine, tag, " +
		"retire, search",
		Aliases: []string{"devices"}}
	c.AddCommand(deviceListCmd(a), deviceShowCmd(a), deviceHistoryCmd(a), deviceImportCmd(a),
		deviceEnrolCmd(a), deviceRetireCmd(a), devicePurgeCmd(a), deviceQuarantineCmd(a), deviceReleaseCmd(a),
		deviceTagCmd(a), deviceSearchCmd(a))
	return c
}

func deviceListCmd(a *shell.App) *cobra.Command {
	p := api.ListDevicesParams{}
	limit, columns, search, first := 0, []string(nil), "", api.DevicePage{}
	c := &cobra.Command{
		Use: "list", Short: "List devices with their standing", Args: cobra.NoArgs,
		Example: `  ironledger device list
  ironledger device list --where 'level < sound and platform == windows' --sort -seen_at
  ironledger device list --where 'age(seen_at) > 2d' -o csv > quiet.csv
  ironledger device list --where 'form == tablet' --columns custom.chart_pack,passcode.length
  ironledger device list --rule laptop/os-current --verdict fail
  ironledger device list --where 'storage.encrypted' --undecided
  ironledger device list --search 'Quiet tablets'`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			if search != "" {
				if err := kept(cmd.Context(), a, cl, search, &p, &columns); err != nil {
					return err
				}
			}
			p.Columns = strings.Join(columns, ",")
			head := []string{"DEVICE", "LEVEL", "NAME", "PLATFORM", "OS", "OWNER", "HELD BY", "SEEN"}
			for _, name := range columns {
				head = append(head, strings.ToUpper(name))
			}
			l, total, err := shell.Pages(limit,
				func(size int, cursor string) (*client.Reply[api.DevicePage], error) {
					p.Limit, p.Cursor = size, cursor
					got, err := cl.ListDevices(cmd.Context(), p)
					if err == nil && cursor == "" {
						first = got.Value
					}
					return got, err
				}, head, func(d api.DeviceSummary) []string {
					return listRow(a, &d, columns)
				})
			if err != nil {
				return err
			}
			l.Foot = fmt.Sprintf("%d of %d devices", len(l.Rows), total)
			if err := a.Print(l); err != nil {
				return err
			}
			leftOut(a, &p, &first)
			return nil
		},
	}
	listFlags(c, a, &p)
	f := c.Flags()
	f.IntVar(&limit, "limit", 0, "at most so many devices (0: all)")
	f.StringSliceVar(&columns, "columns", nil, "attributes to show beside the usual")
	f.StringVar(&search, "search", "", "a search that is kept under this name")
	return c
}

func listRow(a *shell.App, d *api.DeviceSummary, columns []string) []string {
	row := []string{d.ID, a.Mark(d.Level, d.Rank, d.Top), d.Name, d.Platform, d.OSVersion,
		d.Owner, shell.Joined(d.Binding), d.SeenAt}
	if a.Format == "table" {
		row[6], row[7] = heldBy(*d), shell.Ago(d.SeenAt)
	}
	for _, name := range columns {
		row = append(row, d.Values[name])
	}
	return row
}

// listFlags are those that say which devices, and in which order.
func listFlags(c *cobra.Command, a *shell.App, p *api.ListDevicesParams) {
	f := c.Flags()
	f.StringVar(&p.Where, "where", "", "a condition over the attributes, level, id, seen_at and since")
	f.StringVarP(&p.Q, "find", "q", "", "a part of the id, name, serial, owner or model")
	f.StringVar(&p.Sort, "sort", "id", "a column, with - before it for falling order")
	f.StringVar(&p.Rule, "rule", "", "those that this rule is for, as baseline/rule")
	f.StringVar(&p.Verdict, "verdict", "", "what the rule says of them: pass, fail, unknown, grace, waived or none")
	f.StringVar(&p.Retired, "retired", "", "with: those out of service too; only: no others (default: left out)")
	f.BoolVar(&p.Undecided, "undecided", false,
		"those of which the condition cannot be told, in place of those of which it is true")
	shell.Must(c.RegisterFlagCompletionFunc("rule", a.CompleteRuleNames))
	shell.Must(c.RegisterFlagCompletionFunc("verdict", cobra.FixedCompletions(
		[]string{"pass", "fail", "unknown", "grace", "waived", "none"}, cobra.ShellCompDirectiveNoFileComp)))
	shell.Must(c.RegisterFlagCompletionFunc("retired", cobra.FixedCompletions([]string{"with", "only"},
		cobra.ShellCompDirectiveNoFileComp)))
	shell.Must(c.RegisterFlagCompletionFunc("sort",
		cobra.FixedCompletions([]string{"id", "level", "-level", "since", "-since", "seen_at", "-seen_at",
			"next_change", "name", "platform", "form", "model", "owner", "serial", "os_version"},
			cobra.ShellCompDirectiveNoFileComp)))
}

// leftOut tells, beside a list, which devices are not on it though they may be looked for.
func leftOut(a *shell.App, p *api.ListDevicesParams, page *api.DevicePage) {
	if n := page.Undecided; n > 0 {
		shell.Line(a.Err, "Left out, since a value is not known and so it cannot be told: %s (see them with --undecided)", counted(n))
	}
	if n := page.Retired; n > 0 && p.Retired == "" {
		shell.Line(a.Err, "Left out, since out of service: %s (see them with --retired with)", counted(n))
	}
}

// kept fills in a search that is kept; what the command line says wins.
func kept(ctx context.Context, a *shell.App, cl *client.Client, name string, p *api.ListDevicesParams,
	columns *[]string) error {
	got, err := cl.ListSearches(ctx)
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
	return shell.Brief(d.Binding)
}

func deviceShowCmd(a *shell.App) *cobra.Command {
	all, at := false, ""
	c := &cobra.Command{
		Use: "show DEVICE", Short: "Show a device: its level, why, and what to do for the next one",
		Long: "Show a device by its id, serial or hardware id: its level, what holds it there, what was " +
			"observed by whom, and what to pass to reach each higher level.\n\nWith --at it is computed again " +
			"for a moment of the past, from the rulebook, evidence, waivers and people of then, and compared " +
			"with what was recorded; exit code 3 says that the two differ.",
		Example: "  ironledger device show GF-T-2107\n  ironledger device show GF-T-2107 -o json | jq " +
			".standing.reach\n  ironledger device show GF-T-2107 --at 2026-11-20T08:00:00Z",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.CompleteDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			if at != "" {
				return deviceThen(cmd.Context(), a, cl, args[0], at, all)
			}
			d, err := cl.GetDevice(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			l := shell.Listing{Head: []string{"RULE", "VERDICT", "HOLDS AT", "REQUIRED", "OBSERVED", "SOURCE",
				"AGE"}, Rows: rulings(a, &d.Value.Standing), Raw: d.Raw, Items: nil}
			if a.Format != "table" {
				return a.Print(l)
			}
			WholeDevice(a, &d.Value, all)
			return nil
		},
	}
	c.Flags().BoolVar(&all, "readings", false, "also list every reading of the device")
	c.Flags().StringVar(&at, "at", "", "as it stood at this moment, RFC 3339")
	return c
}

// deviceThen shows a device as it stood at a moment.
func deviceThen(ctx context.Context, a *shell.App, cl *client.Client, id, at string, readings bool) error {
	if _, err := shell.Moment(at); err != nil {
		return err
	}
	got, err := cl.GetPastDevice(ctx, id, api.GetPastDeviceParams{At: at})
	if err != nil {
		return err
	}
	if a.Format == "table" {
		var d api.Device
		if err := json.Unmarshal(got.Raw, &d); err != nil {
			return err
		}
		shell.Line(a.Out, "As it stood at %s:", shell.ShortTime(got.Value.Reproduction.At))
		WholeDevice(a, &d, readings)
		shell.Line(a.Out, "")
		return a.Reproduced(&got.Value.Reproduction, got.Raw)
	}
	if err := a.Print(shell.Listing{Head: []string{"RULE", "VERDICT", "HOLDS AT", "REQUIRED", "OBSERVED", "SOURCE",
		"AGE"}, Rows: rulings(a, &got.Value.Standing), Raw: got.Raw}); err != nil {
		return err
	}
	if !got.Value.Reproduction.Same {
		return shell.ErrNo
	}
	return nil
}

// WholeDevice prints a device for people: at a glance first, then rule by rule.
func WholeDevice(a *shell.App, d *api.Device, readings bool) {
	deviceHead(a, d)
	if rows := rulings(a, &d.Standing); len(rows) > 0 {
		a.Table([]string{"RULE", "VERDICT", "HOLDS AT", "REQUIRED", "OBSERVED", "SOURCE", "AGE"}, rows)
	}
	remedies(a, &d.Standing)
	if readings {
		listReadings(a, d.Readings)
	}
}

func deviceHead(a *shell.App, d *api.Device) {
	title := d.ID
	if d.Name != "" {
		title += "  " + d.Name
	}
	shell.Line(a.Out, "%s   %s", a.Bold(title), a.Mark(d.Level, d.Rank, d.Top))
	if d.Tags.Owner != "" {
		shell.Line(a.Out, "%s is its owner by hand%s", d.Tags.Owner,
			shell.Only(d.Owner != d.Tags.Owner, "; a source says another, who counts"))
	}
	if len(d.Tags.Tags) > 0 || d.Tags.Note != "" {
		shell.Line(a.Out, "%s", strings.TrimSpace(a.Bold(strings.Join(d.Tags.Tags, " "))+"  "+d.Tags.Note))
	}
	if q := d.Quarantine; q.Device != "" {
		shell.Line(a.Out, "%s %s, by %s: %s", a.Rust("In quarantine"), holds(&q), q.By, q.Reason)
	}
	if d.Retired != "" {
		shell.Line(a.Out, "%s %s. Decisions do not know it.", a.Rust("Retired:"), d.Retired)
		if d.Purged != "" {
			shell.Line(a.Out, "%s what was known of it was removed %s.", a.Rust("Purged:"), shell.Ago(d.Purged))
		}
	}
	headFacts(a, d)
	headMatters(a, d)
	shell.Line(a.Out, "")
}

// headFacts say what kind of device it is, and where it stands.
func headFacts(a *shell.App, d *api.Device) {
	facts := []string{}
	for _, s := range []string{d.Platform, d.OSVersion, d.Form, d.Model, d.Ownership} {
		if s != "" {
			facts = append(facts, s)
		}
	}
	if d.Owner != "" {
		facts = append(facts, "of "+d.Owner)
	}
	shell.Line(a.Out, "%s", shell.Joined(facts))
	shell.Line(a.Out, "%s since %s (%s), last seen %s%s", d.Level, shell.ShortTime(d.Since),
		shell.Ago(d.Since), shell.Ago(d.SeenAt),
		shell.NextChange(d.Standing.NextChange))
	switch {
	case !d.Covered:
		shell.Line(a.Out, "No enforced baseline applies to this device; it stands at the level for uncovered devices.")
	case len(d.Binding) > 0:
		shell.Line(a.Out, "Held at %s by %s.", d.Level, shell.Joined(d.Binding))
	default:
		shell.Line(a.Out, "Nothing holds it down.")
	}
	if d.ShadowLevel != "" {
		shell.Line(a.Out, "Were the shadow baselines enforced, it would be %s.", d.ShadowLevel)
	}
}

// headMatters are what somebody should know who looks at the device: threats, exceptions,
// grace, certificates that do not count, values that were refused.
func headMatters(a *shell.App, d *api.Device) {
	for _, t := range d.Threats {
		shell.Line(a.Out, "%s %s %s%s", a.Rust("Threat:"), t.Severity, t.Title,
			shell.Only(t.At != "", ", since "+shell.Ago(t.At)))
	}
	for _, g := range append(d.Waivers, d.Vouches...) {
		if g.State == "live" {
			what := "Vouched for"
			if g.Rule != "" {
				what = "Waived: " + g.Rule
			}
			shell.Line(a.Out, "%s until %s (%s) by %s: %s", what, shell.ShortTime(g.Until),
				shell.When(g.Until), g.Author, g.Reason)
		}
	}
	for _, v := range d.Standing.Verdicts {
		if v.Verdict == posture.Grace {
			shell.Line(a.Out, "Grace: %s until %s (%s)", v.Rule, shell.ShortTime(v.GraceUntil),
				shell.When(v.GraceUntil))
		}
	}
	for _, c := range d.Certificates {
		if c.State != "trusted" && c.State != "authority" {
			shell.Line(a.Out, "Certificate: %s is %s, ends %s%s", shell.Clip(c.Subject, 50), c.State,
				shell.When(c.NotAfter),
				shell.Only(c.Why != "", " ("+c.Why+")"))
		}
	}
	for _, r := range d.Refused {
		shell.Line(a.Out, "Refused of %s: %s: %s", r.Source, r.Attribute, r.Message)
	}
}

// leafWidths are how many letters what was required and what was observed may
// take, so that the columns behind them stay on the terminal.
func leafWidths(a *shell.App, s *posture.Standing) (required, observed int) {
	w := a.Width()
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
func rulings(a *shell.App, s *posture.Standing) [][]string {
	var held, rest [][]string
	required, observed := leafWidths(a, s)
	for _, v := range s.Verdicts {
		verdict := v.Verdict.String()
		if v.Shadow {
			verdict += " (shadow)"
		}
		for i, w := range v.Why {
			row := []string{v.Rule, verdict, v.HoldsAt, shell.Clip(w.Condition, required),
				shell.Clip(w.Observed, observed), w.Source, w.Age}
			if w.Unknown != "" {
				row[4] = shell.Clip(w.Unknown, observed)
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

func remedies(a *shell.App, s *posture.Standing) {
	for _, step := range s.Reach {
		shell.Line(a.Out, "\nTo reach %s, pass %s.", a.Bold(step.Level), shell.Joined(step.Rules))
		break
	}
	told := map[string]bool{}
	for _, v := range s.Verdicts {
		r, ok := plaintext.Language(v.Remedy, "en")
		if !ok || told[r.Title+r.Steps] || !v.Mend {
			continue
		}
		told[r.Title+r.Steps] = true
		shell.Line(a.Out, "  %s %s. %s", a.Rust("→"), a.Bold(r.Title), shell.PlainLinks(r.Steps))
		if v.GraceUntil != "" {
			shell.Line(a.Out, "    before %s", shell.ShortTime(v.GraceUntil))
		}
	}
}

func listReadings(a *shell.App, list []api.Reading) {
	shell.Line(a.Out, "")
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
	a.Table([]string{"ATTRIBUTE", "READING", "SOURCE", "AGE", ""}, rows)
}

// bringing is what a command that brings evidence was told.
type bringing struct {
	format, with string
	try          int
	params       api.PostEvidenceParams
}

func deviceImportCmd(a *shell.App) *cobra.Command {
	b := bringing{}
	c := &cobra.Command{
		Use: "import FILE|-", Short: "Bring evidence from a file: NDJSON, JSON or CSV",
		Long: `Bring evidence from a file: NDJSON (one report a line), JSON or CSV (attributes as
columns, parted by commas, semicolons or tabs; UTF-8 or UTF-16). A bad line is told of with
its number and the rest goes in; then the exit code is 1. So it is when nothing could be
taken at all.

With --map the file is a partner's inventory in words of its own, and the mapping says what
they mean. --try shows what its first items would become, and sends nothing; exit code 3
says that of one no report can be made. --dry-run has the service tell what would become of
every line, and takes nothing.

With --whole the file is all that --source knows: what it said of devices that are not in it
becomes unavailable, with that reason. If more than one in five would be gone, that is held
back (exit code 3) until --accept-impact says why.`,
		Example: `  ironledger device import devices.ndjson
  mdm-export | ironledger device import -
  ironledger device import inventory.csv --map partner.yaml --source mdm --dry-run
  ironledger device import inventory.csv --map partner.yaml --source mdm --whole
  ironledger device import inventory.csv --map @mdm --source mdm`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return bring(cmd, a, &b, args[0]) },
	}
	f := c.Flags()
	f.StringVar(&b.format, "format", "", "ndjson, json or csv (default: by the file)")
	f.StringVar(&b.with, "map", "", "the file of a mapping, YAML: what the words of a partner mean; @SOURCE for the one that is kept")
	f.IntVar(&b.try, "try", 0, "show what so many items would become, and send nothing")
	f.StringVar(&b.params.Source, "source", "", "whose reports they are")
	f.BoolVar(&b.params.DryRun, "dry-run", false, "tell what would become of every line, and take nothing")
	f.BoolVar(&b.params.Whole, "whole", false, "the file is all that --source knows")
	f.StringVar(&b.params.AcceptImpact, "accept-impact", "", "why devices are gone although they are many; recorded")
	c.MarkFlagsMutuallyExclusive("try", "dry-run")
	c.MarkFlagsMutuallyExclusive("whole", "dry-run")
	return c
}

// bring brings the evidence of a file.
func bring(cmd *cobra.Command, a *shell.App, b *bringing, path string) error {
	if b.params.Whole && b.params.Source == "" {
		return shell.Usagef("--whole needs --source: whose inventory it is")
	}
	if b.params.AcceptImpact != "" && !b.params.Whole {
		return shell.Usagef("--accept-impact goes with --whole")
	}
	m, err := b.mapping(cmd.Context(), a)
	if err != nil {
		return err
	}
	if b.try > 0 != cmd.Flags().Changed("try") || b.try > 0 && m == nil {
		return shell.Usagef("--try is how many items of a --map to show")
	}
	in, err := a.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	body, done := progress(a, in, path)
	first, all := shell.Head(textfile.Open(body))
	kind := evidence.Detect(path, first)
	if m != nil && m.Nested() {
		kind = evidence.JSON
	}
	if b.format != "" {
		kind = evidence.Format(b.format)
	}
	media, ok := map[evidence.Format]string{evidence.CSV: "text/csv",
		evidence.JSON: "application/json", evidence.NDJSON: "application/x-ndjson"}[kind]
	if !ok {
		return shell.Usagef("--format is ndjson, json or csv, not %q", b.format)
	}
	if b.try > 0 {
		return tryMapping(a, m, all, kind, b.try)
	}
	cl, err := a.Client()
	if err != nil {
		return err
	}
	return send(cmd.Context(), a, cl, b, m, all, kind, media, done)
}

// mapping reads the mapping that was named, nil for none, for the attributes that the service knows.
func (b *bringing) mapping(ctx context.Context, a *shell.App) (*mapping.Mapping, error) {
	if b.with == "" {
		return nil, nil
	}
	dict := evidence.NewDictionary()
	if b.try == 0 {
		files, err := a.Version(ctx, "current")
		if err == nil {
			var rb *rulebook.Rulebook
			if rb, err = rulebook.Load(files); err == nil {
				dict = rb.Dict
			}
		}
		var none *client.ProblemError
		if err != nil && !errors.As(err, &none) { // none was published, or the token may not read it
			return nil, err
		}
	}
	if source, is := strings.CutPrefix(b.with, "@"); is {
		cl, err := a.Client()
		if err != nil {
			return nil, err
		}
		text, err := keptMapping(ctx, cl, source)
		if err != nil {
			return nil, err
		}
		return mapping.Load(text, dict)
	}
	return LoadMapping(b.with, dict)
}

// send posts evidence, by a mapping if there is one, and tells what became of it.
func send(ctx context.Context, a *shell.App, cl *client.Client, b *bringing, m *mapping.Mapping, body io.Reader,
	kind evidence.Format, media string, done func()) error {
	lost := func() int { return 0 }
	if m != nil {
		x := NewMapped(a, m, body, kind)
		defer x.Close()
		body, media, lost = x, "application/x-ndjson", func() int { return x.Lost }
	}
	got, err := cl.PostEvidence(ctx, b.params, media, body)
	done()
	if err != nil {
		return err
	}
	err = Imported(a, got)
	if n := lost(); n > 0 && err == nil {
		return fmt.Errorf("of %d items no report could be made", n)
	}
	return err
}

// progress shows how much of a file has been sent, on a terminal.
func progress(a *shell.App, in io.Reader, path string) (io.Reader, func()) {
	size := int64(-1)
	if info, err := os.Stat(path); err == nil {
		size = info.Size()
	}
	f, ok := a.Err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) || size >= 0 && size < 1<<20 {
		return in, func() {}
	}
	bar := progressbar.NewOptions64(size, progressbar.OptionSetWriter(a.Err),
		progressbar.OptionShowBytes(true), progressbar.OptionSetDescription("sending"),
		progressbar.OptionClearOnFinish())
	r := progressbar.NewReader(in, bar)
	return &r, func() { _ = bar.Finish() } // only a picture
}

// Imported tells what became of reports.
func Imported(a *shell.App, got *client.Reply[api.IngestResult]) error {
	in := got.Value
	l := shell.Listing{Head: []string{"LINE", "DEVICE", "LEVEL", "BEFORE", "REFUSED"}, Raw: got.Raw,
		Items: []json.RawMessage{}}
	for _, t := range in.Results {
		raw, err := json.Marshal(t)
		if err != nil {
			return err
		}
		l.Items = append(l.Items, raw)
		said := saidOf(&t)
		if a.Format != "table" || said != "" || t.PreviousLevel != t.Level && !t.New {
			l.Rows = append(l.Rows, []string{fmt.Sprint(t.Line), t.Device, t.Level, t.PreviousLevel, said})
		}
	}
	if a.Format != "table" {
		if err := a.Print(l); err != nil {
			return err
		}
		return importError(&in)
	}
	if len(l.Rows) > 0 {
		a.Table(l.Head, l.Rows)
	}
	if in.More > 0 {
		shell.Line(a.Out, "and %d more reports", in.More)
	}
	importSummary(a, &in)
	return importError(&in)
}

// saidOf is what there is to say of one line beside where its device stands.
func saidOf(t *api.ReportResult) string {
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
	return strings.Join(parts, "; ")
}

func importSummary(a *shell.App, in *api.IngestResult) {
	text := "%d reports taken, with %d values; %d refused, and %d values of others"
	if in.Dry {
		text = "Nothing is taken. It would be: " + text
	}
	shell.Line(a.Out, text, in.Accepted, in.Readings, in.Rejected, in.Refused)
	if in.Waiting > 0 {
		shell.Line(a.Out, "%d of them wait until another source makes their device known "+
			"(ironledger unmatched list --all)", in.Waiting)
	}
	if len(in.Reasons) > 0 {
		var rows [][]string
		for _, r := range in.Reasons {
			rows = append(rows, []string{fmt.Sprint(r.Count), r.What, r.Message, fmt.Sprintf("line %d", r.Line)})
		}
		shell.Line(a.Out, "")
		a.Table([]string{"TIMES", "ATTRIBUTE", "WHY IT WAS NOT TAKEN", "FIRST"}, rows)
	}
	if n := in.Gone.Devices; n > 0 {
		did := "What their source said of them is unavailable now."
		if in.Gone.Held != "" {
			did = a.Rust("Held back: ") + in.Gone.Held + "."
		}
		shell.Line(a.Out, "\n%s no longer listed: %s%s. %s", counted(n),
			shell.Joined(in.Gone.Some[:min(5, len(in.Gone.Some))]),
			shell.Only(n > 5, fmt.Sprintf(" and %d more", n-5)), did)
	}
}

// importError is how a command ends that brought evidence: with an error when something was refused or nothing was
// there to take, with "the answer is no" when something was held back.
func importError(in *api.IngestResult) error {
	switch {
	case in.Accepted+in.Rejected == 0:
		return errors.New("there is no report in it: nothing was taken")
	case in.Readings == 0 && in.Refused > 0:
		return errors.New("no value of any report could be taken")
	case in.Rejected > 0:
		return shell.ErrSaid
	case in.Gone.Held != "":
		return shell.ErrNo
	}
	return nil
}
