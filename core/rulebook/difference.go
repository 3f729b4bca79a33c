package rulebook

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
)

// Difference is one thing that differs between two rulebooks, in words.
type Difference struct {
	Section string `json:"section"` // settings, sources, issuers, places, resources, signals, baselines, gates
	About   string `json:"about"`   // the id of what differs, as baseline/rule
	Change  string `json:"change"`  // added, removed or changed
	Text    string `json:"text"`
}

// Compare tells what a rulebook changes, in the order of the document.
func Compare(before, after *Rulebook) []Difference {
	d := &differ{}
	d.settings(before, after)
	each(d, "sources", before.sourceFacts(), after.sourceFacts())
	each(d, "issuers", before.issuerFacts(), after.issuerFacts())
	each(d, "places", before.placeFacts(), after.placeFacts())
	each(d, "resources", before.resourceFacts(), after.resourceFacts())
	each(d, "signals", before.receiverFacts(), after.receiverFacts())
	each(d, "baselines", before.baselineFacts(), after.baselineFacts())
	each(d, "gates", before.gateFacts(), after.gateFacts())
	return d.out
}

type differ struct{ out []Difference }

func (d *differ) say(section, about, change, text string) {
	d.out = append(d.out, Difference{section, about, change, text})
}

// facts is a thing as named facts in the order in which people read them.
type facts struct {
	id    string
	what  string // how people call it, as "the gate payroll"
	facts [][2]string
}

// each compares two lists of things: what went, what came, and of those that
// stayed each fact that differs.
func each(d *differ, section string, before, after []facts) {
	find := func(list []facts, id string) *facts {
		if i := slices.IndexFunc(list, func(f facts) bool { return f.id == id }); i >= 0 {
			return &list[i]
		}
		return nil
	}
	for _, b := range before {
		if find(after, b.id) == nil {
			d.say(section, b.id, "removed", b.what+" is gone")
		}
	}
	for _, a := range after {
		b := find(before, a.id)
		if b == nil {
			var parts []string
			for _, f := range a.facts {
				if f[1] != "" && f[0] != "title" {
					parts = append(parts, f[0]+" "+f[1])
				}
			}
			d.say(section, a.id, "added", a.what+" is new: "+strings.Join(parts, "; "))
			continue
		}
		old := map[string]string{}
		for _, f := range b.facts {
			old[f[0]] = f[1]
		}
		for _, f := range a.facts {
			if old[f[0]] != f[1] {
				d.say(section, a.id, "changed", fmt.Sprintf("%s: %s %s, was %s", a.what, f[0], orNone(f[1]),
					orNone(old[f[0]])))
			}
			delete(old, f[0])
		}
		for _, name := range slices.Sorted(maps.Keys(old)) {
			d.say(section, a.id, "changed", fmt.Sprintf("%s: %s is gone, was %s", a.what, name, orNone(old[name])))
		}
	}
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func (d *differ) settings(a, b *Rulebook) {
	bands := func(rb *Rulebook) string {
		var parts []string
		for _, x := range rb.Policy.Bands {
			parts = append(parts, fmt.Sprintf("%s from %d", evidence.ThreatLevel.Enum.Words[x.Level], x.From))
		}
		return strings.Join(parts, ", ")
	}
	limits := func(rb *Rulebook) string {
		var parts []string
		for _, l := range rb.Policy.Limits {
			name := l.Prefix
			if name == "" {
				name = "default"
			}
			parts = append(parts, name+" "+value.FormatDuration(l.Max))
		}
		slices.Sort(parts)
		return strings.Join(parts, ", ")
	}
	custom := func(rb *Rulebook) string {
		var parts []string
		for _, x := range rb.Dict.Attributes() {
			if strings.HasPrefix(x.Name, "custom.") {
				parts = append(parts, x.Name+" "+x.Type.String())
			}
		}
		slices.Sort(parts)
		return strings.Join(parts, ", ")
	}
	combine := func(rb *Rulebook) string {
		var parts []string
		for _, c := range rb.Policy.Combine {
			parts = append(parts, c.Prefix+map[bool]string{true: " worst", false: " by rank"}[c.Worst])
		}
		slices.Sort(parts)
		return strings.Join(parts, ", ")
	}
	strangers := func(rb *Rulebook) string {
		return map[bool]string{true: "gates",
			false: "deny"}[rb.UnknownPeople]
	}
	unmatched := func(rb *Rulebook) string { return map[bool]string{true: "allow", false: "deny"}[rb.Unmatched] }
	for _, s := range []struct{ name, before, after string }{
		{"name", a.Name, b.Name},
		{"ladder", strings.Join(a.Ladder, " < "), strings.Join(b.Ladder, " < ")},
		{"uncovered", a.LevelName(a.Uncovered), b.LevelName(b.Uncovered)},
		{"unmatched", unmatched(a), unmatched(b)},
		{"unknown_people", strangers(a), strangers(b)},
		{"freshness", limits(a), limits(b)},
		{"threat_bands", bands(a), bands(b)},
		{"attributes", custom(a), custom(b)},
		{"combine", combine(a), combine(b)},
		{"waivers", "at most " + value.FormatDuration(a.MaxWaiver), "at most " + value.FormatDuration(b.MaxWaiver)},
		{"enrolment", a.Enrolment.String(), b.Enrolment.String()},
		{"guard", a.Guard.String(), b.Guard.String()},
		{"signals", a.signalFacts(), b.signalFacts()},
		{"break_glass", strings.Join(a.BreakGlass, ", "), strings.Join(b.BreakGlass, ", ")},
	} {
		if s.before != s.after {
			d.say("settings", s.name, "changed",
				fmt.Sprintf("%s: %s, was %s", s.name, orNone(s.after), orNone(s.before)))
		}
	}
}

func (rb *Rulebook) sourceFacts() []facts {
	var out []facts
	for _, s := range rb.Policy.Sources {
		out = append(out, facts{s.ID, "the source " + s.ID,
			[][2]string{{"rank", fmt.Sprint(s.Rank)}, {"provides", strings.Join(s.Provides, ", ")},
				{"quiet after", duration(s.QuietAfter)}}})
	}
	return out
}

func (rb *Rulebook) issuerFacts() []facts {
	var out []facts
	for i, is := range rb.Policy.Issuers {
		f := facts{is.ID, "the issuer " + is.ID,
			[][2]string{{"binds", string(is.Binds)}, {"max_lifetime", duration(is.MaxLifetime)}}}
		var names []string
		for _, c := range is.Certificates {
			names = append(names, c.Subject.String()+" #"+c.SerialNumber.Text(16))
		}
		f.facts = append(f.facts, [2]string{"certificates", strings.Join(names, ", ")})
		if is.CRL != nil {
			f.facts = append(f.facts, [2]string{"revocation list",
				fmt.Sprintf("of %s with %d certificates, until %s",
					is.CRL.ThisUpdate.UTC().Format("2006-01-02 15:04"), len(is.CRL.RevokedCertificateEntries),
					value.FormatTime(rb.Issuers()[i].CRLEnds))})
		}
		out = append(out, f)
	}
	return out
}

func duration(micros int64) string {
	if micros == 0 {
		return ""
	}
	return value.FormatDuration(micros)
}

func (rb *Rulebook) placeFacts() []facts {
	var out []facts
	for _, p := range rb.Places {
		var networks []string
		for _, n := range p.Networks {
			networks = append(networks, n.String())
		}
		out = append(out, facts{p.ID, "the place " + p.ID,
			[][2]string{{"networks", strings.Join(networks, ", ")},
				{"countries", strings.Join(p.Countries, ", ")}}})
	}
	return out
}

func (rb *Rulebook) resourceFacts() []facts {
	var out []facts
	for _, r := range rb.Resources {
		out = append(out, facts{r.ID, "the resource " + r.ID,
			[][2]string{{"title", r.Title}, {"tags", strings.Join(r.Tags, ", ")}, {"url", r.URL}}})
	}
	return out
}

func (rb *Rulebook) baselineFacts() []facts {
	var out []facts
	for _, b := range rb.Baselines {
		out = append(out, facts{b.ID, "the baseline " + b.ID,
			[][2]string{{"title", b.Title}, {"mode", string(b.Mode)}, {"applies", b.Applies.String()}}})
		for _, r := range b.Rules {
			f := facts{b.ID + "/" + r.ID, "the rule " + b.ID + "/" + r.ID, [][2]string{{"title", r.Title}}}
			for _, p := range slices.Sorted(maps.Keys(r.Checks)) {
				f.facts = append(f.facts, [2]string{strings.TrimSpace("check " + p), r.Checks[p].String()})
			}
			f.facts = append(f.facts, [2]string{"cap", rb.LevelName(r.Cap)},
				[2]string{"unknown", rb.LevelName(r.Unknown)}, [2]string{"grace", duration(r.Grace)},
				[2]string{"remedy", remedyText(r.Remedy)})
			out = append(out, f)
		}
	}
	return out
}

func remedyText(remedies map[string]Remedy) string {
	var parts []string
	for _, lang := range slices.Sorted(maps.Keys(remedies)) {
		parts = append(parts, fmt.Sprintf("%s %q", lang,
			strings.TrimSpace(remedies[lang].Title+". "+remedies[lang].Steps)))
	}
	return strings.Join(parts, ", ")
}

func (rb *Rulebook) gateFacts() []facts {
	var out []facts
	text := func(p *condition.Program) string {
		if p == nil {
			return ""
		}
		return p.String()
	}
	for _, g := range rb.Gates {
		number := ""
		if g.Number > 0 {
			number = fmt.Sprint(g.Number)
		}
		messages := []string{}
		for _, lang := range slices.Sorted(maps.Keys(g.Message)) {
			messages = append(messages, fmt.Sprintf("%s %q", lang, g.Message[lang]))
		}
		out = append(out, facts{g.ID, "the gate " + g.ID,
			[][2]string{{"number", number}, {"title", g.Title}, {"mode", string(g.Mode)},
				{"who", g.Who.String()}, {"what", g.What.String()},
				{"when", text(g.When)}, {"need", text(g.Need)},
				{"otherwise", map[bool]string{true: "step-up", false: "deny"}[g.StepUp]},
				{"message", strings.Join(messages, ", ")}, {"valid_for", duration(g.ValidFor)}}})
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
