package rulebook

import (
	"cmp"
	"slices"
	"strings"

	"ironledger.example/core/control"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/rulebook/tree"
	"ironledger.example/core/value"
)

// DefaultValid is how long an answer may be relied on when a gate does not
// say: five minutes, in microseconds.
const DefaultValid = 5 * 60 * 1_000_000

func (l *loader) gates() {
	seen, numbers := unique{}, map[int]string{}
	for _, it := range l.members("gates") {
		g := Gate{Where: it.Position(), Mode: Enforce, ValidFor: DefaultValid}
		said := map[string]bool{}
		ok := it.Mapping("a gate", map[string]func(tree.Field){
			"id":        func(f tree.Field) { f.ID(&g.ID) },
			"number":    func(f tree.Field) { l.number(f, &g.Number) },
			"title":     func(f tree.Field) { f.Text(&g.Title) },
			"mode":      func(f tree.Field) { modeOf(f, &g.Mode) },
			"who":       func(f tree.Field) { said["who"] = true; l.who(f, &g.Who) },
			"what":      func(f tree.Field) { said["what"] = true; l.what(f, &g.What) },
			"when":      func(f tree.Field) { g.When = f.Condition(l.rb.Names) },
			"need":      func(f tree.Field) { said["need"] = true; g.Need = f.Condition(l.rb.Names) },
			"otherwise": func(f tree.Field) { i, _ := f.Word("choice", []string{"deny", "step-up"}); g.StepUp = i == 1 },
			"message":   func(f tree.Field) { g.Message = messages(f) },
			"valid_for": func(f tree.Field) { f.Duration(&g.ValidFor) },
			"controls":  func(f tree.Field) { g.Controls = control.ReadIDs(f) },
		})
		if !ok || !l.named(it, "a gate", g.ID) || !seen.add(it, "gates", g.ID) {
			continue
		}
		for _, key := range []string{"who", "what", "need"} {
			if !said[key] {
				it.Fail("the gate %s needs %s", g.ID, key)
			}
		}
		if other := numbers[g.Number]; other != "" && g.Number > 0 {
			it.Fail("the gates %s and %s both have the number %d", other, g.ID, g.Number)
		}
		numbers[g.Number] = g.ID
		l.rb.Gates = append(l.rb.Gates, g)
	}
	place := func(g Gate) uint { return uint(g.Number) - 1 } // those without a number come last
	slices.SortStableFunc(l.rb.Gates, func(a, b Gate) int { return cmp.Compare(place(a), place(b)) })
}

func (l *loader) number(f tree.Field, into *int) {
	v, ok := f.Value(value.Of(value.Int))
	if ok && (v.Num() < 1 || v.Num() > 1_000_000) {
		f.Fail("the number of a gate is between 1 and 1000000")
		return
	}
	*into = int(v.Num())
}

func messages(f tree.Field) map[string]string {
	out := map[string]string{}
	plaintext.Languages(f, func(lang string, f tree.Field) {
		var s string
		f.Text(&s)
		plaintext.Check(f.Item, s, true)
		out[lang] = s
	})
	return out
}

func (l *loader) who(f tree.Field, w *Who) {
	f.Mapping("who", map[string]func(tree.Field){
		"everyone": func(f tree.Field) { f.Boolean(&w.Everyone) },
		"users":    func(f tree.Field) { w.Users = f.Texts() },
		"groups":   func(f tree.Field) { w.Groups = f.Texts() },
		"except": func(f tree.Field) {
			f.Mapping("except", map[string]func(tree.Field){
				"users":  func(f tree.Field) { w.ExceptUsers = f.Texts() },
				"groups": func(f tree.Field) { w.ExceptGroups = f.Texts() },
			})
		},
	})
	if !w.Everyone && len(w.Users)+len(w.Groups) == 0 {
		f.KeyAt.Fail("who needs groups, users or everyone: true")
	}
}

func (l *loader) what(f tree.Field, w *What) {
	f.Mapping("what", map[string]func(tree.Field){
		"everything": func(f tree.Field) { f.Boolean(&w.Everything) },
		"resources":  func(f tree.Field) { w.Resources = l.resources(f) },
		"tags":       func(f tree.Field) { w.Tags = l.knownTags(f) },
		"actions":    func(f tree.Field) { w.Actions = f.Texts() },
		"except": func(f tree.Field) {
			f.Mapping("except", map[string]func(tree.Field){
				"resources": func(f tree.Field) { w.ExceptResources = l.resources(f) },
				"tags":      func(f tree.Field) { w.ExceptTags = l.knownTags(f) },
			})
		},
	})
	if !w.Everything && len(w.Resources)+len(w.Tags) == 0 {
		f.KeyAt.Fail("what needs resources, tags or everything: true")
	}
}

func (l *loader) resources(f tree.Field) []string {
	ids := make([]string, len(l.rb.Resources))
	for i, r := range l.rb.Resources {
		ids[i] = r.ID
	}
	return f.References("resource", ids)
}

func (l *loader) knownTags(f tree.Field) []string { return f.References("tag of a resource", l.tags) }

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
