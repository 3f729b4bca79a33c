package httpapi

import (
	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/httpapi/edge"
)

// speakDevice leaves in a device only the caller's language.
func speakDevice(c *gin.Context, d *api.Device) {
	c.Header("Vary", "Accept-Language")
	for i := range d.Standing.Verdicts {
		v := &d.Standing.Verdicts[i]
		v.Remedy = edge.InLanguage[rulebook.Remedy](c, v.Remedy)
	}
}

// speakAnswer leaves in an answer only the caller's language.
func speakAnswer(c *gin.Context, a *access.Decision) {
	c.Header("Vary", "Accept-Language")
	a.ReasonUser = edge.InLanguage(c, a.ReasonUser)
	for i := range a.Remedies {
		a.Remedies[i].Remedy = edge.InLanguage(c, a.Remedies[i].Remedy)
	}
	for i := range a.Gates {
		a.Gates[i].Message = edge.InLanguage(c, a.Gates[i].Message)
	}
}
