package posture

import (
	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/value"
)

// Quarantine stands among what binds a device that a person's own order holds at the lowest level.
const Quarantine = "quarantine"

// QuarantineRemedy is what the person of such a device does, by language.
var QuarantineRemedy = map[string]plaintext.Remedy{
	"en": {Title: "This device is in quarantine", Steps: "Somebody has closed it off. Ask the help desk."},
	"sv": {Title: "Enheten är i karantän", Steps: "Någon har stängt av den. Fråga helpdesk."},
}

// RemedyOf is what to do about something that binds a device, by language: a rule, or a quarantine; nil for nothing.
func RemedyOf(rb *rulebook.Rulebook, binding string) map[string]plaintext.Remedy {
	if binding == Quarantine {
		return QuarantineRemedy
	}
	if r := rb.Rule(binding); r != nil {
		return r.Remedy
	}
	return nil
}

// Standing is an appraisal told in full.
type Standing struct {
	Level string `json:"level"`
	// ShadowLevel is the level if shadow baselines were enforced.
	ShadowLevel string `json:"shadow_level"`
	// Covered is false when no enforced baseline applies for certain and asks
	// something of the device.
	Covered bool `json:"covered"`
	// Binding are the rules whose cap is the level: what holds the device down.
	Binding  []string `json:"binding"`
	Verdicts []Ruling `json:"verdicts"`
	// Reach lists, for each level above the present one, the rules to pass.
	Reach []Step `json:"reach"`
	// NextChange is when a verdict could next differ without new evidence, in
	// RFC 3339; nil for never.
	NextChange *string `json:"next_change"`
}

// Ruling is the verdict of one rule, with its reasons.
type Ruling struct {
	Rule    string  `json:"rule"` // baseline/rule
	Title   string  `json:"title,omitempty"`
	Verdict Verdict `json:"verdict"`
	Shadow  bool    `json:"shadow,omitempty"` // the baseline has no effect yet
	// HoldsAt is the level the device is held at by this rule; "" when it is
	// held by nothing.
	HoldsAt    string `json:"holds_at,omitempty"`
	Binding    bool   `json:"binding,omitempty"`
	GraceUntil string `json:"grace_until,omitempty"`
	// WaivedUntil is when the waiver that lifts the rule ends.
	WaivedUntil string `json:"waived_until,omitempty"`
	// FailingSince is when the rule began to fail.
	FailingSince string                      `json:"failing_since,omitempty"`
	Check        string                      `json:"check,omitempty"`
	Why          []condition.Leaf            `json:"why"`
	Remedy       map[string]plaintext.Remedy `json:"remedy,omitempty"`
	// Mend is set when passing the rule would lift the device now, or keep it from
	// falling when a grace is over: there is something to do for somebody.
	Mend bool `json:"mend,omitempty"`
}

// Step is what it takes to reach a level.
type Step struct {
	Level string   `json:"level"`
	Rules []string `json:"rules"`
}

type origins struct {
	view *evidence.View
	now  int64
}

func (o origins) Origin(_, slot int) condition.Origin { return o.view.Origin(slot, o.now) }

// Explain tells the result r of Appraise in full. The env must be the one that
// Appraise was given, and view the evidence in it.
func (p *Program) Explain(env *condition.Env, view *evidence.View, r *Result) *Standing {
	s := &Standing{
		Level: p.rb.LevelName(r.Level), ShadowLevel: p.rb.LevelName(r.Shadow), Covered: r.Covered,
		Binding: []string{}, Verdicts: []Ruling{}, Reach: []Step{}, NextChange: moment(p.Next(env, r)),
	}
	if r.quarantined(env.Now) {
		s.Binding = append(s.Binding, Quarantine)
	}
	platform := p.platformOf(env)
	for _, b := range p.baselines {
		for i := b.first; i < b.end; i++ {
			if r.Verdicts[i] == None {
				continue
			}
			ruling := p.ruling(env, view, r, i, platform)
			ruling.Shadow = b.Mode == rulebook.Shadow
			held := p.holds(i, r.Verdicts[i])
			if held < p.rb.Top() {
				ruling.HoldsAt = p.rb.LevelName(held)
			}
			falls := ruling.Verdict == Grace && p.rules[i].cap < p.rb.Top()
			ruling.Mend = !ruling.Shadow && (held < p.rb.Top() || falls)
			if !ruling.Shadow && held == r.Level && held < p.rb.Top() {
				ruling.Binding = true
				s.Binding = append(s.Binding, ruling.Rule)
			}
			s.Verdicts = append(s.Verdicts, ruling)
		}
	}
	for l := r.Level + 1; l <= p.ceiling(r.Covered, r); l++ {
		step := Step{p.rb.LevelName(l), p.Below(r, l)}
		if r.quarantined(env.Now) {
			step.Rules = append([]string{Quarantine}, step.Rules...)
		}
		s.Reach = append(s.Reach, step)
	}
	return s
}

// Below lists the rules that hold a device below a level: what to pass to reach it.
func (p *Program) Below(r *Result, level rulebook.Level) []string {
	rules := []string{}
	p.eachBelow(r, level, func(i int) { rules = append(rules, p.rules[i].key) })
	return rules
}

func (p *Program) eachBelow(r *Result, level rulebook.Level, visit func(i int)) {
	for _, b := range p.baselines {
		for i := b.first; i < b.end; i++ {
			if b.Mode == rulebook.Enforce && p.holds(i, r.Verdicts[i]) < level {
				visit(i)
			}
		}
	}
}

// Binding lists the rules whose cap is the level of r, when that is not the top.
func (p *Program) Binding(r *Result) []string {
	if r.Level == p.rb.Top() {
		return []string{}
	}
	below := p.Below(r, r.Level+1)
	if r.Quarantined != 0 && r.Level == 0 { // it holds: an order that ended holds no level
		below = append([]string{Quarantine}, below...)
	}
	return below
}

// Binds visits the rules that [Program.Binding] lists, by their place among RuleKeys. A person's own order is none.
func (p *Program) Binds(r *Result, visit func(i int)) {
	if r.Level != p.rb.Top() {
		p.eachBelow(r, r.Level+1, visit)
	}
}

// ShadowBinding lists the rules whose cap would be the level if shadow
// baselines were enforced.
func (p *Program) ShadowBinding(r *Result) []string {
	rules := []string{}
	for i := range p.rules {
		if held := p.holds(i, r.Verdicts[i]); held == r.Shadow && held < p.rb.Top() {
			rules = append(rules, p.rules[i].key)
		}
	}
	return rules
}

func (p *Program) ruling(env *condition.Env, view *evidence.View, r *Result, i, platform int) Ruling {
	rl := &p.rules[i]
	out := Ruling{Rule: rl.key, Title: rl.Title, Verdict: r.Verdicts[i], Remedy: rl.Remedy, Why: []condition.Leaf{}}
	switch out.Verdict {
	case Grace:
		out.GraceUntil = value.FormatTime(r.Since[i] + rl.Grace)
	case Waived:
		out.WaivedUntil = value.FormatTime(r.Waived[i])
	}
	if r.Since != nil && r.Since[i] != 0 {
		out.FailingSince = value.FormatTime(r.Since[i])
	}
	check := p.check(i, platform)
	if check == nil {
		out.Why = []condition.Leaf{{Condition: "known(platform)", Path: "platform", Required: "known",
			Unknown: view.Origin(p.platform, env.Now).Why}}
		return out
	}
	out.Check = check.String()
	_, out.Why = check.Explain(env, origins{view, env.Now})
	if out.Why == nil {
		out.Why = []condition.Leaf{}
	}
	return out
}

// Why returns the parts of the check of rule i, in the order of RuleKeys, that
// decided its verdict in r.
func (p *Program) Why(env *condition.Env, view *evidence.View, r *Result, i int) []condition.Leaf {
	return p.ruling(env, view, r, i, p.platformOf(env)).Why
}

func moment(at int64) *string {
	if at == condition.Always {
		return nil
	}
	s := value.FormatTime(at)
	return &s
}

// Holding explains the rules that hold a device below a level, as Explain
// would, and nothing else.
func (p *Program) Holding(env *condition.Env, view *evidence.View, r *Result, level rulebook.Level) []Ruling {
	var out []Ruling
	platform := p.platformOf(env)
	for _, b := range p.baselines {
		for i := b.first; i < b.end; i++ {
			if held := p.holds(i, r.Verdicts[i]); b.Mode == rulebook.Enforce && held < level {
				ruling := p.ruling(env, view, r, i, platform)
				ruling.HoldsAt = p.rb.LevelName(held)
				out = append(out, ruling)
			}
		}
	}
	return out
}
