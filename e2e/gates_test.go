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
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	ctx := browser(t)
	signIn(t, ctx, s)

	t.Run("gates by number with their week lead to decisions", func(t *testing.T) {
		open(t, ctx, s.url+"/gates", "Payroll from strong devices")
		until(t, ctx, "shadow, no effect")
		picture(t, ctx, "console-gates")
		denied := script(t, ctx, `const a=[...document.querySelectorAll('tr')].find(r=>r.innerText.includes('payroll-export')).querySelectorAll('a')[1]; const n=a.innerText; a.click(); return n`)
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
		raw := s.call(t, "GET", "/api/v1/decisions?resource=chart-room&device=GF-T-2107&outcome=deny&limit=1",
			adminToken, "", "")
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
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`textarea[name=reason]`)),
			chromedp.SendKeys(chromedp.CSS(`textarea[name=reason]`), "Charts until the update, ticket 77"))
		script(t, ctx, "document.querySelector('form.grant button[type=submit]').click(); return ''")
		until(t, ctx, "is waived for GF-T-2107")
		if got := s.levelOf(t, "GF-T-2107"); got != "strong" {
			t.Errorf("it stands at %s", got)
		}
	})

	t.Run("sessions are listed and searched", func(t *testing.T) {
		open(t, ctx, s.url+"/gates/sessions", "crew-rota")
		do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=resource]`), "payroll\r"))
		untilNot(t, ctx, "crew-rota")
		until(t, ctx, maren)
	})

	t.Run("a gate is copied and changed in a form, and the text says so", func(t *testing.T) {
		open(t, ctx, s.url+"/gates", "Charts from sound bridge tablets")
		press(t, ctx, "Charts from sound bridge tablets")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`textarea[name=need]`)))
		picture(t, ctx, "console-gate-form")
		press(t, ctx, "Copy it, in shadow")
		until(t, ctx, "201 Charts")
		script(t, ctx, `const x=document.querySelector('textarea[name=need]'); x.value='level >= strnog'; x.dispatchEvent(new Event('input')); x.dispatchEvent(new Event('change')); return ''`)
		until(t, ctx, "did you mean strong?")
		script(t, ctx, `const x=document.querySelector('textarea[name=need]'); x.value='level >= strong'; x.dispatchEvent(new Event('input')); x.dispatchEvent(new Event('change')); return ''`)
		until(t, ctx, "It is right, and changes 1 thing")
		kept := script(t, ctx, "return JSON.parse(localStorage.getItem('ironledger-draft')).files.map(f=>f.text).join('')")
		for _, text := range []string{"id: charts-copy", "number: 201",
			"# Who may reach what, from which devices.", "need: level >= strong"} {
			if !strings.Contains(kept, text) {
				t.Errorf("the draft does not say %q", text)
			}
		}
		press(t, ctx, "Discard the draft")
	})

	t.Run("a device waits to be taken in, and is", func(t *testing.T) {
		open(t, ctx, s.url+"/sources", "TB-55-0193")
		press(t, ctx, "Take in")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=reason]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=reason]`), "Seen at the dock office\r"))
		press(t, ctx, "All that ever asked")
		until(t, ctx, "Seen at the dock office")
		open(t, ctx, s.url+"/devices/GF-P-4110", "Retire…")
		press(t, ctx, "Retire…")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=reason]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=reason]`), "Dropped into the harbour\r"))
		until(t, ctx, "Decisions do not know it")
	})

	t.Run("a draft is rehearsed on requests, and its impact has to be accepted", func(t *testing.T) {
		open(t, ctx, s.url+"/rulebook", "gates.yaml")
		var files []rulebook.File
		for _, f := range demo.Rulebook() {
			f.Text = strings.NewReplacer("need: level >= limited\n", "need: level >= strong\n", houseGuard,
				"guard: {max_newly_denied: 1%}").Replace(f.Text)
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
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=message]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=message]`), "The rota from strong devices\r"))
		until(t, ctx, "would lose something; the guard allows 1%")
		do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=accepted]`), "Agreed with the crew"))
		press(t, ctx, "Accept this and put in force")
		until(t, ctx, "Version 3 is in force")
	})
}
