package run

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"

	"golang.org/x/sync/errgroup"

	"ironledger.example/internal/httpapi"
)

// front lets callers in by one protocol: it calls the use cases and puts their answers
// into its own form.
type front interface {
	// Serve answers until ctx ends, or returns why it cannot.
	Serve(ctx context.Context) error
	// Ready waits until it answers.
	Ready(ctx context.Context) error
}

// runFronts has all fronts serve until ctx ends or one fails, which ends the others.
// ready is called once all of them answer.
func runFronts(ctx context.Context, log *slog.Logger, fronts []front, ready func() error) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	serving, ctx := errgroup.WithContext(ctx)
	for _, f := range fronts {
		serving.Go(func() error { return f.Serve(ctx) })
	}
	var err error
	for _, f := range fronts {
		err = errors.Join(err, f.Ready(ctx))
	}
	if err == nil {
		err = ready()
	}
	if err != nil {
		stop()
		if failed := serving.Wait(); failed != nil {
			return failed // why it was never ready
		}
		return err
	}
	err = serving.Wait()
	log.Info("stopping")
	return err
}

// web is the front for HTTP: the API, the open protocols, people's pages and the
// console.
type web struct {
	listener    net.Listener
	handler     http.Handler
	certificate *tls.Config // nil: without TLS
}

func (w *web) url() string {
	if w.certificate != nil {
		return "https://" + w.listener.Addr().String()
	}
	return "http://" + w.listener.Addr().String()
}

func (w *web) Serve(ctx context.Context) error {
	return httpapi.Serve(ctx, w.listener, w.handler, w.certificate)
}

func (w *web) Ready(ctx context.Context) error {
	if w.certificate != nil { // it may be for another name; listening is enough
		return nil
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, w.url()+"/healthz", nil)
	if err != nil {
		return err
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	return answer.Body.Close()
}

// meter is the front that tells metrics without a token, on loopback.
type meter struct {
	listener net.Listener
	handler  http.Handler
}

// newMeter listens on an address, which must be on loopback.
func newMeter(address string, metrics http.Handler) (*meter, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("--metrics-listen: %w", err)
	}
	if to, is := l.Addr().(*net.TCPAddr); !is || !to.IP.IsLoopback() {
		return nil, errors.Join(fmt.Errorf("--metrics-listen %s: metrics are told without a token on loopback only", address),
			l.Close())
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", metrics)
	return &meter{l, mux}, nil
}

func (m *meter) Serve(ctx context.Context) error {
	return httpapi.Serve(ctx, m.listener, m.handler, nil)
}

func (m *meter) Ready(context.Context) error { return nil }
