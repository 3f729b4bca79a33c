package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// A file is brought in in the console: its columns with guesses, adjusted; what its lines would become; taken; and the
// next file of the source is read in the same way, there and at the command line.
func TestBringAFileIn(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.run(t, "", "rulebook", "publish", "../demo/rulebook", "-m", "A beginning").want(t, 0)
	s.run(t, `{"source":"agent","identity":{"id":"GF-L-1"},"evidence":{"storage.encrypted":false}}`, "device",
		"import", "-").want(t, 0)
	m := museum{t.TempDir(), t}
	inventory := m.inventory(12)
	ctx := browser(t)
	signIn(t, ctx, s)
	open(t, ctx, s.url+"/sources/import", "Drop a file here")
	give := func(path string) {
		t.Helper()
		do(t, ctx, chromedp.SetUploadFiles(chromedp.CSS(`input[name=file]`), []string{path}))
	}
	give(m.write("empty.csv", ""))
	until(t, ctx, "the file is empty")
	give(inventory)
	until(t, ctx, "12 items of CSV")
	until(t, ctx, "Say first whose file it is")
	choose(t, ctx, "Source", "Management system")
	choose(t, ctx, "What Kind is", "form")
	script(t, ctx, `const i=document.querySelector('[aria-label="Words of Kind"]'); i.value='Laptop: laptop'; i.dispatchEvent(new Event('input')); return ''`)
	picture(t, ctx, "console-import-columns")
	press(t, ctx, "See what they become")
	until(t, ctx, "12 reports with")
	until(t, ctx, "Would stand at")
	do(t, ctx, chromedp.ScrollIntoView(chromedp.CSS(`.import`)))
	picture(t, ctx, "console-import-tried")
	if text := s.run(t, "", "device", "list", "-o", "json").out; strings.Contains(text, "MU0003") {
		t.Error("a trial took something")
	}
	press(t, ctx, "Bring it in")
	until(t, ctx, "Taken:")
	do(t, ctx, chromedp.ScrollIntoView(chromedp.CSS(`.import`)))
	picture(t, ctx, "console-import-taken")
	s.run(t, "", "device", "show", "MU0003").want(t, 0, "laptop", "windows")

	// The mapping is kept: the next file is read with it, there and here.
	s.run(t, "", "source", "mapping").want(t, 0, "mdm", "first-admin")
	s.run(t, "", "source", "mapping", "mdm").want(t, 0, "Laptop: laptop")
	s.run(t, "", "source", "mapping", "sensor").want(t, 1, "no mapping is kept of the source sensor")
	s.run(t, "", "device", "import", m.inventory(13), "--map", "@mdm", "--source", "mdm").want(t, 0, "13 reports taken")
	s.run(t, "", "device", "import", inventory, "--map", "@sensor", "--source", "sensor").want(t, 1,
		"no mapping is kept")
	file := filepath.Join(m.dir, "kept.yaml")
	if err := os.WriteFile(file, []byte(s.run(t, "", "source", "mapping", "mdm").out), 0o600); err != nil {
		t.Fatal(err)
	}
	s.run(t, "", "device", "import", inventory, "--map", file, "--source", "mdm", "--dry-run").want(t, 0,
		"13 reports taken")
	open(t, ctx, s.url+"/sources/import", "Drop a file here")
	give(m.inventory(3))
	until(t, ctx, "3 items of CSV")
	choose(t, ctx, "Source", "Management system")
	until(t, ctx, "as first-admin kept it")
	press(t, ctx, "See what they become")
	until(t, ctx, "3 reports with")
	script(t, ctx, `document.querySelector('.el-checkbox input').click(); return ''`)
	press(t, ctx, "Bring it in")
	until(t, ctx, "Held back")
	typed(t, ctx, "why", "The others were sold")
	press(t, ctx, "Bring it in all the same")
	until(t, ctx, "What the source said of them is unavailable now")
	open(t, ctx, s.url+"/sources/import", "How files were read before")
	picture(t, ctx, "console-import")
	press(t, ctx, "Forget")
	untilNot(t, ctx, "How files were read before")
	s.run(t, "", "source", "mapping").want(t, 0, "No mapping is kept")
	s.run(t, "", "source", "mapping", "mdm", "--drop").want(t, 1, "there is no mapping of the source mdm")
}
