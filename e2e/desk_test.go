package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// script runs JavaScript in the page and returns what it gives as text.
func script(t *testing.T, ctx context.Context, js string) string {
	t.Helper()
	got, err := chromedp.Run(ctx, chromedp.Evaluate[string]("String((()=>{"+js+"})())"))
	if err != nil {
		picture(t, ctx, "failed")
		t.Fatal(err)
	}
	return got
}

// press clicks the first button or link that says a text, or begins with it.
func press(t *testing.T, ctx context.Context, text string) {
	t.Helper()
	if !soon(func() bool {
		return script(t, ctx, fmt.Sprintf(`const text=%q, all=[...document.querySelectorAll('button,a')].filter(b=>!b.disabled); const b=all.find(b=>b.innerText.trim()===text)??all.find(b=>b.innerText.trim().startsWith(text)); if(!b) return 'no'; b.click(); return 'yes'`, text)) == "yes"
	}) {
		picture(t, ctx, "failed")
		t.Fatalf("there is no button %q on\n%s", text, pageText(t, ctx))
	}
}

// open goes to a page and waits until it says a text.
func open(t *testing.T, ctx context.Context, url, text string) {
	t.Helper()
	do(t, ctx, chromedp.Navigate(url))
	until(t, ctx, text)
}

// The editor lives in a shadow root; this is its content.
const editor = `document.querySelector('.editor').shadowRoot.querySelector('.cm-content')`

// typeOver selects a word of the editor with a double click, in the first line
// that holds a text, and types over it.
func typeOver(t *testing.T, ctx context.Context, line, word, text string) {
	t.Helper()
	at := ""
	soon(func() bool {
		at = script(t, ctx, fmt.Sprintf(`const root=document.querySelector('.editor')?.shadowRoot; const line=[...(root?.querySelectorAll('.cm-line')??[])].find(l=>l.textContent.includes(%q)); if(!line) return '';
			const walk=document.createTreeWalker(line,NodeFilter.SHOW_TEXT); for(let n;n=walk.nextNode();){ const i=n.data.indexOf(%q); if(i<0) continue; const r=document.createRange(); r.setStart(n,i); r.setEnd(n,i+%d); const b=r.getBoundingClientRect(); return Math.round(b.x+b.width/2)+' '+Math.round(b.y+b.height/2) } return ''`, line, word, len(word)))
		return at != ""
	})
	var x, y float64
	if _, err := fmt.Sscan(at, &x, &y); err != nil {
		t.Fatalf("the editor has no line %q with %q", line, word)
	}
	do(t, ctx, chromedp.MouseClickXY(x, y, chromedp.ClickCount(2)), chromedp.KeyEvent(text))
}

func TestTheDesk(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	ctx := browser(t)
	signIn(t, ctx, s)

	t.Run("the overview leads to what it counts", func(t *testing.T) {
		open(t, ctx, s.url+"/", "71 devices")
		for _, text := range []string{"could be of more than one device",
			"The break-glass account harbourmaster@gullholm.example was used to open vault", "2 devices",
			"quay-seals", "By platform", "Over time", "Fell in the last day", "signe-laptop",
			"Ends within a week", "laptop/disk-encrypted"} {
			until(t, ctx, text)
		}
		if n := script(t, ctx, "return document.querySelectorAll('figure canvas').length"); n != "2" {
			t.Errorf("%s charts are drawn", n)
		}
		picture(t, ctx, "console-overview")
		press(t, ctx, "barred")
		until(t, ctx, "7 in all")
	})

	t.Run("searches are kept, columns chosen, lists exported", func(t *testing.T) {
		open(t, ctx, s.url+"/devices?where=form+%3D%3D+tablet&columns=custom.chart_pack", "Installed chart pack")
		until(t, ctx, "2026.11")
		press(t, ctx, "Keep this search")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=search-name]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=search-name]`), "Our tablets\r"))
		until(t, ctx, "forget")
		open(t, ctx, s.url+"/devices", "71 in all")
		press(t, ctx, "Our tablets")
		until(t, ctx, "12 in all")
		got := script(t, ctx, `const x=new XMLHttpRequest(); x.open('GET',[...document.querySelectorAll('a')].find(a=>a.innerText==='Export as CSV').href,false); x.send(); return x.responseText`)
		if lines := strings.Split(strings.TrimSpace(got), "\n"); len(lines) != 13 ||
			!strings.HasSuffix(lines[0], ",custom.chart_pack") {
			t.Errorf("the export has %d lines:\n%.300s", len(lines), got)
		}
		press(t, ctx, "Export as CSV")
		until(t, ctx, "Saved 12 rows.")
		// An export whose end the test has in its hand.
		script(t, ctx, `const real = window.fetch; window.fetch = (url, o) => !String(url).includes('format=csv') ? real(url, o) :
			Promise.resolve(new Response(new ReadableStream({ start(c) {
				c.enqueue(new TextEncoder().encode('id,name\na,"in two\nlines"\nb,c\n'))
				window.breakOff = () => c.error(new Error('gone'))
				o.signal.onabort = window.breakOff
			} }))); return ''`)
		press(t, ctx, "Export as CSV")
		until(t, ctx, "2 rows so far")
		script(t, ctx, "window.breakOff(); return ''")
		until(t, ctx, "It broke off; nothing is saved.")
		press(t, ctx, "Export as CSV")
		until(t, ctx, "2 rows so far")
		press(t, ctx, "Stop")
		until(t, ctx, "Stopped; nothing is saved.")
		press(t, ctx, "forget")
		until(t, ctx, "Keep this search")
	})

	t.Run("a device's page waives, vouches and tells its history", func(t *testing.T) {
		open(t, ctx, s.url+"/devices/GF-T-2107", "Held at limited")
		until(t, ctx, "→ limited")
		until(t, ctx, "first seen")
		picture(t, ctx, "console-history")
		press(t, ctx, "Waive")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`textarea[name=reason]`)),
			chromedp.SendKeys(chromedp.CSS(`textarea[name=reason]`), "Charts before the update, ticket 12"))
		script(t, ctx, "document.querySelector('form.grant button[type=submit]').click(); return ''")
		until(t, ctx, "Nothing holds it down")
		until(t, ctx, "Charts before the update, ticket 12 (first-admin)")
		until(t, ctx, "limited → strong")
		if got := s.levelOf(t, "GF-T-2107"); got != "strong" {
			t.Errorf("it stands at %s", got)
		}
		press(t, ctx, "Vouch for it")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`textarea[name=reason]`)),
			chromedp.SendKeys(chromedp.CSS(`textarea[name=reason]`), "Seen at the desk"))
		script(t, ctx, "document.querySelector('form.grant button[type=submit]').click(); return ''")
		until(t, ctx, "vouched for ends in")
	})

	t.Run("exceptions are listed and revoked with a reason", func(t *testing.T) {
		open(t, ctx, s.url+"/exceptions", "ticket 4390")
		picture(t, ctx, "console-exceptions")
		press(t, ctx, "Ends within a week")
		until(t, ctx, "ticket 4430")
		untilNot(t, ctx, "ticket 4421") // until the list is the one that was asked for
		press(t, ctx, "Revoke")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=reason]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=reason]`), "Encrypted now\r"))
		press(t, ctx, "Revoked")
		until(t, ctx, "revoked by first-admin: Encrypted now")
	})

	t.Run("certificates by state and condition", func(t *testing.T) {
		open(t, ctx, s.url+"/certificates", "does not chain to an issuer")
		picture(t, ctx, "console-certificates")
		press(t, ctx, "revoked 1")
		until(t, ctx, "GF-L-1049")
		open(t, ctx, s.url+"/certificates?where=until(not_after)+%3C+2d+and+trusted", "GF-L-1047")
		open(t, ctx, s.url+"/certificates?where=nonsense", "there is no name nonsense")
	})

	t.Run("a stray report is settled", func(t *testing.T) {
		open(t, ctx, s.url+"/sources", "Whose is it?")
		picture(t, ctx, "console-sources")
		press(t, ctx, "It is GF-L-1056")
		until(t, ctx, "would point at GF-L-1056")
		picture(t, ctx, "console-settle")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=reason]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=reason]`), "Checked the label\r"))
		until(t, ctx, "None. A report whose keys point at different devices")
		until(t, ctx, "quiet for longer than 12h")
	})

	t.Run("the editor tells at the line what is wrong", func(t *testing.T) {
		open(t, ctx, s.url+"/rulebook", "A laptop that is up to date and encrypted is strong")
		typeOver(t, ctx, "check: storage.encrypted or", "encrypted", "encryptd")
		until(t, ctx, "there is no name storage.encryptd; did you mean storage.encrypted?")
		until(t, ctx, "1 problem.")
		within(t, "one line is marked", func() bool {
			return script(t, ctx, `return document.querySelector('.editor').shadowRoot.querySelectorAll('.cm-lint-marker-error').length`) == "1"
		})
		picture(t, ctx, "console-rulebook")
		// It completes names of attributes.
		typeOver(t, ctx, "check: firewall.on", "firewall", "antima")
		time.Sleep(300 * time.Millisecond) // as a person types
		do(t, ctx, chromedp.KeyEvent("l"))
		offers := ""
		if !soon(func() bool {
			offers = script(t, ctx, `return document.querySelector('.editor').shadowRoot.querySelector('.cm-tooltip-autocomplete')?.innerText ?? ''`)
			return strings.Contains(offers, "antimalware.on") && strings.Contains(offers, "antimalware.updated_at")
		}) {
			t.Errorf("it offers %q", offers)
		}
		// The draft outlives the page.
		do(t, ctx, chromedp.Navigate(s.url+"/devices"))
		open(t, ctx, s.url+"/rulebook", "there is no name storage.encryptd")
		press(t, ctx, "Discard the draft")
		until(t, ctx, "holds")
	})

	t.Run("a rule is changed by the form, rehearsed, published and taken back", func(t *testing.T) {
		open(t, ctx, s.url+"/rulebook/rules?rule=phone/passcode", "Passcode is set")
		script(t, ctx, `const t=document.querySelector('textarea[name=check]'); t.value='passcode.set and passcode.biometric'; t.dispatchEvent(new Event('input')); t.dispatchEvent(new Event('change')); return ''`)
		until(t, ctx, "It is right, and changes 1 thing.")
		picture(t, ctx, "console-rules")
		open(t, ctx, s.url+"/rulebook",
			"the rule phone/passcode: check passcode.set and passcode.biometric, was passcode.set")
		if text := script(t, ctx, `return `+editor+`.innerText`); !strings.Contains(text,
			"# What each kind of device must show") {
			t.Error("the comment at the top is gone")
		}
		open(t, ctx, s.url+"/rulebook/rehearsal", "would fall")
		until(t, ctx, "By platform")
		picture(t, ctx, "console-rehearsal")
		press(t, ctx, "Explain")
		until(t, ctx, "under the draft")
		until(t, ctx, "passcode.biometric")
		open(t, ctx, s.url+"/rulebook/rehearsal", "would fall")
		press(t, ctx, "Publish…")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`input[name=message]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=message]`), "Fingers too\r"))
		until(t, ctx, "Version 3 is in force")
		press(t, ctx, "Versions")
		until(t, ctx, "Fingers too")
		press(t, ctx, "What it changed")
		until(t, ctx, "check passcode.set and passcode.biometric, was passcode.set")
		picture(t, ctx, "console-versions")
		press(t, ctx, "Go back to it")
		until(t, ctx, "would rise")
		press(t, ctx, "Discard the draft")
	})

	t.Run("a draft that was overtaken is not published", func(t *testing.T) {
		open(t, ctx, s.url+"/rulebook/rules?rule=phone/passcode", "Passcode is set")
		script(t, ctx, `const t=document.querySelector('input[name=title]'); t.value='A passcode'; t.dispatchEvent(new Event('input')); t.dispatchEvent(new Event('change')); return ''`)
		until(t, ctx, "It is right, and changes 1 thing.")
		s.run(t, "", "rulebook", "back", "2").want(t, 0, "Version 4 is in force")
		open(t, ctx, s.url+"/rulebook", "Version 4 was published since; publishing this draft is refused")
	})

	t.Run("a reader looks and does not touch", func(t *testing.T) {
		secret := strings.Fields(s.run(t, "", "token", "create", "looker", "--role", "reader", "-o",
			"csv").want(t, 0).out)
		var made struct{ Secret string }
		s.call(t, "POST", "/api/v1/tokens", adminToken, "application/json",
			`{"name":"looker-2","role":"reader"}`).into(t, 201, &made)
		if len(secret) == 0 || made.Secret == "" {
			t.Fatal("no token was made")
		}
		other := browser(t)
		do(t, other, chromedp.Navigate(s.url+"/"), chromedp.WaitVisible(chromedp.CSS(`input[name=token]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=token]`), made.Secret+"\r"))
		until(t, other, "What holds devices down")
		open(t, other, s.url+"/devices/GF-T-2107", "Operating system is current")
		for _, path := range []string{"/devices/GF-T-2107", "/exceptions", "/sources", "/rulebook/versions"} {
			open(t, other, s.url+path, "")
			time.Sleep(300 * time.Millisecond)
			text := pageText(t, other)
			for _, act := range []string{"Waive…", "Vouch for it", "Revoke\n", "It is GF-L", "Remove",
				"Go back to it"} {
				if strings.Contains(text, act) {
					t.Errorf("%s offers a reader %q", path, act)
				}
			}
		}
	})
}

// A device is put into quarantine and released, in the console and at the command line, several at once.
func TestQuarantine(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.run(t, "", "ask", "maren.holt@gullholm.example", "payroll", "--device", "GF-L-1042", "--ip",
		"10.20.4.7").want(t, 0, "ALLOW")
	ctx := browser(t)
	signIn(t, ctx, s)
	do(t, ctx, chromedp.Navigate(s.url+"/devices/GF-L-1042"))
	press(t, ctx, "Quarantine…")
	until(t, ctx, "It stands at the lowest level for")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`textarea, input[name=reason]`), "Looked at, ticket 5120"))
	press(t, ctx, "Quarantine it")
	until(t, ctx, "In quarantine")
	until(t, ctx, "Looked at, ticket 5120")
	picture(t, ctx, "console-quarantine")
	s.run(t, "", "device", "show", "GF-L-1042").want(t, 0, "barred", "In quarantine until", "Looked at, ticket 5120")
	s.run(t, "", "ask", "maren.holt@gullholm.example", "payroll", "--device", "GF-L-1042", "--ip",
		"10.20.4.7").want(t, 3,
		"is in quarantine until", "by first-admin: Looked at, ticket 5120", "Ask the help desk")
	s.run(t, "", "session", "end", "--reason", "x").want(t, 1, "say whose sessions end")
	s.run(t, "", "session", "end", "--device", "GF-L-1042", "--reason", "x").want(t, 0, "sessions ended")
	s.run(t, "GF-L-1043\nGF-L-1046\n", "device", "quarantine", "-", "--reason", "CVE").want(t, 0,
		"GF-L-1043 is in quarantine until it is lifted", "GF-L-1046")
	s.run(t, "", "device", "list", "--where", "quarantined", "-o", "csv").want(t, 0, "GF-L-1042", "GF-L-1043",
		"GF-L-1046")
	s.run(t, "GF-L-1043 nobody", "device", "release", "-", "--reason", "over").want(t, 1, "nobody")
	s.run(t, "GF-L-1043 GF-L-1046", "device", "release", "-", "--reason", "over").want(t, 0, "GF-L-1043 is released")
	s.run(t, "", "device", "release", "GF-L-1043", "--reason", "over").want(t, 1, "is in no quarantine")
	s.run(t, "", "device", "quarantine", "GF-L-1043").want(t, 2, "reason")
	s.run(t, "", "device", "quarantine", "GF-L-1043", "--reason", "x", "--for", "soon").want(t, 1, "/for")
	press(t, ctx, "Release…")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`textarea, input[name=reason]`), "Nothing was found"))
	press(t, ctx, "Release it")
	untilNot(t, ctx, "In quarantine")
	s.run(t, "", "device", "show", "GF-L-1042").want(t, 0, "strong").not(t, "quarantine")
}

// A device is tagged in the console and at the command line, and found by it.
func TestTags(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	ctx := browser(t)
	signIn(t, ctx, s)
	do(t, ctx, chromedp.Navigate(s.url+"/devices/GF-L-1042"))
	press(t, ctx, "Tags, note, owner…")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=add]`), "trial north"),
		chromedp.SendKeys(chromedp.CSS(`input[name=note]`), "Lent until May"))
	press(t, ctx, "Save")
	until(t, ctx, "Lent until May")
	picture(t, ctx, "console-tags")
	s.run(t, "", "device", "show", "GF-L-1042").want(t, 0, "north trial", "Lent until May")
	s.run(t, "GF-L-1043\n", "device", "tag", "-", "--add", "trial").want(t, 0, "GF-L-1043", "trial")
	s.run(t, "", "device", "list", "--where", `tags contains "trial"`, "-o", "csv").want(t, 0, "GF-L-1042", "GF-L-1043")
	s.run(t, "", "device", "tag", "GF-L-1043", "--add", "two words").want(t, 1, "is no tag")
	s.run(t, "", "device", "tag", "GF-L-1043").want(t, 1, "say what to add")
	press(t, ctx, "trial")
	until(t, ctx, "2 in all")
	s.run(t, "", "device", "tag", "GF-L-1042", "GF-L-1043", "--remove", "trial").want(t, 0, "GF-L-1042")
	s.run(t, "", "device", "list", "--where", `tags contains "trial"`).want(t, 0).not(t, "GF-L-1042")
	s.run(t, `{"source":"mdm","identity":{"id":"GF-L-1042"},"evidence":{"tags":["pilot"]}}`, "device",
		"import", "-").want(t, 1,
		"only the service itself sets this attribute")

	s.run(t, `{"source":"mdm","identity":{"id":"lost-and-found"},"evidence":{"form":"phone"}}`, "device", "import", "-").want(t, 0)
	s.run(t, "", "device", "tag", "lost-and-found", "--owner", "maren.hold@gullholm.example").want(t, 1,
		"nobody is known by the id", "maren.holt@gullholm.example")
	s.run(t, "", "device", "tag", "lost-and-found", "--owner", "maren.holt@gullholm.example").want(t, 0, "maren.holt")
	s.run(t, "", "device", "list", "--where", `owner == "maren.holt@gullholm.example"`).want(t, 0, "lost-and-found")
	s.run(t, "", "device", "show", "lost-and-found").want(t, 0, "is its owner by hand")
	do(t, ctx, chromedp.Navigate(s.url+"/devices/lost-and-found"))
	until(t, ctx, "set by hand")
}
