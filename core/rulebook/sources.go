package rulebook

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook/tree"
	"ironledger.example/core/value"
)

// Heard says from whom a source's security events are taken, and what they say of a device.
type Heard struct {
	Source   string
	Issuer   string // the iss of its tokens (RFC 8417)
	Keys     string // where its JWK set is (RFC 7517)
	Audience string // the aud that makes a token ours
	// Device is what the partner calls devices by: one of [HeardNames].
	Device string
	Map    []HeardEvent
}

// HeardEvent says which attribute an event sets.
type HeardEvent struct {
	Event     string // one of [HeardSignals]
	Attribute string // of the device; [Vouched] for whether the partner vouches for it
	// Words are ours for those of the event.
	Words map[string]value.Value
}

// Vouched is the attribute that an event sets by which a partner vouches for a device, or takes it back.
const Vouched = "vouched"

// HeardNames are what a partner calls devices by, the default first: names of its own, or keys that others know too.
var HeardNames = []string{"external_id", "id", "serial", "hardware_id"}

// HeardSignals are the events that can set an attribute, and their words (CAEP 1.0).
var HeardSignals = map[string][]string{
	ComplianceSignal: {"compliant", "not-compliant"},
	RiskSignal:       {"LOW", "MEDIUM", "HIGH"},
}

// HeardFrom is the source that an issuer's events are taken as, nil when from nobody.
func (rb *Rulebook) HeardFrom(issuer string) *Heard {
	if i := slices.IndexFunc(rb.Heard, func(h Heard) bool { return h.Issuer == issuer }); i >= 0 {
		return &rb.Heard[i]
	}
	return nil
}

// HeardBy is what is taken of a source, nil for nothing.
func (rb *Rulebook) HeardBy(source string) *Heard {
	if i := slices.IndexFunc(rb.Heard, func(h Heard) bool { return h.Source == source }); i >= 0 {
		return &rb.Heard[i]
	}
	return nil
}

func (l *loader) sources() {
	p := &l.rb.Policy
	if l.sections["sources"] != nil {
		p.Sources = []evidence.SourceRule{}
	}
	seen := unique{}
	for _, it := range l.members("sources") {
		var s evidence.SourceRule
		var identifies *bool // nil: not said
		var signals *tree.Field
		ok := it.Mapping("a source", map[string]func(tree.Field){
			"id":    func(f tree.Field) { f.ID(&s.ID) },
			"title": func(f tree.Field) { f.Text(&s.Title) },
			"rank": func(f tree.Field) {
				v, _ := f.Value(value.Of(value.Int))
				s.Rank = int(v.Num())
			},
			"quiet_after": func(f tree.Field) { f.Duration(&s.QuietAfter) },
			"identifies":  func(f tree.Field) { identifies = &s.Identifies; f.Boolean(identifies) },
			"provides":    func(f tree.Field) { s.Provides = f.Texts(); l.prefixes(f, s.Provides) },
			"vouches": func(f tree.Field) {
				f.Mapping("vouches", map[string]func(tree.Field){"for": func(f tree.Field) { f.Duration(&s.Vouches) }})
				if s.Vouches <= 0 {
					f.Fail("say for how long a word of the source vouches for a device, as vouches: {for: 24h}")
				}
			},
			"signals": func(f tree.Field) { signals = &f },
		})
		if !ok || !l.named(it, "a source", s.ID) || !seen.add(it, "sources", s.ID) {
			continue
		}
		if s.Provides == nil {
			it.Fail("the source %s needs provides: the attributes it may supply, or [\"*\"]", s.ID)
		}
		if identifies == nil {
			s.Identifies = slices.Contains(s.Provides, "*")
		}
		p.Sources = append(p.Sources, s)
		if signals != nil {
			l.heard(*signals, &s)
		}
	}
}

// heard reads what is taken of a source's security events.
func (l *loader) heard(f tree.Field, s *evidence.SourceRule) {
	h := Heard{Source: s.ID, Device: HeardNames[0]}
	ok := f.Mapping("signals of a source", map[string]func(tree.Field){
		"issuer": func(f tree.Field) { f.Text(&h.Issuer) },
		"jwks": func(f tree.Field) {
			f.Text(&h.Keys)
			if u, err := url.Parse(h.Keys); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
				f.Fail("%q is not where a JWK set is, as https://sensor.example/jwks.json", h.Keys)
			}
		},
		"audience": func(f tree.Field) { f.Text(&h.Audience) },
		"device":   func(f tree.Field) { h.Device = chosen(f, "name of a device", HeardNames) },
		"map": func(f tree.Field) {
			events, _ := f.Fields()
			for _, m := range events {
				if e, ok := l.heardEvent(m, s); ok {
					h.Map = append(h.Map, e)
				}
			}
		},
	})
	switch {
	case !ok:
	case h.Issuer == "" || h.Keys == "" || h.Audience == "":
		f.Fail("the signals of %s need issuer, jwks and audience", s.ID)
	case l.rb.HeardFrom(h.Issuer) != nil:
		f.Fail("the issuer %s is that of the source %s already", h.Issuer, l.rb.HeardFrom(h.Issuer).Source)
	default:
		l.rb.Heard = append(l.rb.Heard, h)
	}
}

// heardEvent reads what an event sets: an attribute, or {sets: ATTRIBUTE, words: {…}}.
func (l *loader) heardEvent(f tree.Field, s *evidence.SourceRule) (e HeardEvent, ok bool) {
	e.Event = f.Key
	theirs, known := HeardSignals[f.Key]
	if !known {
		f.KeyAt.Fail("%s sets no attribute; %s and %s do", f.Key, ComplianceSignal, RiskSignal)
		return e, false
	}
	words := map[string]string{}
	if !f.IsMapping() {
		f.Text(&e.Attribute)
	} else if !f.Mapping("what an event sets", map[string]func(tree.Field){
		"sets": func(f tree.Field) { f.Text(&e.Attribute) },
		"words": func(f tree.Field) {
			given, _ := f.Fields()
			for _, w := range given {
				if text, ok := w.Scalar(); ok {
					words[w.Key] = text
				}
				if !slices.Contains(theirs, w.Key) {
					w.KeyAt.Fail("%s is not a word of %s; there are %s", w.Key, e.Event, strings.Join(theirs, ", "))
				}
			}
		},
	}) {
		return e, false
	}
	typ, problem := l.heardType(e.Attribute, s)
	if problem != "" {
		f.Fail("%s", problem)
		return e, false
	}
	e.Words = map[string]value.Value{}
	for _, said := range theirs {
		word, given := words[said]
		if !given {
			word = ownWord(said, typ)
		}
		v, err := value.Parse(typ, word)
		if err != nil {
			f.Fail("%s is no word for %s: say words: {%s: …}", said, e.Attribute, said)
			return e, false
		}
		e.Words[said] = v
	}
	return e, true
}

// heardType is the type of what an event of a source sets, or why it cannot.
func (l *loader) heardType(attribute string, s *evidence.SourceRule) (typ value.Type, problem string) {
	if attribute == Vouched {
		if s.Vouches == 0 {
			return typ, fmt.Sprintf("the source %s vouches for no device: say for how long, as vouches: {for: "+
				"24h}", s.ID)
		}
		return value.Of(value.Bool), ""
	}
	n, known := l.rb.Dict.Lookup(attribute)
	switch {
	case !known:
		return typ, attribute + " is not an attribute of devices"
	case l.rb.Dict.Attributes()[l.rb.Dict.Slot(attribute)].ByService:
		return typ, "only the service itself sets " + attribute
	case !slices.ContainsFunc(s.Provides, func(p string) bool { return p == "*" || evidence.Covers(p, attribute) }):
		return typ, fmt.Sprintf("the source %s does not provide %s", s.ID, attribute)
	}
	return n.Type, ""
}

// ownWord is our word for one of CAEP where the rulebook gives none.
func ownWord(said string, typ value.Type) string {
	if typ.Kind == value.Bool {
		return fmt.Sprint(said == "compliant" || said == "LOW")
	}
	return strings.ToLower(said)
}

func (l *loader) coversSome(prefix string) bool {
	return slices.ContainsFunc(l.rb.Dict.Names(), func(n string) bool { return evidence.Covers(prefix, n) })
}

func (l *loader) prefixes(f tree.Field, list []string) {
	for _, p := range list {
		if !l.coversSome(p) && p != "custom" {
			f.Fail("no attribute begins with %s", p)
		}
	}
}
