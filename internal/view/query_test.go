package view

import (
	"strings"
	"testing"
)

func TestHasFoldedIsLikeSmallLetters(t *testing.T) {
	texts := []string{"", "a", "Machine 12", "ÅNGSTRÖM", "İstanbul", "GF-T-2107", "kelvin K", "ſharp", "mA"}
	for _, s := range texts {
		for _, part := range texts {
			small := strings.ToLower(part)
			if got, want := hasFolded(s, small), strings.Contains(strings.ToLower(s), small); got != want {
				t.Errorf("%q in %q: %v", small, s, got)
			}
		}
	}
}
