package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/httpapi/edge"
)

const (
	// heartbeat is how often a stream on which nothing happens says that it lives.
	heartbeat = 20 * time.Second
	// patience is how long a reader of a stream may take to read on.
	patience = 10 * time.Second
)

// FollowChanges tells what changes as it does, in server-sent events (HTML
// Standard, section 9.2), until the caller leaves or may no longer read.
func (s *Server) FollowChanges(c *gin.Context, p api.FollowChangesParams) {
	known := s.service.Audit.Ledger().Size
	if last := p.LastEventID; last > 0 && last < known {
		known = last
	}
	ctx, cancel := edge.UntilStop(c.Request)
	defer cancel()
	c.Header("Content-Type", "text/event-stream")
	c.Header("X-Accel-Buffering", "no") // nginx passes each event on at once
	c.Status(http.StatusOK)
	control := http.NewResponseController(c.Writer)
	say := func(format string, args ...any) bool {
		control.SetWriteDeadline(time.Now().Add(patience)) // where that cannot be set, the connection's own limits hold
		_, err := fmt.Fprintf(c.Writer, format, args...)
		return err == nil && control.Flush() == nil
	}
	for open := say("retry: 2000\n: from entry %d\n\n", known); open && ctx.Err() == nil; {
		wait, done := context.WithTimeout(ctx, heartbeat)
		changes, err := s.service.Audit.Changes(wait, known)
		done()
		if token, ok, authErr := s.caller(c); authErr != nil || !ok || !token.Role.May(bearer.MayRead) {
			return // revoked, or signed out
		}
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			s.log.Warn("changes are not told", "error", err)
			return
		case changes == nil:
			open = say(": still here\n\n")
		default:
			data, _ := json.Marshal(changes) // its own type always has a JSON form
			known = changes.Seq
			open = say("event: change\nid: %d\ndata: %s\n\n", known, data)
		}
	}
}
