package control

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// Error says where in an OSCAL catalogue something is wrong.
type Error struct {
	Pointer string // RFC 6901
	Offset  int64  // in bytes
	Message string
}

func (e *Error) Error() string {
	where := fmt.Sprintf("byte %d", e.Offset)
	if e.Pointer != "" {
		where = e.Pointer + ", " + where
	}
	return e.Message + " (" + where + ")"
}

// maxDepth bounds how deep groups, controls and parts stand within each other.
const maxDepth = 32

// ReadOSCAL reads a catalogue as OSCAL has it in JSON (NIST, Open Security Controls Assessment Language 1.x), piece by
// piece: of a file of any size only what is kept is in memory. The error is an [*Error], or that of reading.
func ReadOSCAL(from io.Reader) (*Catalogue, error) {
	limited := &io.LimitedReader{R: from, N: MaxFile + 1}
	r := &reader{dec: jsontext.NewDecoder(limited), seen: map[string]bool{}, params: map[string]string{}}
	found := false
	r.object(0, map[string]func(int){"catalog": func(depth int) { found = true; r.catalogue(depth) }})
	switch {
	case r.err == nil && !found:
		r.fail("this is no OSCAL catalogue: there is no member catalog at its top")
	case r.err == nil && len(r.out.Controls) == 0:
		r.fail("the catalogue has no controls")
	}
	if r.err == nil {
		if _, err := r.dec.ReadToken(); !errors.Is(err, io.EOF) {
			r.fail("there is something behind the catalogue")
		}
	}
	if limited.N == 0 {
		return nil, fmt.Errorf("the catalogue is larger than %d bytes", int64(MaxFile))
	}
	if r.err != nil {
		return nil, r.err
	}
	for i := range r.out.Controls {
		c := &r.out.Controls[i]
		c.Text = r.inserted(c.Text)
	}
	return &r.out, nil
}

// reader reads a catalogue. After the first error it reads nothing more.
type reader struct {
	dec    *jsontext.Decoder
	out    Catalogue
	seen   map[string]bool
	params map[string]string // what stands in texts for them, by id
	err    error
}

func (r *reader) fail(format string, args ...any) {
	if r.err == nil {
		r.err = &Error{string(r.dec.StackPointer()), r.dec.InputOffset(), fmt.Sprintf(format, args...)}
	}
}

// token reads the next token.
func (r *reader) token() (t jsontext.Token) {
	if r.err != nil {
		return t
	}
	t, err := r.dec.ReadToken()
	var syntax *jsontext.SyntacticError
	switch {
	case err == nil:
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		r.fail("the catalogue ends in the middle")
	case errors.As(err, &syntax):
		r.fail("this is not JSON: %v", syntax.Err)
	default:
		r.err = err
	}
	return t
}

// object reads an object, and skips the members that nobody reads.
func (r *reader) object(depth int, members map[string]func(depth int)) {
	if depth > maxDepth {
		r.fail("things stand more than %d deep within each other", maxDepth)
		return
	}
	if t := r.token(); r.err != nil || t.Kind() != '{' {
		r.fail("expected an object")
		return
	}
	for r.err == nil {
		name := r.token()
		if r.err != nil || name.Kind() == '}' {
			return
		}
		if read := members[name.String()]; read != nil {
			read(depth + 1)
		} else if err := r.dec.SkipValue(); err != nil {
			r.token() // which tells why
			r.fail("this is not JSON: %v", err)
		}
	}
}

// list reads an array.
func (r *reader) list(each func()) {
	if t := r.token(); r.err != nil || t.Kind() != '[' {
		r.fail("expected a list")
		return
	}
	for r.err == nil {
		if r.dec.PeekKind() == ']' {
			r.token()
			return
		}
		each()
	}
}

// text reads a string of at most so many bytes; what is longer is cut.
func (r *reader) text(into *string, most int) func(int) {
	return func(int) {
		t := r.token()
		if r.err != nil || t.Kind() != '"' {
			r.fail("expected a text")
			return
		}
		*into = clipped(strings.TrimSpace(t.String()), most)
	}
}

func clipped(s string, most int) string {
	if len(s) <= most {
		return s
	}
	for most--; most > 0 && !utf8.RuneStart(s[most]); most-- {
	}
	return s[:most] + "…"
}

func (r *reader) catalogue(depth int) {
	r.object(depth, map[string]func(int){
		"metadata": func(depth int) {
			r.object(depth, map[string]func(int){"title": r.text(&r.out.Title, MaxTitle),
				"version": r.text(&r.out.Version, MaxTitle)})
		},
		"params":   r.parameters,
		"groups":   func(depth int) { r.list(func() { r.group(depth) }) },
		"controls": func(depth int) { r.list(func() { r.control(depth, "") }) },
	})
}

// group reads a group: its title may stand behind its controls.
func (r *reader) group(depth int) {
	title, first := "", len(r.out.Controls)
	r.object(depth, map[string]func(int){
		"title":    r.text(&title, MaxTitle),
		"params":   r.parameters,
		"groups":   func(depth int) { r.list(func() { r.group(depth) }) },
		"controls": func(depth int) { r.list(func() { r.control(depth, "") }) },
	})
	for i := first; i < len(r.out.Controls); i++ {
		if c := &r.out.Controls[i]; c.Group == "" {
			c.Group = title
		}
	}
}

// control reads a control, and those that enhance it behind it.
func (r *reader) control(depth int, group string) {
	if len(r.out.Controls) == MaxControls {
		r.fail("the catalogue has more than %d controls", MaxControls)
		return
	}
	at := len(r.out.Controls)
	r.out.Controls = append(r.out.Controls, Control{Group: group})
	c := Control{Group: group}
	var prose []string
	r.object(depth, map[string]func(int){
		"id":     r.text(&c.ID, 200),
		"title":  r.text(&c.Title, MaxTitle),
		"params": r.parameters,
		"parts":  func(depth int) { r.parts(depth, &c, &prose, false) },
		"controls": func(depth int) {
			r.list(func() { r.control(depth, group) })
		},
	})
	switch {
	case r.err != nil:
		return
	case !ID.MatchString(c.ID):
		r.fail("%q is no id of a control", c.ID)
	case r.seen[c.ID]:
		r.fail("the control %s is there twice", c.ID)
	case c.Title == "":
		r.fail("the control %s has no title", c.ID)
	}
	r.seen[c.ID] = true
	c.Text = clipped(strings.Join(prose, "\n"), MaxText)
	r.out.Controls[at] = c
}

// parts reads what a control says: its statement, with the items of it.
func (r *reader) parts(depth int, c *Control, prose *[]string, within bool) {
	r.list(func() {
		id, name, text := "", "", ""
		var inner []string
		r.object(depth, map[string]func(int){
			"id": r.text(&id, 200), "name": r.text(&name, 200), "prose": r.text(&text, MaxText),
			"parts": func(depth int) { r.parts(depth, c, &inner, true) },
		})
		if within && name != "item" || !within && name != "statement" {
			return
		}
		if !within && c.Statement == "" && ID.MatchString(id) {
			c.Statement = id
		}
		if text != "" {
			*prose = append(*prose, text)
		}
		*prose = append(*prose, inner...)
	})
}

// parameters reads what stands in texts for values that an organisation sets.
func (r *reader) parameters(depth int) {
	r.list(func() {
		id, label := "", ""
		r.object(depth, map[string]func(int){"id": r.text(&id, 200), "label": r.text(&label, MaxTitle)})
		if id != "" && label != "" && len(r.params) < MaxControls {
			r.params[id] = label
		}
	})
}

var (
	insertion  = regexp.MustCompile(`\{\{\s*insert:\s*param,\s*([^\s}]+)\s*\}\}`)
	insertions = regexp.MustCompile(`\{\{[^}]*\}\}`)
)

// inserted is a text with what its parameters are called in their place. What that inserts itself is left out, so that
// parameters that lead back to themselves end.
func (r *reader) inserted(text string) string {
	return clipped(insertion.ReplaceAllStringFunc(text, func(found string) string {
		id := insertion.FindStringSubmatch(found)[1]
		if label := r.params[id]; label != "" {
			return "[" + insertions.ReplaceAllString(label, "…") + "]"
		}
		return "[" + id + "]"
	}), MaxText)
}
