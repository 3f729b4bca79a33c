package feed

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/tomnomnom/linkheader"
	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"ironledger.example/core/evidence"
	core "ironledger.example/core/feed"
	"ironledger.example/core/mapping"
	"ironledger.example/internal/outbound"
)

// What one run takes of a partner, however much it offers.
const (
	maxRun     = 2 * time.Hour
	maxPages   = 20_000
	maxItems   = 1_000_000
	maxBytes   = 4 << 30
	maxPage    = 32 << 20 // of a page that is held to find its cursor
	maxEmpty   = 20       // pages in a row without an item
	maxTries   = 4        // of one page
	longestAsk = 2 * time.Minute
	// longestAsked is how long a partner may ask to be left alone.
	longestAsked = 24 * time.Hour
	maxBegins    = 300
)

// Limits are how long a run waits for its partner.
type Limits struct {
	Headers time.Duration // until an answer begins
	Stall   time.Duration // until more of it comes
	Again   time.Duration // before a page is asked for once more
}

// DefaultLimits are those of a service.
var DefaultLimits = Limits{Headers: 30 * time.Second, Stall: 30 * time.Second, Again: 2 * time.Second}

// The steps of a fetch, for people who set one up.
const (
	stepSignIn = "sign-in"
	stepAnswer = "answer"
	stepItems  = "items"
)

// stepError is why a fetch did not go on, and after how long the partner wants to be asked again.
type stepError struct {
	step  string
	err   error
	asked time.Duration
}

func (e *stepError) Error() string { return e.err.Error() }
func (e *stepError) Unwrap() error { return e.err }

func failed(step, format string, args ...any) error {
	return &stepError{step: step, err: fmt.Errorf(format, args...)}
}

// page is an answer of a partner, or a file.
type page struct {
	body     io.Reader
	format   evidence.Format
	seen     string // when items were observed that do not say; "" for now
	status   string
	typ      string
	tag      string // validators
	modified string
	next     string // the address of the next page, where the answer says it; "" for none
}

// fetcher fetches the pages of a feed, once.
type fetcher struct {
	settings *core.Settings
	secret   string
	limits   Limits
	client   *http.Client
	now      func() time.Time
	token    *oauth2.Token
	read     func(n int) // is told of bytes
	taken    int64       // bytes
	off      string      // how far the partner's clock is off
}

func newFetcher(s *core.Settings, secret string, policy outbound.Policy, limits Limits,
	now func() time.Time) (*fetcher, error) {
	f := &fetcher{settings: s, secret: secret, limits: limits, now: now, read: func(int) {}}
	identity := &tls.Config{}
	if s.SignIn.By == core.Certificate {
		pair, err := tls.X509KeyPair([]byte(s.SignIn.Certificate), []byte(secret))
		if err != nil {
			return nil, failed(stepSignIn, "the certificate and its key do not make a pair: %w", err)
		}
		identity.Certificates = []tls.Certificate{pair}
	}
	if s.SignIn.Trust != "" {
		identity.RootCAs = x509.NewCertPool()
		if !identity.RootCAs.AppendCertsFromPEM([]byte(s.SignIn.Trust)) {
			return nil, failed(stepSignIn, "what the partner is to be known by is no certificate in PEM")
		}
	}
	f.client = policy.Patient(limits.Headers, identity)
	return f, nil
}

func (f *fetcher) close() { f.client.CloseIdleConnections() }

// first is the address of the first page.
func (f *fetcher) first(since string) (string, error) {
	u, err := url.Parse(f.settings.URL)
	if err != nil {
		return "", err
	}
	q, p := u.Query(), &f.settings.Pages
	if since != "" {
		q.Set(f.settings.Since.Parameter, since)
	}
	if p.SizeParameter != "" {
		q.Set(p.SizeParameter, strconv.Itoa(p.Size))
	}
	if p.By == core.ByCount {
		q.Set(p.Parameter, "0")
	}
	u.RawQuery = q.Encode()
	return u.String(), nil
}

// validators are what a partner is asked with whether anything differs.
type validators struct{ tag, modified string }

// errUnchanged says that a partner has nothing new.
var errUnchanged = errors.New("nothing differs")

// each visits the pages of a run, one after another. visit returns how many items it found. The error
// is [errUnchanged], a [*stepError], or what visit returned.
func (f *fetcher) each(ctx context.Context, since string, known validators, visit func(*page) (int, error)) error {
	ctx, cancel := context.WithTimeoutCause(ctx, maxRun, fmt.Errorf("the run takes longer than %s", maxRun))
	defer cancel()
	at, err := f.first(since)
	if err != nil {
		return failed(stepAnswer, "the address: %w", err)
	}
	seen, bodies := map[string]bool{}, map[[32]byte]bool{}
	items, empty := 0, 0
	for pages := 1; ; pages++ {
		if seen[at] {
			return failed(stepItems, "the pages go round: page %d is one that came before", pages)
		}
		if seen[at] = true; pages > maxPages {
			return failed(stepItems, "there are more than %d pages", maxPages)
		}
		n, sum, next, err := f.visit(ctx, at, items, known, visit)
		if err != nil {
			return err
		}
		known = validators{}
		items += n
		if empty++; n > 0 {
			empty = 0
		}
		switch {
		case next == "":
			return nil
		case n > 0 && bodies[sum]:
			return failed(stepItems, "page %d is the same as one before: the partner does not go on", pages)
		case empty > maxEmpty:
			return failed(stepItems, "%d pages in a row have no items", empty)
		case items > maxItems:
			return failed(stepItems, "there are more than %d items", maxItems)
		}
		bodies[sum], at = true, next
	}
}

// visit fetches a page and has it visited.
func (f *fetcher) visit(ctx context.Context, at string, before int, known validators,
	visit func(*page) (int, error)) (n int, sum [32]byte, next string, err error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	answer, err := f.ask(ctx, http.MethodGet, at, nil, known)
	if err != nil {
		return 0, sum, "", err
	}
	defer answer.Body.Close()
	stalled := fmt.Errorf("nothing more came for %s", f.limits.Stall)
	timer := time.AfterFunc(f.limits.Stall, func() { cancel(stalled) })
	defer timer.Stop()
	hash := sha256.New()
	body := io.TeeReader(&watched{ctx, answer.Body, timer, f}, hash)
	p := &page{body: body, status: answer.Status, tag: answer.Header.Get("ETag"),
		modified: answer.Header.Get("Last-Modified")}
	if p.typ, p.format, err = f.formatOf(answer.Header.Get("Content-Type")); err != nil {
		return 0, sum, "", failed(stepAnswer, "%w; it begins with %s", err, beginning(body))
	}
	if f.settings.Pages.By == core.ByText {
		var text []byte
		if text, err = io.ReadAll(io.LimitReader(body, maxPage+1)); err != nil {
			return 0, sum, "", &stepError{step: stepItems, err: err}
		}
		if len(text) > maxPage {
			return 0, sum, "", failed(stepItems, "a page is larger than %d bytes", maxPage)
		}
		p.body = bytes.NewReader(text)
		if next, err = f.byText(at, text); err != nil {
			return 0, sum, "", err
		}
	}
	if f.settings.Pages.By == core.ByLink {
		if next, err = f.byLink(at, answer.Header.Values("Link")); err != nil {
			return 0, sum, "", err
		}
	}
	p.next = next
	if n, err = visit(p); err != nil {
		return n, sum, "", err
	}
	if f.settings.Pages.By == core.ByCount && n > 0 {
		// An empty page ends it: whoever gives fewer than asked for may have more.
		next = with(at, f.settings.Pages.Parameter, strconv.Itoa(before+n))
	}
	return n, [32]byte(hash.Sum(nil)), next, nil
}

// watched counts what is read of an answer, and says what broke it off.
type watched struct {
	ctx   context.Context
	from  io.Reader
	timer *time.Timer
	f     *fetcher
}

func (w *watched) Read(p []byte) (int, error) {
	n, err := w.from.Read(p)
	w.timer.Reset(w.f.limits.Stall)
	if tooMuch := w.f.took(n); tooMuch != nil {
		return n, tooMuch
	}
	if cause := context.Cause(w.ctx); err != nil && err != io.EOF && cause != nil {
		err = cause
	}
	return n, err
}

// took counts bytes of a run; the error is for more than one may have.
func (f *fetcher) took(n int) error {
	f.read(n)
	if f.taken += int64(n); f.taken > maxBytes {
		return fmt.Errorf("the partner sends more than %d bytes", int64(maxBytes))
	}
	return nil
}

// with is an address with another value of a parameter.
func with(at, parameter, text string) string {
	u, err := url.Parse(at)
	if err != nil {
		return ""
	}
	q := u.Query()
	q.Set(parameter, text)
	u.RawQuery = q.Encode()
	return u.String()
}

// byText is the next page by the cursor in an answer.
func (f *fetcher) byText(at string, body []byte) (string, error) {
	cursor, err := mapping.At(bytes.NewReader(body), f.settings.Pages.At)
	switch {
	case err != nil:
		return "", failed(stepItems, "the cursor cannot be read: %w", err)
	case cursor == "":
		return "", nil
	case f.settings.Pages.Parameter == "":
		return f.resolve(at, cursor)
	}
	return with(at, f.settings.Pages.Parameter, cursor), nil
}

// byLink is the next page by the headers Link of an answer (RFC 8288).
func (f *fetcher) byLink(at string, headers []string) (string, error) {
	for _, l := range linkheader.ParseMultiple(headers) {
		for rel := range strings.FieldsSeq(l.Rel) {
			if strings.EqualFold(rel, "next") {
				return f.resolve(at, l.URL)
			}
		}
	}
	return "", nil
}

// resolve is the address of a next page. It is with the same partner: what is sent along is for it alone.
func (f *fetcher) resolve(at, next string) (string, error) {
	base, err := url.Parse(at)
	if err != nil {
		return "", err
	}
	u, err := base.Parse(next)
	if err != nil || !core.SameOrigin(u.String(), f.settings.URL) || u.User != nil {
		return "", failed(stepItems, "the next page is said to be at %.200q, which is not with the same "+
			"partner", outbound.Plain(next))
	}
	u.Fragment = ""
	return u.String(), nil
}

// ask asks for a page, again when the partner is busy or its token has ended meanwhile.
func (f *fetcher) ask(ctx context.Context, method, at string, body []byte, known validators) (*http.Response, error) {
	for try := 1; ; try++ {
		answer, err := f.request(ctx, method, at, body, known)
		if err != nil {
			return nil, err
		}
		wait := f.limits.Again << (try - 1)
		switch {
		case answer.StatusCode == http.StatusOK:
			f.clock(answer.Header.Get("Date"))
			return answer, nil
		case answer.StatusCode == http.StatusUnauthorized && f.token != nil && try == 1:
			f.token = nil // it ended before its time
			wait = 0
		case answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode == http.StatusServiceUnavailable ||
			answer.StatusCode == http.StatusBadGateway || answer.StatusCode == http.StatusGatewayTimeout:
			asked := outbound.RetryAfter(answer.Header, f.now(), longestAsked)
			if wait = max(wait, asked); wait > longestAsk || try == maxTries {
				return nil, &stepError{stepAnswer, refusal(answer), asked}
			}
		case answer.StatusCode == http.StatusNotModified && known != (validators{}):
			answer.Body.Close()
			return nil, errUnchanged
		default:
			return nil, &stepError{step: stepAnswer, err: refusal(answer)}
		}
		answer.Body.Close()
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return nil, &stepError{step: stepAnswer, err: context.Cause(ctx)}
		}
	}
}

// refusal is an answer that is none, and closes it.
func refusal(answer *http.Response) error {
	defer answer.Body.Close()
	switch code := answer.StatusCode; {
	case code == http.StatusNotModified:
		return errors.New("the partner says that nothing differs, though it was not asked that")
	case code >= 300 && code < 400:
		return fmt.Errorf("the partner sends us on to %.200q: redirects are not followed, write the address "+
			"that it means",
			outbound.Plain(answer.Header.Get("Location")))
	case code == http.StatusUnauthorized || code == http.StatusForbidden:
		return fmt.Errorf("the partner does not let us in: %s", answer.Status)
	}
	return fmt.Errorf("the partner answers %s, which begins with %s", answer.Status, beginning(answer.Body))
}

// beginning is how an answer begins, as a quoted text.
func beginning(body io.Reader) string {
	text := make([]byte, maxBegins)
	n, _ := io.ReadFull(body, text) // what there is of it will do
	if !utf8.Valid(text[:n]) {
		text = []byte(strings.ToValidUTF8(string(text[:n]), "?"))
		n = len(text)
	}
	return strconv.Quote(strings.Join(strings.Fields(string(text[:n])), " "))
}

// clock notes how far the partner's clock is from ours.
func (f *fetcher) clock(date string) {
	const close = 2 * time.Minute
	t, err := http.ParseTime(date)
	if err != nil {
		return
	}
	switch ahead := t.Sub(f.now()).Round(time.Second); {
	case ahead > close:
		f.off = ahead.String() + " ahead of ours"
	case ahead < -close:
		f.off = (-ahead).String() + " behind ours"
	default:
		f.off = ""
	}
}

// request sends one request.
func (f *fetcher) request(ctx context.Context, method, at string, body []byte,
	known validators) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, method, at, bytes.NewReader(body))
	if err != nil {
		return nil, failed(stepAnswer, "the address: %w", err)
	}
	r.Header.Set("Accept", f.accepts())
	r.Header.Set("User-Agent", "ironledger")
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if known.tag != "" {
		r.Header.Set("If-None-Match", known.tag)
	}
	if known.modified != "" {
		r.Header.Set("If-Modified-Since", known.modified)
	}
	if err := f.signIn(ctx, r); err != nil {
		return nil, err
	}
	answer, err := f.client.Do(r)
	if err != nil {
		if cause := context.Cause(ctx); cause != nil {
			err = cause
		}
		return nil, failed(stepAnswer, "the partner cannot be reached: %w", withoutAddress(err))
	}
	return answer, nil
}

// withoutAddress is an error of a call without where it went, and what may stand in the query of that.
func withoutAddress(err error) error {
	var where *url.Error
	if errors.As(err, &where) {
		return where.Err
	}
	return err
}

func (f *fetcher) accepts() string {
	if f.settings.Kind == core.Signals {
		return "application/json"
	}
	switch evidence.Format(f.settings.Format) {
	case evidence.JSON:
		return "application/json"
	case evidence.NDJSON:
		return "application/x-ndjson"
	case evidence.CSV:
		return "text/csv"
	}
	return "application/json, application/x-ndjson, text/csv"
}

// signIn says to the partner who asks.
func (f *fetcher) signIn(ctx context.Context, r *http.Request) error {
	switch in := &f.settings.SignIn; in.By {
	case core.Bearer:
		r.Header.Set("Authorization", "Bearer "+f.secret)
	case core.Basic:
		r.Header.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(in.User+":"+f.secret)))
	case core.OAuth:
		if !f.token.Valid() {
			if err := f.newToken(ctx); err != nil {
				return err
			}
		}
		f.token.SetAuthHeader(r)
	}
	return nil
}

// newToken gets a token by the client's credentials (RFC 6749, section 4.4).
func (f *fetcher) newToken(ctx context.Context) (err error) {
	in := &f.settings.SignIn
	c := clientcredentials.Config{ClientID: in.ClientID, ClientSecret: f.secret, TokenURL: in.TokenURL,
		Scopes: in.Scopes}
	ctx, cancel := context.WithTimeout(context.WithValue(ctx, oauth2.HTTPClient, f.client), f.limits.Headers)
	defer cancel()
	f.token, err = c.Token(ctx)
	var refused *oauth2.RetrieveError
	switch {
	case errors.As(err, &refused) && refused.ErrorCode != "":
		return failed(stepSignIn, "no token is given: %s %s", refused.ErrorCode, refused.ErrorDescription)
	case errors.As(err, &refused):
		return failed(stepSignIn, "no token is given: %s", refused.Response.Status)
	case err != nil:
		return failed(stepSignIn, "no token is given: %w", withoutAddress(err))
	case !strings.EqualFold(f.token.Type(), "Bearer"):
		return failed(stepSignIn, "the token is of the type %q, and not one to bear", f.token.Type())
	}
	return nil
}

// formatOf is how an answer is written.
func (f *fetcher) formatOf(header string) (typ string, format evidence.Format, err error) {
	typ, _, err = mime.ParseMediaType(header)
	if header != "" && err != nil {
		return header, "", fmt.Errorf("%.100q is not a content type", header)
	}
	said, given := evidence.Format(""), evidence.Format(f.settings.Format)
	switch {
	case typ == "application/json" || strings.HasSuffix(typ, "+json"):
		said = evidence.JSON
	case typ == "application/x-ndjson" || typ == "application/jsonl" || typ == "application/ndjson":
		said = evidence.NDJSON
	case typ == "text/csv":
		said = evidence.CSV
	case (typ == "" || typ == "text/plain" || typ == "application/octet-stream") && given != "":
		said = given
	}
	switch {
	case said == "":
		return typ, "", fmt.Errorf("the partner answers with %s, which is none of JSON, NDJSON and CSV",
			strings.TrimSpace(typ+" "+map[bool]string{true: "nothing said of its type"}[typ == ""]))
	case given != "" && given != said:
		return typ, "", fmt.Errorf("the partner answers with %s, where %s was expected", typ, given)
	case f.settings.Pages.By == core.ByText && said != evidence.JSON:
		return typ, "", fmt.Errorf("the partner answers with %s, which has no cursor", typ)
	}
	return typ, said, nil
}

// asked is after how long a partner wants to be asked again, in microseconds.
func asked(err error) int64 {
	var step *stepError
	if errors.As(err, &step) {
		return int64(step.asked / time.Microsecond)
	}
	return 0
}
