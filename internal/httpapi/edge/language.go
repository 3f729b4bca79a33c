package edge

import (
	"github.com/gin-gonic/gin"
	"golang.org/x/text/language"
)

// Language is the one that the caller reads best, "" when it does not say.
func Language(c *gin.Context) string {
	wanted, _, err := language.ParseAcceptLanguage(c.GetHeader("Accept-Language"))
	if err != nil || len(wanted) == 0 {
		return ""
	}
	return wanted[0].String()
}

// InLanguage leaves of texts by language the one that fits what the caller
// reads (Accept-Language, RFC 9110 section 12.5.4; matched as in BCP 47): else
// English, else any. A caller that does not say gets them all.
func InLanguage[T any](c *gin.Context, texts map[string]T) map[string]T {
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
