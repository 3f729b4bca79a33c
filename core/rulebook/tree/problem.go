package tree

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Problem is one thing wrong with a rulebook and where it stands.
type Problem struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
	Excerpt string `json:"excerpt,omitempty"` // the offending text with a caret under it
}

func (p Problem) String() string {
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Message)
}

// Problems is everything wrong with a rulebook, in the order of the files.
type Problems []Problem

func (list Problems) Error() string {
	var b strings.Builder
	for i, p := range list {
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(p.String())
		if p.Excerpt != "" {
			b.WriteString("\n    " + strings.ReplaceAll(p.Excerpt, "\n", "\n    "))
		}
	}
	return b.String()
}

// Sort orders them by where they stand.
func (list Problems) Sort() {
	slices.SortStableFunc(list, func(a, b Problem) int {
		return cmp.Or(strings.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
}

// Position is a position in a file.
type Position struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}
