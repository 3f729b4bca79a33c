package httpapi

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/service"
)

// pipes is a listener of connections in memory, which tell the time of a test.
type pipes struct {
	conns chan net.Conn
	gone  chan struct{}
}

func (p *pipes) Accept() (net.Conn, error) {
	select {
	case c := <-p.conns:
		return c, nil
	case <-p.gone:
		return nil, net.ErrClosed
	}
}

func (p *pipes) Close() error {
	select {
	case <-p.gone:
	default:
		close(p.gone)
	}
	return nil
}

func (p *pipes) Addr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 1} }

func (p *pipes) dial() net.Conn {
	ours, theirs := net.Pipe()
	p.conns <- theirs
	return ours
}

const adminToken = "il_a_token_for_tests_only"

// serving serves the whole service to a test that makes its own time.
func serving(t *testing.T, try func(*testing.T, *pipes)) {
	synctest.Test(t, func(t *testing.T) {
		quiet := slog.New(slog.DiscardHandler)
		s, err := service.Open(t.Context(), service.Options{Dir: t.TempDir(), AdminToken: adminToken, Log: quiet})
		if err != nil {
			t.Fatal(err)
		}
		l := &pipes{make(chan net.Conn), make(chan struct{})}
		ctx, stop := context.WithCancel(t.Context())
		served := make(chan error, 1)
		go func() {
			served <- Serve(ctx, l, Handler(Options{Service: s, Log: quiet, Public: "http://127.0.0.1:1"}), nil)
		}()
		defer func() {
			stop()
			if err := errors.Join(<-served, s.Close()); err != nil {
				t.Error(err)
			}
		}()
		try(t, l)
	})
}

// A caller that does not read its answer is left after a while, whichever answer
// it is; one that reads slowly is not.
func TestAnAnswerMustBeRead(t *testing.T) {
	for name, c := range map[string]struct {
		request string
		pause   time.Duration // between reading one part and the next
		parts   int           // that are read
		left    bool          // whether the service gives up
		within  time.Duration
	}{
		"never read":      {"GET /api/v1/openapi.yaml", 0, 0, true, edge.Unread},
		"read no further": {"GET /api/v1/openapi.yaml", time.Second, 3, true, edge.Unread},
		"too slowly":      {"GET /api/v1/openapi.yaml", edge.Unread + time.Second, 2, true, edge.Unread},
		"slowly":          {"GET /api/v1/openapi.yaml", edge.Unread / 3, 2, false, 0},
		"a decision":      {"POST /access/v1/evaluation", 0, 0, true, edge.WholeRequest + edge.Unread},
		"forward-auth":    {"GET /forward-auth", 0, 0, true, edge.WholeRequest + edge.Unread},
	} {
		t.Run(name, func(t *testing.T) {
			serving(t, func(t *testing.T, l *pipes) {
				conn := l.dial()
				defer conn.Close()
				fmt.Fprintf(conn, "%s HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 0\r\n\r\n", c.request)
				part := make([]byte, edge.OnePart)
				for range c.parts {
					time.Sleep(c.pause)
					if _, err := io.ReadFull(conn, part); err != nil {
						if !c.left {
							t.Fatalf("it was left while it read: %v", err)
						}
						return
					}
				}
				if !c.left {
					if n, err := io.ReadFull(conn, part[:20_000]); err != nil {
						t.Fatalf("of the rest %d bytes come: %v", n, err)
					}
					return
				}
				time.Sleep(c.within + time.Second)
				synctest.Wait()
				// What was not read by now never comes.
				if n, err := conn.Read(part); err == nil {
					t.Errorf("after %s %d more bytes come: somebody still waits for it to be read", c.within, n)
				}
			})
		})
	}
}

// A body that hardly comes is not waited for, and one that is long may take its
// time.
func TestABodyMustCome(t *testing.T) {
	const line = `{"source":"agent","identity":{"id":"d%d"},"evidence":{"managed":true,"name":"%s"}}` + "\n"
	for name, c := range map[string]struct {
		lines, pad int
		pause      time.Duration
		taken      bool
	}{
		"trickling":      {60, 10, time.Second, false},
		"long and quick": {60, 20_000, time.Second, true},
		"all at once":    {3, 10, 0, true},
	} {
		t.Run(name, func(t *testing.T) {
			serving(t, func(t *testing.T, l *pipes) {
				conn := l.dial()
				defer conn.Close()
				answer := make(chan string, 1)
				go func() {
					res, err := http.ReadResponse(bufio.NewReader(conn), nil)
					if err != nil {
						answer <- err.Error()
						return
					}
					raw, _ := io.ReadAll(res.Body) // it may be cut
					answer <- res.Status + " " + string(raw)
				}()
				size := 0
				for i := range c.lines {
					size += len(fmt.Sprintf(line, i, strings.Repeat("n", c.pad)))
				}
				fmt.Fprintf(conn, "POST /api/v1/evidence HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer %s\r\nContent-Type: application/x-ndjson\r\nContent-Length: %d\r\n\r\n", adminToken, size)
				for i := range c.lines {
					if _, err := fmt.Fprintf(conn, line, i, strings.Repeat("n", c.pad)); err != nil {
						break
					}
					time.Sleep(c.pause)
				}
				got := <-answer
				if taken := strings.Contains(got, fmt.Sprintf(`"accepted":%d`, c.lines)); taken != c.taken {
					t.Errorf("it is answered %.300s; taken should be %v", got, c.taken)
				}
			})
		})
	}
}

// One token's computations leave room for others': more of them wait, and in the
// end are refused.
func TestOneTokenComputesALittleAtATime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var l edge.Queues
		ctx, finish := context.WithCancel(t.Context())
		for range edge.MaxLooks {
			if !l.Wait(ctx, "reader") {
				t.Fatal("one of the first is refused")
			}
		}
		began, refused := time.Now(), make(chan time.Duration, edge.MaxWaiting+1)
		for range edge.MaxWaiting + 1 {
			go func() {
				if l.Wait(ctx, "reader") {
					t.Error("one more goes on while the first are under way")
				}
				refused <- time.Since(began)
			}()
		}
		if waited := <-refused; waited != 0 {
			t.Errorf("of more than may wait the first is refused after %s", waited)
		}
		if !l.Wait(ctx, "another") {
			t.Error("another token has to wait")
		}
		for range edge.MaxWaiting {
			if waited := <-refused; waited != edge.LongestWait {
				t.Errorf("one that waits is refused after %s", waited)
			}
		}
		done := make(chan bool)
		next, end := context.WithCancel(t.Context())
		defer end()
		go func() { done <- l.Wait(next, "reader") }()
		finish()
		if !<-done {
			t.Error("nothing goes on when the first are done")
		}
	})
}
