package e2e

import (
	"encoding/json"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ironledger.example/core/rulebook"
	"ironledger.example/demo"
)

// What an administrator and the help desk see of access in the console, and
// what a person sees of a refusal in a browser.
func TestTheGates(t *testing.T) {
	s := start(t, "demo", t.TempDir())
	ctx := browser(t)
	signIn(t, ctx, s)

	t.Run("gates by number with their week lead to decisions", func(t *testing.T) {
		open(t, ctx, s.url+"/gates", "Payroll from strong devices")
		until(t, ctx, "shadow, no effect")
		picture(t, ctx, "console-gates")
		denied := script(t, ctx, `const a=[...document.querySelectorAll('tr')].find(r=>r.innerText.includes('payroll-export')).querySelector('a'); const n=a.innerText; a.click(); return n`)
		until(t, ctx, "export payroll")
		if rows := script(t, ctx, "return document.querySelectorAll('.el-table__body tr').length"); rows != denied {
			t.Errorf("the gate denied %s, the list has %s", denied, rows)
		}
	})

	t.Run("the coverage says what each cell takes", func(t *testing.T) {
		open(t, ctx, s.url+"/gates/coverage", "ticket-office")
		script(t, ctx, `document.querySelector('button[aria-label^="finance to payroll"]').click(); return ''`)
		until(t, ctx, "payroll-export")
		picture(t, ctx, "console-coverage")
		press(t, ctx, "Who reaches payroll now, and with which devices?")
		until(t, ctx, "people get through from their best device")
	})

	t.Run("who reaches a resource, and what a person reaches", func(t *testing.T) {
		open(t, ctx, s.url+"/ask/who?resource=payroll&mfa=yes", "10 of 44 people get through")
		until(t, ctx, "GF-P-4109")
		picture(t, ctx, "console-who")
		open(t, ctx, s.url+"/ask/what?person="+maren+"&device=GF-L-1042", "a second factor, for gate 210")
		until(t, ctx, "none speaks of it")
	})

	t.Run("the help desk types a code, and waives", func(t *testing.T) {
		var list []struct{ Code, Device string }
		raw := s.call(t, "GET", "/api/v1/decisions?resource=chart-room&device=GF-T-2107&outcome=deny&limit=1", adminToken, "", "")
		var page struct {
			Items []struct{ Code, Device string }
		}
		raw.into(t, 200, &page)
		if list = page.Items; len(list) != 1 {
			t.Fatal(string(raw.body))
		}
		open(t, ctx, s.url+"/decisions", "Decisions of the last week")
		picture(t, ctx, "console-decisions")
		do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=code]`), "ABCD-EFGH\r"))
		until(t, ctx, "No refusal has this code")
		open(t, ctx, s.url+"/decisions", "Decisions of the last week")
		do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=code]`), strings.ToLower(list[0].Code)+"\r"))
		until(t, ctx, "What holds the device down")
		press(t, ctx, "Waive…")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`textarea[name=reason]`)), chromedp.SendKeys(chromedp.CSS(`textarea[name=reason]`), "Charts until the update, ticket 77"))
		script(t, ctx, "document.querySelector('form.grant button[type=submit]').click(); return ''")
		until(t, ctx, "is waived for GF-T-2107")
		if got := s.levelOf(t, "GF-T-2107"); got != "strong" {
			t.Errorf("it stands at %s", got)
		}
	})

	t.Run("sessions are listed and searched", func(t *testing.T) {
		open(t, ctx, s.url+"/gates/sessions", "crew-rota")
		do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=resource]`), "payroll\r"))
		until(t, ctx, maren)
		if strings.Contains(pageText(t, ctx), "crew-rota") {
			t.Error("the search for payroll shows the rota")
		}
	})

	t.Run("a draft is rehearsed on requests, and its impact has to be accepted", func(t *testing.T) {
		open(t, ctx, s.url+"/rulebook", "gates.yaml")
		var files []rulebook.File
		for _, f := range demo.Rulebook() {
			f.Text = strings.NewReplacer("need: level >= limited\n", "need: level >= strong\n", "break_glass:", "guard: {max_newly_denied: 1%}\nbreak_glass:").Replace(f.Text)
			files = append(files, f)
		}
		draft, err := json.Marshal(map[string]any{"base": 2, "files": files})
		if err != nil {
			t.Fatal(err)
		}
		script(t, ctx, "localStorage.setItem('ironledger-draft', "+strconv.Quote(string(draft))+"); return ''")
		open(t, ctx, s.url+"/rulebook/rehearsal", "newly denied")
		until(t, ctx, "jorun.vik@gullholm.example")
		picture(t, ctx, "console-requests")
		press(t, ctx, "Publish…")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=message]`)), chromedp.SendKeys(chromedp.CSS(`input[name=message]`), "The rota from strong devices\r"))
		until(t, ctx, "would lose something; the guard allows 1%")
		do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=accepted]`), "Agreed with the crew"))
		press(t, ctx, "Accept this and put in force")
		until(t, ctx, "Version 3 is in force")
	})
}
