package httpapi

import (
	"github.com/gin-gonic/gin"
	"golang.org/x/text/language"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/rulebook"
)

// inLanguage leaves of texts by language the one that fits what the caller
// reads (Accept-Language, RFC 9110 section 12.5.4; matched as in BCP 47): else
// English, else any. A caller that does not say gets them all.
func inLanguage[T any](c *gin.Context, texts map[string]T) map[string]T {
	wanted, _, err := language.ParseAcceptLanguage(c.GetHeader("Accept-Language"))
	if err != nil || len(wanted) == 0 || len(texts) < 2 {
		return texts
	}
	keys, have := []string{}, []language.Tag{}
	add := func(key string) {
		if tag, err := language.Parse(key); err == nil {
			keys, have = append(keys, key), append(have, tag)
		}
	}
	if _, ok := texts["en"]; ok {
		add("en") // the first is what is fallen back to
	}
	for key := range texts {
		if key != "en" {
			add(key)
		}
	}
	if len(have) == 0 {
		return texts
	}
	_, i, _ := language.NewMatcher(have).Match(wanted...)
	return map[string]T{keys[i]: texts[keys[i]]}
}

// speakDevice leaves in a device only the caller's language.
func speakDevice(c *gin.Context, d *api.Device) {
	c.Header("Vary", "Accept-Language")
	for i := range d.Standing.Verdicts {
		v := &d.Standing.Verdicts[i]
		v.Remedy = inLanguage[rulebook.Remedy](c, v.Remedy)
	}
}

// speakAnswer leaves in an answer only the caller's language.
func speakAnswer(c *gin.Context, a *access.Decision) {
	c.Header("Vary", "Accept-Language")
	a.ReasonUser = inLanguage(c, a.ReasonUser)
	for i := range a.Remedies {
		a.Remedies[i].Remedy = inLanguage(c, a.Remedies[i].Remedy)
	}
	for i := range a.Gates {
		a.Gates[i].Message = inLanguage(c, a.Gates[i].Message)
	}
}
