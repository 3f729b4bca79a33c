package httpapi

import (
	"encoding/json"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/httpapi/edge"
)

// exporting opens an export for the caller's token, which has to give it back.
func (s *Server) exporting(c *gin.Context) error {
	if s.exports.Take(actor(c).ID) {
		return nil
	}
	return edge.TooMany("the token has %d exports open already", edge.MaxExports)
}

// guessed notes a secret that was none. The error is for an address that has guessed too
// often; a secret that is right always counts, since none can be guessed.
func (s *Server) guessed(c *gin.Context, what string) error {
	now, from := time.Now(), edge.Address(c.Request)
	if s.guesses.Allow(from, now) {
		s.log.Info("a "+what+" that is not valid", "from", from, "path", c.Request.URL.Path)
		return nil
	}
	if more, ok := s.guesses.Telling(now); ok {
		s.log.Warn("too many guesses of a "+what, "from", from, "more", more)
	}
	return edge.TooMany("too many attempts came from this address; try again in a while")
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
	if p.Status == http.StatusTooManyRequests && s.limited != nil {
		s.limited(c.Request.Method + " " + c.FullPath())
	}
	if p.RetryAfter > 0 {
		c.Header("Retry-After", strconv.Itoa(p.RetryAfter))
	}
	body, _ := json.Marshal(p.Problem) // its own type always has a JSON form
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

// wrongParameter tells of a parameter that is not what the specification has.
func wrongParameter(name string, err error) error {
	return &fault.QueryError{Param: name, Message: "the parameter " + name + " cannot be read: " + err.Error()}
}

// page is a page of at most limit items, of a list of which one more was read when there
// is more; cursor is where the next page begins that ends with an item.
func page[T any](items []T, limit int, cursor func(*T) string) api.List[T] {
	if len(items) <= limit {
		return edge.All(items)
	}
	return api.List[T]{Items: items[:limit], Next: cursor(&items[limit-1])}
}
