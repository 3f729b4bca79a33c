// Package smalltext looks for a part of a text in thousands, whatever their letters: all stand in small ones, one behind
// the other, so that one pass over them finds it.
package smalltext

import (
	"iter"
	"slices"
	"strings"
)

// Texts are texts in small letters, numbered from 0. They do not change.
type Texts struct {
	all  string
	ends []uint32 // where each ends
}

// Builder puts texts together.
type Builder struct {
	all  strings.Builder
	ends []uint32
}

// Add adds the next text, which has parts; of none it is empty.
func (b *Builder) Add(parts ...string) {
	for _, p := range parts {
		b.all.WriteString(strings.ToLower(p))
		b.all.WriteString(between)
	}
	b.ends = append(b.ends, uint32(b.all.Len()))
}

// Texts are those that were added.
func (b *Builder) Texts() *Texts { return &Texts{strings.Clone(b.all.String()), slices.Clip(b.ends)} }

// between stands behind each part. No text that people write has it, and none that has it is found.
const between = "\x00"

// With yields, in order and once each, the numbers of the texts in one of whose parts a text is found that is in small
// letters and not empty.
func (t *Texts) With(part string) iter.Seq[int] {
	return func(yield func(int) bool) {
		for from := 0; !strings.Contains(part, between); {
			at := strings.Index(t.all[from:], part)
			if at < 0 {
				return
			}
			n, _ := slices.BinarySearch(t.ends, uint32(from+at+1))
			if !yield(n) {
				return
			}
			from = int(t.ends[n])
		}
	}
}

// Is reports whether the text of a number has these parts.
func (t *Texts) Is(n int, parts ...string) bool {
	from := uint32(0)
	if n > 0 {
		from = t.ends[n-1]
	}
	rest := t.all[from:t.ends[n]]
	for _, p := range parts {
		var is bool
		if rest, is = strings.CutPrefix(rest, strings.ToLower(p)); is {
			rest, is = strings.CutPrefix(rest, between)
		}
		if !is {
			return false
		}
	}
	return rest == ""
}
