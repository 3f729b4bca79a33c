package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// What is older than 90 days leaves for a file: from records that were made 120 days ago, at the command line and in
// the console. The file proves itself, and whoever asks for an old entry is told where it is.
func TestArchive(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	old := startOf(t, aged, "serve", dir)
	old.run(t, "", "rulebook", "publish", "../demo/rulebook", "-m", "A beginning").want(t, 0)
	old.run(t, "", "person", "import", "../demo/people.csv").want(t, 0)
	old.run(t, `{"source":"mdm","identity":{"id":"GF-L-1042"},"evidence":{"form":"laptop","platform":"windows"}}`,
		"device", "import", "-").want(t, 0)
	var asked struct{ Decision bool }
	question := `{"subject":{"type":"user","id":"maren.holt@gullholm.example"},"action":{"name":"open"},` +
		`"resource":{"type":"app","id":"noticeboard"},"context":{"device":{"id":"GF-L-1042"}}}`
	old.call(t, http.MethodPost, "/access/v1/evaluation", adminToken, "application/json", question).into(t, 200, &asked)
	old.run(t, "", "ledger", "archive", "make", "--before", "100d", "--reason", "old").want(t, 1, "stay here")
	old.stop(t)

	s := start(t, "serve", dir)
	s.run(t, "", "device", "import", "../demo/devices.ndjson").want(t, 0)
	s.run(t, "", "ledger", "archive", "list").want(t, 0, "There are no archives")
	s.run(t, "", "ledger", "archive", "make", "--before", "3d", "--reason", "old").want(t, 1, "entries of the last 90d stay here")
	s.run(t, "", "ledger", "archive", "make", "--before", "soon", "--reason", "old").want(t, 2, "or how long ago")
	s.run(t, "", "ledger", "archive", "make", "--before", "100d", "--reason", " ").want(t, 1, "reason")
	var decisions []struct{ ID string }
	s.run(t, "", "decision", "list", "-o", "json").into(t, &decisions)
	if len(decisions) == 0 {
		t.Fatal("nothing was decided")
	}
	first := decisions[len(decisions)-1]

	ctx := browser(t)
	signIn(t, ctx, s)
	do(t, ctx, chromedp.Navigate(s.url+"/ledger"))
	until(t, ctx, "Everything that entries say is in the service")
	s.run(t, "", "ledger", "archive", "make", "--before", "100d", "--reason", "The books are closed").want(t, 0,
		"has entries 1 to", "SHA-256", "archive place")
	var archives []struct{ ID, File string }
	s.run(t, "", "ledger", "archive", "list", "-o", "json").into(t, &archives)
	if len(archives) != 1 {
		t.Fatalf("the archives are %+v", archives)
	}
	x := archives[0]
	file := filepath.Join(dir, "archives", x.File)
	key := filepath.Join(t.TempDir(), "ledger.pub")
	if err := os.WriteFile(key, []byte(s.run(t, "", "ledger", "key").out), 0o600); err != nil {
		t.Fatal(err)
	}
	s.run(t, "", "ledger", "archive", "verify", file).want(t, 0, "Sound:", "The service's ledger goes on from it")
	offline(t, "", "ledger", "archive", "verify", file, "--key", key, "--alone").want(t, 0, "Sound:")
	offline(t, "", "ledger", "archive", "show", file, "--key", key, "--entry", "1").want(t, 0, "Entry 1", "token.created")
	s.run(t, "", "ledger", "archive", "show", file, "--about", "GF-L-1042").want(t, 0, "standing.changed", "decision.made")
	s.run(t, "", "ledger", "archive", "show", file, "--entry", "4711").want(t, 1, "is not in")
	s.run(t, "", "ledger", "archive", "place", x.ID, "the safe").want(t, 0, "the safe")
	s.run(t, "", "ledger", "show", "2").want(t, 0, "Archived:", "the safe")
	s.run(t, "", "decision", "show", first.ID).want(t, 0, "is not here", x.File, "the safe")
	s.run(t, "", "decision", "show", first.ID, "--replay").want(t, 1, x.File)
	s.run(t, "", "ledger", "verify").want(t, 0, "Sound:", "bodies are in archives")
	export := filepath.Join(t.TempDir(), "ledger.ndjson")
	s.run(t, "", "ledger", "export", export).want(t, 0)
	offline(t, "", "ledger", "verify", "--file", export, "--key", key).want(t, 0, "bodies are in archives")
	s.run(t, "", "status").want(t, 0, "entries a day", "archives of")

	raw, err := os.ReadFile(export)
	if err != nil {
		t.Fatal(err)
	}
	bent := strings.Replace(string(raw), `"archive":"`+x.ID, `"archive":"ar-other`, 1)
	if err := os.WriteFile(export, []byte(bent), 0o600); err != nil {
		t.Fatal(err)
	}
	offline(t, "", "ledger", "verify", "--file", export, "--key", key).want(t, 3, "of which no entry tells")
	if err := os.WriteFile(file+".cut", []byte("{}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	offline(t, "", "ledger", "archive", "verify", file+".cut", "--key", key, "--alone").want(t, 3, "does not hold")

	do(t, ctx, chromedp.Navigate(s.url+"/ledger"))
	until(t, ctx, x.ID)
	until(t, ctx, "the safe, and in the service's folder")
	do(t, ctx, chromedp.ScrollIntoView(chromedp.CSS(`#archives`)))
	picture(t, ctx, "console-archives")
	press(t, ctx, "Archive old entries…")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`.archives input[name=reason]`), "Once more"))
	press(t, ctx, "Archive")
	until(t, ctx, "there is nothing to archive")
	do(t, ctx, chromedp.Navigate(s.url+"/ledger/2"))
	until(t, ctx, "What it says is not here")
	picture(t, ctx, "console-archived-entry")
	do(t, ctx, chromedp.Navigate(s.url+"/decisions/"+first.ID))
	until(t, ctx, "is not here")
	s.stop(t)
	s = start(t, "serve", dir)
	s.run(t, "", "ledger", "show", "2").want(t, 0, "the safe")
}
