package httpapi

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/httpapi/identity"
)

// ForDevices returns the handler of the listener that devices alone use, over TLS: it asks for their certificates, which
// people's browsers would wonder about.
func ForDevices(o Options) http.Handler {
	s := newServer(o)
	r := s.engine()
	r.NoRoute(func(c *gin.Context) {
		s.fail(c, edge.NewProblem(http.StatusNotFound, "there is nothing at %s for devices", c.Request.URL.Path))
	})
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	devices := identity.New(o.Service, s.log, s.fail)
	devices.Standing(r)
	devices.Enrolment(r)
	return r
}
