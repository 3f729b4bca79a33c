package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"ironledger.example/internal/httpapi/edge"
)

// exporting opens an export for the caller's token, and answers when it has too
// many open.
func (s *Server) exporting(c *gin.Context) bool {
	if s.exports.Take(actor(c).ID) {
		return true
	}
	s.tooMany(c, fmt.Sprintf("the token has %d exports open already", edge.MaxExports))
	return false
}

// guessed notes a secret that was none. It reports false, and has answered, when
// the address has guessed too often; a secret that is right always counts, since
// none can be guessed.
func (s *Server) guessed(c *gin.Context, what string) bool {
	now, from := time.Now(), edge.Address(c.Request)
	if s.guesses.Allow(from, now) {
		s.log.Info("a "+what+" that is not valid", "from", from, "path", c.Request.URL.Path)
		return true
	}
	if more, ok := s.guesses.Telling(now); ok {
		s.log.Warn("too many guesses of a "+what, "from", from, "more", more)
	}
	s.tooMany(c, "too many attempts came from this address; try again in a while")
	return false
}

// tooMany answers that a budget is used up.
func (s *Server) tooMany(c *gin.Context, message string) {
	c.Header("Retry-After", "5")
	s.fail(c, edge.NewProblem(http.StatusTooManyRequests, "%s", message))
}

// fail answers with a problem and stops the request.
func (s *Server) fail(c *gin.Context, err error) {
	p := edge.ProblemOf(err)
	switch {
	case p.Status >= 500:
		s.log.Error("request failed", "method", c.Request.Method, "path", c.Request.URL.Path, "status",
			p.Status, "error", err)
	default:
		s.log.Debug("request refused", "method", c.Request.Method, "path", c.Request.URL.Path, "status",
			p.Status, "error", err)
	}
	body, _ := json.Marshal(p) // its own type always has a JSON form
	c.Abort()
	c.Data(p.Status, "application/problem+json", body)
}

// answer sends a value as JSON, or the error in its place.
func (s *Server) answer(c *gin.Context, status int, v any, err error) {
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(status, v)
}
