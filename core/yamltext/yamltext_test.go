package yamltext

import (
	"strings"
	"testing"
)

// Nesting is bounded however it is written, and what looks like it is none.
func TestTooDeep(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		line int
	}{
		"nothing":                   {"", 0},
		"a document":                {"a: [1, {b: 2}]\nc:\n  d: [3]\n", 0},
		"a million lists":           {"a: 1\n" + strings.Repeat("[", 1_000_000), 2},
		"a million maps":            {strings.Repeat("{a: ", 1_000_000), 1},
		"lists that end":            {strings.Repeat("[]\n", 100_000), 0},
		"a million in block style":  {"\n\n" + strings.Repeat("- ", 1_000_000), 3},
		"a list of a million lines": {strings.Repeat("- a\n", 100_000), 0},
		"brackets that are closed":  {strings.Repeat("]", 100) + strings.Repeat("[", MaxNest), 0},
		"one too many":              {strings.Repeat("[", MaxNest+1), 1},
	} {
		if got := TooDeep(c.text); got != c.line {
			t.Errorf("%s: too deep at line %d, want %d", name, got, c.line)
		}
	}
}
