// Package httpapi is the front for HTTP: our own API as api/openapi.yaml tells it, the
// open protocols, people's pages and the console's files.
package httpapi

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/rulebook/form"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/httpapi/identity"
	"ironledger.example/internal/httpapi/outside"
	"ironledger.example/internal/httpapi/reports"
	"ironledger.example/internal/service"
)

// Server answers HTTP for a service.
type Server struct {
	outside.Routes
	reports.Pages
	identity.API
	service *service.Service
	log     *slog.Logger
	version string
	started time.Time
	secure  bool   // callers reach it over TLS: its own, or that of whoever stands in front of it
	public  string // the base URL for metadata
	console fs.FS
	origin  *http.CrossOriginProtection
	guesses *edge.Budgets // by address: secrets that were none
	tickets *edge.Budgets // by ticket, or person: decisions that people's pages ask for
	streams edge.Slots    // of evidence
	exports edge.Slots
	looks   edge.Queues
	limited func(operation string)
}

// Options are what a server is made with.
type Options struct {
	Service *service.Service
	Log     *slog.Logger // nil: slog.Default()
	Version string
	TLS     bool   // whether it is served over TLS
	Public  string // the URL by which others reach it; it must be given
	Console fs.FS  // the console's files
	// Metrics answers for /metrics, to who may read; nil: there is none. Limited is told of each operation that a caller
	// was refused for asking too much; nil for nobody.
	Metrics http.Handler
	Limited func(operation string)
}

// permissions is what each operation asks of its caller, from the specification.
var permissions = rights()

// rights are those that the specification gives, as service knows them.
func rights() map[string]bearer.Permission {
	out := make(map[string]bearer.Permission, len(api.Operations))
	for operation, asks := range api.Operations {
		switch asks.Right {
		case "any":
			out[operation] = anyone
		case "none":
			out[operation] = nobody
		default:
			out[operation] = bearer.Permission(asks.Right)
		}
	}
	return out
}

// operation is the one that a request is for; the zero one for what is none of the API.
func operation(c *gin.Context) api.Operation {
	return api.Operations[c.Request.Method+" "+c.FullPath()]
}

const (
	anyone bearer.Permission = ""  // any token will do
	nobody bearer.Permission = "-" // no token is needed
)

func newServer(o Options) *Server {
	s := &Server{service: o.Service, log: o.Log, version: o.Version, started: time.Now(),
		secure: o.TLS || strings.HasPrefix(o.Public, "https://"), public: o.Public, console: o.Console,
		origin:  http.NewCrossOriginProtection(),
		guesses: edge.NewBudgets(edge.GuessRate, edge.GuessBurst), tickets: edge.NewBudgets(edge.AgainRate,
			edge.AgainBurst),
		limited: o.Limited, streams: edge.Slots{Most: edge.MaxStreams}, exports: edge.Slots{Most: edge.MaxExports}}
	if s.log == nil {
		s.log = slog.Default()
	}
	s.Routes, s.API = outside.New(o.Service, o.Public, s.fail), identity.ForPeople(o.Service)
	s.Pages = reports.For(o.Service, s.fail)
	return s
}

// engine is what both listeners share.
func (s *Server) engine() *gin.Engine {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.UseRawPath, r.UnescapePathValues = true, true // an id may have a slash in it, as %2F
	r.Use(s.recover, s.headers, edge.Paced(func(c *gin.Context) bool { return operation(c).Long }))
	r.NoMethod(func(c *gin.Context) {
		s.fail(c, edge.NewProblem(http.StatusMethodNotAllowed, "%s is not a method of %s", c.Request.Method,
			c.Request.URL.Path))
	})
	return r
}

// Handler returns the handler of everything but what devices alone ask.
func Handler(o Options) http.Handler {
	s := newServer(o)
	r := s.engine()
	r.NoRoute(s.noRoute)
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	r.GET("/readyz", func(c *gin.Context) {
		if err := s.service.Ready(c.Request.Context()); err != nil {
			s.fail(c, edge.NewProblem(http.StatusServiceUnavailable, "not ready: %s", err))
			return
		}
		c.String(http.StatusOK, "ready\n")
	})
	if o.Metrics != nil {
		r.GET("/metrics", func(c *gin.Context) {
			if s.authorizeAs(c, bearer.MayRead); !c.IsAborted() {
				o.Metrics.ServeHTTP(c.Writer, c.Request)
			}
		})
	}
	r.GET("/api/v1/openapi.yaml", func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", api.Spec) })
	r.GET("/schema/rulebook.json", func(c *gin.Context) {
		c.Header("Cache-Control", "public, max-age=3600")
		c.Header("Content-Type", "application/schema+json")
		c.JSON(http.StatusOK, form.Schema())
	})
	for _, method := range []string{http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut,
		http.MethodPatch, http.MethodDelete, http.MethodOptions} {
		r.Handle(method, "/forward-auth", s.forwardAuth) // proxies ask with the method they were asked with
	}
	r.GET("/.well-known/ssf-configuration/*path", s.SSFConfigurationBelow)
	r.GET("/ledger/checkpoint", s.ledgerCheckpoint)
	r.GET("/ledger/tile/*path", s.ledgerTile)
	identity.New(o.Service, s.log, s.fail).Standing(r)
	s.personRoutes(r)
	// Who may not ask is told so before anything of the question is looked at.
	s.routes(r.Group("", s.authorize))
	return r
}

// recover answers a bug with a problem, not with a broken connection.
func (s *Server) recover(c *gin.Context) {
	defer func() {
		if bad := recover(); bad != nil {
			if err, ok := bad.(error); ok && errors.Is(err, http.ErrAbortHandler) {
				panic(bad)
			}
			id := rand.Text()[:12]
			s.log.Error("bug", "id", id, "path", c.Request.URL.Path, "panic", fmt.Sprint(bad), "stack",
				string(debug.Stack()))
			s.fail(c, edge.NewProblem(http.StatusInternalServerError,
				"the service met a bug in itself; it is in its log as %s", id))
		}
	}()
	c.Next()
}

// The values of headers that are the same in every answer.
var (
	nosniff    = []string{"nosniff"}
	noReferrer = []string{"no-referrer"}
	noStore    = []string{"no-store"}
	hsts       = []string{"max-age=31536000"} // RFC 6797
	policy     = []string{"default-src 'self'; img-src 'self' data:; object-src 'none'; base-uri 'none'; " +
		"form-action 'self'; frame-ancestors 'none'"}
)

func (s *Server) headers(c *gin.Context) {
	h, path := c.Writer.Header(), c.Request.URL.Path
	if s.secure {
		h["Strict-Transport-Security"] = hsts
	}
	h["X-Content-Type-Options"] = nosniff
	machines := strings.HasPrefix(path, "/access/") // no browser shows what they get
	if !machines {
		h["Referrer-Policy"], h["Content-Security-Policy"] = noReferrer, policy
	}
	if machines || strings.HasPrefix(path, "/api/") || strings.HasPrefix(path, "/ssf/") {
		h["Cache-Control"] = noStore
	}
	if id := c.GetHeader("X-Request-ID"); id != "" && len(id) <= 200 {
		h.Set("X-Request-ID", id) // AuthZEN 1.0, section 10.1.3
	}
}

const cookieName = "ironledger_session"

// actor is the token of the caller.
func actor(c *gin.Context) *bearer.Token { return edge.Actor(c) }

// authorize finds out who calls and whether they may.
func (s *Server) authorize(c *gin.Context) {
	need, known := permissions[c.Request.Method+" "+c.FullPath()]
	if !known {
		s.fail(c, edge.NewProblem(http.StatusForbidden, "this operation has no permission set"))
		return
	}
	if need != nobody {
		s.authorizeAs(c, need)
	}
}

// authorizeAs lets a caller with a permission pass and answers others.
func (s *Server) authorizeAs(c *gin.Context, need bearer.Permission) {
	token, ok, err := s.caller(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	if !ok {
		if c.GetHeader("Authorization") != "" {
			if err := s.guessed(c, "bearer token"); err != nil {
				s.fail(c, err)
				return
			}
		}
		c.Header("WWW-Authenticate", `Bearer realm="ironledger"`)
		s.fail(c, edge.NewProblem(http.StatusUnauthorized, "a valid bearer token is needed"))
		return
	}
	if need != anyone && !token.Role.May(need) {
		s.fail(c, edge.NewProblem(http.StatusForbidden, "the role %s may not %s", token.Role, need))
		return
	}
	edge.Called(c, token)
	if operation(c).Computes && !s.looks.Wait(c.Request.Context(), token.ID) {
		s.fail(c, edge.TooMany("the token has %d searches or computations under way, and others waiting",
			edge.MaxLooks))
	}
}

func (s *Server) caller(c *gin.Context) (*bearer.Token, bool, error) {
	if h := c.GetHeader("Authorization"); h != "" {
		scheme, secret, _ := strings.Cut(h, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return nil, false, nil
		}
		t, ok := s.service.Admin.Authenticate(strings.TrimSpace(secret))
		return t, ok, nil
	}
	cookie, err := c.Cookie(cookieName)
	if err != nil || cookie == "" {
		return nil, false, nil
	}
	if err := s.origin.Check(c.Request); err != nil {
		return nil, false, edge.NewProblem(http.StatusForbidden, "the request comes from another site")
	}
	t, ok := s.service.Admin.SignedIn(c.Request.Context(), cookie)
	return t, ok, nil
}

// stopGrace is how long requests under way have when the service stops.
const stopGrace = 10 * time.Second

// Serve listens until ctx ends, then lets requests under way finish; those that do not in time are cut off. Without a
// certificate it listens on loopback only.
func Serve(ctx context.Context, l net.Listener, h http.Handler, certificate *tls.Config) error {
	return serve(ctx, l, h, certificate, stopGrace)
}

func serve(ctx context.Context, l net.Listener, h http.Handler, certificate *tls.Config, within time.Duration) error {
	if certificate == nil && !loopback(l.Addr()) {
		return fmt.Errorf("%s is reachable from outside; without TLS the service listens on loopback only "+
			"(give --tls-cert and --tls-key)", l.Addr())
	}
	server := &http.Server{Handler: h, TLSConfig: certificate, ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout: edge.WholeRequest, WriteTimeout: edge.WholeRequest + edge.Unread, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10,
		ErrorLog:       slog.NewLogLogger(slog.Default().Handler(), slog.LevelWarn),
		BaseContext:    func(net.Listener) context.Context { return edge.Stopping(context.Background(), ctx) }}
	failed := make(chan error, 1)
	go func() {
		if certificate != nil {
			failed <- server.ServeTLS(l, "", "")
			return
		}
		failed <- server.Serve(l)
	}()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), within)
	defer cancel()
	if err := server.Shutdown(grace); err != nil {
		slog.Warn("requests under way were cut off: they did not finish in time", "after", within)
		return server.Close()
	}
	return nil
}

func loopback(a net.Addr) bool {
	ap, err := netip.ParseAddrPort(a.String())
	return err == nil && ap.Addr().Unmap().IsLoopback()
}

// consoleRoutes are the first parts of the console's own addresses, as its router
// has them: a test compares.
var consoleRoutes = map[string]bool{"": true, "sign-in": true, "devices": true, "people": true,
	"certificates": true, "exceptions": true, "sources": true,
	"rulebook": true, "rules": true, "tokens": true, "signals": true, "alerts": true, "gates": true, "networks": true, "reports": true,
	"ask": true, "decisions": true, "ledger": true}

// takesHTML reports whether a caller takes a page: who does not say takes anything
// (RFC 9110, section 12.5.1).
func takesHTML(accept string) bool {
	return accept == "" || strings.Contains(accept, "text/html") || strings.Contains(accept, "*/*") ||
		strings.Contains(accept, "text/*")
}

// noRoute serves the console's files; an address of the console's own gets its first
// page, if it is asked for as a page.
func (s *Server) noRoute(c *gin.Context) {
	path := strings.TrimPrefix(c.Request.URL.Path, "/")
	nothing := func() { s.fail(c, edge.NewProblem(http.StatusNotFound, "there is nothing at %s", c.Request.URL.Path)) }
	if s.console == nil || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		nothing()
		return
	}
	if info, err := fs.Stat(s.console, path); err == nil && !info.IsDir() && path != "index.html" {
		if strings.HasPrefix(path, "assets/") { // named by their content
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		}
		c.Status(http.StatusOK)
		http.ServeFileFS(c.Writer, c.Request, s.console, path)
		return
	}
	first, _, _ := strings.Cut(path, "/")
	if !consoleRoutes[first] || !takesHTML(c.GetHeader("Accept")) {
		nothing()
		return
	}
	page, err := fs.ReadFile(s.console, "index.html")
	if err != nil {
		s.fail(c, edge.NewProblem(http.StatusNotFound, "this binary was built without the console; run make build"))
		return
	}
	c.Header("Cache-Control", "no-cache")
	c.Data(http.StatusOK, "text/html; charset=utf-8", page)
}
