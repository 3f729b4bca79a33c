package rulebook

import (
	"regexp"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook/tree"
)

var Modes = []string{string(Draft), string(Shadow), string(Enforce)}

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
		b := Baseline{Where: it.Position(), Mode: Enforce}
		var rules []tree.Item
		ok := it.Mapping("a baseline", map[string]func(tree.Field){
			"id":      func(f tree.Field) { f.ID(&b.ID) },
			"title":   func(f tree.Field) { f.Text(&b.Title) },
			"mode":    func(f tree.Field) { modeOf(f, &b.Mode) },
			"applies": func(f tree.Field) { b.Applies = f.Condition(l.rb.Dict) },
			"rules":   func(f tree.Field) { rules = f.Seq() },
		})
		if !ok || !l.named(it, "a baseline", b.ID) || !seen.add(it, "baselines", b.ID) {
			continue
		}
		if b.Applies == nil {
			b.Applies = always(l.rb.Dict)
		}
		if len(rules) == 0 {
			it.Fail("the baseline %s has no rules", b.ID)
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

func (l *loader) rule(it tree.Item) (Rule, bool) {
	r := Rule{Where: it.Position(), Cap: 0, Unknown: l.rb.Doubt()}
	checked := false
	ok := it.Mapping("a rule", map[string]func(tree.Field){
		"id":      func(f tree.Field) { f.ID(&r.ID) },
		"title":   func(f tree.Field) { f.Text(&r.Title) },
		"check":   func(f tree.Field) { checked = true; r.Checks = l.checks(f) },
		"cap":     func(f tree.Field) { l.level(f.Item, &r.Cap) },
		"unknown": func(f tree.Field) { l.level(f.Item, &r.Unknown) },
		"grace":   func(f tree.Field) { f.Duration(&r.Grace) },
		"remedy":  func(f tree.Field) { r.Remedy = remedies(f) },
		"waivable": func(f tree.Field) {
			waivable := true
			f.Boolean(&waivable)
			r.Strict = !waivable
		},
	})
	if ok && l.named(it, "a rule", r.ID) && !checked {
		it.Fail("the rule %s has no check", r.ID)
	}
	return r, ok && r.ID != ""
}

// checks reads one condition for all platforms, or a mapping of one a platform.
func (l *loader) checks(f tree.Field) map[string]*condition.Program {
	if f.Kind() != "a mapping" {
		return map[string]*condition.Program{"": f.Condition(l.rb.Dict)}
	}
	out := map[string]*condition.Program{}
	fields, _ := f.Fields()
	for _, p := range fields {
		if _, ok := p.KeyAt.Word("platform", evidence.Platforms()); ok {
			out[p.Key] = p.Condition(l.rb.Dict)
		}
	}
	return out
}

// languages reads a mapping from language tags (BCP 47, as en or sv-FI).
func languages(f tree.Field, each func(lang string, f tree.Field)) {
	fields, _ := f.Fields()
	for _, lang := range fields {
		if !languageTag.MatchString(lang.Key) {
			lang.KeyAt.Fail("%q is not a language tag such as en or sv", lang.Key)
			continue
		}
		each(lang.Key, lang)
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

func remedies(f tree.Field) map[string]Remedy {
	out := map[string]Remedy{}
	languages(f, func(lang string, f tree.Field) {
		var r Remedy
		f.Mapping("a remedy", map[string]func(tree.Field){
			"title": func(f tree.Field) { f.Text(&r.Title); plain(f.Item, r.Title, false) },
			"steps": func(f tree.Field) { f.Text(&r.Steps); plain(f.Item, r.Steps, true) },
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

func modeOf(f tree.Field, into *Mode) {
	if i, ok := f.Word("mode", Modes); ok {
		*into = Mode(Modes[i])
	}
}

// plain refuses what a text for people must not hold: HTML anywhere, and links
// to other than web pages, mail and telephones.
func plain(it tree.Item, text string, links bool) {
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
