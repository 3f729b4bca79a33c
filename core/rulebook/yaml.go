package rulebook

import (
	"cmp"
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

// Bounds on a rulebook, which an author may paste from anywhere.
const (
	MaxSize  = 4 << 20 // bytes of all files together
	maxIndex = 20_000  // members of one list
)

// reader walks the YAML of one file and gathers problems.
type reader struct {
	file  string
	probs *Problems
	conds *[]placed
}

// placed is a condition with the token it was written as.
type placed struct {
	file  string
	token *token.Token
	src   string
	prog  *condition.Program
}

// item is a YAML node with the file it stands in.
type item struct {
	r *reader
	n ast.Node
}

func parseFile(file, text string, probs *Problems, conds *[]placed) (root item, ok bool) {
	r := &reader{file, probs, conds}
	defer func() {
		if bad := recover(); bad != nil { // the YAML reader lost its way in hostile text
			r.at(1, 1, "this file is not readable as YAML")
			ok = false
		}
	}()
	if line := yamltext.TooDeep(text); line > 0 {
		r.at(line, 1, "brackets or lists are nested more than %d deep", yamltext.MaxNest)
		return item{}, false
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
		return item{}, false
	}
	docs := slices.DeleteFunc(f.Docs, func(d *ast.DocumentNode) bool { return d.Body == nil })
	switch len(docs) {
	case 0:
		r.at(1, 1, "the file is empty")
		return item{}, false
	case 1:
		return item{r, docs[0].Body}, true
	}
	r.at(docs[1].Start.Position.Line, 1, "a second document begins here; a rulebook is one document a file")
	return item{}, false
}

func (r *reader) at(line, column int, format string, args ...any) {
	*r.probs = append(*r.probs, Problem{File: r.file, Line: line, Column: max(1, column),
		Message: fmt.Sprintf(format, args...)})
}

// token is where the node is said to stand.
func (it item) token() *token.Token {
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

func (it item) position() Position {
	p := it.token().Position
	return Position{it.r.file, p.Line, max(1, p.Column)}
}

func (it item) fail(format string, args ...any) {
	p := it.position()
	it.r.at(p.Line, p.Column, format, args...)
}

// kind names the node for messages.
func (it item) kind() string {
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

func (it item) null() bool {
	if it.n == nil {
		return true
	}
	_, ok := it.n.(*ast.NullNode)
	return ok
}

// field is one key of a mapping and its value.
type field struct {
	key   string
	keyAt item
	item
}

// fields returns the keys of a mapping in the order of the text.
func (it item) fields() ([]field, bool) {
	var values []*ast.MappingValueNode
	switch n := it.n.(type) {
	case *ast.MappingNode:
		values = n.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{n}
	default:
		it.fail("%s stands where a mapping (key: value) was expected", it.kind())
		return nil, false
	}
	out := make([]field, 0, len(values))
	for _, v := range values {
		key := item{it.r, v.Key}
		if v.Key.Type() == ast.MergeKeyType {
			key.fail("merge keys are not used in rulebooks")
			continue
		}
		out = append(out, field{v.Key.GetToken().Value, key, item{it.r, v.Value}})
	}
	return out, true
}

// mapping reads a mapping whose keys are all known beforehand, and calls the
// handler of each key that is there and not empty.
func (it item) mapping(what string, handlers map[string]func(field)) bool {
	fields, ok := it.fields()
	for _, f := range fields {
		h, known := handlers[f.key]
		switch {
		case !known:
			f.unknownKey(what, handlers)
		case f.null():
		default:
			h(f)
		}
	}
	return ok
}

func (f field) unknownKey(what string, handlers map[string]func(field)) {
	known := make([]string, 0, len(handlers))
	for k := range handlers {
		known = append(known, k)
	}
	slices.Sort(known)
	if near := condition.Nearest(f.key, known); near != "" {
		f.keyAt.fail("%s has no key %s; did you mean %s?", what, f.key, near)
	} else {
		f.keyAt.fail("%s has no key %s; it may have %s", what, f.key, strings.Join(known, ", "))
	}
}

// isMapping reports whether there are keys with values.
func (it item) isMapping() bool {
	switch it.n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return true
	}
	return false
}

// seq returns the members of a list.
func (it item) seq() []item {
	n, ok := it.n.(*ast.SequenceNode)
	if !ok {
		it.fail("%s stands where a list was expected", it.kind())
		return nil
	}
	if len(n.Values) > maxIndex {
		it.fail("a list of %d members is longer than %d", len(n.Values), maxIndex)
		return nil
	}
	out := make([]item, len(n.Values))
	for i, v := range n.Values {
		out[i] = item{it.r, v}
	}
	return out
}

// scalar returns the text of a scalar as it was written.
func (it item) scalar() (string, bool) {
	switch n := it.n.(type) {
	case *ast.StringNode, *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		return n.GetToken().Value, true
	case *ast.LiteralNode:
		return strings.TrimSuffix(n.Value.Value, "\n"), true
	}
	it.fail("%s stands where a single value was expected", it.kind())
	return "", false
}

func (it item) text(into *string) {
	if s, ok := it.scalar(); ok {
		*into = strings.TrimSpace(s)
	}
}

func (it item) texts() []string {
	var out []string
	for _, m := range it.seq() {
		var s string
		m.text(&s)
		if slices.Contains(out, s) {
			m.fail("%s stands twice in the list", s)
		} else if s != "" {
			out = append(out, s)
		}
	}
	return out
}

func (it item) boolean(into *bool) {
	if v, ok := it.value(value.Of(value.Bool)); ok {
		*into = v.IsTrue()
	}
}

func (it item) duration(into *int64) {
	if v, ok := it.value(value.Of(value.Duration)); ok {
		*into = v.Num()
	}
}

// value reads a scalar of a type.
func (it item) value(t value.Type) (value.Value, bool) {
	s, ok := it.scalar()
	if !ok {
		return value.Value{}, false
	}
	v, err := value.Parse(t, s)
	if err != nil {
		it.fail("%v", err)
		return value.Value{}, false
	}
	return v, true
}

// word reads one word of a closed set.
func (it item) word(what string, words []string) (int, bool) {
	s, ok := it.scalar()
	if !ok {
		return 0, false
	}
	i := slices.Index(words, s)
	if i >= 0 {
		return i, true
	}
	if near := condition.Nearest(s, words); near != "" {
		it.fail("%s is not a %s; did you mean %s?", s, what, near)
	} else {
		it.fail("%s is not a %s; there are %s", s, what, cmp.Or(strings.Join(words, ", "), "none"))
	}
	return 0, false
}

var IDPattern = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]*$`)

func (it item) id(into *string) {
	it.text(into)
	if !IDPattern.MatchString(*into) || len(*into) > 100 {
		it.fail("%q is not an id: small letters, digits, dots, dashes and underscores, at most 100", *into)
	}
}

// condition compiles a condition; its errors are placed in the file.
func (it item) condition(dict condition.Dictionary) *condition.Program {
	src, ok := it.scalar()
	if !ok {
		return nil
	}
	p, err := condition.CompileText(src, dict)
	if err == nil {
		*it.r.conds = append(*it.r.conds, placed{it.r.file, it.n.GetToken(), src, p})
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

func (it item) conditionError(e *syntax.Error) {
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
