package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// browser opens a page of headless Chromium that is closed with the test.
func browser(t *testing.T) context.Context {
	t.Helper()
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.UserDataDir(t.TempDir()), chromedp.ExecPath("chromium-headless-shell"),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-sync", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancelPage := chromedp.NewContext(ctx)
	ctx, cancelTime := context.WithTimeout(ctx, 15*time.Minute)
	t.Cleanup(func() { cancelTime(); cancelPage(); cancel() })
	do(t, ctx, chromedp.EmulateViewport(1280, 800))
	return ctx
}

func do(t *testing.T, ctx context.Context, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	if err := chromedp.Do(ctx, steps...); err != nil {
		picture(t, ctx, "failed")
		t.Fatal(err)
	}
}

// until waits for the page to say a text.
func until(t *testing.T, ctx context.Context, text string) {
	t.Helper()
	if !soon(func() bool { return strings.Contains(pageText(t, ctx), text) }) {
		picture(t, ctx, "failed")
		t.Fatalf("the page never says %q; it says:\n%s", text, pageText(t, ctx))
	}
}

// untilNot waits for the page to say a text no longer.
func untilNot(t *testing.T, ctx context.Context, text string) {
	t.Helper()
	if !soon(func() bool { return !strings.Contains(pageText(t, ctx), text) }) {
		picture(t, ctx, "failed")
		t.Fatalf("the page goes on saying %q:\n%s", text, pageText(t, ctx))
	}
}

// pageText is what the page says.
func pageText(t *testing.T, ctx context.Context) (text string) {
	t.Helper()
	var err error
	if !soon(func() bool {
		text, err = chromedp.Run(ctx, chromedp.Evaluate[string]("(document.body?.innerText ?? '')"))
		return err == nil || !strings.Contains(err.Error(), "navigated or closed") // else it is between two pages
	}) || err != nil {
		t.Fatal(err)
	}
	return text
}

// picture keeps a PNG of the page in the folder IRONLEDGER_SHOTS, if it is set.
func picture(t *testing.T, ctx context.Context, name string) {
	t.Helper()
	dir := os.Getenv("IRONLEDGER_SHOTS")
	if dir == "" {
		return
	}
	time.Sleep(400 * time.Millisecond) // fonts and transitions
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644); err != nil {
		t.Fatal(err)
	}
}

func signIn(t *testing.T, ctx context.Context, s *server) {
	t.Helper()
	do(t, ctx, chromedp.Navigate(s.url+"/"), chromedp.WaitVisible(chromedp.CSS(`input[name=token]`)))
	picture(t, ctx, "console-sign-in")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=token]`), adminToken+"\r"))
	until(t, ctx, "What holds devices down")
}

func TestConsole(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	ctx := browser(t)
	signIn(t, ctx, s)
	do(t, ctx, chromedp.Navigate(s.url+"/devices"))
	until(t, ctx, "71 in all")
	picture(t, ctx, "console-devices")

	t.Run("a wrong token is refused with a reason", func(t *testing.T) {
		other := browser(t)
		do(t, other, chromedp.Navigate(s.url+"/devices"), chromedp.WaitVisible(chromedp.CSS(`input[name=token]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=token]`), "il_wrong\r"))
		until(t, other, "this token is not valid here")
	})

	t.Run("the token is out of reach of scripts", func(t *testing.T) {
		seen, err := chromedp.Run(ctx,
			chromedp.Evaluate[string]("document.cookie + JSON.stringify(localStorage) + JSON.stringify(sessionStorage)"))
		if err != nil || strings.Contains(seen, "il_") || strings.Contains(seen, "ironledger_session") {
			t.Errorf("scripts can read %q (%v)", seen, err)
		}
	})

	t.Run("a condition finds devices, and the URL keeps it", func(t *testing.T) {
		do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=where]`), "level == limited and form == tablet\r"))
		until(t, ctx, "3 in all")
		picture(t, ctx, "console-devices-search")
		at, err := chromedp.Run(ctx, chromedp.Location())
		if err != nil || !strings.Contains(at, "where=level") {
			t.Errorf("the URL is %s (%v)", at, err)
		}
		if !strings.Contains(pageText(t, ctx), "bridge-tablet/os-current") {
			t.Error("the list does not say what holds the tablets")
		}
	})

	t.Run("a wrong condition is pointed at", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/devices?where=levl+%3C+sound"))
		until(t, ctx, "did you mean level?")
		until(t, ctx, "^^^^")
		picture(t, ctx, "console-devices-error")
	})

	t.Run("who goes to another page by keyboard begins at its top", func(t *testing.T) {
		do(t, ctx, chromedp.Focus(chromedp.CSS(`nav.pages a[href="/people"]`)), chromedp.KeyEvent("\r"))
		until(t, ctx, "Maren Holt")
		if at := script(t, ctx, `return document.activeElement.id`); at != "page" {
			t.Errorf("the focus is at %q", at)
		}
		do(t, ctx, chromedp.Navigate(s.url+"/devices"), chromedp.WaitVisible(chromedp.CSS(`input[name=where]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=where]`), "level == limited\r"))
		until(t, ctx, "12 in all")
		if at := script(t, ctx, `return document.activeElement.name ?? ""`); at != "where" {
			t.Errorf("a search takes the focus away, to %q", at)
		}
	})

	t.Run("a chart is gone through by keyboard", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/"), chromedp.WaitVisible(chromedp.CSS(`figure canvas`)))
		script(t, ctx, `document.querySelector("figure [tabindex]").focus()`)
		told := func() string { return script(t, ctx, `return document.querySelector('.told').innerText`) }
		var said []string
		for _, key := range []string{kb.ArrowDown, kb.ArrowDown, kb.ArrowRight, kb.Escape, kb.ArrowDown} {
			do(t, ctx, chromedp.KeyEvent(key))
			time.Sleep(50 * time.Millisecond)
			said = append(said, told())
		}
		if said[0] == "" || said[1] == said[0] || said[2] == said[1] || said[3] != "" || said[4] != said[0] {
			t.Errorf("the arrows tell %q", said)
		}
		level, platform, _ := strings.Cut(strings.Split(said[4], ":")[0], ", ")
		do(t, ctx, chromedp.KeyEvent("\r"))
		until(t, ctx, "in all")
		if at := script(t, ctx, `return decodeURIComponent(location.search)`); !strings.Contains(at, level) ||
			!strings.Contains(at, platform) {
			t.Errorf("Enter at %s of %s leads to %s", level, platform, at)
		}
	})

	t.Run("the menu marks where one is", func(t *testing.T) {
		for path, want := range map[string]string{"/": "Overview", "/devices": "Devices", "/devices/GF-T-2107": "Devices",
			"/people/maren.holt@gullholm.example": "People", "/rulebook/versions": "Rulebook", "/ledger/3": "Ledger"} {
			// No page is marked before it is known which one it is.
			do(t, ctx, chromedp.Navigate(s.url+path), chromedp.WaitVisible(chromedp.CSS(`nav.pages a.here`)))
			if got := script(t, ctx, `return [...document.querySelectorAll('nav.pages a.here')].map((a) => a.innerText).join()`); got != want {
				t.Errorf("at %s the menu marks %q", path, got)
			}
		}
	})

	t.Run("no match is said", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/devices?q=no-such-device"))
		until(t, ctx, "No device matches")
	})

	t.Run("sorting and paging happen in the service, and going back keeps the place", func(t *testing.T) {
		first := func() string {
			s, err := chromedp.Run(ctx, chromedp.Text(chromedp.CSS(`tbody tr:first-child td:nth-child(2)`)))
			if err != nil {
				t.Fatal(err)
			}
			return strings.TrimSpace(s)
		}
		do(t, ctx, chromedp.Navigate(s.url+"/devices?sort=level"))
		until(t, ctx, "71 in all")
		if got := first(); got != "BYO-5103" {
			t.Errorf("the lowest device is %s", got)
		}
		do(t, ctx, chromedp.Click(chromedp.CSS(`.pages button:nth-child(2)`)))
		until(t, ctx, "laptop/locks-itself")
		second := first()
		do(t, ctx, chromedp.Click(chromedp.CSS(`tbody tr:first-child td:nth-child(3)`)))
		until(t, ctx, "What to do")
		do(t, ctx, chromedp.NavigateBack())
		until(t, ctx, "71 in all")
		if got := first(); got != second {
			t.Errorf("going back leads to the page of %s, not of %s", got, second)
		}
		do(t, ctx, chromedp.Click(chromedp.CSS(`.levels li:last-of-type ~ li, .levels li:nth-child(5) a`)))
		until(t, ctx, "7 in all")
	})

	t.Run("a right that is missing is said, not hidden", func(t *testing.T) {
		secret := strings.TrimSpace(s.run(t, "", "token", "create", "visitor", "--role", "reader").want(t, 0).out)
		other := browser(t)
		do(t, other, chromedp.Navigate(s.url+"/ask"), chromedp.WaitVisible(chromedp.CSS(`input[name=token]`)),
			chromedp.SendKeys(chromedp.CSS(`input[name=token]`), secret+"\r"))
		until(t, other, "Your role, reader, may look but not ask.")
	})

	t.Run("a device says why, and what to do", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/devices?q=GF-T-2107"))
		until(t, ctx, "1 in all")
		do(t, ctx, chromedp.Click(chromedp.CSS(`tbody a[href="/devices/GF-T-2107"]`)))
		until(t, ctx, "Held at limited by bridge-tablet/os-current")
		for _, text := range []string{"os.version >= 17.5", "16.7.2", "mdm", "Put the tablet on the charger",
			"To reach sound"} {
			until(t, ctx, text)
		}
		picture(t, ctx, "console-device")
		do(t, ctx, chromedp.Navigate(s.url+"/devices/GF-L-1059"))
		until(t, ctx, "the disk driver did not answer")
		picture(t, ctx, "console-device-unknown")
		do(t, ctx, chromedp.Navigate(s.url+"/devices/nobody"))
		until(t, ctx, "there is no device with the id")
	})

	t.Run("ask answers with the reasons of each gate", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/ask?device=GF-L-1042"),
			chromedp.WaitVisible(chromedp.CSS(`input[name=person]`)))
		picture(t, ctx, "console-ask-empty")
		do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=person]`), "maren.holt@gullholm.example"),
			chromedp.Click(chromedp.CSS(`.el-select input`)),
			chromedp.SendKeys(chromedp.CSS(`.el-select input`), "payroll\r"),
			chromedp.SendKeys(chromedp.CSS(`input[name=ip]`), "192.0.2.44\r"))
		until(t, ctx, "step-up")
		for _, text := range []string{"Payroll from strong devices", "auth.mfa",
			"not known: the request does not say", "nothing was recorded"} {
			until(t, ctx, text)
		}
		picture(t, ctx, "console-ask")
		do(t, ctx, chromedp.Navigate(s.url+
			"/ask?person=birk.strand@gullholm.example&device=GF-T-2107&resource=chart-room&ip=10.40.1.3"))
		for _, text := range []string{"What holds the device down", "Operating system is current",
			"os.version >= 17.5", "16.7.2", "Put the tablet on the charger"} {
			until(t, ctx, text)
		}
		picture(t, ctx, "console-ask-deny")
	})

	t.Run("decisions lead to their reasons", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/decisions"))
		until(t, ctx, "chart-room")
		picture(t, ctx, "console-decisions")
		do(t, ctx, chromedp.Navigate(s.url+"/decisions?outcome=deny&resource=ticket-till"))
		until(t, ctx, "GF-K-3103")
		do(t, ctx, chromedp.Click(chromedp.CSS(`tbody a[href^="/decisions/"]`)))
		until(t, ctx, "of the ledger, asked by first-admin")
		picture(t, ctx, "console-decision")
	})

	t.Run("a caller's name leads to what stands in the way, and to a waiver", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/people"))
		until(t, ctx, "44 people in all")
		picture(t, ctx, "console-people")
		do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=q]`), "birk\r"))
		until(t, ctx, "1 person in all")
		press(t, ctx, "Birk Strand")
		for _, text := range []string{"bridge-crew", "Dunlin bridge 1", "bridge-tablet/os-current",
			"open chart-room"} {
			until(t, ctx, text)
		}
		picture(t, ctx, "console-person")
		press(t, ctx, "Why")
		until(t, ctx, "What holds the device down")
		press(t, ctx, "Waive…")
		do(t, ctx, chromedp.WaitVisible(chromedp.CSS(`textarea[name=reason]`)))
		do(t, ctx, chromedp.Navigate(s.url+"/people?group=it"))
		until(t, ctx, "5 people in all")
	})

	t.Run("who leaves is taken out of the directory, with a reason", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/people/lasse.vass@gullholm.example"))
		until(t, ctx, "GF-L-1058")
		press(t, ctx, "Remove…")
		do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=reason]`), "Left on Friday\r"))
		until(t, ctx, "43 people in all")
		do(t, ctx, chromedp.Navigate(s.url+"/people/lasse.vass@gullholm.example"))
		until(t, ctx, "The directory does not know this person")
		do(t, ctx, chromedp.Navigate(s.url+"/people?q=nobody-of-that-name"))
		until(t, ctx, "Nobody matches")
		do(t, ctx, chromedp.Navigate(s.url+"/people/stranger@elsewhere.example"))
		until(t, ctx, "The directory does not know this person")
		until(t, ctx, "open noticeboard")
	})

	t.Run("an open page follows what happens, with nobody pressing anything", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/devices/GF-L-1042"))
		until(t, ctx, "Nothing holds it down")
		score := func(n int) {
			t.Helper()
			s.run(t, fmt.Sprintf(`{"source":"sensor","identity":{"id":"GF-L-1042"},"evidence":{"threat.score":%d}}`,
				n), "device", "import", "-").want(t, 0)
		}
		score(97)
		until(t, ctx, "Held at barred by laptop/no-threat")
		score(3)
		until(t, ctx, "Nothing holds it down")
		do(t, ctx, chromedp.Navigate(s.url+"/decisions?person=maren.holt@gullholm.example&resource=vault"))
		until(t, ctx, "No decision is recorded that matches")
		s.call(t, "POST", "/access/v1/evaluation", adminToken, "application/json",
			`{"subject":{"type":"user","id":"maren.holt@gullholm.example"},"action":{"name":"open"},"resource":{"type":"app","id":"vault"}}`)
		until(t, ctx, "unknown")
		until(t, ctx, "open vault")
	})

	t.Run("a decision of which nothing is left does not spoil the list", func(t *testing.T) {
		made := lines[struct {
			ID  string
			Seq int64
		}](t, s.run(t, "", "decision", "list", "--limit", "1", "-o", "ndjson").want(t, 0).out)[0]
		s.run(t, "", "ledger", "redact", fmt.Sprint(made.Seq), "--reason", "erasure, ticket 1190").want(t, 0)
		do(t, ctx, chromedp.Navigate(s.url+"/decisions"))
		until(t, ctx, made.ID)
		until(t, ctx, "redacted")
	})

	t.Run("a stretch of time keeps its name", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(s.url+"/decisions?since=24h&person=birk.strand@gullholm.example"))
		until(t, ctx, "the last day")
		until(t, ctx, "open chart-room")
		if text := pageText(t, ctx); strings.Contains(text, "since 20") {
			t.Errorf("the stretch is told as a moment: %s", text)
		}
	})

	t.Run("signing out ends the session", func(t *testing.T) {
		do(t, ctx, chromedp.Click(chromedp.CSS(`header .leave`)),
			chromedp.WaitVisible(chromedp.CSS(`input[name=token]`)), chromedp.Navigate(s.url+"/decisions"),
			chromedp.WaitVisible(chromedp.CSS(`input[name=token]`)))
	})
}

func TestConsoleInTheDark(t *testing.T) {
	t.Parallel()
	if os.Getenv("IRONLEDGER_SHOTS") == "" {
		t.Skip("this makes a picture for people; set IRONLEDGER_SHOTS to a folder")
	}
	s := start(t, "demo", t.TempDir())
	ctx := browser(t)
	do(t, ctx, func(ctx context.Context, page *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, page, emulation.SetEmulatedMedia,
			emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme",
				Value: "dark"}}})
		return chromedp.Void{}, err
	})
	signIn(t, ctx, s)
	do(t, ctx, chromedp.Navigate(s.url+"/devices/GF-L-1059"))
	until(t, ctx, "the disk driver did not answer")
	picture(t, ctx, "console-dark")
}
