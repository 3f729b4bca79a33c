package httpapi

import (
	"context"
	"io"
	"net"
	"net/http"
	"testing"
	"time"
)

// A service that is to stop lets what is under way finish, cuts off what does not, and has stopped well then.
func TestServingStops(t *testing.T) {
	begun, goOn := make(chan string, 2), make(chan struct{})
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		begun <- r.URL.Path
		if r.URL.Path == "/stuck" {
			<-goOn
		} else {
			time.Sleep(20 * time.Millisecond)
		}
		_, _ = io.WriteString(w, "done")
	})
	for path, within := range map[string]time.Duration{"/quick": time.Minute, "/stuck": 50 * time.Millisecond} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		ctx, stop := context.WithCancel(t.Context())
		stopped, answered := make(chan error, 1), make(chan string, 1)
		go func() { stopped <- serve(ctx, l, h, nil, within) }()
		go func() {
			resp, err := http.Get("http://" + l.Addr().String() + path)
			if err != nil {
				answered <- "cut off"
				return
			}
			defer resp.Body.Close()
			body, _ := io.ReadAll(resp.Body)
			answered <- string(body)
		}()
		<-begun
		stop()
		want := map[string]string{"/quick": "done", "/stuck": "cut off"}[path]
		if err, got := <-stopped, <-answered; err != nil || got != want {
			t.Errorf("%s: the service stops with %v, and the answer is %q, want %q", path, err, got, want)
		}
		if _, err := net.DialTimeout("tcp", l.Addr().String(), time.Second); err == nil {
			t.Errorf("%s: it still listens", path)
		}
	}
	close(goOn)
}
