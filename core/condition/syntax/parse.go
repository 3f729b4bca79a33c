package syntax

import (
	"fmt"
	"slices"
)

// reserved words cannot be names.
var reserved = []string{"and", "or", "not", "in", "contains", "starts", "ends", "matches", "with", "true", "false"}

type parser struct {
	src   string
	toks  []token
	i     int
	depth int
}

// Parse reads a condition. The error, when there is one, is an [*Error]: the
// first place where the text stops making sense.
func Parse(src string) (Node, error) {
	toks, lexErr := lex(src)
	if lexErr != nil {
		return nil, lexErr
	}
	p := &parser{src: src, toks: toks}
	n, err := p.expr()
	if err == nil && p.peek().kind != tokEnd {
		err = p.unexpected("and, or, or the end of the condition")
	}
	if err != nil {
		return nil, err
	}
	return n, nil
}

// Format prints a condition in the canonical way.
func Format(src string) (string, error) {
	n, err := Parse(src)
	if err != nil {
		return "", err
	}
	return n.String(), nil
}

func (p *parser) peek() token { return p.toks[p.i] }

func (p *parser) peekAt(n int) token {
	return p.toks[min(p.i+n, len(p.toks)-1)]
}

func (p *parser) take() token {
	t := p.toks[p.i]
	if t.kind != tokEnd {
		p.i++
	}
	return t
}

func (p *parser) word(w string) bool {
	if t := p.peek(); t.kind == tokWord && t.text == w {
		p.i++
		return true
	}
	return false
}

func (p *parser) fail(t token, format string, args ...any) *Error {
	return &Error{Source: p.src, Offset: t.pos, Width: max(1, len(t.text)), Message: fmt.Sprintf(format, args...)}
}

func (p *parser) unexpected(want string) *Error {
	t := p.peek()
	if t.kind == tokEnd {
		return p.fail(t, "the condition ends where %s was expected", want)
	}
	return p.fail(t, "found %s where %s was expected", t.text, want)
}

func (p *parser) enter() *Error {
	if p.depth++; p.depth > maxDepth {
		return p.fail(p.peek(), "the condition is nested more than %d deep", maxDepth)
	}
	return nil
}

func (p *parser) expr() (Node, *Error) {
	return p.logic("or", func() (Node, *Error) { return p.logic("and", p.unary) })
}

func (p *parser) logic(word string, operand func() (Node, *Error)) (Node, *Error) {
	first, err := operand()
	if err != nil {
		return nil, err
	}
	kids := []Node{first}
	at := p.peek().pos
	for p.word(word) {
		k, err := operand()
		if err != nil {
			return nil, err
		}
		kids = append(kids, k)
	}
	if len(kids) == 1 {
		return first, nil
	}
	return &Logic{And: word == "and", Kids: kids, At: at}, nil
}

func (p *parser) unary() (Node, *Error) {
	if err := p.enter(); err != nil {
		return nil, err
	}
	defer func() { p.depth-- }()
	if t := p.peek(); p.word("not") {
		x, err := p.unary()
		if err != nil {
			return nil, err
		}
		return &Not{X: x, At: t.pos}, nil
	}
	return p.compare()
}

func (p *parser) compare() (Node, *Error) {
	l, err := p.operand()
	if err != nil {
		return nil, err
	}
	at := p.peek()
	op, err := p.operator()
	if err != nil || op == "" {
		return l, err
	}
	r, err := p.operand()
	if err != nil {
		return nil, err
	}
	return &Compare{Op: op, L: l, R: r, At: at.pos}, nil
}

// operator takes the comparison operator that stands next, or gives "".
func (p *parser) operator() (Op, *Error) {
	t := p.peek()
	if t.kind == tokOp {
		p.i++
		return Op(t.text), nil
	}
	if t.kind != tokWord {
		return "", nil
	}
	switch t.text {
	case "in", "contains", "matches":
		p.i++
		return Op(t.text), nil
	case "not":
		if next := p.peekAt(1); next.kind == tokWord && next.text == "in" {
			p.i += 2
			return OpNotIn, nil
		}
		return "", p.unexpected("an operator (only in may follow not here)")
	case "starts", "ends":
		p.i++
		if !p.word("with") {
			return "", p.unexpected("with")
		}
		return Op(t.text + " with"), nil
	}
	return "", nil
}

func (p *parser) operand() (Node, *Error) {
	t := p.peek()
	switch t.kind {
	case tokLiteral:
		p.i++
		return &Literal{Text: t.text, Value: t.lit, At: t.pos}, nil
	case tokOpen:
		p.i++
		n, err := p.expr()
		if err != nil {
			return nil, err
		}
		if p.peek().kind != tokClose {
			return nil, p.unexpected("a closing bracket")
		}
		p.i++
		return n, nil
	case tokListOpen:
		return p.list()
	case tokWord:
		return p.wordOperand()
	}
	return nil, p.unexpected("a name, a value or an opening bracket")
}

func (p *parser) list() (Node, *Error) {
	if err := p.enter(); err != nil {
		return nil, err
	}
	defer func() { p.depth-- }()
	n := &List{At: p.take().pos}
	for p.peek().kind != tokListClose {
		if len(n.Items) > 0 {
			if p.peek().kind != tokComma {
				return nil, p.unexpected("a comma or a closing square bracket")
			}
			p.i++
		}
		it, err := p.operand()
		if err != nil {
			return nil, err
		}
		if it.rank() < 4 {
			return nil, p.fail(token{pos: it.Pos()}, "a condition cannot be a member of a list")
		}
		n.Items = append(n.Items, it)
	}
	p.i++
	return n, nil
}

func (p *parser) wordOperand() (Node, *Error) {
	t := p.peek()
	switch t.text {
	case "true", "false":
		p.i++
		return &Path{Name: t.text, At: t.pos}, nil
	case "known", "proved", "age", "until":
		if p.peekAt(1).kind == tokOpen {
			p.i += 2
			arg, err := p.path()
			if err != nil {
				return nil, err
			}
			if p.peek().kind != tokClose {
				return nil, p.unexpected("a closing bracket")
			}
			p.i++
			return &Call{Fn: t.text, Arg: arg, At: t.pos}, nil
		}
	case "any", "all", "none", "count":
		if in := p.peekAt(2); p.peekAt(1).kind == tokWord && in.kind == tokWord && in.text == "in" &&
			!slices.Contains(reserved, p.peekAt(1).text) {
			return p.quantifier()
		}
	}
	return p.path()
}

func (p *parser) path() (*Path, *Error) {
	t := p.peek()
	if t.kind != tokWord || slices.Contains(reserved, t.text) {
		return nil, p.unexpected("a name")
	}
	p.i++
	return &Path{Name: t.text, At: t.pos}, nil
}

func (p *parser) quantifier() (Node, *Error) {
	fn, name := p.take(), p.take()
	p.i++ // in
	over, err := p.path()
	if err != nil {
		return nil, err
	}
	q := &Quantifier{Fn: fn.text, Var: name.text, Over: over, At: fn.pos}
	for i := range len(name.text) {
		if name.text[i] == '.' {
			return nil, p.fail(name, "a variable has no dots in its name")
		}
	}
	if p.peek().kind != tokOpen {
		if fn.text == "count" {
			return q, nil
		}
		return nil, p.unexpected("a condition in brackets about each " + name.text)
	}
	p.i++
	if q.Body, err = p.expr(); err != nil {
		return nil, err
	}
	if p.peek().kind != tokClose {
		return nil, p.unexpected("a closing bracket")
	}
	p.i++
	return q, nil
}
