package edge

import (
	"context"
	"net/http"
)

// stopping is the key of the context of a request under which the context of
// the server stands.
type stopping struct{}

// Stopping is a context for the requests of a server, under which those that wait end when the
// context of the server does.
func Stopping(base, server context.Context) context.Context {
	return context.WithValue(base, stopping{}, server)
}

// UntilStop is a context for a request that waits: it ends with the request and
// when the server is to stop.
func UntilStop(r *http.Request) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(r.Context())
	server, ok := r.Context().Value(stopping{}).(context.Context)
	if !ok {
		return ctx, cancel
	}
	release := context.AfterFunc(server, cancel)
	return ctx, func() { release(); cancel() }
}
