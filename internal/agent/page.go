package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"ironledger.example/internal/person"
)

// Page tells whoever sits at the device how it stands. It is for the machine's own loopback address alone, and shows
// nothing that a person of the device may not know.
type Page struct {
	Folder *Folder
	// Again looks at the device and reports.
	Again func(context.Context) error
	Fonts fs.FS // serif.woff2 and sans.woff2; nil for those of the machine

	origin http.CrossOriginProtection
	mu     sync.Mutex
	last   time.Time
}

// rest is how long nobody can ask for another look.
const rest = 2 * time.Second

// The paths of the page.
const (
	PagePath  = "/me/device"
	againPath = PagePath + "/again"
)

// Handler serves the page.
func (p *Page) Handler() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET "+PagePath, p.show)
	m.HandleFunc("POST "+againPath, p.again)
	m.HandleFunc("GET /me/style.css", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/css; charset=utf-8")
		_, _ = w.Write(person.Style) // whoever asked has gone
	})
	m.HandleFunc("GET /me/{font}", func(w http.ResponseWriter, r *http.Request) {
		if name := r.PathValue("font"); p.Fonts != nil && strings.HasSuffix(name, ".woff2") {
			http.ServeFileFS(w, r, p.Fonts, name)
			return
		}
		http.NotFound(w, r)
	})
	m.Handle("GET /{$}", http.RedirectHandler(PagePath, http.StatusFound))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !loopback(r.Host) { // a name of somebody else's that leads here
			http.Error(w, "this page is for this machine alone", http.StatusMisdirectedRequest)
			return
		}
		m.ServeHTTP(w, r)
	})
}

// loopback reports whether a Host is this machine's loopback address.
func loopback(host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func (p *Page) show(w http.ResponseWriter, r *http.Request) {
	words := person.Words(r.Header.Get("Accept-Language"))
	s, err := p.Folder.Status()
	page := &person.Page{W: words, Title: words["myDevice"], NoObstacle: true}
	if err != nil {
		page.Why = err.Error()
		if err := page.Write(w, http.StatusOK); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
		return
	}
	fill(page, s, time.Now())
	page.Checked = r.URL.Query().Has("checked")
	if p.Again != nil {
		page.Again = againPath
	}
	if err := page.Write(w, http.StatusOK); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
	}
}

// fill tells of a device what its agent knows.
func fill(page *person.Page, s *Status, now time.Time) {
	w := page.W
	name := s.Device
	if o := s.Standing; o != nil {
		name = strings.TrimSpace(o.Name + " (" + o.Device + ")")
		page.Level = o.Level
		for i := range o.Top {
			page.Mark = append(page.Mark, i < o.Rank)
		}
		page.Why = w["fine"]
		for i := range o.Checks {
			c := &o.Checks[i]
			page.Checks = append(page.Checks, person.CheckOf(w, c.Title, c.Verdict, c.Until))
			if !c.Mend {
				continue
			}
			page.Why, page.NoObstacle = "", false
			out := person.Obstacle{Title: c.Title, Steps: c.Steps}
			if c.Verdict == "grace" && c.Until != "" {
				out.Until = w["grace"] + " " + person.Moment(c.Until)
			}
			for _, x := range c.Seen {
				out.Seen = append(out.Seen, seen(w, x.Observed, x.At, now))
			}
			page.Obstacles = append(page.Obstacles, out)
		}
	}
	page.Facts = [][2]string{{w["device"], name}}
	if o := s.Standing; o != nil {
		if at, err := time.Parse(time.RFC3339, o.At); err == nil {
			page.Facts = append(page.Facts, [2]string{w["last"], person.Ago(w, now.Sub(at).Microseconds())})
			if s.Trouble != "" {
				page.Notes = append(page.Notes, fmt.Sprintf("%s %s. %s", w["offline"], person.Ago(w,
					now.Sub(at).Microseconds()), w["waits"]))
			}
		}
	}
	if s.Trouble != "" {
		page.Notes = append(page.Notes, s.Trouble)
	}
	if s.Until != nil {
		page.Facts = append(page.Facts, [2]string{w["certificateEnds"], person.Moment(s.Until.Format(time.RFC3339))})
	}
	if s.NotNew != "" {
		page.Notes = append(page.Notes, s.NotNew)
	}
	if s.ChecksNo != "" {
		page.Notes = append(page.Notes, s.ChecksNo)
	}
	var failed []string
	for _, c := range s.Checks {
		if c.Failed != "" {
			failed = append(failed, c.Name+" ("+c.Failed+")")
		}
	}
	if len(failed) > 0 {
		page.Notes = append(page.Notes, w["checksFail"]+": "+strings.Join(failed, ", "))
	}
}

func seen(w map[string]string, observed, at string, now time.Time) string {
	text := w["notSeen"]
	if t, err := time.Parse(time.RFC3339, at); err == nil {
		text = w["seen"] + " " + person.Ago(w, now.Sub(t).Microseconds())
	}
	if observed != "" && len(observed) <= 60 {
		text = observed + ", " + text
	}
	return text
}

// again has another look, and shows the page again.
func (p *Page) again(w http.ResponseWriter, r *http.Request) {
	if err := p.origin.Check(r); err != nil {
		http.Error(w, "the request comes from another site", http.StatusForbidden)
		return
	}
	if p.Again == nil {
		http.Error(w, "nobody who may look at this device serves this page", http.StatusForbidden)
		return
	}
	p.mu.Lock()
	soon := time.Since(p.last) < rest
	if !soon {
		p.last = time.Now()
	}
	p.mu.Unlock()
	if !soon {
		var answer *AnswerError
		// What went wrong with the service is on the page.
		if err := p.Again(r.Context()); err != nil && !errors.As(err, &answer) && errors.Is(err, fs.ErrPermission) {
			http.Error(w, "the agent's folder may be read and written by its own user alone: "+err.Error(),
				http.StatusForbidden)
			return
		}
	}
	http.Redirect(w, r, PagePath+"?checked", http.StatusSeeOther)
}
