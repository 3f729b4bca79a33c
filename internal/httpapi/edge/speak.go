package edge

import (
	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/rulebook/plaintext"
)

// SpeakDevice leaves in a device only the caller's language.
func SpeakDevice(c *gin.Context, d *api.Device) {
	c.Header("Vary", "Accept-Language")
	for i := range d.Standing.Verdicts {
		v := &d.Standing.Verdicts[i]
		v.Remedy = InLanguage[plaintext.Remedy](c, v.Remedy)
	}
}

// SpeakAnswer leaves in an answer only the caller's language.
func SpeakAnswer(c *gin.Context, a *access.Decision) {
	c.Header("Vary", "Accept-Language")
	a.ReasonUser = InLanguage(c, a.ReasonUser)
	for i := range a.Remedies {
		a.Remedies[i].Remedy = InLanguage(c, a.Remedies[i].Remedy)
	}
	for i := range a.Gates {
		a.Gates[i].Message = InLanguage(c, a.Gates[i].Message)
	}
}
