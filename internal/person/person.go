// Package person draws the pages that a person meets: why they were refused, and how
// their device stands. They need no script, and tell nothing of other rules, other
// devices or the rulebook.
package person

import (
	"bytes"
	"embed"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"golang.org/x/text/language"

	"ironledger.example/core/condition"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/value"
)

//go:embed page.html words/*.yaml
var files embed.FS

// Style is what the pages are drawn with, CSS.
//
//go:embed style.css
var Style []byte

// pages are the templates of the pages.
var pages = template.Must(template.New("").Funcs(template.FuncMap{"steps": linked}).ParseFS(files,
	"page.html"))

// languages are what the pages speak; the first is fallen back to.
var languages = []language.Tag{language.English, language.Swedish}

// words are the texts of the pages, by language: a file each.
var words = readWords()

func readWords() map[string]map[string]string {
	all := map[string]map[string]string{}
	for _, tag := range languages {
		raw, err := files.ReadFile("words/" + tag.String() + ".yaml")
		var texts map[string]string
		if err == nil {
			err = yaml.UnmarshalWithOptions(raw, &texts, yaml.Strict())
		}
		if err != nil {
			panic(err) // embedded, and tested
		}
		texts["lang"] = tag.String()
		all[tag.String()] = texts
	}
	return all
}

// Page is what a page shows.
type Page struct {
	W          map[string]string
	Title      string
	Outcome    string
	Why        string // in one sentence, for the person
	Facts      [][2]string
	Obstacles  []Obstacle
	Code       string
	Ticket     string
	To         string // where to go on to
	SignIn     string
	Checked    bool
	Unknown    bool // the device is not known
	Mark       []bool
	Level      string
	NoObstacle bool
	Enrol      bool     // the device may ask to be taken in
	Platforms  []string // that a device may have
	Wrong      string   // with what was filled in

	Checks []Check // all that is asked of the device
	Notes  []string
	Again  string // where to ask for another look

	Reminders string // "on" or "off" for the person; "" when nobody is known to come
	Muted     string // until when
}

// Obstacle is a rule that is not passed, as its person may know it.
type Obstacle struct {
	Title, Steps string
	Seen         []string
	Until        string
}

// Check is a rule, with a mark and a word for how the device does by it.
type Check struct {
	Title, Mark, Word string
	Well              bool
}

// Marks are those of verdicts, on a page and in a terminal.
var Marks = map[string]string{"pass": "✓", "fail": "✗", "unknown": "?", "grace": "…", "waived": "–"}

// CheckOf tells of a rule by its verdict, in some words.
func CheckOf(w map[string]string, title, verdict, until string) Check {
	c := Check{Title: title, Mark: Marks[verdict], Word: w["is-"+verdict], Well: verdict == "pass"}
	if until != "" && (verdict == "grace" || verdict == "waived") {
		c.Word += " " + Moment(until)
	}
	return c
}

// Moment is a moment in RFC 3339 as people read it.
func Moment(text string) string {
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return text
	}
	return at.UTC().Format("2006-01-02 15:04 MST")
}

// Words are the texts of the pages in the language that fits what the caller reads, a
// header Accept-Language (RFC 9110, section 12.5.4).
func Words(accept string) map[string]string {
	wanted, _, err := language.ParseAcceptLanguage(accept)
	if err != nil {
		wanted = nil
	}
	_, i, _ := language.NewMatcher(languages).Match(wanted...)
	base, _ := languages[i].Base()
	return words[base.String()]
}

// Write answers with the page. Nothing was written when there is an error.
func (p *Page) Write(w http.ResponseWriter, status int) error {
	var out bytes.Buffer
	if err := pages.ExecuteTemplate(&out, "page.html", p); err != nil {
		return err
	}
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy",
		"default-src 'none'; style-src 'self'; font-src 'self'; form-action 'self'; base-uri 'none'; "+
			"frame-ancestors 'none'")
	h.Set("Cache-Control", "no-store")
	h.Set("Vary", "Accept-Language")
	w.WriteHeader(status)
	_, err := w.Write(out.Bytes())
	return err
}

// ObstacleOf tells of a rule only what its remedy says, or its title, and what
// was seen and how long ago.
func ObstacleOf(w map[string]string, title string, remedies map[string]plaintext.Remedy, why []condition.Leaf,
	now time.Time) Obstacle {
	o := Obstacle{Title: title}
	if m, ok := plaintext.Language(remedies, w["lang"]); ok {
		o.Title, o.Steps = m.Title, m.Steps
	}
	for _, l := range why {
		text := w["notSeen"]
		if at, err := time.Parse(time.RFC3339, l.At); err == nil {
			text = w["seen"] + " " + Ago(w, now.Sub(at).Microseconds())
		}
		if l.Observed != "" && len(l.Observed) <= 60 {
			text = l.Observed + ", " + text
		}
		if !slices.Contains(o.Seen, text) {
			o.Seen = append(o.Seen, text)
		}
	}
	return o
}

// Ago is how long ago something was, in microseconds.
func Ago(w map[string]string, micros int64) string {
	return fmt.Sprintf("%s %s", value.FormatAge(max(0, micros)), w["ago"])
}

// linked writes the steps of a remedy: plain text with links.
func linked(text string) template.HTML {
	var out strings.Builder
	for _, p := range plaintext.Pieces(text) {
		if p.URL == "" {
			out.WriteString(template.HTMLEscapeString(p.Text))
			continue
		}
		fmt.Fprintf(&out, `<a href="%s" rel="noreferrer">%s</a>`, template.HTMLEscapeString(p.URL),
			template.HTMLEscapeString(p.Text))
	}
	return template.HTML(out.String()) // every part was escaped above
}
