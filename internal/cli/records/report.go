package records

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/api"
	"ironledger.example/core/account"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
	"ironledger.example/internal/controls"
)

// ReportCmd is the command report.
func ReportCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "report", Short: "Reports on written controls: make, list, compare and verify them",
		Aliases: []string{"reports"}}
	c.AddCommand(reportControlsCmd(a), reportListCmd(a), reportShowCmd(a), reportTrendsCmd(a), reportVerifyCmd(a))
	return c
}

// bound reads a moment, or a day, which begins at midnight, UTC.
func bound(flag, text string) (string, error) {
	if text == "" {
		return "", nil
	}
	if day, err := time.Parse(time.DateOnly, text); err == nil {
		return day.Format(time.RFC3339), nil
	}
	if _, err := time.Parse(time.RFC3339, text); err != nil {
		return "", shell.Usagef("%s %q is neither a day, as 2026-11-01, nor a moment, as 2026-11-01T08:00:00Z", flag, text)
	}
	return text, nil
}

// formFlags are those of the form of a report, and of the file that it goes to.
func formFlags(c *cobra.Command, form, out *string) {
	c.Flags().StringVar(form, "form", "", "write the signed report itself: json, html (to be printed), csv or oscal")
	c.Flags().StringVar(out, "out", "", "into this file, which must not be there (default: standard output)")
	names := make([]string, len(controls.Forms))
	for i, f := range controls.Forms {
		names[i] = string(f)
	}
	shell.Must(c.RegisterFlagCompletionFunc("form", cobra.FixedCompletions(names, cobra.ShellCompDirectiveNoFileComp)))
}

func reportControlsCmd(a *shell.App) *cobra.Command {
	var p api.ReportControlsParams
	var only []string
	out := ""
	c := &cobra.Command{
		Use: "controls", Short: "Report how controls were met over a period, or at a moment", Args: cobra.NoArgs,
		Long: `Report how controls were met, worked out from the ledger alone: over a period with
--from, or at a moment without. The same period gives the same report to the byte,
whoever makes it and whenever.

OF THE TIME is the part of all device-hours in which a device that the control concerns
met it; what was excepted or not known is not met.`,
		Example: "  ironledger report controls --from 2026-11-01 --to 2026-12-01\n  ironledger report controls " +
			"--control gf-03\n  ironledger report controls --from 2026-11-23 --form html --out week.html\n" +
			"  ironledger report controls --from 2026-11-23 --form oscal | jq '.\"assessment-results\".results[0].findings'",
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if p.From, err = bound("--from", p.From); err != nil {
				return err
			}
			if p.To, err = bound("--to", p.To); err != nil {
				return err
			}
			p.Control = strings.Join(only, ",")
			cl, err := a.Client()
			if err != nil {
				return err
			}
			return handOut(a, p.Form, out, func(form string) (io.ReadCloser, error) {
				p.Form = form
				return cl.ReportFile(cmd.Context(), p)
			})
		},
	}
	f := c.Flags()
	f.StringVar(&p.From, "from", "", "the period begins then: a day or a moment (default: a report about the moment --to)")
	f.StringVar(&p.To, "to", "", "before this day or moment (default: now)")
	f.StringSliceVar(&only, "control", nil, "on this control alone; may be repeated")
	formFlags(c, &p.Form, &out)
	return c
}

// handOut writes a report as a file when a form is said, and else shows it.
func handOut(a *shell.App, form, out string, get func(form string) (io.ReadCloser, error)) error {
	if form == "" && out != "" {
		return shell.Usagef("--out needs --form: json, html, csv or oscal")
	}
	body, err := get(form)
	if err != nil {
		return err
	}
	defer body.Close()
	switch {
	case form == "":
		raw, err := io.ReadAll(body)
		if err != nil {
			return err
		}
		return showReport(a, raw)
	case out == "":
		_, err := io.Copy(a.Out, body)
		return err
	}
	f, err := os.OpenFile(out, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, os.ErrExist) {
		return fmt.Errorf("%s is there already: nothing was written", out)
	}
	if err != nil {
		return err
	}
	n, err := io.Copy(f, body)
	if err = errors.Join(err, f.Close()); err != nil {
		return errors.Join(err, os.Remove(out))
	}
	shell.Line(a.Out, "%s, %d bytes. Check it with: ironledger report verify %s", out, n, out)
	return nil
}

// showReport shows a report to whoever asked for it.
func showReport(a *shell.App, raw []byte) error {
	var got struct {
		Report account.Report `json:"report"`
		Note   string         `json:"note"`
	}
	if err := json.Unmarshal(raw, &got); err != nil {
		return err
	}
	r := &got.Report
	l := shell.Listing{Head: []string{"CONTROL", "TITLE", "AT THE END", "MET", "NOT", "NOT KNOWN", "EXCEPTED", "OF THE TIME",
		"SERVED BY"}, Raw: json.RawMessage(raw)}
	for i := range r.Controls {
		c := &r.Controls[i]
		state, share := c.State, controls.Share(c.Share)
		if share != "" {
			share += " %"
		}
		if a.Format == "table" && (state == account.NotMet || state == account.NotServed) {
			state = a.Rust(state)
		}
		by := ""
		for _, s := range c.Serving {
			by += " " + s.ID + shell.Only(s.Shadow, " (shadow)")
		}
		if a.Format == "table" {
			by = servedBriefly(c)
		}
		title := c.Title
		if a.Format == "table" {
			title = shell.Clip(title, 44)
		}
		l.Rows = append(l.Rows, []string{c.ID, title, state, fmt.Sprint(c.AtEnd.Met), fmt.Sprint(c.AtEnd.NotMet),
			fmt.Sprint(c.AtEnd.Unknown), fmt.Sprint(c.AtEnd.Excepted), share, strings.TrimSpace(by)})
		item, err := json.Marshal(c)
		if err != nil {
			return err
		}
		l.Items = append(l.Items, item)
	}
	if a.Format == "table" {
		shell.Line(a.Out, "%s %s", a.Bold("Controls of "+r.Rulebook), reportSpan(r))
	}
	l.Foot = fmt.Sprintf("%s known devices; made from %s entries of %s. %s", counted(r.Devices), counted(r.Ledger.Size),
		r.Ledger.Origin, reportFoot(r))
	return a.Print(l)
}

// servedBriefly counts what serves a control.
func servedBriefly(c *account.Told) string {
	rules, gates, watch := 0, 0, 0
	for _, s := range c.Serving {
		switch {
		case s.Shadow:
			watch++
		case s.Kind == "rule":
			rules++
		default:
			gates++
		}
	}
	var out []string
	for _, x := range []struct {
		n    int
		what string
	}{{rules, "rule"}, {gates, "gate"}, {watch, "in shadow"}} {
		if x.n > 0 {
			out = append(out, fmt.Sprintf("%d %s%s", x.n, x.what, shell.Only(x.n > 1 && x.what != "in shadow", "s")))
		}
	}
	return strings.Join(out, ", ")
}

func reportSpan(r *account.Report) string {
	if r.From == "" {
		return "as of " + r.To
	}
	return "from " + r.From + " until " + r.To
}

func reportFoot(r *account.Report) string {
	var parts []string
	add := func(n int, one, more string) {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, map[bool]string{true: one, false: more}[n == 1]))
		}
	}
	add(len(r.Exceptions), "exception", "exceptions")
	add(len(r.Publications), "rulebook in force", "rulebooks in force")
	add(len(r.BreakGlass), "use of break-glass", "uses of break-glass")
	add(int(r.Missing), "entry whose body is gone", "entries whose bodies are gone")
	if len(parts) == 0 {
		return ""
	}
	return strings.Join(parts, ", ") + "."
}

func reportListCmd(a *shell.App) *cobra.Command {
	var p api.ListReportsParams
	c := &cobra.Command{
		Use: "list", Short: "List the reports that were kept, the newest first", Args: cobra.NoArgs,
		Example: "  ironledger report list\n  ironledger report list --report monthly -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.ListReports(cmd.Context(), p)
			if err != nil {
				return err
			}
			l := shell.Listing{Head: []string{"REPORT", "FROM", "UNTIL", "CONTROLS", "NOT MET", "MADE", "ENTRIES", "SHA-256"},
				Raw: got.Value, Items: shell.ItemsOf(got.Raw)}
			for _, r := range got.Value.Items {
				sum, at := r.SHA256, r.At
				if a.Format == "table" {
					sum, at = sum[:min(12, len(sum))], shell.Ago(at)
				}
				l.Rows = append(l.Rows, []string{r.ID, r.From, r.To, fmt.Sprint(r.Controls), fmt.Sprint(r.NotMet), at,
					fmt.Sprint(r.Entries), sum})
			}
			for _, r := range got.Value.Asked {
				l.Foot += fmt.Sprintf("%s: every %s, next at %s. ", r.ID, r.Every, r.Next)
			}
			if len(l.Rows) == 0 && a.Format == "table" && l.Foot != "" {
				shell.Line(a.Out, "None was made yet. %s", l.Foot)
				return nil
			}
			return a.Print(l)
		},
	}
	c.Flags().StringVar(&p.Report, "report", "", "those of one report of the rulebook only")
	return c
}

func reportShowCmd(a *shell.App) *cobra.Command {
	form, out := "", ""
	c := &cobra.Command{
		Use: "show ID", Short: "Show a report that was kept", Args: cobra.ExactArgs(1),
		Example: "  ironledger report show monthly-2026-10-01\n  ironledger report show monthly-2026-10-01 --form html --out " +
			"october.html",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			return handOut(a, form, out, func(form string) (io.ReadCloser, error) {
				return cl.KeptReportFile(cmd.Context(), args[0], api.GetReportParams{Form: form})
			})
		},
	}
	formFlags(c, &form, &out)
	return c
}

func reportTrendsCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "trends REPORT", Short: "Compare the last twelve reports: what got worse is first", Args: cobra.ExactArgs(1),
		Example: "  ironledger report trends monthly\n  ironledger report trends monthly -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.ReportTrends(cmd.Context(), api.ReportTrendsParams{Report: args[0]})
			if err != nil {
				return err
			}
			l := shell.Listing{Head: []string{"CONTROL", "TITLE"}, Raw: got.Value}
			for _, p := range got.Value.Periods {
				l.Head = append(l.Head, p.From[:min(len(p.From), len(time.DateOnly))])
			}
			for _, c := range got.Value.Controls {
				row := []string{c.Control, shell.Clip(c.Title, 40)}
				for i, s := range c.Shares {
					cell := controls.Share(s)
					if i == len(c.Shares)-1 && c.Worse > 0 && a.Format == "table" {
						cell = a.Rust("↓ " + cell)
					}
					row = append(row, cell)
				}
				l.Rows = append(l.Rows, row)
			}
			return a.Print(l)
		},
	}
}

func reportVerifyCmd(a *shell.App) *cobra.Command {
	var key, export string
	c := &cobra.Command{
		Use: "verify FILE", Short: "Check a report: its signature, its ledger, and its numbers", Args: cobra.ExactArgs(1),
		Long: `Check a report in any of its forms, - for standard input: that the file is the one that was
signed, that the key of the ledger signed it, that the ledger has only grown since, and
that the report comes out the same when it is made again.

With a service, this client reads the ledger and makes the report again itself. With --file
it does so from an export, with no service; it then needs --key. Of a report as CSV, which
has not all of it, the service makes the file again.

Exit code 3 says that something is wrong.`,
		Example: "  ironledger report verify october.html\n  ironledger report verify october.oscal.json --file ledger.ndjson " +
			"--key ledger.pub",
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := a.Read(args[0])
			if err != nil {
				return err
			}
			file, err := controls.Read([]byte(text))
			if err != nil {
				return brokenReport(a, err.Error())
			}
			if export != "" {
				return verifyReportFile(a, file, export, key)
			}
			return verifyReport(cmd.Context(), a, file, []byte(text), key)
		},
	}
	addKeyFlag(c, &key)
	c.Flags().StringVar(&export, "file", "", "an export of the ledger, to check against with no service")
	return c
}

func brokenReport(a *shell.App, why string) error {
	shell.Line(a.Out, "%s %s.", a.Rust("Broken:"), why)
	return shell.ErrNo
}

// soundReport tells what was checked.
func soundReport(a *shell.App, f *controls.File, how string) error {
	what := "the report"
	if r := f.Report; r != nil {
		what = fmt.Sprintf("the report on %d controls %s", len(r.Controls), reportSpan(r))
	}
	shell.Line(a.Out, "%s %s, signed by %s under %s entries. %s", a.Bold("Sound:"), what, f.Stated.Origin,
		counted(f.Stated.Size), how)
	return nil
}

// stated is the ledger under which a report was made.
func stated(f *controls.File) (ledger.Head, error) {
	root, err := tlog.ParseHash(f.Stated.Root)
	return ledger.Head{Origin: f.Stated.Origin, Size: f.Stated.Size, Root: root}, err
}

// again makes a report again from the lines of an export, which it verifies.
func again(a *shell.App, f *controls.File, lines io.Reader, of int64, key note.Verifier) (wrong string, err error) {
	once, err := controls.NewAgain(f.Report)
	if err != nil {
		return err.Error(), nil
	}
	walk := &ledger.Verifier{}
	bar := a.Walked(of, "entries", "making the report again")
	checkpoint, err := client.EachLine(lines, func(l *ledger.Line) error {
		walk.Add(l)
		bar.Add(1)
		return once.Add(l)
	})
	bar.Done()
	if err != nil {
		return "", err
	}
	if checkpoint == nil {
		return "the export ends without the signed head: it was cut", nil
	}
	head, err := ledger.OpenHead(checkpoint, key)
	if err != nil {
		return err.Error(), nil
	}
	if walk.End(&head); len(walk.Problems) > 0 {
		return "the ledger is not what was recorded: " + walk.Problems[0].String(), nil
	}
	return once.Differs()
}

func verifyReportFile(a *shell.App, f *controls.File, export, key string) error {
	if key == "" {
		return shell.Usagef("--file needs --key, the ledger's public key or a file that holds it")
	}
	verifier, err := keyOf(key)
	if err != nil {
		return err
	}
	if err := f.Signed(verifier); err != nil {
		return brokenReport(a, err.Error())
	}
	if f.Report == nil {
		return shell.Usagef("a report as %s has not all of it, so that it cannot be made again from an export; check the same "+
			"report as json, html or oscal", f.Form)
	}
	lines, err := a.Open(export)
	if err != nil {
		return err
	}
	defer lines.Close()
	wrong, err := again(a, f, lines, -1, verifier)
	if err != nil {
		return fmt.Errorf("%s: %w", export, err)
	}
	if wrong != "" {
		return brokenReport(a, wrong)
	}
	return soundReport(a, f, "Made again from the export it is the same.")
}

func verifyReport(ctx context.Context, a *shell.App, f *controls.File, raw []byte, key string) error {
	cl, w, _, err := watch(ctx, a, key)
	if err != nil {
		return err
	}
	if err := f.Signed(w.Verifier); err != nil {
		return brokenReport(a, err.Error())
	}
	was, err := stated(f)
	if err != nil {
		return brokenReport(a, "the root of the ledger in the note is no hash")
	}
	got, err := cl.GetConsistency(ctx, api.GetConsistencyParams{From: was.Size})
	if err != nil {
		return brokenReport(a, "the ledger of "+cl.URL()+" gives no proof that it goes on from the report's: "+err.Error())
	}
	now, err := ledger.OpenHead([]byte(got.Value.Checkpoint), w.Verifier)
	if err == nil && was.Size > 0 {
		err = ledger.CheckConsistency(was, now, got.Value.Hashes)
	}
	if err != nil {
		return brokenReport(a, "the ledger does not go on from that of the report: "+err.Error())
	}
	if f.Report == nil {
		return sameAgain(ctx, a, cl, f, raw)
	}
	body, err := cl.ExportLedger(ctx, api.ExportLedgerParams{Format: "ndjson"})
	if err != nil {
		return err
	}
	defer body.Close()
	wrong, err := again(a, f, body, now.Size, w.Verifier)
	if err != nil {
		return fmt.Errorf("the entries of %s: %w", cl.URL(), err)
	}
	if wrong != "" {
		return brokenReport(a, wrong)
	}
	return soundReport(a, f, fmt.Sprintf("The ledger has %s entries now and goes on from these; made again from them it is "+
		"the same.", counted(now.Size)))
}

// sameAgain has the service make a report as CSV again, and compares the files.
func sameAgain(ctx context.Context, a *shell.App, cl *client.Client, f *controls.File, raw []byte) error {
	rows, err := csv.NewReader(bytes.NewReader(raw)).ReadAll()
	if err != nil || len(rows) < 2 {
		return brokenReport(a, "the report is no CSV")
	}
	p := api.ReportControlsParams{Form: string(f.Form)}
	var ids []string
	some := false
	for _, row := range rows[1:] {
		cell := map[string]string{}
		for i, name := range rows[0] {
			cell[name] = row[i]
		}
		switch cell["line"] {
		case "report":
			p.From, p.To, some = cell["at"], cell["until"], cell["state"] == "some"
		case "control":
			ids = append(ids, cell["id"])
		}
	}
	if some {
		p.Control = strings.Join(ids, ",")
	}
	body, err := cl.ReportFile(ctx, p)
	if err != nil {
		return err
	}
	defer body.Close()
	made, err := io.ReadAll(body)
	if err != nil {
		return err
	}
	if !bytes.Equal(made, raw) {
		return brokenReport(a, "the report is not the same when the service makes it again")
	}
	return soundReport(a, f, "The service made it again, the same to the byte.")
}
