package rulebook

import (
	"ironledger.example/core/condition"
	"ironledger.example/core/control"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook/plaintext"
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
			"id":       func(f tree.Field) { f.ID(&b.ID) },
			"title":    func(f tree.Field) { f.Text(&b.Title) },
			"mode":     func(f tree.Field) { modeOf(f, &b.Mode) },
			"applies":  func(f tree.Field) { b.Applies = f.Condition(l.rb.Dict) },
			"rules":    func(f tree.Field) { rules = f.Seq() },
			"controls": func(f tree.Field) { b.Controls = control.ReadIDs(f) },
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
		"id":       func(f tree.Field) { f.ID(&r.ID) },
		"title":    func(f tree.Field) { f.Text(&r.Title) },
		"check":    func(f tree.Field) { checked = true; r.Checks = l.checks(f) },
		"cap":      func(f tree.Field) { l.level(f.Item, &r.Cap) },
		"unknown":  func(f tree.Field) { l.level(f.Item, &r.Unknown) },
		"grace":    func(f tree.Field) { f.Duration(&r.Grace) },
		"remedy":   func(f tree.Field) { r.Remedy = plaintext.Remedies(f) },
		"controls": func(f tree.Field) { r.Controls = control.ReadIDs(f) },
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

func modeOf(f tree.Field, into *Mode) {
	if i, ok := f.Word("mode", Modes); ok {
		*into = Mode(Modes[i])
	}
}
