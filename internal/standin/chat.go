package standin

import (
	"cmp"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	cloud "github.com/cloudevents/sdk-go/v2"
	webhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// Chat stands in for a room of a chat system that has a web hook: it takes CloudEvents
// 1.0, checks that they are signed as Standard Webhooks say, and shows them.
type Chat struct {
	mu     sync.Mutex
	signer *webhooks.Webhook
	closed bool // whether the room refuses what comes
	told   []line
	ids    map[string]bool
}

// line is an event as the room shows it.
type line struct {
	At                      time.Time
	About, Person, From, To string
	Lost                    []string
	Why, Link, Text         string
}

// NewChat is a room without a secret: nothing is taken before [Chat.Secret].
func NewChat() *Chat { return &Chat{ids: map[string]bool{}} }

// Secret is what events must be signed with.
func (c *Chat) Secret(secret string) error {
	w, err := webhooks.NewWebhook(secret)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.signer = w
	return nil
}

// told is the data of an event.
type told struct {
	Subject struct {
		User *name `json:"user"`
	} `json:"sub_id"`
	Event struct {
		Previous string            `json:"previous_level"`
		Current  string            `json:"current_level"`
		Lost     []string          `json:"lost"`
		Subject  string            `json:"subject"` // of a notice
		Reason   map[string]string `json:"reason_admin"`
	} `json:"event"`
	Link string `json:"link"`
}

// ServeHTTP takes events, and shows the room.
func (c *Chat) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.URL.Path == "/hook" && r.Method == http.MethodPost:
		c.take(w, r)
	case r.URL.Path == "/door" && r.Method == http.MethodPost:
		c.mu.Lock()
		c.closed = !c.closed
		c.mu.Unlock()
		http.Redirect(w, r, "/", http.StatusSeeOther)
	case r.URL.Path == "/":
		c.page(w)
	default:
		http.NotFound(w, r)
	}
}

func (c *Chat) take(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<16))
	if err != nil {
		http.Error(w, err.Error(), http.StatusRequestEntityTooLarge)
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.signer == nil || c.signer.Verify(body, r.Header) != nil {
		http.Error(w, "the signature is not that of our secret", http.StatusUnauthorized)
		return
	}
	if c.closed {
		http.Error(w, "the room is closed", http.StatusForbidden)
		return
	}
	ev := cloud.NewEvent()
	if err := ev.UnmarshalJSON(body); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	var says told
	if err := ev.DataAs(&says); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	w.WriteHeader(http.StatusNoContent)
	if c.ids[ev.ID()] { // it came before
		return
	}
	c.ids[ev.ID()] = true
	l := line{At: time.Now(), About: ev.Subject(), From: says.Event.Previous, To: says.Event.Current,
		Lost: says.Event.Lost, Why: says.Event.Reason["en"], Link: says.Link}
	if says.Subject.User != nil {
		l.Person = says.Subject.User.Email
	}
	if l.To == "" {
		l.Text = cmp.Or(says.Event.Subject, ev.Type())
	}
	c.told = slices.Insert(c.told, 0, l)
	c.told = c.told[:min(len(c.told), maxHeard)]
}

var chatPage = template.Must(template.New("chat").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<meta http-equiv="refresh" content="1"><title>The watch room, a stand-in</title>
<style>body{font:15px/1.5 sans-serif;margin:2rem;max-width:60rem;color:#222}li{margin:0 0 1rem;list-style:none}ul{padding:0}
time{color:#666;font-variant-numeric:tabular-nums;margin-right:.6rem}</style>
<h1>The watch room</h1><p>A stand-in for a room of a chat system. It is told by a web hook: CloudEvents, signed as Standard
Webhooks say.</p><form method="post" action="/door"><button>{{if .Closed}}Open the room{{else}}Close the room{{end}}</button>
{{if .Closed}} What comes is refused; it waits as a dead letter.{{end}}</form>
{{if .Told}}<ul>{{range .Told}}<li><time>{{.At.Format "15:04:05"}}</time>{{if .Text}}{{.Text}}{{else}}<strong>{{.About}}</strong>
{{with .Person}}of {{.}} {{end}}went from {{.From}} to <strong>{{.To}}</strong>. {{.Why}}
{{if .Lost}}<br>Out of reach: {{range $i, $x := .Lost}}{{if $i}}, {{end}}{{$x}}{{end}}.{{end}}
{{with .Link}}<br><a href="{{.}}">{{.}}</a>{{end}}{{end}}</li>{{end}}</ul>{{else}}<p>It is quiet.</p>{{end}}</html>`))

// Last is what the room was told last, in a line; "" for nothing yet.
func (c *Chat) Last() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.told) == 0 {
		return ""
	}
	l := c.told[0]
	if l.Text != "" {
		return l.Text
	}
	return fmt.Sprintf("%s went from %s to %s; out of reach: %s", l.About, l.From, l.To, strings.Join(l.Lost, ", "))
}

func (c *Chat) page(w http.ResponseWriter) {
	c.mu.Lock()
	defer c.mu.Unlock()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = chatPage.Execute(w, struct {
		Told   []line
		Closed bool
	}{c.told, c.closed})
}
