// Package review finds what is allowed in a rulebook and likely not meant.
package review

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

// Remark is something in a rulebook that is allowed and yet likely not meant.
type Remark struct {
	Kind    string            `json:"kind"`
	About   string            `json:"about"` // baseline, baseline/rule, gate or section
	Message string            `json:"message"`
	Where   rulebook.Position `json:"where"`
}

func (r Remark) String() string {
	if r.Where.File == "" {
		return r.Message
	}
	return fmt.Sprintf("%s:%d: %s", r.Where.File, r.Where.Line, r.Message)
}

// The kinds of remark.
const (
	NeverApplies  = "never-applies"  // a rule or a baseline that no device can meet
	CoversNothing = "covers-nothing" // a baseline that covers no device of the fleet
	Uncovered     = "uncovered"      // devices that no enforced baseline covers
	NoSource      = "no-source"      // an attribute that no source supplies
	Overshadowed  = "overshadowed"   // a gate that another makes superfluous
	Unreachable   = "unreachable"    // a level that no device can have
	NoRemedy      = "no-remedy"      // a rule that says nothing of its cure
	NoBreakGlass  = "no-break-glass" // nobody passes every gate
	IssuerEnded   = "issuer-ended"   // an issuer or its revocation list that has ended
	NoExamples    = "no-examples"    // the rulebook has no examples
	NoBands       = "no-threat-bands"
	NoIssuer      = "no-issuer"   // a condition on trust without an issuer
	NeverGranted  = "never-given" // a grant of a network behind one that everybody is given
	Unguarded     = "unguarded"   // a network that no gate in force is about
	OnlyClaimed   = "claimed"     // people on a network are who their devices say

	UnknownControl = "unknown-control" // one that no catalogue has
	Unserved       = "unserved"        // a control that nothing in force serves
)

// FleetCoverage is what a fleet shows of a rulebook's reach.
type FleetCoverage struct {
	Devices   int
	Baselines map[string]int // by baseline: the devices it covers, in doubt too
	Uncovered map[string]int // by platform: devices under no enforced baseline
}

// Of finds what is likely not meant in a rulebook, at now. The fleet is nil when there
// is none to look at.
func Of(rb *rulebook.Rulebook, fleet *FleetCoverage, now int64) []Remark {
	r := &reviewer{rb: rb}
	for i := range rb.Baselines {
		r.baseline(&rb.Baselines[i], fleet)
	}
	r.sources()
	r.gates()
	r.networks()
	r.controls()
	r.levels()
	r.trust(now)
	if len(rb.BreakGlass) == 0 {
		r.say(NoBreakGlass, "break_glass", rulebook.Position{},
			"no break-glass account: if a gate locks everybody out, nobody gets in")
	}
	if len(rb.Examples) == 0 {
		r.say(NoExamples, "examples", rulebook.Position{},
			"no examples: nothing shows that the rules mean what their author meant")
	}
	if fleet != nil {
		for _, platform := range slices.Sorted(maps.Keys(fleet.Uncovered)) {
			r.say(Uncovered, "uncovered", rulebook.Position{}, "%d of %d devices stand under no enforced baseline: %s",
				fleet.Uncovered[platform], fleet.Devices, platform)
		}
	}
	return r.out
}

type reviewer struct {
	rb  *rulebook.Rulebook
	out []Remark
}

func (r *reviewer) say(kind, about string, where rulebook.Position, format string, args ...any) {
	r.out = append(r.out, Remark{kind, about, fmt.Sprintf(format, args...), where})
}

// possible reports whether a condition over devices can be other than false
// for a platform, whatever else is true of the device: with nothing else known
// of it, three values tell.
func (r *reviewer) possible(p *condition.Program, platform string) bool {
	if strings.Contains(p.String(), "known(") {
		return true // what is not known now may be known of a device
	}
	env := &condition.Env{Now: 1}
	env.Frames[evidence.DeviceFrame] = r.rb.Dict.OfPlatform(platform)
	return p.Eval(env) != condition.False
}

func (r *reviewer) baseline(b *rulebook.Baseline, fleet *FleetCoverage) {
	if b.Mode == rulebook.Draft {
		return
	}
	var platforms []string
	for _, p := range evidence.Platforms() {
		if r.possible(b.Applies, p) {
			platforms = append(platforms, p)
		}
	}
	if len(platforms) == 0 {
		r.say(NeverApplies, b.ID, b.Where,
			"the baseline %s can apply to no device: its condition %s is false on every platform", b.ID, b.Applies)
		return
	}
	if fleet != nil && fleet.Devices > 0 && fleet.Baselines[b.ID] == 0 {
		r.say(CoversNothing, b.ID, b.Where, "the baseline %s covers none of today's %d devices", b.ID,
			fleet.Devices)
	}
	for i := range b.Rules {
		rule := &b.Rules[i]
		key := b.ID + "/" + rule.ID
		if !slices.ContainsFunc(platforms, func(p string) bool { return rule.Check(p) != nil }) {
			r.say(NeverApplies, key, rule.Where,
				"the rule %s has checks for %s alone, which its baseline never covers", key,
				strings.Join(slices.Sorted(maps.Keys(rule.Checks)), ", "))
		}
		for p, c := range rule.Checks {
			if len(c.Reads()) == 0 {
				r.say(NeverApplies, key, rule.Where, "the check %s of %s asks nothing of the device",
					strings.TrimSpace(p+" "+c.String()), key)
			}
		}
		if b.Mode == rulebook.Enforce && len(rule.Remedy) == 0 && min(rule.Cap, rule.Unknown) < r.rb.Top() {
			r.say(NoRemedy, key, rule.Where, "the rule %s holds devices down and says nothing of what to do", key)
		}
	}
}

// sources finds attributes that conditions read and that no source supplies.
func (r *reviewer) sources() {
	told := map[string]bool{}
	check := func(p *condition.Program, about string, where rulebook.Position) {
		if p == nil {
			return
		}
		for _, name := range p.Reads() {
			if name == "threat.level" && r.rb.Policy.Bands == nil && !told[name] && !r.levelled() {
				told[name] = true
				r.say(NoBands, about, where, "%s reads threat.level, and there are no threat_bands: of a source that gives a "+
					"score alone it stays unknown", about)
				continue
			}
			slot := r.rb.Dict.Slot(name)
			if r.rb.Policy.Sources == nil || slot < 0 || r.rb.Dict.Attributes()[slot].ByService || told[name] ||
				r.supplied(name) {
				continue
			}
			told[name] = true
			r.say(NoSource, about, where, "%s reads %s, which no source provides: it stays unknown", about, name)
		}
	}
	for _, b := range r.rb.Baselines {
		check(b.Applies, b.ID, b.Where)
		for _, rule := range b.Rules {
			for _, p := range slices.Sorted(maps.Keys(rule.Checks)) {
				check(rule.Checks[p], b.ID+"/"+rule.ID, rule.Where)
			}
		}
	}
	for _, g := range r.rb.Gates {
		check(g.When, g.ID, g.Where)
		check(g.Need, g.ID, g.Where)
	}
}

// levelled reports whether a source is said to give levels of threats by itself.
func (r *reviewer) levelled() bool {
	return slices.ContainsFunc(r.rb.Policy.Sources, func(s evidence.SourceRule) bool {
		return slices.Contains(s.Provides, "threat.level")
	})
}

func (r *reviewer) supplied(name string) bool {
	return slices.ContainsFunc(r.rb.Policy.Sources, func(s evidence.SourceRule) bool {
		return slices.ContainsFunc(s.Provides, func(p string) bool {
			// A level follows from a score.
			return evidence.Covers(p, name) || name == "threat.level" && r.rb.Policy.Bands != nil &&
				evidence.Covers(p, "threat.score")
		})
	})
}

// gates finds enforced gates that ask nothing that another does not ask of the
// same requests already.
func (r *reviewer) gates() {
	for i := range r.rb.Gates {
		for j := range r.rb.Gates {
			g, h := &r.rb.Gates[i], &r.rb.Gates[j]
			if i == j || g.Mode != rulebook.Enforce || h.Mode != rulebook.Enforce || !within(g, h) || !asks(h.Need, g.Need) ||
				h.StepUp && !g.StepUp {
				continue
			}
			if within(h, g) && asks(g.Need, h.Need) && i < j {
				continue // twins: the later one is told of
			}
			r.say(Overshadowed, g.ID, g.Where,
				"the gate %s changes nothing: %s already asks as much of the same requests", g.ID, h.ID)
			break
		}
	}
}

// within reports whether every request that g matches is one that h matches,
// as far as their lists show.
func within(g, h *rulebook.Gate) bool {
	all := func(a, b []string) bool {
		return !slices.ContainsFunc(a, func(s string) bool { return !slices.Contains(b, s) })
	}
	who := h.Who.Everyone || !g.Who.Everyone && all(g.Who.Users, h.Who.Users) && all(g.Who.Groups, h.Who.Groups)
	what := h.What.Everything || !g.What.Everything && all(g.What.Resources, h.What.Resources) &&
		all(g.What.Tags, h.What.Tags)
	actions := len(h.What.Actions) == 0 || len(g.What.Actions) > 0 && all(g.What.Actions, h.What.Actions)
	except := all(h.Who.ExceptUsers, g.Who.ExceptUsers) && all(h.Who.ExceptGroups, g.Who.ExceptGroups) &&
		all(h.What.ExceptResources, g.What.ExceptResources) && all(h.What.ExceptTags, g.What.ExceptTags)
	when := h.When == nil || g.When != nil && g.When.String() == h.When.String()
	return who && what && actions && except && when
}

// asks reports whether a need holds every part of another.
func asks(whole, part *condition.Program) bool {
	parts := func(p *condition.Program) []string {
		if l, ok := p.Node().(*syntax.Logic); ok && l.And {
			var out []string
			for _, k := range l.Kids {
				out = append(out, k.String())
			}
			return out
		}
		return []string{p.String()}
	}
	has := parts(whole)
	return !slices.ContainsFunc(parts(part), func(s string) bool { return !slices.Contains(has, s) })
}

// networks finds networks that nobody guards, and grants that nobody is given.
func (r *reviewer) networks() {
	for i := range r.rb.Networks {
		n := &r.rb.Networks[i]
		if !slices.ContainsFunc(r.rb.Gates, func(g rulebook.Gate) bool {
			return g.Mode == rulebook.Enforce &&
				r.about(&g, n.ID)
		}) {
			effect := "nobody joins it: unmatched requests are denied"
			if r.rb.Unmatched {
				effect = "only its grants say who joins it"
			}
			r.say(Unguarded, n.ID, n.Where, "no enforced gate is about the network %s, so that %s", n.ID, effect)
		}
		if n.Person == rulebook.PersonClaimed {
			r.say(OnlyClaimed, n.ID, n.Where, "on the network %s people are who their devices say, which nobody proves: "+
				"any device can name anybody", n.ID)
		}
		for j := range n.Grants {
			if n.Grants[j].When.String() == "true" && j+1 < len(n.Grants) {
				r.say(NeverGranted, n.ID, n.Grants[j+1].Where,
					"the grant %s of %s is given to nobody, nor is any after it: %s, before it, is given to everybody",
					n.Grants[j+1].ID, n.ID, n.Grants[j].ID)
				break
			}
		}
	}
}

// controls finds ids that no catalogue has, and controls that nothing in force serves.
func (r *reviewer) controls() {
	served := map[string]bool{}
	see := func(ids []string, about string, where rulebook.Position, inForce bool) {
		for _, id := range ids {
			served[id] = served[id] || inForce
			if r.rb.Controls.Control(id) == nil {
				hint := "no catalogue is in the rulebook"
				if near := condition.Nearest(id, r.rb.Controls.IDs()); near != "" {
					hint = "did you mean " + near + "?"
				} else if len(r.rb.Controls.Controls) > 0 {
					hint = "it is not in the catalogue"
				}
				r.say(UnknownControl, about, where, "%s serves the control %s, which nobody knows: %s", about, id, hint)
			}
		}
	}
	for i := range r.rb.Baselines {
		b := &r.rb.Baselines[i]
		see(b.Controls, b.ID, b.Where, b.Mode == rulebook.Enforce)
		for j := range b.Rules {
			see(b.Rules[j].Controls, b.ID+"/"+b.Rules[j].ID, b.Rules[j].Where, b.Mode == rulebook.Enforce)
		}
	}
	for i := range r.rb.Gates {
		see(r.rb.Gates[i].Controls, r.rb.Gates[i].ID, r.rb.Gates[i].Where, r.rb.Gates[i].Mode == rulebook.Enforce)
	}
	var none []string
	for _, c := range r.rb.Controls.Controls {
		if !served[c.ID] {
			none = append(none, c.ID)
		}
	}
	if more := len(none) - maxUnserved; more > 0 {
		none = append(none[:maxUnserved], fmt.Sprintf("and %d more", more))
	}
	if len(none) > 0 {
		r.say(Unserved, "controls", rulebook.Position{}, "nothing in force serves %s", strings.Join(none, ", "))
	}
}

// maxUnserved bounds how many controls one remark names.
const maxUnserved = 20

// about reports whether a gate is about a resource.
func (r *reviewer) about(g *rulebook.Gate, resource string) bool {
	var tags []string
	for _, x := range r.rb.Resources {
		if x.ID == resource {
			tags = x.Tags
		}
	}
	has := func(list []string) bool {
		return slices.ContainsFunc(list, func(t string) bool { return slices.Contains(tags, t) })
	}
	w := &g.What
	return (w.Everything || slices.Contains(w.Resources, resource) || has(w.Tags)) &&
		!slices.Contains(w.ExceptResources, resource) && !has(w.ExceptTags)
}

// levels finds levels of the ladder that no rule leads to.
func (r *reviewer) levels() {
	reached := map[rulebook.Level]bool{r.rb.Top(): true, r.rb.Uncovered: true}
	for _, b := range r.rb.Baselines {
		for _, rule := range b.Rules {
			if b.Mode == rulebook.Enforce {
				reached[rule.Cap], reached[rule.Unknown] = true, true
			}
		}
	}
	for l, name := range r.rb.Ladder {
		if !reached[rulebook.Level(l)] {
			r.say(Unreachable, name, rulebook.Position{},
				"no device can stand at %s: no enforced rule has it for a cap", name)
		}
	}
}

func (r *reviewer) trust(now int64) {
	for _, is := range r.rb.Issuers() {
		if now > is.NotAfter {
			r.say(IssuerEnded, is.ID, rulebook.Position{}, "the certificates of the issuer %s ended on %s", is.ID,
				value.FormatTime(is.NotAfter))
		}
		if is.CRLEnds != 0 && now > is.CRLEnds {
			r.say(IssuerEnded, is.ID, rulebook.Position{},
				"the revocation list of the issuer %s ended on %s: whether its certificates are revoked is not "+
					"known", is.ID, value.FormatTime(is.CRLEnds))
		}
	}
	if len(r.rb.Policy.Issuers) > 0 {
		return
	}
	for _, b := range r.rb.Baselines {
		for _, rule := range b.Rules {
			for _, c := range rule.Checks {
				if text := c.String(); slices.Contains(c.Reads(), "certs") &&
					strings.Contains(text, ".trusted") && b.Mode != rulebook.Draft {
					r.say(NoIssuer, b.ID+"/"+rule.ID, rule.Where,
						"the rule %s/%s asks for trusted certificates, and the rulebook has no issuers", b.ID,
						rule.ID)
					return
				}
			}
		}
	}
}
