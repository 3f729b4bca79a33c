package notice

import (
	"bytes"
	"embed"
	"fmt"
	htmltemplate "html/template"
	"slices"
	"strings"
	"text/template"
	"time"
	"unicode"

	"github.com/goccy/go-yaml"
	"golang.org/x/text/language"

	"ironledger.example/core/event"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/value"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

//go:embed words/*.yaml mail.html
var files embed.FS

// languages are what notices speak; the first is fallen back to.
var languages = []language.Tag{language.English, language.Swedish}

// texts are the texts of notices by language and name.
var texts = readTexts()

func readTexts() map[string]*template.Template {
	all := map[string]*template.Template{}
	for _, tag := range languages {
		raw, err := files.ReadFile("words/" + tag.String() + ".yaml")
		var words map[string]string
		if err == nil {
			err = yaml.UnmarshalWithOptions(raw, &words, yaml.Strict())
		}
		t := template.New(tag.String()).Option("missingkey=error")
		for name, text := range words {
			if err == nil {
				_, err = t.New(name).Parse(text)
			}
		}
		if err != nil {
			panic(err) // embedded, and tested
		}
		all[tag.String()] = t
	}
	return all
}

var mailPage = htmltemplate.Must(htmltemplate.ParseFS(files, "mail.html"))

// spoken is the language of ours that fits a tag best.
func spoken(tag string) string {
	wanted, err := language.Parse(tag)
	if err != nil {
		wanted = languages[0]
	}
	_, i, _ := language.NewMatcher(languages).Match(wanted)
	return languages[i].String()
}

// say fills in a text.
func say(lang, name string, data any) string {
	var out strings.Builder
	if err := texts[lang].ExecuteTemplate(&out, name, data); err != nil {
		panic(err) // embedded, and tested
	}
	return out.String()
}

// facts are what texts tell of.
type facts struct {
	Name, What, Person, Detail, From, To, Rules, Until, At string
}

// part is what a message says of one notice.
type part struct {
	Title, Text string
	Todo        string
	Steps       []plaintext.Piece
	Link        string
}

// message is one message about one or several notices.
type message struct {
	Lang    string
	Subject string
	Hello   string // "" to a channel
	Parts   []part
	Foot    string
	Words   map[string]string // todo, more
}

// compose makes the message about notices that go to one recipient, in the language of
// the first.
func compose(snap *state.Snapshot, base string, list []*kept.Notice) *message {
	lang := spoken(list[0].Language)
	m := &message{Lang: lang, Words: map[string]string{"todo": say(lang, "todo", nil), "more": say(lang, "more", nil)}}
	var rules []string
	owner := ""
	for _, n := range list {
		m.Parts = append(m.Parts, partOf(snap, base, lang, n))
		if r := snap.Book.Rulebook.Notice(n.Notice); r != nil && r.To.Owner {
			owner = n.Person
		}
		if !slices.Contains(rules, n.Notice) {
			rules = append(rules, n.Notice)
		}
	}
	if m.Subject = m.Parts[0].Title; len(m.Parts) > 1 {
		m.Subject = say(lang, map[bool]string{true: "several", false: "severalChannel"}[owner != ""], len(m.Parts))
	}
	if m.Foot = say(lang, "channel", strings.Join(rules, ", ")); owner != "" {
		m.Foot = say(lang, "owner", nil)
		name := owner
		if p, known := snap.People.Get(owner); known && p.Name != "" {
			name = p.Name
		}
		m.Hello = say(lang, "hello", name)
	}
	return m
}

// maxLine bounds what devices say of themselves in a message, in bytes.
const maxLine = 120

// line is a text that somebody else wrote, as a part of a line.
func line(text string) string {
	return event.Clipped(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || !unicode.IsPrint(r) && r != ' ' {
			return ' '
		}
		return r
	}, text), maxLine)
}

// moment is a time as people read it.
func moment(micros int64) string {
	return time.UnixMicro(micros).UTC().Format("2006-01-02 15:04 MST")
}

func partOf(snap *state.Snapshot, base, lang string, n *kept.Notice) part {
	b := snap.Book
	f := facts{Name: line(n.What), What: line(n.What), Person: line(n.Person), Detail: line(n.Detail),
		From: n.From, To: n.To,
		Until: moment(n.Until), At: moment(n.At)}
	if d := snap.Fleet.Get(n.Device); d != nil && d.View != nil {
		if v := d.View.Value(b.Rulebook.Dict.Slot("name")); v.Known() && v.Kind() == value.Text && v.Str() != n.Device {
			f.Name = line(v.Str()) + " (" + line(n.Device) + ")"
		}
	}
	rules := n.Rules
	if n.On == rulebook.GraceEnds || n.On == rulebook.WaiverEnds {
		rules = []string{n.Detail}
		f.Detail = titleOf(b, n.Detail)
	}
	var titles []string
	p := part{}
	for _, key := range rules {
		titles = append(titles, titleOf(b, key))
		if r, ok := plaintext.Language(posture.RemedyOf(b.Rulebook, key), lang); ok && p.Todo == "" &&
			n.On != rulebook.Rose {
			p.Todo, p.Steps = r.Title, plaintext.Pieces(r.Steps)
		}
	}
	f.Rules = strings.Join(titles, ", ")
	p.Title, p.Text = say(lang, string(n.On), f), say(lang, string(n.On)+"Text", f)
	if base != "" {
		p.Link = base + linkOf(n)
	}
	return p
}

// linkOf is the page of the console about what a notice tells of; of a device that is
// somebody's the page that is theirs.
func linkOf(n *kept.Notice) string {
	switch {
	case n.On == rulebook.SourceQuiet:
		return "/sources"
	case n.On == rulebook.BreakGlass:
		return "/decisions/" + n.Ref
	case n.On == rulebook.EnrolmentWaits:
		return "/devices"
	case n.On == rulebook.ReportMade:
		return "/reports/" + n.Ref
	case n.Hook == "" && n.Mail != "" && n.Person != "":
		return "/me/device"
	}
	return "/devices/" + n.Device
}

func titleOf(b *state.Book, key string) string {
	if r := b.Rulebook.Rule(key); r != nil && r.Title != "" {
		return r.Title
	}
	return key
}

// plain is the message as plain text.
func (m *message) plain() string {
	var out strings.Builder
	if m.Hello != "" {
		out.WriteString(m.Hello + "\n\n")
	}
	for _, p := range m.Parts {
		out.WriteString(p.plain(m.Words) + "\n")
	}
	out.WriteString("-- \n" + m.Foot + "\n")
	return out.String()
}

// plain is a part as plain text.
func (p *part) plain(words map[string]string) string {
	var out strings.Builder
	out.WriteString(p.Title + "\n")
	if p.Text != "" {
		out.WriteString(p.Text + "\n")
	}
	if p.Todo != "" {
		fmt.Fprintf(&out, "\n%s: %s\n", words["todo"], p.Todo)
		for _, s := range p.Steps {
			out.WriteString(s.Text)
			if s.URL != "" {
				out.WriteString(" (" + s.URL + ")")
			}
		}
		if len(p.Steps) > 0 {
			out.WriteString("\n")
		}
	}
	if p.Link != "" {
		fmt.Fprintf(&out, "\n%s: %s\n", words["more"], p.Link)
	}
	return out.String()
}

// html is the message as HTML.
func (m *message) html() (string, error) {
	var out bytes.Buffer
	err := mailPage.Execute(&out, m)
	return out.String(), err
}
