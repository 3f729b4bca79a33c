package control

import (
	"strings"

	"ironledger.example/core/rulebook/tree"
)

// Load reads the section of a rulebook that has its controls: {title, version, files: [OSCAL catalogues], list: [{id,
// title, group, text}]}. beside gives the text of a file that it names.
func Load(f tree.Field, beside func(tree.Field) (text string, ok bool)) (c Catalogue) {
	l := &loader{into: &c, beside: beside, seen: map[string]tree.Position{}}
	f.Mapping("controls", map[string]func(tree.Field){
		"title":   func(f tree.Field) { f.Text(&c.Title) },
		"version": func(f tree.Field) { f.Text(&c.Version) },
		"files": func(f tree.Field) {
			for _, it := range f.Seq() {
				l.file(tree.Field{Item: it, KeyAt: it})
			}
		},
		"list": func(f tree.Field) {
			for _, it := range f.Seq() {
				l.own(it)
			}
		},
	})
	return c
}

type loader struct {
	into   *Catalogue
	beside func(tree.Field) (string, bool)
	seen   map[string]tree.Position
}

// add puts a control into the catalogue that stands there.
func (l *loader) add(it tree.Item, c Control) {
	p, dup := l.seen[c.ID]
	switch {
	case dup:
		it.Fail("the control %s is there twice; the first is at %s:%d", c.ID, p.File, p.Line)
	case len(l.into.Controls) == MaxControls:
		it.Fail("there are more than %d controls", MaxControls)
	default:
		l.seen[c.ID] = it.Position()
		l.into.Controls = append(l.into.Controls, c)
	}
}

// own reads a control that the rulebook has itself.
func (l *loader) own(it tree.Item) {
	var c Control
	ok := it.Mapping("a control", map[string]func(tree.Field){
		"id":    func(f tree.Field) { c.ID = readID(f.Item) },
		"title": func(f tree.Field) { bounded(f, &c.Title, MaxTitle) },
		"group": func(f tree.Field) { bounded(f, &c.Group, MaxTitle) },
		"text":  func(f tree.Field) { bounded(f, &c.Text, MaxText) },
	})
	switch {
	case !ok:
	case c.ID == "":
		it.Fail("a control needs an id")
	case c.Title == "":
		it.Fail("the control %s needs a title", c.ID)
	default:
		l.add(it, c)
	}
}

// file reads an OSCAL catalogue.
func (l *loader) file(f tree.Field) {
	text, ok := l.beside(f)
	if !ok {
		return
	}
	read, err := ReadOSCAL(strings.NewReader(text))
	if err != nil {
		f.Fail("%s: %v", f.Said(), err)
		return
	}
	if l.into.Title == "" {
		l.into.Title, l.into.Version = read.Title, read.Version
	}
	for _, c := range read.Controls {
		l.add(f.Item, c)
	}
}

func bounded(f tree.Field, into *string, most int) {
	if f.Text(into); len(*into) > most {
		f.Fail("%s has at most %d bytes", f.Key, most)
	}
}

func readID(it tree.Item) string {
	id, ok := it.Scalar()
	if ok && !ID.MatchString(id) {
		it.Fail("%q is no id of a control: it begins with a letter, and has letters, digits, dots, dashes and "+
			"underscores", id)
		return ""
	}
	return id
}

// ReadIDs reads the ids of the controls that something serves. Whether a catalogue has them, review tells: the
// catalogue may come later.
func ReadIDs(f tree.Field) (out []string) {
	seen := map[string]bool{}
	for _, it := range f.Seq() {
		id := readID(it)
		if seen[id] {
			it.Fail("%s stands twice in the list", id)
		}
		if seen[id] = true; id != "" {
			out = append(out, id)
		}
	}
	return out
}
