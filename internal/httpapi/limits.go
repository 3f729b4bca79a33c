package httpapi

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"
)

// What one caller may take of the service, so that it cannot use up another's.
const (
	// A request must have come in so long, one that is long (see paced) at least so
	// fast after the same while; and each part of an answer be read in so long, or the
	// whole of one that is not paced, counted from its request.
	wholeRequest = 20 * time.Second
	slowest      = 8 << 10 // bytes a second
	unread       = 30 * time.Second
	onePart      = 32 << 10 // bytes

	// Guesses of tokens and of tickets, by address.
	guessRate  = 5 // a second
	guessBurst = 200

	// Looks at one refusal again, and requests of one person to enrol.
	againRate  = 0.5 // a second
	againBurst = 5

	// Streams of evidence that one token may have open, and exports.
	maxStreams = 4
	maxExports = 2

	// Looks that take computing which one token may have under way. More wait for
	// these, so many and so long.
	maxLooks    = 4
	maxWaiting  = 32
	longestWait = 15 * time.Second
)

// limiters are budgets by who uses them. The least used are forgotten when there
// are many.
type limiters struct {
	rate  rate.Limit
	burst int

	mu   sync.Mutex
	of   map[string]*limiter
	told time.Time // when a use beyond a budget was logged last
	lost int       // how many were not logged since
}

type limiter struct {
	*rate.Limiter
	used time.Time
}

// maxLimiters bounds how many budgets are remembered.
const maxLimiters = 20_000

func newLimiters(perSecond float64, burst int) *limiters {
	return &limiters{rate: rate.Limit(perSecond), burst: burst, of: map[string]*limiter{}}
}

// allow takes one from somebody's budget; false when it is used up.
func (l *limiters) allow(who string, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	x := l.of[who]
	if x == nil {
		if len(l.of) >= maxLimiters {
			l.forget(now)
		}
		x = &limiter{Limiter: rate.NewLimiter(l.rate, l.burst)}
		l.of[who] = x
	}
	x.used = now
	return x.AllowN(now, 1)
}

// forget drops budgets that are full again, and if need be all: whoever fills
// the table gains a burst by it and no more.
func (l *limiters) forget(now time.Time) {
	full := time.Duration(float64(l.burst)/float64(l.rate)) * time.Second
	for who, x := range l.of {
		if now.Sub(x.used) > full {
			delete(l.of, who)
		}
	}
	if len(l.of) >= maxLimiters {
		clear(l.of)
	}
}

// telling reports whether a use beyond a budget is to be logged, and how many were
// not since the last: one a second is enough.
func (l *limiters) telling(now time.Time) (more int, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if now.Sub(l.told) < time.Second {
		l.lost++
		return 0, false
	}
	more, l.lost, l.told = l.lost, 0, now
	return more, true
}

// slots are how many of something each token has open.
type slots struct {
	most int
	mu   sync.Mutex
	open map[string]int
}

// take opens one; false when the token has as many as it may.
func (s *slots) take(who string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open[who] >= s.most {
		return false
	}
	if s.open == nil {
		s.open = map[string]int{}
	}
	s.open[who]++
	return true
}

func (s *slots) give(who string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open[who]--; s.open[who] <= 0 {
		delete(s.open, who)
	}
}

// looks are computations under way, by token: one caller's leave room for others.
type looks struct {
	mu sync.Mutex
	of map[string]*queue // as many as there are tokens
}

type queue struct {
	*semaphore.Weighted
	waiting atomic.Int64
}

// wait waits until the token may have one more under way, which ends with the
// request. It returns false when too many wait, or this one for too long.
func (l *looks) wait(ctx context.Context, who string) bool {
	l.mu.Lock()
	q := l.of[who]
	if q == nil {
		if l.of == nil {
			l.of = map[string]*queue{}
		}
		q = &queue{Weighted: semaphore.NewWeighted(maxLooks)}
		l.of[who] = q
	}
	l.mu.Unlock()
	if !q.TryAcquire(1) {
		defer q.waiting.Add(-1)
		if q.waiting.Add(1) > maxWaiting {
			return false
		}
		patient, cancel := context.WithTimeout(ctx, longestWait)
		defer cancel()
		if q.Acquire(patient, 1) != nil {
			return false
		}
	}
	context.AfterFunc(ctx, func() { q.Release(1) })
	return true
}

// computing are the operations whose cost grows with the fleet, the directory or
// the ledger.
var computing = map[string]bool{
	"GET /api/v1/devices": true, "GET /api/v1/overview": true, "GET /api/v1/shadow": true,
	"GET /api/v1/certificates": true, "GET /api/v1/sources": true,
	"GET /api/v1/people": true, "GET /api/v1/decisions": true, "GET /api/v1/decision-counts": true,
	"GET /api/v1/decisions/:id/replay": true, "GET /api/v1/devices/:id/then": true,
	"GET /api/v1/coverage": true, "GET /api/v1/gates": true, "GET /api/v1/ledger/entries": true,
	"GET /api/v1/ledger/standings": true, "POST /api/v1/ledger/verification": true,
	"POST /api/v1/reach/people": true, "POST /api/v1/reach/resources": true, "POST /api/v1/ask/under": true,
	"POST /api/v1/people": true, "POST /api/v1/roster": true,
	"POST /api/v1/rulebooks": true, "POST /api/v1/rulebooks/check": true,
	"POST /api/v1/rulebooks/compare": true, "POST /api/v1/rulebooks/rehearse": true,
	"POST /api/v1/rulebooks/rehearse/:id": true, "POST /api/v1/rulebooks/replay": true,
	"POST /access/v1/search/subject": true, "POST /access/v1/search/resource": true,
	"POST /access/v1/search/action": true,
}

// exporting opens an export for the caller's token, and answers when it has too
// many open.
func (s *Server) exporting(c *gin.Context) bool {
	if s.exports.take(actor(c).ID) {
		return true
	}
	s.tooMany(c, fmt.Sprintf("the token has %d exports open already", maxExports))
	return false
}

// address is who calls, as far as the connection tells: of IPv6 the network that
// one household or server has.
func address(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	a, err := netip.ParseAddr(host)
	if err != nil {
		return host
	}
	if a = a.Unmap().WithZone(""); a.Is4() {
		return a.String()
	}
	p, err := a.Prefix(64)
	if err != nil {
		return host
	}
	return p.String()
}

// guessed notes a secret that was none. It reports false, and has answered, when
// the address has guessed too often; a secret that is right always counts, since
// none can be guessed.
func (s *Server) guessed(c *gin.Context, what string) bool {
	now, from := time.Now(), address(c.Request)
	if s.guesses.allow(from, now) {
		s.log.Info("a "+what+" that is not valid", "from", from, "path", c.Request.URL.Path)
		return true
	}
	if more, ok := s.guesses.telling(now); ok {
		s.log.Warn("too many guesses of a "+what, "from", from, "more", more)
	}
	s.tooMany(c, "too many attempts came from this address; try again in a while")
	return false
}

// tooMany answers that a budget is used up.
func (s *Server) tooMany(c *gin.Context, message string) {
	c.Header("Retry-After", "5")
	s.fail(c, newProblem(http.StatusTooManyRequests, "%s", message))
}

// long are the operations whose requests or answers can take long.
var long = map[string]bool{
	"POST /api/v1/evidence": true, "POST /api/v1/people": true, "POST /api/v1/roster": true,
	"GET /api/v1/devices": true, "GET /api/v1/decisions": true,
	"GET /api/v1/ledger/export": true, "GET /api/v1/ledger/standings": true,
	"GET /api/v1/ledger/growth": true, "POST /api/v1/ledger/verification": true,
	"GET /api/v1/changes": true, "POST /api/v1/rulebooks": true, "POST /api/v1/rulebooks/replay": true,
	"POST /api/v1/rulebooks/rehearse": true,
}

// paced lets what is long take its time, and gives up on bodies that hardly come
// and on answers that nobody reads. What machines ask all the time is short: the
// server's own limits do.
func paced(c *gin.Context) {
	if path := c.Request.URL.Path; strings.HasPrefix(path, "/access/") || path == "/forward-auth" {
		return
	}
	control := http.NewResponseController(c.Writer)
	c.Writer = &pacedWriter{ResponseWriter: c.Writer, control: control}
	if c.Request.Body != nil && c.Request.Body != http.NoBody && long[c.Request.Method+" "+c.FullPath()] {
		c.Request.Body = &pacedBody{ReadCloser: c.Request.Body, control: control, start: time.Now()}
	}
}

// pacedBody sets a deadline before each read.
type pacedBody struct {
	io.ReadCloser
	control *http.ResponseController
	start   time.Time
	read    int64
}

func (b *pacedBody) Read(p []byte) (int, error) {
	// A connection without deadlines, as in tests, is read without.
	_ = b.control.SetReadDeadline(b.start.Add(wholeRequest + time.Duration(b.read)*time.Second/slowest))
	n, err := b.ReadCloser.Read(p)
	if b.read += int64(n); err == io.EOF {
		_ = b.control.SetReadDeadline(time.Time{}) // the next request has a time of its own
	}
	return n, err
}

// pacedWriter sets a deadline before each write.
type pacedWriter struct {
	gin.ResponseWriter
	control *http.ResponseController
}

// Unwrap lets a [http.ResponseController] find the connection.
func (w *pacedWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

func (w *pacedWriter) Write(p []byte) (written int, err error) {
	return inParts(w, p, w.ResponseWriter.Write)
}

func (w *pacedWriter) WriteString(text string) (int, error) {
	return inParts(w, text, w.ResponseWriter.WriteString)
}

// inParts writes something with a new deadline for each part of it.
func inParts[T string | []byte](w *pacedWriter, all T, write func(T) (int, error)) (written int, err error) {
	for {
		_ = w.control.SetWriteDeadline(time.Now().Add(unread))
		n, err := write(all[written:min(len(all), written+onePart)])
		if written += n; err != nil || written >= len(all) {
			return written, err
		}
	}
}

func (w *pacedWriter) Flush() {
	_ = w.control.SetWriteDeadline(time.Now().Add(unread))
	w.ResponseWriter.Flush()
}
