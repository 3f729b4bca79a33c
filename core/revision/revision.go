// Package revision tells in words what one rulebook changes of another.
package revision

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/value"
)

// Difference is one thing that differs between two rulebooks, in words.
type Difference struct {
	Section string `json:"section"` // settings, sources, issuers, places, resources, signals, notices, baselines, gates
	About   string `json:"about"`   // the id of what differs, as baseline/rule
	Change  string `json:"change"`  // added, removed or changed
	Text    string `json:"text"`
}

// Compare tells what a rulebook changes, in the order of the document.
func Compare(before, after *rulebook.Rulebook) []Difference {
	d := &differ{}
	d.settings(before, after)
	each(d, "sources", sourceFacts(before), sourceFacts(after))
	each(d, "issuers", issuerFacts(before), issuerFacts(after))
	each(d, "places", placeFacts(before), placeFacts(after))
	each(d, "resources", resourceFacts(before), resourceFacts(after))
	each(d, "signals", receiverFacts(before), receiverFacts(after))
	each(d, "notices", noticeFacts(before), noticeFacts(after))
	each(d, "controls", controlFacts(before), controlFacts(after))
	each(d, "reports", reportFacts(before), reportFacts(after))
	each(d, "baselines", baselineFacts(before), baselineFacts(after))
	each(d, "gates", gateFacts(before), gateFacts(after))
	each(d, "networks", networkFacts(before), networkFacts(after))
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

func (d *differ) settings(a, b *rulebook.Rulebook) {
	strangers := func(rb *rulebook.Rulebook) string {
		return map[bool]string{true: "gates",
			false: "deny"}[rb.UnknownPeople]
	}
	unmatched := func(rb *rulebook.Rulebook) string {
		return map[bool]string{true: "allow",
			false: "deny"}[rb.Unmatched]
	}
	for _, s := range []struct{ name, before, after string }{
		{"name", a.Name, b.Name},
		{"ladder", ladder(a), ladder(b)},
		{"uncovered", a.LevelName(a.Uncovered), b.LevelName(b.Uncovered)},
		{"unmatched", unmatched(a), unmatched(b)},
		{"unknown_people", strangers(a), strangers(b)},
		{"freshness", limits(a), limits(b)},
		{"threat_bands", bands(a), bands(b)},
		{"attributes", custom(a), custom(b)},
		{"combine", combine(a), combine(b)},
		{"waivers", waivers(a), waivers(b)},
		{"retention", retention(a), retention(b)},
		{"enrolment", a.Enrolment.String(), b.Enrolment.String()},
		{"guard", a.Guard.String(), b.Guard.String()},
		{"signals", signalFacts(a), signalFacts(b)},
		{"break_glass", strings.Join(a.BreakGlass, ", "), strings.Join(b.BreakGlass, ", ")},
	} {
		if s.before != s.after {
			d.say("settings", s.name, "changed",
				fmt.Sprintf("%s: %s, was %s", s.name, orNone(s.after), orNone(s.before)))
		}
	}
}

func bands(rb *rulebook.Rulebook) string {
	var parts []string
	for _, x := range rb.Policy.Bands {
		parts = append(parts, fmt.Sprintf("%s from %d", evidence.ThreatLevel.Enum.Words[x.Level], x.From))
	}
	return strings.Join(parts, ", ")
}

func limits(rb *rulebook.Rulebook) string {
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

func custom(rb *rulebook.Rulebook) string {
	var parts []string
	for _, x := range rb.Dict.Attributes() {
		if strings.HasPrefix(x.Name, "custom.") {
			parts = append(parts, x.Name+" "+x.Type.String())
		}
	}
	slices.Sort(parts)
	return strings.Join(parts, ", ")
}

func combine(rb *rulebook.Rulebook) string {
	var parts []string
	for _, c := range rb.Policy.Combine {
		parts = append(parts, c.Prefix+map[bool]string{true: " worst", false: " by rank"}[c.Worst])
	}
	slices.Sort(parts)
	return strings.Join(parts, ", ")
}

func sourceFacts(rb *rulebook.Rulebook) []facts {
	var out []facts
	for _, s := range rb.Policy.Sources {
		out = append(out, facts{s.ID, "the source " + s.ID,
			[][2]string{{"rank", fmt.Sprint(s.Rank)}, {"provides", strings.Join(s.Provides, ", ")},
				{"identifies", fmt.Sprint(s.Identifies)}, {"quiet after", duration(s.QuietAfter)},
				{"vouches for", duration(s.Vouches)}, {"signals", heardText(rb.HeardBy(s.ID))}}})
	}
	return out
}

// heardText tells what is taken of a source's security events.
func heardText(h *rulebook.Heard) string {
	if h == nil {
		return ""
	}
	out := []string{"of " + h.Issuer, "for " + h.Audience, "keys at " + h.Keys, "devices by " + h.Device}
	for _, e := range h.Map {
		text := e.Event + " sets " + e.Attribute
		for _, said := range slices.Sorted(maps.Keys(e.Words)) {
			text += " " + said + "=" + e.Words[said].String()
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}

func issuerFacts(rb *rulebook.Rulebook) []facts {
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

func placeFacts(rb *rulebook.Rulebook) []facts {
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

func resourceFacts(rb *rulebook.Rulebook) []facts {
	var out []facts
	for _, r := range rb.Resources {
		out = append(out, facts{r.ID, "the resource " + r.ID,
			[][2]string{{"title", r.Title}, {"tags", strings.Join(r.Tags, ", ")}, {"url", r.URL}}})
	}
	return out
}

func baselineFacts(rb *rulebook.Rulebook) []facts {
	var out []facts
	for _, b := range rb.Baselines {
		out = append(out, facts{b.ID, "the baseline " + b.ID,
			[][2]string{{"title", b.Title}, {"mode", string(b.Mode)}, {"applies", b.Applies.String()},
				{"controls", strings.Join(b.Controls, ", ")}}})
		for _, r := range b.Rules {
			f := facts{b.ID + "/" + r.ID, "the rule " + b.ID + "/" + r.ID, [][2]string{{"title", r.Title}}}
			for _, p := range slices.Sorted(maps.Keys(r.Checks)) {
				f.facts = append(f.facts, [2]string{strings.TrimSpace("check " + p), r.Checks[p].String()})
			}
			f.facts = append(f.facts, [2]string{"cap", rb.LevelName(r.Cap)},
				[2]string{"unknown", rb.LevelName(r.Unknown)}, [2]string{"grace", duration(r.Grace)},
				[2]string{"remedy", remedyText(r.Remedy)}, [2]string{"controls", strings.Join(r.Controls, ", ")})
			out = append(out, f)
		}
	}
	return out
}

func remedyText(remedies map[string]plaintext.Remedy) string {
	var parts []string
	for _, lang := range slices.Sorted(maps.Keys(remedies)) {
		parts = append(parts, fmt.Sprintf("%s %q", lang,
			strings.TrimSpace(remedies[lang].Title+". "+remedies[lang].Steps)))
	}
	return strings.Join(parts, ", ")
}

func gateFacts(rb *rulebook.Rulebook) []facts {
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
				{"message", strings.Join(messages, ", ")}, {"valid_for", duration(g.ValidFor)},
				{"controls", strings.Join(g.Controls, ", ")}}})
	}
	return out
}

func controlFacts(rb *rulebook.Rulebook) []facts {
	var out []facts
	for _, c := range rb.Controls.Controls {
		out = append(out, facts{c.ID, "the control " + c.ID, [][2]string{{"title", c.Title}, {"group", c.Group},
			{"text", c.Text}}})
	}
	return out
}

func reportFacts(rb *rulebook.Rulebook) []facts {
	var out []facts
	for _, r := range rb.Reports {
		var to []string
		for _, x := range r.To {
			to = append(to, x.String())
		}
		out = append(out, facts{r.ID, "the report " + r.ID, [][2]string{{"every", r.Every},
			{"controls", cmp.Or(strings.Join(r.Controls, ", "), "all")}, {"to", strings.Join(to, ", ")}}})
	}
	return out
}

func networkFacts(rb *rulebook.Rulebook) []facts {
	var out []facts
	for i := range rb.Networks {
		n := &rb.Networks[i]
		var order []string
		for j := range n.Grants {
			order = append(order, n.Grants[j].ID)
		}
		out = append(out, facts{n.ID, "the network " + n.ID, [][2]string{{"ssids", strings.Join(n.SSIDs, ", ")},
			{"person", n.Person}, {"grants", strings.Join(order, ", ")}}})
		for j := range n.Grants {
			g := &n.Grants[j]
			var more []string
			for _, a := range g.Attributes {
				more = append(more, a.Name+" "+a.Value)
			}
			slices.Sort(more)
			out = append(out, facts{n.ID + "/" + g.ID, "the grant " + n.ID + "/" + g.ID, [][2]string{
				{"when", g.When.String()}, {"vlan", g.VLAN}, {"filter", g.Filter}, {"session", duration(g.Session)},
				{"recover", map[bool]string{true: "yes"}[g.Recover]}, {"attributes", strings.Join(more, ", ")}}})
		}
	}
	return out
}

func signalFacts(rb *rulebook.Rulebook) string {
	s := rb.Signals
	return fmt.Sprintf("compliant from %s, risk low from %s, medium from %s", rb.LevelName(s.CompliantFrom),
		rb.LevelName(s.LowFrom), rb.LevelName(s.MediumFrom))
}

func receiverFacts(rb *rulebook.Rulebook) []facts {
	var out []facts
	for _, r := range rb.Signals.Receivers {
		when := ""
		if r.When != nil {
			when = r.When.String()
		}
		out = append(out, facts{r.ID, "the receiver " + r.ID, [][2]string{{"form", r.Form},
			{"events", strings.Join(r.Events, ", ")}, {"when", when}, {"device", r.Device}, {"person", r.Person},
			{"compliant from", rb.LevelName(r.CompliantFrom)}}})
	}
	return out
}

func noticeFacts(rb *rulebook.Rulebook) []facts {
	var out []facts
	for _, n := range rb.Notices {
		if n.Report != "" {
			continue // told with the report
		}
		when := ""
		if n.When != nil {
			when = n.When.String()
		}
		out = append(out, facts{n.ID, "the notice " + n.ID, [][2]string{{"on", string(n.On)}, {"when", when},
			{"before", duration(n.Before)}, {"to", n.To.String()}, {"language", n.Language}}})
	}
	return out
}

// waivers tells how long waivers may live, and which need a second person.
func waivers(rb *rulebook.Rulebook) string {
	out := "at most " + value.FormatDuration(rb.MaxWaiver)
	if rb.HelpdeskWaiver > 0 {
		out += ", of the help desk " + value.FormatDuration(rb.HelpdeskWaiver)
	}
	if len(rb.ApproveWaivers) > 0 {
		names := []string{}
		for _, l := range rb.ApproveWaivers {
			names = append(names, rb.LevelName(l))
		}
		out += ", approved for rules that cap at " + strings.Join(names, " or ")
	}
	return out
}

// ladder tells the levels, and what they were called before.
func ladder(rb *rulebook.Rulebook) string {
	out := strings.Join(rb.Ladder, " < ")
	for _, was := range slices.Sorted(maps.Keys(rb.Renamed)) {
		out += fmt.Sprintf(", %s was %s", rb.Renamed[was], was)
	}
	return out
}

// retention tells how long what is known of retired devices is kept.
func retention(rb *rulebook.Rulebook) string {
	if rb.KeepRetired == 0 {
		return "retired devices until somebody purges them"
	}
	return "retired devices for " + value.FormatDuration(rb.KeepRetired)
}
