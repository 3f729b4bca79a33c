package smalltext

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// Every text that has a part is found, once and in order, however they stand beside each other.
func TestEveryTextWithAPartIsFound(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	word := func(letters string, most int) string {
		b := make([]byte, r.IntN(most+1))
		for i := range b {
			b[i] = letters[r.IntN(len(letters))]
		}
		return string(b)
	}
	for range 2000 {
		var b Builder
		var texts [][]string
		for range r.IntN(12) {
			parts := make([]string, r.IntN(4))
			for i := range parts {
				parts[i] = word("aAbB", 5)
			}
			b.Add(parts...)
			texts = append(texts, parts)
		}
		part := word("ab", 3) + "a"
		var want []int
		for n, parts := range texts {
			if slices.ContainsFunc(parts, func(p string) bool { return strings.Contains(strings.ToLower(p), part) }) {
				want = append(want, n)
			}
		}
		if got := slices.Collect(b.Texts().With(part)); !slices.Equal(got, want) {
			t.Fatalf("%q is found in %v of %q, and is in %v", part, got, fmt.Sprint(texts), want)
		}
	}
}
