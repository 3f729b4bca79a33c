package e2e

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// units opens an empty page with the console's composables in it, by themselves.
func units(t *testing.T) context.Context {
	t.Helper()
	out := t.TempDir()
	build := exec.Command("npx", "vite", "build", "--config", "vite.unit.config.ts", "--outDir", out,
		"--logLevel", "error")
	build.Dir = "../console"
	if said, err := build.CombinedOutput(); err != nil {
		t.Fatalf("the console's composables are not built: %v\n%s", err, said)
	}
	page := `<!doctype html><meta charset="utf-8"><title>units</title><body><script src="unit.js"></script>`
	if err := os.WriteFile(filepath.Join(out, "index.html"), []byte(page), 0o600); err != nil {
		t.Fatal(err)
	}
	files := httptest.NewServer(http.FileServer(http.Dir(out)))
	t.Cleanup(files.Close)
	ctx := browser(t)
	do(t, ctx, chromedp.Navigate(files.URL))
	return ctx
}

// called runs a part of a script, which may await, and reads what it returns.
func called[T any](t *testing.T, ctx context.Context, script string) (value T) {
	t.Helper()
	start := "window.told = ''; (async () => {" + script +
		"})().then((v) => { window.told = JSON.stringify(v) }, (e) => { window.told = '!' + e }); ''"
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[string](start)); err != nil {
		t.Fatal(err)
	}
	if !soon(func() bool {
		told, err := chromedp.Run(ctx, chromedp.Evaluate[string]("window.told"))
		if err != nil {
			t.Fatal(err)
		}
		if told == "" {
			return false
		}
		if err := json.Unmarshal([]byte(told), &value); err != nil {
			t.Fatalf("%s: %s", script, told)
		}
		return true
	}) {
		t.Fatalf("%s: it never ends", script)
	}
	return value
}

// loaded is how a page that loads something stands.
type loaded struct {
	Asked   int
	Data    any
	Loading bool
	Problem string
	At      string
}

// What is loaded is the answer to the newest question, whichever comes first; what
// went wrong is told, and does not take away what there was.
func TestWhatAPageLoads(t *testing.T) {
	t.Parallel()
	ctx := units(t)
	for name, c := range map[string]struct {
		script string
		want   loaded
	}{
		"nothing has come": {"", loaded{Asked: 1, Loading: true, At: "/here?q=1"}},
		"an answer":        {"await p.answer(0, 'a')", loaded{Asked: 1, Data: "a", At: "/here?q=1"}},
		"a newer question": {"await p.answer(0, 'a'); await p.ask()",
			loaded{Asked: 2, Data: "a", Loading: true, At: "/here?q=1"}},
		"an answer that comes after a newer one": {
			"await p.ask(); await p.answer(1, 'new'); await p.answer(0, 'old')",
			loaded{Asked: 2, Data: "new", At: "/here?q=1"}},
		"an answer that comes before a newer one": {
			"await p.ask(); await p.answer(0, 'old')",
			loaded{Asked: 2, Loading: true, At: "/here?q=1"}},
		"a failure": {"await p.answer(0, 'a'); await p.ask(); await p.fail(1, 503)",
			loaded{Asked: 2, Data: "a", Problem: "failed with 503", At: "/here?q=1"}},
		"a failure of an older question": {"await p.ask(); await p.answer(1, 'new'); await p.fail(0, 503)",
			loaded{Asked: 2, Data: "new", At: "/here?q=1"}},
		"once more after a failure": {"await p.fail(0, 503); await p.again(); await p.answer(1, 'a')",
			loaded{Asked: 2, Data: "a", At: "/here?q=1"}},
		"a session that has ended": {"await p.fail(0, 401)",
			loaded{Asked: 1, At: "/sign-in?to=/here?q=1"}},
	} {
		got := called[loaded](t, ctx, "const p = await unit.mount(); "+c.script+"; return p.state()")
		if got.At = strings.ReplaceAll(got.At, "%2F", "/"); got != c.want {
			t.Errorf("%s: it stands at %+v, and should at %+v", name, got, c.want)
		}
	}
}

// A form sets what it says in the rulebook's text: comments, order and what it does not
// know stay, and what is left empty goes.
func TestWhatAFormWrites(t *testing.T) {
	t.Parallel()
	ctx := units(t)
	const text = `gates:
  # the till
  - id: till
    who: {groups: [deck], except: {users: [a]}}
    need: level >= sound # sealed
    message: {sv: Nej}
`
	for name, c := range map[string]struct{ path, value, want string }{
		"a scalar":     {`['need']`, `'  level >= strong '`, strings.Replace(text, "sound", "strong", 1)},
		"a list":       {`['who', 'groups']`, `['deck', 'it']`, strings.Replace(text, "[deck]", "[deck, it]", 1)},
		"a new member": {`['number']`, `210`, text + "    number: 210\n"},
		"a new mapping": {`['what', 'resources']`, `['till']`,
			text + "    what:\n      resources: [till]\n"},
		"beside another language": {`['message', 'en']`, `'No'`,
			strings.Replace(text, "{sv: Nej}", "{sv: Nej, en: No}", 1)},
		"an empty list, and what is empty around it": {`['who', 'except', 'users']`, `[]`,
			strings.Replace(text, ", except: {users: [a]}", "", 1)},
		"the last of a mapping": {`['message', 'sv']`, `''`,
			strings.Replace(text, "    message: {sv: Nej}\n", "", 1)},
		"what was not there": {`['when']`, `''`, text},
		"off":                {`['who', 'everyone']`, `false`, text},
		"what reads as something else": {`['need']`, `'yes: no'`,
			strings.Replace(text, "level >= sound # sealed", `"yes: no" # sealed`, 1)},
	} {
		quoted, err := json.Marshal(text)
		if err != nil {
			t.Fatal(err)
		}
		got := called[string](t, ctx, "return unit.edit("+string(quoted)+", ['gates', 0], "+c.path+", "+c.value+")")
		if got != c.want {
			t.Errorf("%s: the text becomes\n%s\nand should be\n%s", name, got, c.want)
		}
	}
	if got := called[string](t, ctx, `return unit.textAt('gates: [{number: 007}]', ['gates', 0], 'number')`); got != "007" {
		t.Errorf("a scalar is read as %q, not as it was written", got)
	}
}
