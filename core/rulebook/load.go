package rulebook

import (
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
)

// File is one file of a rulebook.
type File struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// loader builds a rulebook from the merged sections of its files.
type loader struct {
	probs    Problems
	sections map[string][]field // by key, one a file at most
	rb       *Rulebook
	files    []File
	tags     []string
	conds    []placed
}

// Planned sections have a meaning in the design that this version lacks.
// They are refused unless empty, so that nobody relies on them.
var Planned = []string{"promises"}

// Sections are the keys at the top of a rulebook.
var Sections = []string{"rulebook", "ladder", "uncovered", "unmatched", "unknown_people", "freshness",
	"threat_bands", "attributes", "sources", "ignore_keys", "combine",
	"issuers", "authority", "waivers", "retention", "guard", "enrolment", "places", "break_glass", "resources",
	"signals", "notices", "baselines",
	"gates", "examples"}

// Load reads the files of a rulebook, merged by key. The error is [Problems]
// with everything that is wrong; then there is no rulebook.
func Load(files []File) (*Rulebook, error) {
	l, err := load(files)
	if err != nil {
		return nil, err
	}
	return l.rb, nil
}

func load(files []File) (*loader, error) {
	l := &loader{sections: map[string][]field{}, rb: &Rulebook{MaxWaiver: DefaultMaxWaiver}, files: files}
	size := 0
	for _, f := range files {
		size += len(f.Text)
	}
	switch {
	case size > MaxSize:
		return nil, Problems{{File: files[0].Name, Line: 1, Column: 1,
			Message: "the rulebook is larger than " + strconv.Itoa(MaxSize) + " bytes"}}
	case !slices.ContainsFunc(files, func(f File) bool { return IsYAML(f.Name) }):
		return nil, Problems{{File: ".", Line: 1, Column: 1, Message: "there is no YAML file here"}}
	}
	for _, f := range files {
		if !IsYAML(f.Name) {
			continue // read where the rulebook names it
		}
		if root, ok := parseFile(f.Name, f.Text, &l.probs, &l.conds); ok {
			l.collect(root)
		}
	}
	l.settings()
	l.attributes()
	l.evidence()
	l.combine()
	l.issuers()
	l.authority()
	l.waivers()
	l.retention()
	l.guard()
	l.enrolment()
	l.access()
	l.signals()
	l.notices()
	l.baselines()
	l.gates()
	l.examples()
	if len(l.probs) > 0 {
		l.probs.sort()
		return nil, l.probs
	}
	return l, nil
}

// IsYAML reports whether a file of a rulebook is YAML, and not one that the
// YAML names.
func IsYAML(name string) bool {
	ext := strings.ToLower(path.Ext(name))
	return (ext == ".yaml" || ext == ".yml") && !strings.HasPrefix(path.Base(name), ".")
}

// IsRulebookFile reports whether a file name in a folder belongs to a rulebook:
// YAML, and the certificates and revocation lists of issuers.
func IsRulebookFile(name string) bool {
	return IsYAML(name) || slices.Contains([]string{".pem", ".crt", ".cer", ".crl"},
		strings.ToLower(path.Ext(name))) && !strings.HasPrefix(path.Base(name), ".")
}

func (l *loader) collect(root item) {
	fields, _ := root.fields()
	for _, f := range fields {
		switch {
		case slices.Contains(Sections, f.key):
			if !f.null() {
				l.sections[f.key] = append(l.sections[f.key], f)
			}
		case slices.Contains(Planned, f.key):
			if !f.empty() {
				f.keyAt.fail("the section %s is not supported by this version", f.key)
			}
		default:
			handlers := map[string]func(field){}
			for _, s := range Sections {
				handlers[s] = nil
			}
			f.unknownKey("a rulebook", handlers)
		}
	}
}

func (f field) empty() bool {
	if f.null() {
		return true
	}
	text := f.n.String()
	return text == "[]" || text == "{}"
}

// single returns the one place where a section that cannot be merged stands.
func (l *loader) single(key string) (field, bool) {
	all := l.sections[key]
	for _, again := range all[min(1, len(all)):] {
		p := all[0].keyAt.position()
		again.keyAt.fail("%s is given twice; it stands in %s:%d too", key, p.File, p.Line)
	}
	if len(all) == 0 {
		return field{}, false
	}
	return all[0], true
}

// members returns the members of a list section over all files.
func (l *loader) members(key string) []item {
	var out []item
	for _, f := range l.sections[key] {
		out = append(out, f.seq()...)
	}
	return out
}

// keyed returns the fields of a mapping section over all files; the same key
// twice is an error.
func (l *loader) keyed(key string) []field {
	var out []field
	seen := unique{}
	for _, s := range l.sections[key] {
		fields, _ := s.fields()
		for _, f := range fields {
			if seen.add(f.keyAt, key, f.key) {
				out = append(out, f)
			}
		}
	}
	return out
}

// unique remembers where each id stands.
type unique map[string]Position

func (u unique) add(it item, what, id string) bool {
	if p, dup := u[id]; dup {
		it.fail("the id %s is used twice in %s; the first is at %s:%d", id, what, p.File, p.Line)
		return false
	}
	u[id] = it.position()
	return true
}

func (l *loader) settings() {
	rb := l.rb
	if f, ok := l.single("rulebook"); ok {
		f.id(&rb.Name)
	} else if len(l.probs) == 0 {
		l.probs = append(l.probs, Problem{File: ".", Line: 1, Column: 1,
			Message: "the rulebook has no name: write rulebook: NAME at the top"})
	}
	rb.Ladder = []string{"barred", "unproven", "limited", "sound", "strong"}
	if f, ok := l.single("ladder"); ok {
		if names := l.ladder(f); len(names) < 2 {
			f.fail("a ladder has at least two levels")
		} else {
			rb.Ladder = names
			for _, name := range names {
				if n, err := syntax.Parse(name); err != nil || !isWord(n) || strings.Contains(name, ".") {
					f.fail("%q cannot name a level: a level is one word of letters, digits and dashes", name)
				}
			}
		}
	}
	rb.LevelType = value.Words("level", true, rb.Ladder...)
	rb.Uncovered = rb.Doubt()
	if f, ok := l.single("uncovered"); ok {
		l.level(f.item, &rb.Uncovered)
	}
	if f, ok := l.single("unmatched"); ok {
		i, _ := f.word("choice", []string{"deny", "allow"})
		rb.Unmatched = i == 1
	}
	if f, ok := l.single("unknown_people"); ok {
		i, _ := f.word("choice", []string{"deny", "gates"})
		rb.UnknownPeople = i == 1
	}
}

// ladder reads the names of the levels. One may say what it was called before: {id: fair, was: limited}.
func (l *loader) ladder(f field) (names []string) {
	l.rb.Renamed = map[string]string{}
	for _, m := range f.seq() {
		name, was := "", ""
		if m.isMapping() {
			m.mapping("a level", map[string]func(field){"id": func(f field) { f.text(&name) },
				"was": func(f field) { f.text(&was) }})
		} else {
			m.text(&name)
		}
		switch {
		case name == "":
			continue
		case slices.Contains(names, name):
			m.fail("%s stands twice in the list", name)
			continue
		case was != "":
			l.rb.Renamed[was] = name
		}
		names = append(names, name)
	}
	for was := range l.rb.Renamed {
		if slices.Contains(names, was) {
			f.fail("%s was renamed, and is still a level", was)
		}
	}
	return names
}

func isWord(n syntax.Node) bool { _, ok := n.(*syntax.Path); return ok }

// Doubt is the level that stands for "not known": unproven where the ladder
// has it, or its second lowest.
func (rb *Rulebook) Doubt() Level {
	if i := slices.Index(rb.Ladder, "unproven"); i >= 0 {
		return Level(i)
	}
	return 1
}

func (l *loader) level(it item, into *Level) {
	if i, ok := it.word("level", l.rb.Ladder); ok {
		*into = Level(i)
	}
}

var AttributeKinds = []string{"bool", "int", "text", "version", "duration", "time", "enum", "list"}

func (l *loader) attributes() {
	var custom []evidence.Attribute
	for _, f := range l.keyed("attributes") {
		if !strings.HasPrefix(f.key, "custom.") || !IDPattern.MatchString(f.key) || strings.HasSuffix(f.key, ".") {
			f.keyAt.fail("%s cannot be declared: the name of an attribute of your own begins with custom.", f.key)
			continue
		}
		a := evidence.Attribute{Name: f.key, Title: f.key}
		kind, ordered, words := -1, false, []string(nil)
		ok := f.mapping("an attribute", map[string]func(field){
			"type":    func(f field) { kind, _ = f.word("type", AttributeKinds) },
			"title":   func(f field) { f.text(&a.Title) },
			"values":  func(f field) { words = f.texts() },
			"ordered": func(f field) { f.boolean(&ordered) },
		})
		switch {
		case !ok:
			continue
		case kind < 0:
			f.keyAt.fail("%s needs a type: %s", f.key, strings.Join(AttributeKinds, ", "))
			continue
		case (AttributeKinds[kind] == "enum") != (words != nil):
			f.keyAt.fail("%s: values go with type enum, and type enum with values", f.key)
			continue
		}
		a.Type = map[string]value.Type{"bool": value.Of(value.Bool), "int": value.Of(value.Int),
			"text": value.Of(value.Text), "version": value.Of(value.Version),
			"duration": value.Of(value.Duration), "time": value.Of(value.Time),
			"enum": value.Words(f.key, ordered, words...),
			"list": value.ListOf(value.Of(value.Text))}[AttributeKinds[kind]]
		custom = append(custom, a)
	}
	l.rb.Dict = evidence.NewDictionary(custom...)
	l.rb.Names = newRequestNames(l.rb.Dict, l.rb.LevelType)
}

func (l *loader) evidence() {
	p := &l.rb.Policy
	for _, f := range l.keyed("freshness") {
		limit := evidence.Limit{Prefix: f.key}
		f.duration(&limit.Max)
		if f.key == "default" {
			limit.Prefix = ""
		} else if !l.coversSome(f.key) {
			f.keyAt.fail("no attribute begins with %s", f.key)
		}
		p.Limits = append(p.Limits, limit)
	}
	for _, f := range l.keyed("threat_bands") {
		level, ok := f.keyAt.word("threat level", evidence.ThreatLevel.Enum.Words)
		from, isInt := f.value(value.Of(value.Int))
		if ok && isInt {
			if from.Num() < 0 || from.Num() > 100 {
				f.fail("a score is between 0 and 100")
			}
			p.Bands = append(p.Bands, evidence.Band{From: from.Num(), Level: level})
		}
	}
	slices.SortFunc(p.Bands, func(a, b evidence.Band) int { return a.Level - b.Level })
	for i := 1; i < len(p.Bands); i++ {
		if p.Bands[i].From <= p.Bands[i-1].From {
			f, _ := l.single("threat_bands")
			f.fail("the scores of threat_bands must rise with their levels")
			break
		}
	}
	for _, f := range l.sections["ignore_keys"] {
		p.IgnoreKeys = append(p.IgnoreKeys, f.texts()...)
	}
	l.sources()
}

func (l *loader) named(it item, what, id string) bool {
	if id == "" {
		it.fail("%s needs an id", what)
	}
	return id != ""
}

func (l *loader) access() {
	rb := l.rb
	for _, f := range l.keyed("places") {
		p := Place{ID: f.key}
		f.mapping("a place", map[string]func(field){
			"title": func(f field) { var t string; f.text(&t) },
			"networks": func(f field) {
				for _, m := range f.seq() {
					if v, ok := m.value(value.Of(value.Network)); ok {
						p.Networks = append(p.Networks, v.Prefix())
					}
				}
			},
			"countries": func(f field) {
				for _, c := range f.texts() {
					if len(c) != 2 {
						f.fail("%q is not a country code of two letters (ISO 3166-1)", c)
					}
					p.Countries = append(p.Countries, strings.ToUpper(c))
				}
			},
		})
		if p.Networks == nil && p.Countries == nil {
			f.keyAt.fail("the place %s needs networks or countries", f.key)
		}
		rb.Places = append(rb.Places, p)
	}
	if f, ok := l.single("break_glass"); ok {
		rb.BreakGlass = f.texts()
	}
	seen := unique{}
	for _, it := range l.members("resources") {
		var r Resource
		ok := it.mapping("a resource", map[string]func(field){
			"id":    func(f field) { f.id(&r.ID) },
			"title": func(f field) { f.text(&r.Title) },
			"tags":  func(f field) { r.Tags = f.texts() },
			"url":   func(f field) { f.text(&r.URL) },
		})
		if ok && l.named(it, "a resource", r.ID) && seen.add(it, "resources", r.ID) {
			rb.Resources = append(rb.Resources, r)
			l.tags = append(l.tags, r.Tags...)
		}
	}
}

// PlacesOf lists the places that a request from an address (the zero Addr when
// it is not said) and a country ("" when it is not said) is surely in, and those
// that it may be in: what is not said could put it there.
func (rb *Rulebook) PlacesOf(ip netip.Addr, country string) (in, perhaps []string) {
	in = []string{}
	country = strings.ToUpper(country)
	for _, p := range rb.Places {
		switch {
		case slices.ContainsFunc(p.Networks, func(n netip.Prefix) bool { return n.Contains(ip) }),
			country != "" && slices.Contains(p.Countries, country):
			in = append(in, p.ID)
		case len(p.Networks) > 0 && !ip.IsValid(), len(p.Countries) > 0 && country == "":
			perhaps = append(perhaps, p.ID)
		}
	}
	return in, perhaps
}
