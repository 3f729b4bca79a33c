package standin

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"html/template"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"
)

// Machine is a device as the fleet desk has it, in words of its own.
type Machine struct {
	Ref      string `json:"ref"`
	Hardware struct {
		Serial string `json:"serial"`
		Kind   string `json:"kind"`
	} `json:"hardware"`
	System struct {
		Family  string `json:"family"` // Pad, Pocket, Droid, Desk
		Version string `json:"version"`
	} `json:"system"`
	Disk    string `json:"disk"`  // sealed or open
	Trust   string `json:"trust"` // good or doubtful
	Contact int64  `json:"lastContact"`
	Code    int    `json:"codeLength,omitempty"`
}

// Desk stands in for a management system of a partner: it gives tokens for a client's credentials
// (RFC 6749, section 4.4), lists machines in pages with a cursor, and has a page on which machines can be
// broken, mended, lost and found.
type Desk struct {
	id, secret string

	mu       sync.Mutex
	machines []Machine
	lost     map[string]bool // by ref: those that it lists no longer
	tokens   map[string]time.Time
	closed   bool
	asked    int // how often machines were listed
}

// NewDesk is a desk with machines, and one client.
func NewDesk(client string, machines []Machine) *Desk {
	return &Desk{id: client, secret: rand.Text(), machines: machines, lost: map[string]bool{},
		tokens: map[string]time.Time{}}
}

// Secret is that of the client.
func (d *Desk) Secret() string { return d.secret }

const (
	deskScope   = "machines.read"
	tokenLives  = 5 * time.Minute
	contactAgo  = 20 * time.Second
	mostOfAPage = 500
)

// ServeHTTP gives tokens, lists machines and shows the page.
func (d *Desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch r.Method + " " + r.URL.Path {
	case "POST /token":
		d.token(w, r)
	case "GET /v1/machines":
		d.list(w, r)
	case "POST /turn":
		d.turn(r.FormValue("ref"), r.FormValue("to"))
		http.Redirect(w, r, "/", http.StatusSeeOther)
	case "POST /door":
		d.closed = !d.closed
		http.Redirect(w, r, "/", http.StatusSeeOther)
	case "POST /forget":
		clear(d.tokens)
		http.Redirect(w, r, "/", http.StatusSeeOther)
	case "GET /":
		d.page(w)
	default:
		http.NotFound(w, r)
	}
}

func (d *Desk) token(w http.ResponseWriter, r *http.Request) {
	id, secret, basic := r.BasicAuth()
	if !basic {
		id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	refuse := func(code int, what string) { answer(w, code, map[string]string{"error": what}) }
	switch {
	case d.closed:
		http.Error(w, "the desk is closed", http.StatusServiceUnavailable)
	case id != d.id || subtle.ConstantTimeCompare([]byte(secret), []byte(d.secret)) != 1:
		refuse(http.StatusUnauthorized, "invalid_client")
	case r.FormValue("grant_type") != "client_credentials":
		refuse(http.StatusBadRequest, "unsupported_grant_type")
	case r.FormValue("scope") != deskScope:
		refuse(http.StatusBadRequest, "invalid_scope")
	default:
		token := rand.Text()
		d.tokens[token] = time.Now().Add(tokenLives)
		answer(w, http.StatusOK, map[string]any{"access_token": token, "token_type": "Bearer", "scope": deskScope,
			"expires_in": int(tokenLives.Seconds())})
	}
}

func answer(w http.ResponseWriter, code int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(v) // who has left needs no answer
}

func (d *Desk) list(w http.ResponseWriter, r *http.Request) {
	const scheme = "Bearer "
	h := r.Header.Get("Authorization")
	if d.closed {
		w.Header().Set("Retry-After", "5")
		http.Error(w, "the desk is closed", http.StatusServiceUnavailable)
		return
	}
	if len(h) <= len(scheme) || time.Now().After(d.tokens[h[len(scheme):]]) {
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
		answer(w, http.StatusUnauthorized, map[string]string{"error": "invalid_token"})
		return
	}
	d.asked++
	listed := slices.DeleteFunc(slices.Clone(d.machines), func(m Machine) bool { return d.lost[m.Ref] })
	size, err := strconv.Atoi(r.FormValue("limit"))
	if err != nil || size < 1 || size > mostOfAPage {
		size = 20
	}
	begin := 0
	if after := r.FormValue("after"); after != "" {
		begin = 1 + slices.IndexFunc(listed, func(m Machine) bool { return m.Ref == after })
	}
	part := listed[begin:min(begin+size, len(listed))]
	var out struct {
		Machines []Machine `json:"machines"`
		Paging   struct {
			After *string `json:"after"`
		} `json:"paging"`
	}
	out.Machines = []Machine{}
	for _, m := range part {
		m.Contact = time.Now().Add(-contactAgo).Unix()
		out.Machines = append(out.Machines, m)
	}
	if begin+size < len(listed) {
		out.Paging.After = &part[len(part)-1].Ref
	}
	answer(w, http.StatusOK, out)
}

// turn has a machine become another.
func (d *Desk) turn(ref, to string) {
	for i := range d.machines {
		m := &d.machines[i]
		if m.Ref != ref {
			continue
		}
		switch to {
		case "sealed", "open":
			m.Disk = to
		case "good", "doubtful":
			m.Trust = to
		case "lost":
			d.lost[ref] = true
		case "found":
			delete(d.lost, ref)
		}
	}
}

// Turn has a machine, by its serial, become another: its disk sealed or open, its trust good or
// doubtful, or itself lost or found.
func (d *Desk) Turn(serial, to string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, m := range d.machines {
		if m.Hardware.Serial == serial {
			d.turn(m.Ref, to)
		}
	}
}

var deskPage = template.Must(template.New("desk").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<title>The phone desk, a stand-in</title>
<style>body{font:15px/1.5 sans-serif;margin:2rem;max-width:64rem;color:#222}table{border-collapse:collapse}
td,th{text-align:left;padding:.15rem .8rem .15rem 0;border-bottom:1px solid #ddd}form{display:inline}.bad{color:#a33}</style>
<h1>The phone desk</h1><p>A stand-in for a partner that manages phones and tablets. It gives tokens (OAuth 2.0) and lists its
machines in pages, in words of its own. It was asked {{.Asked}} times.</p>
<p><form method="post" action="/door"><button>{{if .Closed}}Open the desk{{else}}Close the desk{{end}}</button></form>
<form method="post" action="/forget"><button>End all tokens</button></form></p>
<table><tr><th>Ref<th>Serial<th>System<th>Disk<th>Trust<th></tr>
{{range .Machines}}<tr><td>{{.Ref}}<td>{{.Hardware.Serial}}<td>{{.System.Family}} {{.System.Version}}
<td{{if eq .Disk "open"}} class="bad"{{end}}>{{.Disk}}<td{{if eq .Trust "doubtful"}} class="bad"{{end}}>{{.Trust}}<td>
{{if index $.Lost .Ref}}<form method="post" action="/turn"><input type="hidden" name="ref" value="{{.Ref}}"><button name="to" value="found">Find it again</button></form>
{{else}}<form method="post" action="/turn"><input type="hidden" name="ref" value="{{.Ref}}">
{{if eq .Disk "sealed"}}<button name="to" value="open">Open its disk</button>{{else}}<button name="to" value="sealed">Seal its disk</button>{{end}}
{{if eq .Trust "good"}}<button name="to" value="doubtful">Doubt it</button>{{else}}<button name="to" value="good">Trust it</button>{{end}}
<button name="to" value="lost">Lose it</button></form>{{end}}</tr>{{end}}</table></html>`))

func (d *Desk) page(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = deskPage.Execute(w, struct {
		Machines []Machine
		Lost     map[string]bool
		Closed   bool
		Asked    int
	}{d.machines, d.lost, d.closed, d.asked})
}
