// Package edge is what every request passes: what one caller may take, how long it may
// take, the bodies that come in, and the problems that go out (RFC 9457).
package edge

import (
	"context"
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
	// A request must have come in so long, one that is long (see Paced) at least so
	// fast after the same while; and each part of an answer be read in so long, or the
	// whole of one that is not paced, counted from its request.
	WholeRequest = 20 * time.Second
	slowest      = 8 << 10 // bytes a second
	Unread       = 30 * time.Second
	OnePart      = 32 << 10 // bytes

	// Guesses of tokens and of tickets, by address.
	GuessRate  = 5 // a second
	GuessBurst = 200

	// Looks at one refusal again, and requests of one person to enrol.
	AgainRate  = 0.5 // a second
	AgainBurst = 5

	// Streams of evidence that one token may have open, and exports.
	MaxStreams = 4
	MaxExports = 2

	// Security events of partners that one address may have under way.
	MaxTaking = 64

	// Polls for events that one receiver may have open, and changes to its streams.
	MaxPolls    = 8
	ChangeRate  = 5 // a second
	ChangeBurst = 500

	// Looks that take computing which one token may have under way. More wait for
	// these, so many and so long.
	MaxLooks    = 4
	MaxWaiting  = 32
	LongestWait = 15 * time.Second
)

// Budgets are budgets by who uses them. The least used are forgotten when there
// are many.
type Budgets struct {
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

// NewBudgets are budgets of so many a second, and so many at once.
func NewBudgets(perSecond float64, burst int) *Budgets {
	return &Budgets{rate: rate.Limit(perSecond), burst: burst, of: map[string]*limiter{}}
}

// Allow takes one from somebody's budget; false when it is used up.
func (l *Budgets) Allow(who string, now time.Time) bool {
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
func (l *Budgets) forget(now time.Time) {
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

// Telling reports whether a use beyond a budget is to be logged, and how many were
// not since the last: one a second is enough.
func (l *Budgets) Telling(now time.Time) (more int, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if now.Sub(l.told) < time.Second {
		l.lost++
		return 0, false
	}
	more, l.lost, l.told = l.lost, 0, now
	return more, true
}

// Slots are how many of something each token has open.
type Slots struct {
	Most int
	mu   sync.Mutex
	open map[string]int
}

// Take opens one; false when the token has as many as it may.
func (s *Slots) Take(who string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open[who] >= s.Most {
		return false
	}
	if s.open == nil {
		s.open = map[string]int{}
	}
	s.open[who]++
	return true
}

// Give closes one.
func (s *Slots) Give(who string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open[who]--; s.open[who] <= 0 {
		delete(s.open, who)
	}
}

// Queues are computations under way, by token: one caller's leave room for others.
type Queues struct {
	mu sync.Mutex
	of map[string]*queue // as many as there are tokens
}

type queue struct {
	*semaphore.Weighted
	waiting atomic.Int64
}

// Wait waits until the token may have one more under way, which ends with the
// request. It returns false when too many wait, or this one for too long.
func (l *Queues) Wait(ctx context.Context, who string) bool {
	l.mu.Lock()
	q := l.of[who]
	if q == nil {
		if l.of == nil {
			l.of = map[string]*queue{}
		}
		q = &queue{Weighted: semaphore.NewWeighted(MaxLooks)}
		l.of[who] = q
	}
	l.mu.Unlock()
	if !q.TryAcquire(1) {
		defer q.waiting.Add(-1)
		if q.waiting.Add(1) > MaxWaiting {
			return false
		}
		patient, cancel := context.WithTimeout(ctx, LongestWait)
		defer cancel()
		if q.Acquire(patient, 1) != nil {
			return false
		}
	}
	context.AfterFunc(ctx, func() { q.Release(1) })
	return true
}

// Address is who calls, as far as the connection tells: of IPv6 the network that
// one household or server has.
func Address(r *http.Request) string {
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

// Paced lets what is long take its time, and gives up on bodies that hardly come
// and on answers that nobody reads. What machines ask all the time is short: the
// server's own limits do.
func Paced(long func(*gin.Context) bool) gin.HandlerFunc {
	return func(c *gin.Context) {
		if path := c.Request.URL.Path; strings.HasPrefix(path, "/access/") || path == "/forward-auth" {
			return
		}
		control := http.NewResponseController(c.Writer)
		c.Writer = &pacedWriter{ResponseWriter: c.Writer, control: control}
		if c.Request.Body != nil && c.Request.Body != http.NoBody && long(c) {
			c.Request.Body = &pacedBody{ReadCloser: c.Request.Body, control: control, start: time.Now()}
		}
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
	_ = b.control.SetReadDeadline(b.start.Add(WholeRequest + time.Duration(b.read)*time.Second/slowest))
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
		_ = w.control.SetWriteDeadline(time.Now().Add(Unread))
		n, err := write(all[written:min(len(all), written+OnePart)])
		if written += n; err != nil || written >= len(all) {
			return written, err
		}
	}
}

func (w *pacedWriter) Flush() {
	_ = w.control.SetWriteDeadline(time.Now().Add(Unread))
	w.ResponseWriter.Flush()
}
