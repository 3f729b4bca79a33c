package access

import (
	"net/netip"
	"strings"
	"testing"

	"ironledger.example/core/rulebook"
)

// Each cell says the least that any request of the group gets through with: it
// is compared with putting every kind of request to the gates.
func TestACellSaysTheLeastThatGetsThrough(t *testing.T) {
	const head = `rulebook: cells
places: {aboard: {networks: [10.30.0.0/16]}}
resources: [{id: rota, tags: [crew]}]
gates:
`
	for _, c := range []struct {
		name, gates, group string
		kind               Kind
		level              string
		mfa, more          bool
	}{
		{"a level alone", `need: level >= sound`, "crew", Guarded, "sound", false, false},
		{"a level and a second factor", `need: auth.mfa and level >= limited`, "crew", Guarded, "limited",
			true, false},
		{"the weaker way counts", `need: level >= sound or level >= limited and "aboard" in request.places`,
			"crew", Guarded, "limited", false, true},
		{"a second factor on one way alone", `need: level >= strong or level >= limited and auth.mfa`, "crew",
			Guarded, "limited", false, true},
		{"a second factor on every way", `need: auth.mfa and (level >= sound or "aboard" in request.places)`,
			"crew", Guarded, "", true, true},
		{"turned round", `need: not (level < sound)`, "crew", Guarded, "sound", false, false},
		{"written the other way", `need: sound <= level`, "crew", Guarded, "sound", false, false},
		{"among levels", `need: level in [sound, strong]`, "crew", Guarded, "sound", false, false},
		{"no higher than", `need: level <= limited`, "crew", Guarded, "", false, true},
		{"nothing", `need: "true == true"`, "crew", Guarded, "", false, false},
		{"nobody", `need: level >= sound and level < limited`, "crew", Closed, "", false, false},
		{"the group itself", `need: '"crew" in user.groups and level >= sound'`, "crew", Guarded, "sound",
			false, false},
		{"another group, perhaps", `need: '"deck" in user.groups or level >= sound'`, "crew", Guarded, "",
			false, true},
		{"another group, surely not", `need: '"deck" in user.groups or level >= sound'`, "", Guarded, "sound",
			false, false},
		{"the resource is settled", `need: '"crew" in resource.tags and level >= sound'`, "crew", Guarded,
			"sound", false, false},
		{"only for one action", `what: {everything: true, actions: [export]}, need: level >= strong`, "crew",
			Guarded, "strong", false, true},
		{"only at times", `when: auth.mfa, need: level >= strong`, "crew", Guarded, "strong", false, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			gate := c.gates
			if !strings.Contains(gate, "what:") {
				gate = "what: {everything: true}, " + gate
			}
			gate = strings.ReplaceAll(gate,
				`need: level >= sound or level >= limited and "aboard" in request.places`,
				`need: 'level >= sound or level >= limited and "aboard" in request.places'`)
			gate = strings.ReplaceAll(gate,
				`need: auth.mfa and (level >= sound or "aboard" in request.places)`,
				`need: 'auth.mfa and (level >= sound or "aboard" in request.places)'`)
			gate = strings.ReplaceAll(gate, `need: level in [sound, strong]`, `need: 'level in [sound, strong]'`)
			p := compile(t, head+"  - {id: g, who: {everyone: true}, "+gate+"}\n")
			cov := p.Cover([]string{"crew"})
			row := 0
			if c.group != "" {
				row = 1
			}
			got := cov.Cells[row][0]
			if got.Kind != c.kind || got.Level != c.level || got.MFA != c.mfa || got.More != c.more {
				t.Errorf("the cell is %s %q (second factor %v, more %v)", got.Kind, got.Level, got.MFA, got.More)
			}
			least, mfa, some, every := p.tryEverything(c.group, got)
			if some != (got.Kind == Guarded) ||
				some && (p.rb.LevelName(least) != levelOf(p, got.Level) || mfa != got.MFA) {
				t.Errorf("requests get through from %s on (second factor %v, some %v)", p.rb.LevelName(least),
					mfa, some)
			}
			if some && !got.More && !every {
				t.Error("the cell asks for no more, and a request with what it says is refused")
			}
		})
	}
}

func levelOf(p *Program, level string) string {
	if level == "" {
		return p.rb.LevelName(0)
	}
	return level
}

// tryEverything puts every kind of request of a group's members to the gates.
func (p *Program) tryEverything(group string, cell Cell) (least rulebook.Level, mfa, some, every bool) {
	trial, groups := p.Evaluator(), [][]string{{"deck"}, nil}
	if group != "" {
		groups = [][]string{{group}, {group, "deck"}}
	} else {
		groups = groups[1:]
	}
	mfa, every, least = true, true, p.rb.Top()
	at, _ := p.rb.Rank(levelOf(p, cell.Level))
	for l := p.rb.Top(); l >= 0; l-- {
		for _, said := range []*bool{nil, no(), yes()} {
			for _, ip := range []netip.Addr{{}, netip.MustParseAddr("10.30.0.1"),
				netip.MustParseAddr("192.0.2.1")} {
				for _, action := range []string{"", "open", "export"} {
					for _, in := range groups {
						q := &Request{User: "x", Known: true, Groups: in, Resource: "rota", Action: action,
							IP: ip, MFA: said, Device: Device{Known: true, Level: l}}
						if trial.Evaluate(q, now).Outcome == Allow {
							some, least = true, l
							mfa = mfa && said != nil && *said
						} else if int(l) >= at && (!cell.MFA || said != nil && *said) {
							every = false
						}
					}
				}
			}
		}
	}
	return least, mfa, some, every
}

func TestWhomTheDirectoryDoesNotKnow(t *testing.T) {
	const text = "rulebook: r\nresources: [{id: board}]\nbreak_glass: [master]\ngates:\n  - {id: g, who: {everyone: true}, what: {everything: true}, need: user.known or level >= sound}\n"
	closed, gates := compile(t, text), compile(t, text+"unknown_people: gates\n")
	for _, c := range []struct {
		name  string
		p     *Program
		q     Request
		want  Outcome
		notes string
	}{
		{"somebody unknown is denied", closed, Request{User: "leaver", Resource: "board"}, Deny,
			"the directory does not know leaver"},
		{"somebody known is asked by the gates", closed,
			Request{User: "maren", Known: true, Resource: "board"}, Allow, ""},
		{"a break-glass account need not be known", closed, Request{User: "master", Resource: "board"}, Allow,
			"break-glass"},
		{"a device asks for itself", closed,
			Request{Resource: "board", Device: Device{ID: "d", Known: true, Level: 3}}, Allow, ""},
		{"gates may be asked about strangers", gates, Request{User: "leaver", Resource: "board"}, Deny,
			"the directory does not know leaver"},
		{"and let them in", gates, Request{User: "leaver", Resource: "board",
			Device: Device{ID: "d", Known: true, Level: 3}}, Allow, "the directory does not know leaver"},
		{"a resource nobody lists is said so", closed, Request{User: "maren", Known: true, Resource: "bord"},
			Allow, "lists no resource bord"},
		{"a device that is missed is said so", closed,
			Request{User: "maren", Known: true, Resource: "board",
				Device: Device{Unknown: "no one device is known by serial x"}}, Allow, "known by serial x"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := c.p.Decide(&c.q, now)
			if d.Outcome != c.want || !strings.Contains(d.ReasonAdmin["en"], c.notes) || c.notes == "" &&
				strings.Contains(d.ReasonAdmin["en"], "Note") {
				t.Errorf("the answer is %s: %s", d.Outcome, d.ReasonAdmin["en"])
			}
			if got := c.p.Evaluator().Evaluate(&c.q, now).Outcome; got != c.want {
				t.Errorf("a trial ends with %s", got)
			}
		})
	}
}

// What a request does not say leaves it open whether it comes from a place.
func TestPlacesAreKnownOneByOne(t *testing.T) {
	const head = "rulebook: r\nresources: [{id: board}]\nplaces: {office: {networks: [10.20.0.0/16]}, home: {countries: [SE]}, isles: {networks: [10.9.0.0/16], countries: [NO]}}\n"
	office, away := netip.MustParseAddr("10.20.0.9"), netip.MustParseAddr("192.0.2.1")
	type saying struct {
		ip      netip.Addr
		country string
	}
	nothing, inOffice, elsewhere, inSweden, inDenmark, both := saying{}, saying{ip: office}, saying{ip: away},
		saying{country: "SE"}, saying{country: "DK"}, saying{away, "DK"}
	for _, c := range []struct {
		need    string
		allowed []saying
		denied  []saying
	}{
		{`"office" in request.places`, []saying{inOffice}, []saying{nothing, elsewhere, inSweden, both}},
		{`not ("office" in request.places)`, []saying{elsewhere, both},
			[]saying{nothing, inOffice, inSweden, inDenmark}},
		{`not ("home" in request.places)`, []saying{inDenmark, both},
			[]saying{nothing, inOffice, elsewhere, inSweden}},
		{`"isles" not in request.places`, []saying{both}, []saying{nothing, elsewhere, inDenmark}},
		{`request.places contains "home"`, []saying{inSweden}, []saying{nothing, inOffice, inDenmark}},
		{`none p in request.places (p == "office")`, []saying{elsewhere, both},
			[]saying{nothing, inOffice, inSweden}},
		{`any p in request.places (p starts with "off")`, []saying{inOffice},
			[]saying{nothing, inSweden, elsewhere}},
		{`all p in request.places (p == "home")`, []saying{both}, []saying{nothing, inOffice, inSweden, elsewhere}},
		{`count p in request.places < 1`, []saying{both}, []saying{nothing, elsewhere, inDenmark, inOffice}},
		{`count p in request.places (p == "office") == 0`, []saying{elsewhere, both},
			[]saying{nothing, inSweden, inOffice}},
		{`known(request.places)`, []saying{both, {office, "SE"}}, []saying{nothing, inOffice, inSweden}},
		{`"nowhere" not in request.places`, []saying{nothing, inOffice, inSweden, both}, nil},
	} {
		p := compile(t, head+"gates:\n  - {id: g, who: {everyone: true}, what: {everything: true}, need: '"+
			c.need+"'}\n")
		for outcome, list := range map[Outcome][]saying{Allow: c.allowed, Deny: c.denied} {
			for _, s := range list {
				q := &Request{User: "x", Known: true, Resource: "board", IP: s.ip, Country: s.country}
				if d := p.Decide(q, now); d.Outcome != outcome {
					t.Errorf("%s from %v %q is answered %s: %s", c.need, s.ip, s.country, d.Outcome,
						d.ReasonAdmin["en"])
				}
			}
		}
	}
}
