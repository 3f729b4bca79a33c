package syntax

import (
	"fmt"
	"strings"
)

// Error is one thing wrong with a condition, with the place it stands.
type Error struct {
	Source  string // the whole condition
	Offset  int    // byte offset of the offending text
	Width   int    // its length in bytes, at least 1
	Message string // what is wrong and what was expected
	Hint    string // a suggestion, or ""
}

// Line returns the 1-based line of the offending text.
func (e *Error) Line() int { return 1 + strings.Count(e.Source[:e.Offset], "\n") }

// Column returns its 1-based column, counted in characters.
func (e *Error) Column() int {
	start := strings.LastIndexByte(e.Source[:e.Offset], '\n') + 1
	return 1 + len([]rune(e.Source[start:e.Offset]))
}

func (e *Error) Error() string {
	s := fmt.Sprintf("%d:%d: %s", e.Line(), e.Column(), e.Message)
	if e.Hint != "" {
		s += "; " + e.Hint
	}
	return s
}

// Excerpt prints the line that is wrong with a caret under the offending text.
func (e *Error) Excerpt() string {
	start := strings.LastIndexByte(e.Source[:e.Offset], '\n') + 1
	line, _, _ := strings.Cut(e.Source[start:], "\n")
	before := []rune(e.Source[start:e.Offset])
	for i, r := range before {
		if r != '\t' {
			before[i] = ' '
		}
	}
	width := max(1, min(len([]rune(e.Source[e.Offset:min(len(e.Source), e.Offset+e.Width)])),
		len([]rune(line))-len(before)))
	return line + "\n" + string(before) + strings.Repeat("^", width)
}

// Errors is everything wrong with one condition, in the order of the text.
type Errors []*Error

func (list Errors) Error() string {
	lines := make([]string, len(list))
	for i, e := range list {
		lines[i] = e.Error()
	}
	return strings.Join(lines, "\n")
}
