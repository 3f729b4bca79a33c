package condition

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

// Nearest returns the candidate closest to word by edit distance, or "" when
// none is close enough to be what was meant.
func Nearest(word string, candidates []string) string {
	best, bestCost := "", 1+max(1, len(word)/3)
	for _, c := range candidates {
		if cost := distance(strings.ToLower(word), strings.ToLower(c), bestCost); cost < bestCost {
			best, bestCost = c, cost
		}
	}
	if best == "" { // a part of a name
		for _, c := range candidates {
			if strings.HasSuffix(c, "."+word) || len(word) > 2 && strings.HasPrefix(c, word) {
				return c
			}
		}
	}
	return best
}

// distance is the edit distance with adjacent transpositions, given up at limit.
func distance(a, b string, limit int) int {
	if d := len(a) - len(b); d >= limit || -d >= limit {
		return limit
	}
	prev2, prev, cur := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		cur[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				cur[j] = min(cur[j], prev2[j-2]+1)
			}
		}
		prev2, prev, cur = prev, cur, prev2
	}
	return prev[len(b)]
}

func didYouMean(word string, candidates []string) string {
	if near := Nearest(word, candidates); near != "" {
		return "did you mean " + near + "?"
	}
	return ""
}
