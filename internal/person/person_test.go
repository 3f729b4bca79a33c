package person

import (
	"bytes"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"ironledger.example/core/condition"
	"ironledger.example/core/rulebook/plaintext"
)

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
	english := slices.Sorted(maps.Keys(words["en"]))
	for _, tag := range languages {
		texts := words[tag.String()]
		if got := slices.Sorted(maps.Keys(texts)); !slices.Equal(got, english) {
			t.Errorf("%s has the texts %v", tag, got)
		}
		for key, text := range texts {
			if strings.TrimSpace(text) == "" {
				t.Errorf("%s says nothing for %s", tag, key)
			}
		}
	}
	for accept, want := range map[string]string{"": "en", "sv": "sv", "sv-FI,en;q=0.2": "sv",
		"de, sv;q=0.1": "sv", "fr": "en", "nonsense;;;": "en"} {
		if got := Words(accept)["lang"]; got != want {
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
		remedy      map[string]plaintext.Remedy
		want        string
	}{
		{"en", "System is current", map[string]plaintext.Remedy{"en": {Title: "Update it", Steps: "Restart."}},
			"Update it|Restart.|13.1, seen 3h ago|nothing has been seen yet"},
		{"sv", "System is current", map[string]plaintext.Remedy{"sv": {Title: "Uppdatera"}},
			"Uppdatera||13.1, sett för 3h sedan|inget har setts ännu"},
		{"en", "System is current", nil, "System is current||13.1, seen 3h ago|nothing has been seen yet"},
	} {
		o := ObstacleOf(words[c.lang], c.title, c.remedy, why, now)
		if got := strings.Join(append([]string{o.Title, o.Steps}, o.Seen...), "|"); got != c.want {
			t.Errorf("%s is told %q, want %q", c.lang, got, c.want)
		}
	}
}

// What stands in a page is text, wherever it comes from.
func TestThePageEscapes(t *testing.T) {
	const bad = `"><script>alert(1)</script>`
	var out bytes.Buffer
	page := Page{W: words["en"], Title: bad, Outcome: bad, Why: bad, Facts: [][2]string{{bad, bad}},
		Code: bad, Ticket: bad, To: bad, SignIn: bad, Level: bad, Wrong: bad, Enrol: true, Platforms: []string{bad},
		Obstacles: []Obstacle{{Title: bad, Steps: bad, Seen: []string{bad}, Until: bad}}}
	if err := pages.ExecuteTemplate(&out, "page.html", &page); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(out.String(), "<script>") {
		t.Errorf("a script stands in the page:\n%s", out.String())
	}
}
