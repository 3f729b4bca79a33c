package rulebook

import (
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook/tree"
	"ironledger.example/core/value"
)

// File is one file of a rulebook.
type File struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// MaxSize bounds all files of a rulebook together, in bytes.
const MaxSize = 4 << 20

// loader builds a rulebook from the merged sections of its files.
type loader struct {
	probs    Problems
	sections map[string][]tree.Field // by key, one a file at most
	rb       *Rulebook
	files    []File
	tags     []string
	conds    []tree.Placed
}

// Planned sections have a meaning in the design that this version lacks.
// They are refused unless empty, so that nobody relies on them.
var Planned = []string{"promises"}

// Sections are the keys at the top of a rulebook.
var Sections = []string{"rulebook", "ladder", "uncovered", "unmatched", "unknown_people", "freshness",
	"threat_bands", "attributes", "sources", "ignore_keys", "combine",
	"issuers", "authority", "waivers", "retention", "guard", "enrolment", "places", "break_glass", "resources",
	"signals", "notices", "controls", "reports", "baselines",
	"gates", "networks", "examples"}

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
	l := &loader{sections: map[string][]tree.Field{}, rb: &Rulebook{MaxWaiver: DefaultMaxWaiver}, files: files}
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
		if root, ok := tree.Parse(f.Name, f.Text, &l.probs, &l.conds); ok {
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
	l.controls()
	l.reports()
	l.baselines()
	l.gates()
	l.networks()
	l.examples()
	if len(l.probs) > 0 {
		l.probs.Sort()
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
// YAML, the certificates and revocation lists of issuers, and catalogues of controls.
func IsRulebookFile(name string) bool {
	return IsYAML(name) || IsCatalogue(name) || slices.Contains([]string{".pem", ".crt", ".cer", ".crl"},
		strings.ToLower(path.Ext(name))) && !strings.HasPrefix(path.Base(name), ".")
}

// IsCatalogue reports whether a file of a rulebook is an OSCAL catalogue of controls.
func IsCatalogue(name string) bool {
	return strings.HasSuffix(strings.ToLower(name), "catalog.json") && !strings.HasPrefix(path.Base(name), ".")
}

func (l *loader) collect(root tree.Item) {
	fields, _ := root.Fields()
	for _, f := range fields {
		switch {
		case slices.Contains(Sections, f.Key):
			if !f.Null() {
				l.sections[f.Key] = append(l.sections[f.Key], f)
			}
		case slices.Contains(Planned, f.Key):
			if !f.Empty() {
				f.KeyAt.Fail("the section %s is not supported by this version", f.Key)
			}
		default:
			handlers := map[string]func(tree.Field){}
			for _, s := range Sections {
				handlers[s] = nil
			}
			f.UnknownKey("a rulebook", handlers)
		}
	}
}

// single returns the one place where a section that cannot be merged stands.
func (l *loader) single(key string) (tree.Field, bool) {
	all := l.sections[key]
	for _, again := range all[min(1, len(all)):] {
		p := all[0].KeyAt.Position()
		again.KeyAt.Fail("%s is given twice; it stands in %s:%d too", key, p.File, p.Line)
	}
	if len(all) == 0 {
		return tree.Field{}, false
	}
	return all[0], true
}

// members returns the members of a list section over all files.
func (l *loader) members(key string) []tree.Item {
	var out []tree.Item
	for _, f := range l.sections[key] {
		out = append(out, f.Seq()...)
	}
	return out
}

// keyed returns the fields of a mapping section over all files; the same key
// twice is an error.
func (l *loader) keyed(key string) []tree.Field {
	var out []tree.Field
	seen := unique{}
	for _, s := range l.sections[key] {
		fields, _ := s.Fields()
		for _, f := range fields {
			if seen.add(f.KeyAt, key, f.Key) {
				out = append(out, f)
			}
		}
	}
	return out
}

// unique remembers where each id stands.
type unique map[string]Position

func (u unique) add(it tree.Item, what, id string) bool {
	if p, dup := u[id]; dup {
		it.Fail("the id %s is used twice in %s; the first is at %s:%d", id, what, p.File, p.Line)
		return false
	}
	u[id] = it.Position()
	return true
}

func (l *loader) settings() {
	rb := l.rb
	if f, ok := l.single("rulebook"); ok {
		f.ID(&rb.Name)
	} else if len(l.probs) == 0 {
		l.probs = append(l.probs, Problem{File: ".", Line: 1, Column: 1,
			Message: "the rulebook has no name: write rulebook: NAME at the top"})
	}
	rb.Ladder = []string{"barred", "unproven", "limited", "sound", "strong"}
	if f, ok := l.single("ladder"); ok {
		if names := l.ladder(f); len(names) < 2 {
			f.Fail("a ladder has at least two levels")
		} else {
			rb.Ladder = names
			for _, name := range names {
				if n, err := syntax.Parse(name); err != nil || !isWord(n) || strings.Contains(name, ".") {
					f.Fail("%q cannot name a level: a level is one word of letters, digits and dashes", name)
				}
			}
		}
	}
	rb.LevelType = value.Words("level", true, rb.Ladder...)
	rb.Uncovered = rb.Doubt()
	if f, ok := l.single("uncovered"); ok {
		l.level(f.Item, &rb.Uncovered)
	}
	if f, ok := l.single("unmatched"); ok {
		i, _ := f.Word("choice", []string{"deny", "allow"})
		rb.Unmatched = i == 1
	}
	if f, ok := l.single("unknown_people"); ok {
		i, _ := f.Word("choice", []string{"deny", "gates"})
		rb.UnknownPeople = i == 1
	}
}

// ladder reads the names of the levels. One may say what it was called before: {id: fair, was: limited}.
func (l *loader) ladder(f tree.Field) (names []string) {
	l.rb.Renamed = map[string]string{}
	for _, m := range f.Seq() {
		name, was := "", ""
		if m.IsMapping() {
			m.Mapping("a level", map[string]func(tree.Field){"id": func(f tree.Field) { f.Text(&name) },
				"was": func(f tree.Field) { f.Text(&was) }})
		} else {
			m.Text(&name)
		}
		switch {
		case name == "":
			continue
		case slices.Contains(names, name):
			m.Fail("%s stands twice in the list", name)
			continue
		case was != "":
			l.rb.Renamed[was] = name
		}
		names = append(names, name)
	}
	for was := range l.rb.Renamed {
		if slices.Contains(names, was) {
			f.Fail("%s was renamed, and is still a level", was)
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

func (l *loader) level(it tree.Item, into *Level) {
	if i, ok := it.Word("level", l.rb.Ladder); ok {
		*into = Level(i)
	}
}

var AttributeKinds = []string{"bool", "int", "text", "version", "duration", "time", "enum", "list"}

func (l *loader) attributes() {
	var custom []evidence.Attribute
	for _, f := range l.keyed("attributes") {
		if !strings.HasPrefix(f.Key, "custom.") || !tree.IDPattern.MatchString(f.Key) || strings.HasSuffix(f.Key, ".") {
			f.KeyAt.Fail("%s cannot be declared: the name of an attribute of your own begins with custom.", f.Key)
			continue
		}
		a := evidence.Attribute{Name: f.Key, Title: f.Key}
		kind, ordered, words := -1, false, []string(nil)
		ok := f.Mapping("an attribute", map[string]func(tree.Field){
			"type":    func(f tree.Field) { kind, _ = f.Word("type", AttributeKinds) },
			"title":   func(f tree.Field) { f.Text(&a.Title) },
			"values":  func(f tree.Field) { words = f.Texts() },
			"ordered": func(f tree.Field) { f.Boolean(&ordered) },
		})
		switch {
		case !ok:
			continue
		case kind < 0:
			f.KeyAt.Fail("%s needs a type: %s", f.Key, strings.Join(AttributeKinds, ", "))
			continue
		case (AttributeKinds[kind] == "enum") != (words != nil):
			f.KeyAt.Fail("%s: values go with type enum, and type enum with values", f.Key)
			continue
		}
		a.Type = map[string]value.Type{"bool": value.Of(value.Bool), "int": value.Of(value.Int),
			"text": value.Of(value.Text), "version": value.Of(value.Version),
			"duration": value.Of(value.Duration), "time": value.Of(value.Time),
			"enum": value.Words(f.Key, ordered, words...),
			"list": value.ListOf(value.Of(value.Text))}[AttributeKinds[kind]]
		custom = append(custom, a)
	}
	l.rb.Dict = evidence.NewDictionary(custom...)
	l.rb.Names = newRequestNames(l.rb.Dict, l.rb.LevelType)
}

func (l *loader) evidence() {
	p := &l.rb.Policy
	for _, f := range l.keyed("freshness") {
		limit := evidence.Limit{Prefix: f.Key}
		f.Duration(&limit.Max)
		if f.Key == "default" {
			limit.Prefix = ""
		} else if !l.coversSome(f.Key) {
			f.KeyAt.Fail("no attribute begins with %s", f.Key)
		}
		p.Limits = append(p.Limits, limit)
	}
	for _, f := range l.keyed("threat_bands") {
		level, ok := f.KeyAt.Word("threat level", evidence.ThreatLevel.Enum.Words)
		from, isInt := f.Value(value.Of(value.Int))
		if ok && isInt {
			if from.Num() < 0 || from.Num() > 100 {
				f.Fail("a score is between 0 and 100")
			}
			p.Bands = append(p.Bands, evidence.Band{From: from.Num(), Level: level})
		}
	}
	slices.SortFunc(p.Bands, func(a, b evidence.Band) int { return a.Level - b.Level })
	for i := 1; i < len(p.Bands); i++ {
		if p.Bands[i].From <= p.Bands[i-1].From {
			f, _ := l.single("threat_bands")
			f.Fail("the scores of threat_bands must rise with their levels")
			break
		}
	}
	for _, f := range l.sections["ignore_keys"] {
		p.IgnoreKeys = append(p.IgnoreKeys, f.Texts()...)
	}
	l.sources()
}

func (l *loader) named(it tree.Item, what, id string) bool {
	if id == "" {
		it.Fail("%s needs an id", what)
	}
	return id != ""
}

func (l *loader) access() {
	rb := l.rb
	for _, f := range l.keyed("places") {
		p := Place{ID: f.Key}
		f.Mapping("a place", map[string]func(tree.Field){
			"title": func(f tree.Field) { var t string; f.Text(&t) },
			"networks": func(f tree.Field) {
				for _, m := range f.Seq() {
					if v, ok := m.Value(value.Of(value.Network)); ok {
						p.Networks = append(p.Networks, v.Prefix())
					}
				}
			},
			"countries": func(f tree.Field) {
				for _, c := range f.Texts() {
					if len(c) != 2 {
						f.Fail("%q is not a country code of two letters (ISO 3166-1)", c)
					}
					p.Countries = append(p.Countries, strings.ToUpper(c))
				}
			},
		})
		if p.Networks == nil && p.Countries == nil {
			f.KeyAt.Fail("the place %s needs networks or countries", f.Key)
		}
		rb.Places = append(rb.Places, p)
	}
	if f, ok := l.single("break_glass"); ok {
		rb.BreakGlass = f.Texts()
	}
	seen := unique{}
	for _, it := range l.members("resources") {
		var r Resource
		ok := it.Mapping("a resource", map[string]func(tree.Field){
			"id":    func(f tree.Field) { f.ID(&r.ID) },
			"title": func(f tree.Field) { f.Text(&r.Title) },
			"tags":  func(f tree.Field) { r.Tags = f.Texts() },
			"url":   func(f tree.Field) { f.Text(&r.URL) },
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
