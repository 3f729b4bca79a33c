package rulebook

import (
	"cmp"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/value"
)

// DefaultValid is how long an answer may be relied on when a gate does not
// say: five minutes, in microseconds.
const DefaultValid = 5 * 60 * 1_000_000

func (l *loader) gates() {
	seen, numbers := unique{}, map[int]string{}
	for _, it := range l.members("gates") {
		g := Gate{Where: it.position(), Mode: Enforce, ValidFor: DefaultValid}
		said := map[string]bool{}
		ok := it.mapping("a gate", map[string]func(field){
			"id":        func(f field) { f.id(&g.ID) },
			"number":    func(f field) { l.number(f, &g.Number) },
			"title":     func(f field) { f.text(&g.Title) },
			"mode":      func(f field) { f.mode(&g.Mode) },
			"who":       func(f field) { said["who"] = true; l.who(f, &g.Who) },
			"what":      func(f field) { said["what"] = true; l.what(f, &g.What) },
			"when":      func(f field) { g.When = f.condition(l.rb.Names) },
			"need":      func(f field) { said["need"] = true; g.Need = f.condition(l.rb.Names) },
			"otherwise": func(f field) { i, _ := f.word("choice", []string{"deny", "step-up"}); g.StepUp = i == 1 },
			"message":   func(f field) { g.Message = messages(f) },
			"valid_for": func(f field) { f.duration(&g.ValidFor) },
		})
		if !ok || !l.named(it, "a gate", g.ID) || !seen.add(it, "gates", g.ID) {
			continue
		}
		for _, key := range []string{"who", "what", "need"} {
			if !said[key] {
				it.fail("the gate %s needs %s", g.ID, key)
			}
		}
		if other := numbers[g.Number]; other != "" && g.Number > 0 {
			it.fail("the gates %s and %s both have the number %d", other, g.ID, g.Number)
		}
		numbers[g.Number] = g.ID
		l.rb.Gates = append(l.rb.Gates, g)
	}
	place := func(g Gate) uint { return uint(g.Number) - 1 } // those without a number come last
	slices.SortStableFunc(l.rb.Gates, func(a, b Gate) int { return cmp.Compare(place(a), place(b)) })
}

func (l *loader) number(f field, into *int) {
	v, ok := f.value(value.Of(value.Int))
	if ok && (v.Num() < 1 || v.Num() > 1_000_000) {
		f.fail("the number of a gate is between 1 and 1000000")
		return
	}
	*into = int(v.Num())
}

func messages(f field) map[string]string {
	out := map[string]string{}
	languages(f, func(lang string, f field) {
		var s string
		f.text(&s)
		f.plain(s, true)
		out[lang] = s
	})
	return out
}

func (l *loader) who(f field, w *Who) {
	f.mapping("who", map[string]func(field){
		"everyone": func(f field) { f.boolean(&w.Everyone) },
		"users":    func(f field) { w.Users = f.texts() },
		"groups":   func(f field) { w.Groups = f.texts() },
		"except": func(f field) {
			f.mapping("except", map[string]func(field){
				"users":  func(f field) { w.ExceptUsers = f.texts() },
				"groups": func(f field) { w.ExceptGroups = f.texts() },
			})
		},
	})
	if !w.Everyone && len(w.Users)+len(w.Groups) == 0 {
		f.keyAt.fail("who needs groups, users or everyone: true")
	}
}

func (l *loader) what(f field, w *What) {
	f.mapping("what", map[string]func(field){
		"everything": func(f field) { f.boolean(&w.Everything) },
		"resources":  func(f field) { w.Resources = l.resources(f) },
		"tags":       func(f field) { w.Tags = l.knownTags(f) },
		"actions":    func(f field) { w.Actions = f.texts() },
		"except": func(f field) {
			f.mapping("except", map[string]func(field){
				"resources": func(f field) { w.ExceptResources = l.resources(f) },
				"tags":      func(f field) { w.ExceptTags = l.knownTags(f) },
			})
		},
	})
	if !w.Everything && len(w.Resources)+len(w.Tags) == 0 {
		f.keyAt.fail("what needs resources, tags or everything: true")
	}
}

func (l *loader) resources(f field) []string {
	ids := make([]string, len(l.rb.Resources))
	for i, r := range l.rb.Resources {
		ids[i] = r.ID
	}
	return f.references("resource", ids)
}

func (l *loader) knownTags(f field) []string { return f.references("tag of a resource", l.tags) }

func (f field) references(what string, known []string) []string {
	var out []string
	for _, m := range f.seq() {
		s, ok := m.scalar()
		if !ok {
			continue
		}
		if !slices.Contains(known, s) {
			hint := ""
			if near := condition.Nearest(s, known); near != "" {
				hint = "; did you mean " + near + "?"
			}
			m.fail("%s is not a %s in this rulebook%s", s, what, hint)
			continue
		}
		out = append(out, s)
	}
	return out
}

// String tells whom a gate is about.
func (w Who) String() string {
	s := listed([2]string{"groups", strings.Join(w.Groups, ", ")}, [2]string{"users", strings.Join(w.Users, ", ")})
	if w.Everyone {
		s = "everyone"
	}
	if e := listed([2]string{"groups", strings.Join(w.ExceptGroups, ", ")},
		[2]string{"users", strings.Join(w.ExceptUsers, ", ")}); e != "" {
		s += " except " + e
	}
	return s
}

// String tells what a gate is about.
func (w What) String() string {
	s := listed([2]string{"resources", strings.Join(w.Resources, ", ")},
		[2]string{"tags", strings.Join(w.Tags, ", ")})
	if w.Everything {
		s = "everything"
	}
	if e := listed([2]string{"resources", strings.Join(w.ExceptResources, ", ")},
		[2]string{"tags", strings.Join(w.ExceptTags, ", ")}); e != "" {
		s += " except " + e
	}
	if len(w.Actions) > 0 {
		s += ", actions " + strings.Join(w.Actions, ", ")
	}
	return s
}

func listed(parts ...[2]string) string {
	var out []string
	for _, p := range parts {
		if p[1] != "" {
			out = append(out, p[0]+" "+p[1])
		}
	}
	return strings.Join(out, " and ")
}
