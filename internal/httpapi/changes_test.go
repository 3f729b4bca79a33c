package httpapi

import (
	"bufio"
	"context"
	"net"
	"net/http"
	"strings"
	"testing"

	"ironledger.example/internal/bearer"
	"ironledger.example/internal/service"
)

// A stream of changes tells what happens, what was missed, and ends with the
// right to read and with the server.
func TestAStreamOfChanges(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	const admin = "il_a_token_for_tests_only"
	svc, err := service.Open(ctx, service.Options{Dir: t.TempDir(), AdminToken: admin})
	if err != nil {
		t.Fatal(err)
	}
	defer svc.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	served := make(chan error, 1)
	go func() { served <- Serve(ctx, l, Handler(Options{Service: svc}), nil) }()
	// follow returns a function that reads the stream until a line begins so; ""
	// when it ends before.
	follow := func(token, last string) (status int, until func(beginning string) string) {
		req, _ := http.NewRequest(http.MethodGet, "http://"+l.Addr().String()+"/api/v1/changes", nil)
		req.Header.Set("Authorization", "Bearer "+token)
		if last != "" {
			req.Header.Set("Last-Event-ID", last)
		}
		r, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { r.Body.Close() })
		lines := bufio.NewScanner(r.Body)
		return r.StatusCode, func(beginning string) string {
			for lines.Scan() {
				if strings.HasPrefix(lines.Text(), beginning) {
					return lines.Text()
				}
			}
			return ""
		}
	}
	if status, _ := follow("il_nobody", ""); status != http.StatusUnauthorized {
		t.Errorf("a stranger is answered %d", status)
	}
	_, fresh := follow(admin, "")
	if got := fresh(":"); got != ": from entry 1" {
		t.Errorf("it begins %q", got)
	}
	_, secret, err := svc.Admin.CreateToken(ctx, "first-admin", "desk", bearer.Reader, "")
	if err != nil {
		t.Fatal(err)
	}
	if got := fresh("data:"); !strings.Contains(got, `"seq":2,"kinds":["token.created"]`) {
		t.Errorf("of a new token it tells %q", got)
	}
	_, desk := follow(secret, "1")
	if got := desk("id:") + " " + desk("data:"); !strings.HasPrefix(got, "id: 2 data:") {
		t.Errorf("who comes back is told %q", got)
	}
	if _, err := svc.Admin.RevokeToken(ctx, "first-admin", "desk"); err != nil {
		t.Fatal(err)
	}
	if got := desk("data:"); got != "" {
		t.Errorf("whose token was revoked reads on: %q", got)
	}
	if got := fresh("data:"); !strings.Contains(got, "token.revoked") {
		t.Errorf("of a revoked token it tells %q", got)
	}
	stop()
	if err := <-served; err != nil || fresh("data:") != "" {
		t.Errorf("the server stops with %v", err)
	}
}
