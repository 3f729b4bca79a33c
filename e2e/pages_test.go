package e2e

import (
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// The pages of rules and tokens, and the way to anything by a few letters.
func TestConsoleOfRulesAndTokens(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	ctx := browser(t)
	signIn(t, ctx, s)

	t.Run("a rule tells what it says, and its numbers lead to its devices", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/rules"))
		until(t, ctx, "26 of 26 rules")
		picture(t, ctx, "console-rules")
		do(t, ctx, chromedp.Click(chromedp.CSS(`a[href="/rules/laptop/os-current"]`)))
		until(t, ctx, "os.version >= 10.0.22631")
		until(t, ctx, "Update the operating system")
		picture(t, ctx, "console-rule")
		do(t, ctx, chromedp.Click(chromedp.CSS(`tr.all a[href*="verdict=fail"]`)))
		until(t, ctx, "2 in all")
		until(t, ctx, "Devices that fail")
	})

	t.Run("a search says whom it left out, and shows them", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/devices?where=not+storage.encrypted"))
		until(t, ctx, "of which it cannot be told")
		script(t, ctx, `[...document.querySelectorAll('button')].find((b) => b.innerText.trim() === '6 devices').click(); return ''`)
		until(t, ctx, "6 in all")
	})

	t.Run("anything is found by a few letters", func(t *testing.T) {
		for _, c := range []struct{ text, kind, want string }{{"brandt", "Person", "/people/"},
			{"GF-T-2107", "Device", "/devices/GF-T-2107"}, {"locks-itself", "Rule", "/rules/laptop/locks-itself"},
			{"token", "Page", "/tokens"}, {"payroll", "Resource", "resource=payroll"}} {
			do(t, ctx, chromedp.Navigate(s.url+"/"))
			until(t, ctx, "What holds devices down")
			script(t, ctx, `window.dispatchEvent(new KeyboardEvent('keydown', {key: 'k', ctrlKey: true})); return ''`)
			do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=find]`)),
				chromedp.SendKeys(chromedp.CSS(`input[name=find]`), c.text))
			row := `[...document.querySelectorAll('#found li')].findIndex((x) => x.innerText.startsWith('` + c.kind + `'))`
			at := ""
			within(t, "a "+c.kind+" is found by "+c.text,
				func() bool { at = script(t, ctx, "return String("+row+")"); return at != "-1" })
			if c.kind == "Resource" {
				picture(t, ctx, "console-find")
			}
			n, err := strconv.Atoi(at)
			if err != nil {
				t.Fatal(err)
			}
			for range n {
				do(t, ctx, chromedp.KeyEvent(kb.ArrowDown))
			}
			do(t, ctx, chromedp.KeyEvent(kb.Enter))
			within(t, c.text+" leads to "+c.want, func() bool {
				return strings.Contains(script(t, ctx, `return location.pathname + location.search`), c.want)
			})
		}
	})

	t.Run("a token is made, and its secret shown once", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/tokens"))
		until(t, ctx, "4 of 4 tokens")
		script(t, ctx, `[...document.querySelectorAll('button')].find((b) => b.innerText.startsWith('Make a token')).click(); return ''`)
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=token-name]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=token-name]`), "auditor\r"))
		until(t, ctx, "shown this once")
		secret := script(t, ctx, `return document.querySelector('.secret code').innerText`)
		picture(t, ctx, "console-tokens")
		s.call(t, "GET", "/api/v1/status", secret, "", "").into(t, 200, nil)
		do(t, ctx, chromedp.Reload())
		until(t, ctx, "5 of 5 tokens")
		if strings.Contains(pageText(t, ctx), secret) {
			t.Error("the secret is shown twice")
		}
	})

	t.Run("no page is wider than a phone", func(t *testing.T) {
		do(t, ctx, chromedp.EmulateViewport(420, 800))
		for _, path := range []string{"/", "/devices", "/devices/GF-T-2107", "/people", "/certificates", "/exceptions",
			"/sources", "/sources/feeds", "/rules", "/rules/laptop/os-current", "/rulebook", "/rulebook/rules",
			"/rulebook/gates",
			"/gates", "/gates/coverage", "/ask", "/ask/who", "/signals", "/decisions", "/ledger", "/alerts", "/tokens"} {
			do(t, ctx, chromedp.Navigate(s.url+path), chromedp.WaitVisible(chromedp.CSS(`#page`)))
			wide := func() string {
				return script(t, ctx, `const w = document.documentElement.scrollWidth; return w > 421 ? String(w) : ''`)
			}
			if !soon(func() bool { return wide() == "" }) {
				t.Errorf("%s is %s pixels wide", path, wide())
			}
		}
		do(t, ctx, chromedp.Navigate(s.url+"/"), chromedp.Click(chromedp.CSS(`button.more`)),
			chromedp.WaitVisible(chromedp.CSS(`nav.groups.open a[href="/ledger"]`)))
	})
}
