package syntax

import (
	"net/netip"
	"strconv"
	"strings"
	"unicode/utf8"

	"ironledger.example/core/value"
)

type tokenKind uint8

const (
	tokEnd tokenKind = iota
	tokWord
	tokLiteral
	tokOp // comparison operators made of punctuation
	tokOpen
	tokClose
	tokListOpen
	tokListClose
	tokComma
)

// token is one word of the language with its place in the text.
type token struct {
	kind tokenKind
	text string
	pos  int
	lit  value.Value // of a tokLiteral
}

// Bounds on a condition, which may come from anywhere.
const (
	maxSource = 16 << 10
	maxDepth  = 100
)

var literalKinds = []value.Kind{value.Int, value.Version, value.Duration, value.Time, value.Network}

func lex(src string) ([]token, *Error) {
	if len(src) > maxSource {
		return nil, &Error{Source: src[:64],
			Message: "the condition is longer than " + strconv.Itoa(maxSource) + " bytes", Width: 1}
	}
	if !utf8.ValidString(src) {
		return nil, &Error{Source: strings.ToValidUTF8(src, "?"), Message: "the condition is not valid UTF-8",
			Width: 1}
	}
	var out []token
	for i := 0; i < len(src); {
		c := src[i]
		switch {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			i++
			continue
		case strings.IndexByte("()[],", c) >= 0:
			kind := map[byte]tokenKind{'(': tokOpen, ')': tokClose, '[': tokListOpen, ']': tokListClose,
				',': tokComma}[c]
			out = append(out, token{kind: kind, text: src[i : i+1], pos: i})
			i++
			continue
		}
		t, err := lexWord(src, i)
		if err != nil {
			return nil, err
		}
		out = append(out, t)
		i += len(t.text)
	}
	return append(out, token{kind: tokEnd, pos: len(src)}), nil
}

// lexWord reads the operator, text, literal or word that starts at i.
func lexWord(src string, i int) (token, *Error) {
	c := src[i]
	switch {
	case c == '"':
		end := i + 1
		for end < len(src) && src[end] != '"' && src[end] != '\n' {
			if src[end] == '\\' {
				end++
			}
			end++
		}
		if end >= len(src) || src[end] != '"' {
			return token{}, &Error{Source: src, Offset: i, Width: 1, Message: "this text has no closing quote"}
		}
		s, err := strconv.Unquote(src[i : end+1])
		if err != nil || !utf8.ValidString(s) {
			return token{}, &Error{Source: src, Offset: i, Width: end + 1 - i,
				Message: "this text has a bad escape"}
		}
		return token{kind: tokLiteral, text: src[i : end+1], pos: i, lit: value.OfText(s)}, nil
	case strings.IndexByte("=!<>", c) >= 0:
		op := src[i : i+1]
		if i+1 < len(src) && src[i+1] == '=' {
			op = src[i : i+2]
		}
		if op == "=" || op == "!" {
			return token{}, &Error{Source: src, Offset: i, Width: 1,
				Message: strconv.Quote(op) + " is not an operator",
				Hint:    map[string]string{"=": "write == to compare", "!": "write not, or != to compare"}[op]}
		}
		return token{kind: tokOp, text: op, pos: i}, nil
	case c >= '0' && c <= '9' || c == '-' && i+1 < len(src) && src[i+1] >= '0' && src[i+1] <= '9' || c == ':':
		return lexLiteral(src, i)
	case isLetter(c):
		end := i
		for end < len(src) && (isLetter(src[end]) || src[end] >= '0' && src[end] <= '9' || src[end] == '.' ||
			src[end] == '-') {
			end++
		}
		if end < len(src) && src[end] == ':' { // an IPv6 address that starts with a letter
			return lexLiteral(src, i)
		}
		word := src[i:end]
		if strings.Contains(word, "..") || strings.HasSuffix(word, ".") {
			return token{}, &Error{Source: src, Offset: i, Width: len(word),
				Message: strconv.Quote(word) + " is not a name: a part between dots is missing"}
		}
		return token{kind: tokWord, text: word, pos: i}, nil
	}
	r, size := utf8.DecodeRuneInString(src[i:])
	return token{}, &Error{Source: src, Offset: i, Width: size,
		Message: strconv.QuoteRune(r) + " has no meaning here"}
}

func lexLiteral(src string, i int) (token, *Error) {
	end := i + 1
	for end < len(src) && (isLetter(src[end]) || src[end] >= '0' && src[end] <= '9' ||
		strings.IndexByte(".:/+-", src[end]) >= 0) {
		end++
	}
	text := src[i:end]
	for _, k := range literalKinds {
		if k == value.Version && !strings.Contains(text, ".") || k == value.Network && !isNetwork(text) {
			continue
		}
		if v, err := value.Parse(value.Of(k), text); err == nil {
			return token{kind: tokLiteral, text: text, pos: i, lit: v}, nil
		}
	}
	return token{}, &Error{Source: src, Offset: i, Width: len(text),
		Message: strconv.Quote(text) +
			" is not a number, version, duration (30d, 12h, 15m, 90s, 2w), date, time or network"}
}

func isNetwork(text string) bool {
	if _, err := netip.ParseAddr(text); err == nil {
		return true
	}
	_, err := netip.ParsePrefix(text)
	return err == nil
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' }
