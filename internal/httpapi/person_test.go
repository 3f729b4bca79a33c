package httpapi

import (
	"bytes"
	"encoding/base64"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"

	"ironledger.example/core/condition"
	"ironledger.example/core/rulebook"
	"ironledger.example/demo"
)

// A certificate in a header is one certificate in the form of RFC 9440, and
// nothing else.
func TestClientCertificatesInHeaders(t *testing.T) {
	pem := demo.Card("GF-L-1042", time.Now())
	body := strings.Join(strings.Split(strings.TrimSpace(pem), "\n")[1:], "")
	body = strings.TrimSuffix(body, "-----END CERTIFICATE-----")
	der, err := base64.StdEncoding.DecodeString(body)
	if err != nil {
		t.Fatal(err)
	}
	print, err := clientCert(":" + body + ":")
	if err != nil || print.Subject.CommonName == "" {
		t.Fatalf("%v, %v", print, err)
	}
	again, err := clientCert(":" + base64.StdEncoding.EncodeToString(der) + ":")
	if err != nil || !again.Equal(print) {
		t.Errorf("%v, %v", again, err)
	}
	for name, text := range map[string]string{
		"nothing": "", "no colons": body, "one colon": ":" + body, "PEM": pem,
		"two certificates": ":" + body + ":, :" + body + ":", "not base64": ":????:",
		"cut short": ":" + body[:len(body)-8] + ":",
		"something behind it": ":" + base64.StdEncoding.EncodeToString(append(slices.Clone(der), 1, 2, 3)) +
			":", "huge": ":" + strings.Repeat("A", 1<<17) + ":",
	} {
		if got, err := clientCert(text); err == nil {
			t.Errorf("%s is taken for the certificate %s", name, got.Subject)
		}
	}
}

// Nobody is sent to another site from a page of ours.
func TestWhereAPersonMayBeSent(t *testing.T) {
	for path, want := range map[string]string{
		"/payroll/": "/payroll/", "/payroll/?month=11&x=%2F": "/payroll/?month=11&x=%2F", "": "",
		"payroll": "", "//elsewhere.example": "", "https://elsewhere.example": "",
		"/\\elsewhere.example": "", "/a\r\nSet-Cookie: x": "", "/" + strings.Repeat("x", 3000): "",
		"javascript:alert(1)": "",
	} {
		if got := localPath(path); got != want {
			t.Errorf("%.40q leads to %q, want %q", path, got, want)
		}
	}
}

func TestStepsAreTextWithLinks(t *testing.T) {
	for text, want := range map[string]string{
		"Restart it.": "Restart it.",
		"Open [the desk](https://desk.example/a?b=1&c=2), then [x": `Open <a href="https://desk.example/a?b=1&amp;c=2" rel="noreferrer">the desk</a>, then [x`,
		"<script>alert(1)</script>":                                "&lt;script&gt;alert(1)&lt;/script&gt;",
		"[click](javascript:alert(1))":                             "[click](javascript:alert(1))",
		`[a"b](https://x.example/"onmouseover="y)`:                 `<a href="https://x.example/&#34;onmouseover=&#34;y" rel="noreferrer">a&#34;b</a>`,
		"[one](https://a.example)[two](https://b.example)":         `<a href="https://a.example" rel="noreferrer">one</a><a href="https://b.example" rel="noreferrer">two</a>`,
	} {
		if got := string(linked(text)); got != want {
			t.Errorf("%q becomes\n%s, want\n%s", text, got, want)
		}
	}
}

// Every page can be said in every language that the pages speak.
func TestThePagesSpeakTheirLanguages(t *testing.T) {
	english := slices.Sorted(maps.Keys(pageWords["en"]))
	for _, tag := range pageLanguages {
		words := pageWords[tag.String()]
		if got := slices.Sorted(maps.Keys(words)); !slices.Equal(got, english) {
			t.Errorf("%s has the texts %v", tag, got)
		}
		for key, text := range words {
			if strings.TrimSpace(text) == "" {
				t.Errorf("%s says nothing for %s", tag, key)
			}
		}
	}
	for accept, want := range map[string]string{"": "en", "sv": "sv", "sv-FI,en;q=0.2": "sv",
		"de, sv;q=0.1": "sv", "fr": "en", "nonsense;;;": "en"} {
		ctx, _ := gin.CreateTestContext(httptest.NewRecorder())
		ctx.Request = httptest.NewRequest(http.MethodGet, "/", nil)
		ctx.Request.Header.Set("Accept-Language", accept)
		if got := pageLanguage(ctx)["lang"]; got != want {
			t.Errorf("to %q the page speaks %s, want %s", accept, got, want)
		}
	}
}

// A rule is told by its remedy, with what was seen and how long ago; what a
// condition looks like stays in the house.
func TestWhatAPersonIsToldOfARule(t *testing.T) {
	now := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	why := []condition.Leaf{{Condition: "os.version >= 14.6", Path: "os.version", Required: ">= 14.6",
		Observed: "13.1", At: "2026-11-20T05:00:00Z", Source: "mdm"},
		{Condition: "tpm.present", Path: "tpm.present", Unknown: "never reported"}}
	for _, c := range []struct {
		lang, title string
		remedy      map[string]rulebook.Remedy
		want        string
	}{
		{"en", "System is current", map[string]rulebook.Remedy{"en": {Title: "Update it", Steps: "Restart."}},
			"Update it|Restart.|13.1, seen 3h ago|nothing has been seen yet"},
		{"sv", "System is current", map[string]rulebook.Remedy{"sv": {Title: "Uppdatera"}},
			"Uppdatera||13.1, sett för 3h sedan|inget har setts ännu"},
		{"en", "System is current", nil, "System is current||13.1, seen 3h ago|nothing has been seen yet"},
	} {
		o := obstacleOf(pageWords[c.lang], c.title, c.remedy, why, now)
		if got := strings.Join(append([]string{o.Title, o.Steps}, o.Seen...), "|"); got != c.want {
			t.Errorf("%s is told %q, want %q", c.lang, got, c.want)
		}
	}
}

// What stands in a page is text, wherever it comes from.
func TestThePageEscapes(t *testing.T) {
	const bad = `"><script>alert(1)</script>`
	var out bytes.Buffer
	page := personPage{W: pageWords["en"], Title: bad, Outcome: bad, Why: bad, Facts: [][2]string{{bad, bad}},
		Code: bad, Ticket: bad, To: bad, SignIn: bad, Level: bad, Wrong: bad, Enrol: true, Platforms: []string{bad},
		Obstacles: []personObstacle{{Title: bad, Steps: bad, Seen: []string{bad}, Until: bad}}}
	if err := personPages.ExecuteTemplate(&out, "page.html", &page); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(out.String(), "<script>") {
		t.Errorf("a script stands in the page:\n%s", out.String())
	}
}
