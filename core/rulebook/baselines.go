package rulebook

import (
	"regexp"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
)

var Modes = []string{string(Draft), string(Shadow), string(Enforce)}

func (f field) mode(into *Mode) {
	if i, ok := f.word("mode", Modes); ok {
		*into = Mode(Modes[i])
	}
}

// always is the condition of what applies everywhere.
func always(dict condition.Dictionary) *condition.Program {
	p, err := condition.CompileText("true", dict)
	if err != nil {
		panic(err) // the language always has the word true
	}
	return p
}

func (l *loader) baselines() {
	seen := unique{}
	for _, it := range l.members("baselines") {
		b := Baseline{Where: it.position(), Mode: Enforce}
		var rules []item
		ok := it.mapping("a baseline", map[string]func(field){
			"id":      func(f field) { f.id(&b.ID) },
			"title":   func(f field) { f.text(&b.Title) },
			"mode":    func(f field) { f.mode(&b.Mode) },
			"applies": func(f field) { b.Applies = f.condition(l.rb.Dict) },
			"rules":   func(f field) { rules = f.seq() },
		})
		if !ok || !l.named(it, "a baseline", b.ID) || !seen.add(it, "baselines", b.ID) {
			continue
		}
		if b.Applies == nil {
			b.Applies = always(l.rb.Dict)
		}
		if len(rules) == 0 {
			it.fail("the baseline %s has no rules", b.ID)
		}
		ids := unique{}
		for _, r := range rules {
			if rule, ok := l.rule(r); ok && ids.add(r, "the baseline "+b.ID, rule.ID) {
				b.Rules = append(b.Rules, rule)
			}
		}
		l.rb.Baselines = append(l.rb.Baselines, b)
	}
}

func (l *loader) rule(it item) (Rule, bool) {
	r := Rule{Where: it.position(), Cap: 0, Unknown: l.rb.Doubt()}
	checked := false
	ok := it.mapping("a rule", map[string]func(field){
		"id":      func(f field) { f.id(&r.ID) },
		"title":   func(f field) { f.text(&r.Title) },
		"check":   func(f field) { checked = true; r.Checks = l.checks(f) },
		"cap":     func(f field) { l.level(f.item, &r.Cap) },
		"unknown": func(f field) { l.level(f.item, &r.Unknown) },
		"grace":   func(f field) { f.duration(&r.Grace) },
		"remedy":  func(f field) { r.Remedy = remedies(f) },
		"waivable": func(f field) {
			waivable := true
			f.boolean(&waivable)
			r.Strict = !waivable
		},
	})
	if ok && l.named(it, "a rule", r.ID) && !checked {
		it.fail("the rule %s has no check", r.ID)
	}
	return r, ok && r.ID != ""
}

// checks reads one condition for all platforms, or a mapping of one a platform.
func (l *loader) checks(f field) map[string]*condition.Program {
	if f.kind() != "a mapping" {
		return map[string]*condition.Program{"": f.condition(l.rb.Dict)}
	}
	out := map[string]*condition.Program{}
	fields, _ := f.fields()
	for _, p := range fields {
		if _, ok := p.keyAt.word("platform", evidence.Platforms()); ok {
			out[p.key] = p.condition(l.rb.Dict)
		}
	}
	return out
}

// languages reads a mapping from language tags (BCP 47, as en or sv-FI).
func languages(f field, each func(lang string, f field)) {
	fields, _ := f.fields()
	for _, lang := range fields {
		if !languageTag.MatchString(lang.key) {
			lang.keyAt.fail("%q is not a language tag such as en or sv", lang.key)
			continue
		}
		each(lang.key, lang)
	}
}

// languageTag is what tags of languages look like (RFC 5646, section 2.1),
// without the rare forms.
var languageTag = regexp.MustCompile(`^[a-z]{2,3}(-[0-9A-Za-z]{2,8}){0,3}$`)

// markup finds HTML, and link finds Markdown's links: [text](address).
var (
	markup = regexp.MustCompile(`<[/!a-zA-Z]`)
	link   = regexp.MustCompile(`\[([^\]\n]*)\]\(([^)\n]*)\)`)
)

// plain refuses what a text for people must not hold: HTML anywhere, and links
// to other than web pages, mail and telephones.
func (it item) plain(text string, links bool) {
	if at := markup.FindString(text); at != "" {
		it.fail("%q begins HTML; a remedy is plain text, with links written as [text](https://…)", at)
	}
	for _, m := range link.FindAllStringSubmatch(text, -1) {
		switch {
		case !links:
			it.fail("a title has no links; put %s into the steps", m[0])
		case m[1] == "" || !strings.HasPrefix(m[2], "https://") && !strings.HasPrefix(m[2], "mailto:") &&
			!strings.HasPrefix(m[2], "tel:"):
			it.fail("%s is not a link to https, mailto or tel", m[0])
		}
	}
}

func remedies(f field) map[string]Remedy {
	out := map[string]Remedy{}
	languages(f, func(lang string, f field) {
		var r Remedy
		f.mapping("a remedy", map[string]func(field){
			"title": func(f field) { f.text(&r.Title); f.plain(r.Title, false) },
			"steps": func(f field) { f.text(&r.Steps); f.plain(r.Steps, true) },
		})
		if r.Title == "" {
			f.keyAt.fail("a remedy needs a title")
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
