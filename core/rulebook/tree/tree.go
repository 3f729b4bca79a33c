// Package tree reads the YAML of a rulebook as items that know where they stand, and gathers
// everything that is wrong with them.
package tree

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"ironledger.example/core/condition"
	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/value"
	"ironledger.example/core/yamltext"
)

// maxIndex bounds the members of one list.
const maxIndex = 20_000

// reader walks the YAML of one file and gathers problems.
type reader struct {
	file  string
	probs *Problems
	conds *[]Placed
}

// Placed is a condition with the token it was written as.
type Placed struct {
	File  string
	token *token.Token
	src   string
	prog  *condition.Program
}

// Line is where it stands, from 1.
func (c *Placed) Line() int { return c.token.Position.Line }

// Item is a YAML node with the file it stands in.
type Item struct {
	r *reader
	n ast.Node
}

// Parse reads the YAML of one file, which is one document without anchors, aliases or tags. What is wrong with it, and
// later with what is read of it, joins probs; its conditions join conditions.
func Parse(file, text string, probs *Problems, conditions *[]Placed) (root Item, ok bool) {
	r := &reader{file, probs, conditions}
	defer func() {
		if bad := recover(); bad != nil { // the YAML reader lost its way in hostile text
			r.at(1, 1, "this file is not readable as YAML")
			ok = false
		}
	}()
	if line := yamltext.TooDeep(text); line > 0 {
		r.at(line, 1, "brackets or lists are nested more than %d deep", yamltext.MaxNest)
		return Item{}, false
	}
	f, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		var bad yaml.Error
		if errors.As(err, &bad) && bad.GetToken() != nil {
			p := bad.GetToken().Position
			r.at(p.Line, p.Column, "not valid YAML: %s", bad.GetMessage())
		} else {
			r.at(1, 1, "not valid YAML: %v", err)
		}
		return Item{}, false
	}
	docs := slices.DeleteFunc(f.Docs, func(d *ast.DocumentNode) bool { return d.Body == nil })
	switch len(docs) {
	case 0:
		r.at(1, 1, "the file is empty")
		return Item{}, false
	case 1:
		return Item{r, docs[0].Body}, true
	}
	r.at(docs[1].Start.Position.Line, 1, "a second document begins here; a rulebook is one document a file")
	return Item{}, false
}

func (r *reader) at(line, column int, format string, args ...any) {
	*r.probs = append(*r.probs, Problem{File: r.file, Line: line, Column: max(1, column),
		Message: fmt.Sprintf(format, args...)})
}

// Absent reports whether there is no node at all.
func (it Item) Absent() bool { return it.n == nil }

// token is where the node is said to stand.
func (it Item) token() *token.Token {
	switch n := it.n.(type) {
	case *ast.MappingNode:
		if len(n.Values) > 0 && !n.IsFlowStyle {
			return n.Values[0].Key.GetToken()
		}
	case *ast.MappingValueNode:
		return n.Key.GetToken()
	}
	return it.n.GetToken()
}

// Position is where the item stands.
func (it Item) Position() Position {
	p := it.token().Position
	return Position{it.r.file, p.Line, max(1, p.Column)}
}

// Fail says that something is wrong with the item.
func (it Item) Fail(format string, args ...any) {
	p := it.Position()
	it.r.at(p.Line, p.Column, format, args...)
}

// Kind names the node for messages.
func (it Item) Kind() string {
	switch it.n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.SequenceNode:
		return "a list"
	case *ast.NullNode:
		return "nothing"
	case *ast.AliasNode, *ast.AnchorNode, *ast.MergeKeyNode, *ast.TagNode:
		return "a YAML anchor, alias or tag, which rulebooks do not use,"
	}
	return strconv.Quote(it.n.GetToken().Value)
}

// Null reports whether there is nothing: no node, or an empty one.
func (it Item) Null() bool {
	if it.n == nil {
		return true
	}
	_, ok := it.n.(*ast.NullNode)
	return ok
}

// Field is one key of a mapping and its value.
type Field struct {
	Key   string
	KeyAt Item
	Item
}

// Fields returns the keys of a mapping in the order of the text.
func (it Item) Fields() ([]Field, bool) {
	var values []*ast.MappingValueNode
	switch n := it.n.(type) {
	case *ast.MappingNode:
		values = n.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{n}
	default:
		it.Fail("%s stands where a mapping (key: value) was expected", it.Kind())
		return nil, false
	}
	out := make([]Field, 0, len(values))
	for _, v := range values {
		key := Item{it.r, v.Key}
		if v.Key.Type() == ast.MergeKeyType {
			key.Fail("merge keys are not used in rulebooks")
			continue
		}
		out = append(out, Field{v.Key.GetToken().Value, key, Item{it.r, v.Value}})
	}
	return out, true
}

// Mapping reads a mapping whose keys are all known beforehand, and calls the
// handler of each key that is there and not empty.
func (it Item) Mapping(what string, handlers map[string]func(Field)) bool {
	fields, ok := it.Fields()
	for _, f := range fields {
		h, known := handlers[f.Key]
		switch {
		case !known:
			f.UnknownKey(what, handlers)
		case f.Null():
		default:
			h(f)
		}
	}
	return ok
}

// UnknownKey says that the mapping called what has no such key, with the nearest that it has.
func (f Field) UnknownKey(what string, handlers map[string]func(Field)) {
	known := make([]string, 0, len(handlers))
	for k := range handlers {
		known = append(known, k)
	}
	slices.Sort(known)
	if near := condition.Nearest(f.Key, known); near != "" {
		f.KeyAt.Fail("%s has no key %s; did you mean %s?", what, f.Key, near)
	} else {
		f.KeyAt.Fail("%s has no key %s; it may have %s", what, f.Key, strings.Join(known, ", "))
	}
}

// IsMapping reports whether there are keys with values.
func (it Item) IsMapping() bool {
	switch it.n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return true
	}
	return false
}

// Seq returns the members of a list.
func (it Item) Seq() []Item {
	n, ok := it.n.(*ast.SequenceNode)
	if !ok {
		it.Fail("%s stands where a list was expected", it.Kind())
		return nil
	}
	if len(n.Values) > maxIndex {
		it.Fail("a list of %d members is longer than %d", len(n.Values), maxIndex)
		return nil
	}
	out := make([]Item, len(n.Values))
	for i, v := range n.Values {
		out[i] = Item{it.r, v}
	}
	return out
}

// Partition takes members out of a list and returns the list of the rest, absent when all
// were taken. What is no list is the rest.
func (it Item) Partition(take func(Item) bool) (taken []Item, rest Item) {
	seq, ok := it.n.(*ast.SequenceNode)
	if !ok {
		return nil, it
	}
	left := *seq
	left.Values = nil
	for _, n := range seq.Values {
		if m := (Item{it.r, n}); take(m) {
			taken = append(taken, m)
		} else {
			left.Values = append(left.Values, n)
		}
	}
	if len(taken) > 0 && len(left.Values) == 0 {
		return taken, Item{}
	}
	return taken, Item{it.r, &left}
}

// Scalar returns the text of a scalar as it was written.
func (it Item) Scalar() (string, bool) {
	switch n := it.n.(type) {
	case *ast.StringNode, *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		return n.GetToken().Value, true
	case *ast.LiteralNode:
		return strings.TrimSuffix(n.Value.Value, "\n"), true
	}
	it.Fail("%s stands where a single value was expected", it.Kind())
	return "", false
}

// Text reads a text, without space around it.
func (it Item) Text(into *string) {
	if s, ok := it.Scalar(); ok {
		*into = strings.TrimSpace(s)
	}
}

// Texts reads a list of texts, each once.
func (it Item) Texts() []string {
	var out []string
	for _, m := range it.Seq() {
		var s string
		m.Text(&s)
		if slices.Contains(out, s) {
			m.Fail("%s stands twice in the list", s)
		} else if s != "" {
			out = append(out, s)
		}
	}
	return out
}

// Boolean reads a truth.
func (it Item) Boolean(into *bool) {
	if v, ok := it.Value(value.Of(value.Bool)); ok {
		*into = v.IsTrue()
	}
}

// Duration reads a duration, in microseconds.
func (it Item) Duration(into *int64) {
	if v, ok := it.Value(value.Of(value.Duration)); ok {
		*into = v.Num()
	}
}

// Value reads a scalar of a type.
func (it Item) Value(t value.Type) (value.Value, bool) {
	s, ok := it.Scalar()
	if !ok {
		return value.Value{}, false
	}
	v, err := value.Parse(t, s)
	if err != nil {
		it.Fail("%v", err)
		return value.Value{}, false
	}
	return v, true
}

// Word reads one word of a closed set.
func (it Item) Word(what string, words []string) (int, bool) {
	s, ok := it.Scalar()
	if !ok {
		return 0, false
	}
	i := slices.Index(words, s)
	if i >= 0 {
		return i, true
	}
	if near := condition.Nearest(s, words); near != "" {
		it.Fail("%s is not a %s; did you mean %s?", s, what, near)
	} else {
		it.Fail("%s is not a %s; there are %s", s, what, cmp.Or(strings.Join(words, ", "), "none"))
	}
	return 0, false
}

// IDPattern is what ids look like.
var IDPattern = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]*$`)

// ID reads an id.
func (it Item) ID(into *string) {
	it.Text(into)
	if !IDPattern.MatchString(*into) || len(*into) > 100 {
		it.Fail("%q is not an id: small letters, digits, dots, dashes and underscores, at most 100", *into)
	}
}

// Condition compiles a condition; its errors are placed in the file.
func (it Item) Condition(dict condition.Dictionary) *condition.Program {
	src, ok := it.Scalar()
	if !ok {
		return nil
	}
	p, err := condition.CompileText(src, dict)
	if err == nil {
		*it.r.conds = append(*it.r.conds, Placed{it.r.file, it.n.GetToken(), src, p})
		return p
	}
	var list syntax.Errors
	var one *syntax.Error
	if !errors.As(err, &list) && errors.As(err, &one) {
		list = syntax.Errors{one}
	}
	for _, e := range list {
		it.conditionError(e)
	}
	return nil
}

func (it Item) conditionError(e *syntax.Error) {
	tok := it.token()
	line, column := tok.Position.Line, tok.Position.Column
	switch {
	case it.n.Type() == ast.LiteralType:
		line, column = line+e.Line(), e.Column()+tok.Position.IndentNum+2
	case !strings.Contains(strings.TrimSpace(tok.Origin), "\n"):
		column += e.Column() - 1
		if tok.Type == token.SingleQuoteType || tok.Type == token.DoubleQuoteType {
			column++
		}
	}
	msg := e.Message
	if e.Hint != "" {
		msg += "; " + e.Hint
	}
	*it.r.probs = append(*it.r.probs, Problem{File: it.r.file, Line: line, Column: max(1, column),
		Message: msg, Excerpt: e.Excerpt()})
}

// Empty reports whether nothing is given, or an empty list or mapping.
func (f Field) Empty() bool {
	if f.Null() {
		return true
	}
	text := f.n.String()
	return text == "[]" || text == "{}"
}

// Said is the text of a scalar, "" for what is none.
func (f Field) Said() string { s, _ := f.Scalar(); return s }

// References reads a list of names, all of which must be known; what says what they name.
func (f Field) References(what string, known []string) []string {
	var out []string
	for _, m := range f.Seq() {
		s, ok := m.Scalar()
		if !ok {
			continue
		}
		if !slices.Contains(known, s) {
			hint := ""
			if near := condition.Nearest(s, known); near != "" {
				hint = "; did you mean " + near + "?"
			}
			m.Fail("%s is not a %s in this rulebook%s", s, what, hint)
			continue
		}
		out = append(out, s)
	}
	return out
}

// Truth reads a truth that may also be left open.
func (it Item) Truth() *bool {
	out := false
	it.Boolean(&out)
	return &out
}

// Moment is a moment of an example: one that is given, or one that is so far from the
// moment of the example.
type Moment func(at int64) int64

// Moment reads an RFC 3339 time, or now, or a distance from the moment of the example as
// -2h or +30d.
func (it Item) Moment() (Moment, bool) {
	text, ok := it.Scalar()
	if !ok {
		return nil, false
	}
	sign, rest := int64(1), text
	switch {
	case text == "now":
		return func(at int64) int64 { return at }, true
	case strings.HasPrefix(text, "-"):
		sign, rest = -1, text[1:]
	case strings.HasPrefix(text, "+"):
		rest = text[1:]
	default:
		v, err := value.Parse(value.Of(value.Time), text)
		if err != nil {
			it.Fail("%v, or a distance from the moment of the example, as -2h or +30d", err)
			return nil, false
		}
		return func(int64) int64 { return v.Num() }, true
	}
	d, err := value.ParseDuration(rest)
	if err != nil {
		it.Fail("%v; a distance from the moment of the example is written as -2h or +30d", err)
		return nil, false
	}
	return func(at int64) int64 { return at + sign*d.Num() }, true
}

// Written gives a value as the JSON that it has in a report at a moment.
type Written func(at int64) json.RawMessage

// JSON gives a YAML node as the JSON that a value of type t has in a report.
func (it Item) JSON(t value.Type) Written {
	fixed := func(raw json.RawMessage) Written { return func(int64) json.RawMessage { return raw } }
	switch n := it.n.(type) {
	case *ast.NullNode:
		return fixed(json.RawMessage("null"))
	case *ast.SequenceNode:
		elem := value.Of(value.Text)
		if t.Kind == value.List {
			elem = *t.Elem
		}
		parts := make([]Written, len(n.Values))
		for i, v := range n.Values {
			parts[i] = Item{it.r, v}.JSON(elem)
		}
		return func(at int64) json.RawMessage {
			list := make([]json.RawMessage, len(parts))
			for i, w := range parts {
				list[i] = w(at)
			}
			raw, _ := json.Marshal(list) // raw messages made here are valid
			return raw
		}
	case *ast.MappingNode, *ast.MappingValueNode:
		fields, _ := it.Fields()
		parts := map[string]Written{}
		for _, f := range fields {
			ft := value.Of(value.Text)
			if t.Kind == value.Record {
				if i := t.Record.Index(f.Key); i >= 0 {
					ft = t.Record.Fields[i].Type
				}
			}
			parts[f.Key] = f.JSON(ft)
		}
		return func(at int64) json.RawMessage {
			all := make(map[string]json.RawMessage, len(parts))
			for name, w := range parts {
				all[name] = w(at)
			}
			raw, _ := json.Marshal(all)
			return raw
		}
	}
	s, ok := it.Scalar()
	switch {
	case !ok:
		return fixed(json.RawMessage("null"))
	case t.Kind == value.Time && (s == "now" || strings.HasPrefix(s, "-") || strings.HasPrefix(s, "+")):
		moment, ok := it.Moment()
		if !ok {
			return fixed(json.RawMessage("null"))
		}
		return func(at int64) json.RawMessage {
			return value.OfText(value.FormatTime(moment(at))).AppendJSON(nil)
		}
	case t.Kind == value.Bool || t.Kind == value.Int:
		if v, err := value.Parse(t, s); err == nil {
			return fixed(v.AppendJSON(nil))
		}
	}
	return fixed(value.OfText(s).AppendJSON(nil))
}

// Rewrite puts the canonical form in the place of the condition on its line.
func (c *Placed) Rewrite(line string) string {
	quoted := func(s string) string { return s }
	switch c.token.Type {
	case token.SingleQuoteType:
		quoted = func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
	case token.DoubleQuoteType:
		quoted = strconv.Quote
	}
	runes := []rune(line)
	start := c.token.Position.Column - 1
	if start < 0 || start > len(runes) {
		return line
	}
	rest := string(runes[start:])
	old := quoted(c.src)
	if !strings.HasPrefix(rest, old) {
		return line
	}
	return string(runes[:start]) + quoted(c.prog.String()) + rest[len(old):]
}
