// Package feed says where a partner's inventory is fetched, how it is read and when: what
// an administrator writes, what is wrong with it, and when a run is due.
package feed

import (
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"ironledger.example/core/evidence"
	"ironledger.example/core/mapping"
	"ironledger.example/core/value"
)

// What a feed brings.
const (
	Devices = "devices"
	People  = "people"
	Signals = "signals" // security events, polled (RFC 8936)
)

// Kinds are all of them, the default first.
var Kinds = []string{Devices, People, Signals}

// How the partner knows us.
const (
	NoSignIn    = "none"
	Bearer      = "bearer" // RFC 6750
	Basic       = "basic"  // RFC 7617
	OAuth       = "oauth2" // client credentials, RFC 6749, section 4.4
	Certificate = "certificate"
)

// SignIns are all of them, the default first.
var SignIns = []string{NoSignIn, Bearer, Basic, OAuth, Certificate}

// How the items of an answer go on.
const (
	OnePage = "none"
	ByLink  = "link"   // Link with rel=next, RFC 8288
	ByText  = "cursor" // a text in the answer
	ByCount = "offset" // how many items came before
)

// Pagings are all of them, the default first.
var Pagings = []string{OnePage, ByLink, ByText, ByCount}

// Formats are those of an answer; without one, its content type tells.
var Formats = []evidence.Format{evidence.JSON, evidence.NDJSON, evidence.CSV}

// Settings are a feed as an administrator writes it.
type Settings struct {
	ID     string `json:"id"`
	Title  string `json:"title,omitempty"`
	Kind   string `json:"kind,omitempty"`   // one of Kinds
	Source string `json:"source,omitempty"` // that its readings are from; not of people
	URL    string `json:"url,omitempty"`
	Folder string `json:"folder,omitempty"` // in place of a URL
	Format string `json:"format,omitempty"` // one of Formats
	SignIn SignIn `json:"sign_in,omitzero"`
	Pages  Pages  `json:"pages,omitzero"`
	Since  Since  `json:"since,omitzero"`
	Every  string `json:"every,omitempty"` // a duration, as 15m
	// Whole says that what a full run does not list is gone.
	Whole   bool            `json:"whole,omitempty"`
	Mapping json.RawMessage `json:"mapping,omitempty"` // as core/mapping reads it
}

// SignIn is how the partner knows us, but for the secret.
type SignIn struct {
	By       string   `json:"by,omitempty"`        // one of SignIns
	User     string   `json:"user,omitempty"`      // with basic
	ClientID string   `json:"client_id,omitempty"` // with oauth2, as the next two
	TokenURL string   `json:"token_url,omitempty"`
	Scopes   []string `json:"scopes,omitempty"`
	// Certificate is a chain in PEM, with certificate; its key is the secret.
	Certificate string `json:"certificate,omitempty"`
	// Trust are certificates in PEM by which the partner is known, in place of those of
	// the machine.
	Trust string `json:"trust,omitempty"`
}

// Pages says how the items go on over several answers.
type Pages struct {
	By string `json:"by,omitempty"` // one of Pagings
	// At is a JSON Pointer to the cursor in an answer, with cursor.
	At string `json:"at,omitempty"`
	// Parameter is that of a request which takes the cursor or the offset. Without one the
	// cursor is the address of the next page.
	Parameter string `json:"parameter,omitempty"`
	// SizeParameter takes how many items are asked for, Size.
	SizeParameter string `json:"size_parameter,omitempty"`
	Size          int    `json:"size,omitempty"`
}

// Since has a run ask for what changed alone.
type Since struct {
	Parameter string `json:"parameter,omitempty"` // of a request, takes the moment
	Form      string `json:"form,omitempty"`      // rfc3339, unix or unix-ms
	FullEvery string `json:"full_every,omitempty"`
}

// sinceForms are those of a moment, the default first.
var sinceForms = []string{"rfc3339", "unix", "unix-ms"}

// How often a feed may run, and what is assumed where it does not say.
const (
	leastEvery   = value.Minute
	leastPoll    = value.Minute / 12
	mostEvery    = 7 * value.Day
	DefaultEvery = "15m"
	DefaultFull  = "24h"
	maxText      = 2000
	maxPEM       = 64 << 10
	MaxPageSize  = 10_000
)

// idPattern is that of a feed's id.
var idPattern = regexp.MustCompile(`^[a-z0-9]([a-z0-9._-]{0,61}[a-z0-9])?$`)

// Error is what is wrong with a feed, and where.
type Error struct {
	Pointer string // RFC 6901, in the settings
	Message string
}

func (e *Error) Error() string { return strings.TrimPrefix(e.Pointer, "/") + ": " + e.Message }

func wrong(pointer, format string, args ...any) error {
	return &Error{pointer, fmt.Sprintf(format, args...)}
}

// Check fills in what the settings leave out, and finds what is wrong with them. The
// error is an [*Error].
func (s *Settings) Check() error {
	for _, d := range []struct {
		text    *string
		pointer string
		words   []string
	}{{&s.Kind, "/kind", Kinds}, {&s.SignIn.By, "/sign_in/by", SignIns}, {&s.Pages.By, "/pages/by", Pagings}} {
		if *d.text == "" {
			*d.text = d.words[0]
		}
		if !slices.Contains(d.words, *d.text) {
			return wrong(d.pointer, "%q is not one of %s", *d.text, strings.Join(d.words, ", "))
		}
	}
	if s.Every == "" {
		s.Every = DefaultEvery
	}
	for pointer, text := range map[string]string{"/title": s.Title, "/url": s.URL, "/folder": s.Folder,
		"/source":       s.Source,
		"/sign_in/user": s.SignIn.User, "/sign_in/client_id": s.SignIn.ClientID, "/sign_in/token_url": s.SignIn.TokenURL,
		"/sign_in/scopes": strings.Join(s.SignIn.Scopes, " "), "/pages/at": s.Pages.At,
		"/pages/parameter": s.Pages.Parameter} {
		if len(text) > maxText || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			return wrong(pointer, "a text in one line, of at most %d bytes", maxText)
		}
	}
	for _, check := range []func() error{s.checkName, s.checkWhere, s.checkSignIn, s.checkPages, s.checkWhen} {
		if err := check(); err != nil {
			return err
		}
	}
	return nil
}

func (s *Settings) checkName() error {
	switch {
	case !idPattern.MatchString(s.ID):
		return wrong("/id", "%q is not the id of a feed: small letters, digits, dots and dashes, as fleet-desk", s.ID)
	case s.Kind == People && s.Source != "":
		return wrong("/source", "people are of no source")
	case s.Kind != People && s.Source == "":
		return wrong("/source", "say as which source the feed speaks")
	case s.Kind == Signals && len(s.Mapping) > 0:
		return wrong("/mapping", "what events say is in the rulebook, in the signals of the source")
	}
	return nil
}

func (s *Settings) checkWhere() error {
	switch {
	case (s.URL == "") == (s.Folder == ""):
		return wrong("/url", "say where the feed is: a url, or a folder")
	case s.Folder != "" && !strings.HasPrefix(s.Folder, "/"):
		return wrong("/folder", "a folder is said from the top, as /srv/inventory")
	case s.Folder != "" && (s.Kind != Devices && s.Kind != People || s.SignIn.By != NoSignIn || s.Pages.By != OnePage ||
		s.Since.Parameter != ""):
		return wrong("/folder", "a folder has no sign-in, no pages and no moment")
	case s.Format != "" && !slices.Contains(Formats, evidence.Format(s.Format)):
		return wrong("/format", "%q is not json, ndjson or csv", s.Format)
	case s.Kind == Signals && (s.Format != "" || s.Pages.By != OnePage || s.Whole || s.Since.Parameter != ""):
		return wrong("/kind", "events that are polled have no format, pages, moment, and are not whole")
	}
	return nil
}

func (s *Settings) checkSignIn() error {
	in := &s.SignIn
	given := map[string]bool{"/sign_in/user": in.User != "", "/sign_in/client_id": in.ClientID != "",
		"/sign_in/token_url": in.TokenURL != "", "/sign_in/scopes": len(in.Scopes) > 0,
		"/sign_in/certificate": in.Certificate != ""}
	takes := map[string][]string{Basic: {"/sign_in/user"}, Certificate: {"/sign_in/certificate"},
		OAuth: {"/sign_in/client_id", "/sign_in/token_url", "/sign_in/scopes"}}[in.By]
	for pointer, is := range given {
		if is && !slices.Contains(takes, pointer) {
			return wrong(pointer, "it goes with another sign-in than %s", in.By)
		}
		if !is && slices.Contains(takes, pointer) && pointer != "/sign_in/scopes" {
			return wrong(pointer, "the sign-in %s needs it", in.By)
		}
	}
	if strings.Contains(in.User, ":") {
		return wrong("/sign_in/user", "a user has no colon (RFC 7617)")
	}
	if len(in.Certificate) > maxPEM || len(in.Trust) > maxPEM {
		return wrong("/sign_in", "a PEM is longer than %d bytes", maxPEM)
	}
	return nil
}

func (s *Settings) checkPages() error {
	p := &s.Pages
	if p.By == ByText {
		if err := mapping.CheckPointer(p.At); err != nil {
			return wrong("/pages/at", "%s", err)
		}
	}
	switch {
	case p.By != ByText && p.At != "":
		return wrong("/pages/at", "it goes with pages by cursor")
	case p.By == ByCount && p.Parameter == "":
		return wrong("/pages/parameter", "say which parameter takes the offset")
	case p.By != ByText && p.By != ByCount && p.Parameter != "":
		return wrong("/pages/parameter", "it goes with pages by cursor or by offset")
	case p.By == ByText && s.Format != "" && s.Format != string(evidence.JSON):
		return wrong("/pages/by", "a cursor stands in JSON")
	case p.By == OnePage && p.SizeParameter != "" || (p.SizeParameter == "") != (p.Size == 0):
		return wrong("/pages/size_parameter", "a size and its parameter go together, with pages")
	case p.Size < 0 || p.Size > MaxPageSize:
		return wrong("/pages/size", "a page has at most %d items", MaxPageSize)
	}
	return nil
}

func (s *Settings) checkWhen() error {
	every, err := value.ParseDuration(s.Every)
	least := leastEvery
	if s.Kind == Signals { // what happened is to be known soon
		least = leastPoll
	}
	if err != nil || every.Num() < least || every.Num() > mostEvery {
		return wrong("/every", "%q is not a duration between %s and 7d", s.Every, value.FormatDuration(least))
	}
	n := &s.Since
	if n.Parameter == "" {
		if n.Form != "" || n.FullEvery != "" {
			return wrong("/since/parameter", "say which parameter takes the moment")
		}
		return nil
	}
	if s.Kind == People {
		return wrong("/since", "people are fetched whole")
	}
	if n.Form == "" {
		n.Form = sinceForms[0]
	}
	if n.FullEvery == "" {
		n.FullEvery = DefaultFull
	}
	if !slices.Contains(sinceForms, n.Form) {
		return wrong("/since/form", "%q is not one of %s", n.Form, strings.Join(sinceForms, ", "))
	}
	if full, err := value.ParseDuration(n.FullEvery); err != nil || full.Num() < every.Num() || full.Num() > mostEvery {
		return wrong("/since/full_every", "%q is not a duration between that of every and 7d", n.FullEvery)
	}
	return nil
}

// NeedsSecret reports whether the sign-in has a secret.
func (s *Settings) NeedsSecret() bool { return s.SignIn.By != NoSignIn }

// Sends reports whether the secret of other settings would go elsewhere by these, or in
// another way: it must be given again then.
func (s *Settings) Sends(o *Settings) bool {
	return s.SignIn.By != o.SignIn.By || origin(s.URL) != origin(o.URL) || s.SignIn.TokenURL != o.SignIn.TokenURL ||
		s.SignIn.User != o.SignIn.User || s.SignIn.ClientID != o.SignIn.ClientID ||
		s.SignIn.Certificate != o.SignIn.Certificate ||
		s.SignIn.Trust != o.SignIn.Trust
}

// origin is the scheme, the host and the port of a URL (RFC 6454).
func origin(text string) string {
	u, err := url.Parse(text)
	if err != nil {
		return text
	}
	return strings.ToLower(u.Scheme + "://" + u.Host)
}

// SameOrigin reports whether two URLs have one origin.
func SameOrigin(a, b string) bool { return origin(a) == origin(b) }

// Map is the mapping, for the attributes of a dictionary. The error is an [*Error].
func (s *Settings) Map(dict *evidence.Dictionary) (*mapping.Mapping, error) {
	if s.Kind == Signals {
		return nil, nil
	}
	m, err := mapping.Load(string(s.Mapping), dict)
	switch {
	case err != nil:
		return nil, wrong("/mapping", "%s", err)
	case m.OfPeople() != (s.Kind == People):
		return nil, wrong("/mapping", "a feed of %s has a mapping of them", s.Kind)
	case m.Source() != "" && m.Source() != s.Source:
		return nil, wrong("/mapping", "it says the source %s, and the feed speaks as %s", m.Source(), s.Source)
	case m.Nested() && s.Format != "" && s.Format != string(evidence.JSON):
		return nil, wrong("/mapping", "items within a document are JSON")
	}
	return m, nil
}
