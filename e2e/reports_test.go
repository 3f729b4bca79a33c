package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// A report of the demo's week, in each form: verified with the service, from an export with no service, made again to
// the same bytes, and found out when somebody changed it.
func TestReportsOnControls(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	midnight := time.Now().UTC().Truncate(24 * time.Hour)
	from, to := midnight.AddDate(0, 0, -6).Format(time.DateOnly), midnight.Format(time.DateOnly)
	s.run(t, "", "report", "controls", "--from", from, "--to", to).want(t, 0, "gf-01", "Systems are kept current",
		"not met", "gf-08", "in force", "71 known devices")
	s.run(t, "", "report", "controls", "--control", "gf-1").want(t, 2, "did you mean gf-01?")
	s.run(t, "", "report", "controls", "--from", "2099-01-01").want(t, 2, "has no time in it")
	s.run(t, "", "report", "controls", "--from", "last week").want(t, 2, "neither a day")
	s.run(t, "", "report", "controls", "--out", "x").want(t, 2, "--out needs --form")

	dir := t.TempDir()
	export, key := filepath.Join(dir, "ledger.ndjson"), filepath.Join(dir, "ledger.pub")
	write := func(name, text string) string {
		t.Helper()
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return name
	}
	for _, form := range []string{"html", "csv", "oscal", "json"} {
		file := filepath.Join(dir, "week."+form)
		s.run(t, "", "report", "controls", "--from", from, "--to", to, "--form", form, "--out", file).want(t, 0, "verify")
		s.run(t, "", "report", "controls", "--from", from, "--form", form, "--out", file).want(t, 1, "is there already")
		s.run(t, "", "report", "verify", file).want(t, 0, "Sound: ")
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		again := s.run(t, "", "report", "controls", "--from", from, "--to", to, "--form", form)
		if again.out != string(raw) {
			t.Errorf("%s: the same report is another file", form)
		}
		bad := write(filepath.Join(dir, "bad."+form), strings.Replace(string(raw), "gf-02", "gf-20", 1))
		s.run(t, "", "report", "verify", bad).want(t, 3, "Broken: ")
	}
	write(export, s.run(t, "", "ledger", "export").out)
	write(key, s.run(t, "", "ledger", "key").out)
	week := filepath.Join(dir, "week.html")
	offline(t, "", "report", "verify", week, "--file", export, "--key", key).want(t, 0, "Made again from the export")
	offline(t, "", "report", "verify", filepath.Join(dir, "week.csv"), "--file", export, "--key", key).want(t, 2, "json")
	raw, err := os.ReadFile(export)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.SplitAfter(string(raw), "\n")
	short := write(filepath.Join(dir, "short.ndjson"), strings.Join(lines[:len(lines)/2], ""))
	offline(t, "", "report", "verify", week, "--file", short, "--key", key).want(t, 3, "it was cut")
	altered := write(filepath.Join(dir, "altered.ndjson"), strings.Replace(string(raw), `"to":"pass"`, `"to":"fail"`, 1))
	offline(t, "", "report", "verify", week, "--file", altered, "--key", key).want(t, 3, "it was changed")

	within(t, "the week's reports are kept", func() bool {
		return strings.Contains(s.run(t, "", "report", "list").out, "daily-"+midnight.AddDate(0, 0, -1).Format(time.DateOnly))
	})
	last := "daily-" + midnight.AddDate(0, 0, -1).Format(time.DateOnly)
	s.run(t, "", "report", "show", last).want(t, 0, "gf-04")
	s.run(t, "", "report", "trends", "daily").want(t, 0, "gf-02", midnight.AddDate(0, 0, -2).Format(time.DateOnly))
	kept := write(filepath.Join(dir, "kept.csv"), s.run(t, "", "report", "show", last, "--form", "csv").out)
	s.run(t, "", "report", "verify", kept).want(t, 0, "the same to the byte")
	s.run(t, "", "report", "show", "nothing").want(t, 1, "there is no report nothing")

	ctx := browser(t)
	signIn(t, ctx, s)
	open(t, ctx, s.url+"/reports", "What nothing covers")
	until(t, ctx, "Seven days")
	script(t, ctx, `document.querySelector('.opens').click(); return ''`)
	until(t, ctx, "Served by")
	picture(t, ctx, "console-reports")
	until(t, ctx, "percent of the time in which a control was met")
	open(t, ctx, s.url+"/reports?from=none", "As of")
	open(t, ctx, s.url+"/reports/"+last, "Refusals")
	open(t, ctx, s.url+"/reports/nothing", "there is no report nothing")
	do(t, ctx, chromedp.Navigate(s.url+"/api/v1/reports/kept/"+last+"?form=html"))
	until(t, ctx, "Control by control")
}

// A catalogue that others publish is taken in, bounded.
func TestACatalogueOfOSCAL(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	catalogue := `{"catalog":{"metadata":{"title":"Harbour","version":"1"},"groups":[{"title":"Doors","controls":[` +
		`{"id":"hc-1","title":"Doors lock","parts":[{"name":"statement","prose":"They do."}]}]}]}}`
	for name, text := range map[string]string{"harbour-catalog.json": catalogue,
		"r.yaml": "rulebook: r\ncontrols: {files: [harbour-catalog.json]}\nbaselines: [{id: b, controls: [hc-2], rules: [{id: x, check: managed}]}]\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	offline(t, "", "rulebook", "check", dir).want(t, 0, "is right")
	offline(t, "", "rulebook", "review", dir).want(t, 3, "hc-2, which nobody knows: did you mean hc-1?",
		"nothing in force serves hc-1")
	offline(t, catalogue, "rulebook", "controls", "-").want(t, 0, "id: hc-1", "text: They do.", "group: Doors")
	offline(t, `{"catalog":{"controls":[{"id":"a"}]}}`, "rulebook", "controls", "-").want(t, 1, "/catalog/controls/0")
	if err := os.WriteFile(filepath.Join(dir, "harbour-catalog.json"), []byte(catalogue[:80]), 0o600); err != nil {
		t.Fatal(err)
	}
	offline(t, "", "rulebook", "check", dir).want(t, 1, "r.yaml:2:", "ends in the middle")
}
