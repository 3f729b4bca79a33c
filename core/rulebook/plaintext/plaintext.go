// Package plaintext reads the texts for people that a rulebook has, by language, and takes them apart.
package plaintext

import (
	"regexp"
	"slices"
	"strings"

	"ironledger.example/core/rulebook/tree"
)

// Remedy is what a person does to pass a rule, in one language.
type Remedy struct {
	Steps string `json:"steps,omitempty"`
	Title string `json:"title"`
}

// Languages reads a mapping from language tags (BCP 47, as en or sv-FI).
func Languages(f tree.Field, each func(lang string, f tree.Field)) {
	fields, _ := f.Fields()
	for _, lang := range fields {
		if !LanguageTag.MatchString(lang.Key) {
			lang.KeyAt.Fail("%q is not a language tag such as en or sv", lang.Key)
			continue
		}
		each(lang.Key, lang)
	}
}

// LanguageTag is what tags of languages look like (RFC 5646, section 2.1),
// without the rare forms.
var LanguageTag = regexp.MustCompile(`^[a-z]{2,3}(-[0-9A-Za-z]{2,8}){0,3}$`)

// markup finds HTML, and link finds Markdown's links: [text](address).
var (
	markup = regexp.MustCompile(`<[/!a-zA-Z]`)
	link   = regexp.MustCompile(`\[([^\]\n]*)\]\(([^)\n]*)\)`)
)

// Remedies reads what a person does to pass a rule, by language.
func Remedies(f tree.Field) map[string]Remedy {
	out := map[string]Remedy{}
	Languages(f, func(lang string, f tree.Field) {
		var r Remedy
		f.Mapping("a remedy", map[string]func(tree.Field){
			"title": func(f tree.Field) { f.Text(&r.Title); Check(f.Item, r.Title, false) },
			"steps": func(f tree.Field) { f.Text(&r.Steps); Check(f.Item, r.Steps, true) },
		})
		if r.Title == "" {
			f.KeyAt.Fail("a remedy needs a title")
		}
		out[lang] = r
	})
	return out
}

// Language picks the text for a language: the one asked for, English, or the
// first there is.
func Language[T any](texts map[string]T, lang string) (T, bool) {
	for _, l := range []string{lang, strings.SplitN(lang, "-", 2)[0], "en"} {
		if t, ok := texts[l]; ok {
			return t, true
		}
	}
	keys := make([]string, 0, len(texts))
	for k := range texts {
		keys = append(keys, k)
	}
	if len(keys) == 0 {
		var zero T
		return zero, false
	}
	return texts[slices.Min(keys)], true
}

// Piece is a part of a text for people: text, or a link.
type Piece struct{ Text, URL string }

// Pieces takes a text for people apart: links stand in it as [text](https://…).
func Pieces(text string) (out []Piece) {
	for text != "" {
		before, rest, found := strings.Cut(text, "[")
		label, after, closed := strings.Cut(rest, "](")
		target, tail, ended := strings.Cut(after, ")")
		if !found || !closed || !ended || !strings.HasPrefix(target, "https://") {
			return append(out, Piece{Text: text})
		}
		if before != "" {
			out = append(out, Piece{Text: before})
		}
		out = append(out, Piece{label, target})
		text = tail
	}
	return out
}

// Check refuses what a text for people must not hold: HTML anywhere, and links
// to other than web pages, mail and telephones.
func Check(it tree.Item, text string, links bool) {
	if at := markup.FindString(text); at != "" {
		it.Fail("%q begins HTML; a remedy is plain text, with links written as [text](https://…)", at)
	}
	for _, m := range link.FindAllStringSubmatch(text, -1) {
		switch {
		case !links:
			it.Fail("a title has no links; put %s into the steps", m[0])
		case m[1] == "" || !strings.HasPrefix(m[2], "https://") && !strings.HasPrefix(m[2], "mailto:") &&
			!strings.HasPrefix(m[2], "tel:"):
			it.Fail("%s is not a link to https, mailto or tel", m[0])
		}
	}
}
