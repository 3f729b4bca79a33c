package decision

import (
	"slices"
	"testing"
)

func TestAStrangerIsToldOfThoseNearIt(t *testing.T) {
	devices := []string{"GF-L-1041", "GF-L-1042", "GF-L-1142", "GF-T-2107", "quay-till"}
	for _, c := range []struct {
		name string
		near []string
	}{
		{"GF-L-104", []string{"GF-L-1041", "GF-L-1042", "GF-L-1142"}},
		{"gf-t-2107", []string{"GF-T-2107"}},
		{"quay-tlil", []string{"quay-till"}},
		{"nothing-of-the-kind", []string{}},
	} {
		known := slices.Clone(devices)
		if got := stranger(aDevice, c.name, known); got.Name != c.name || got.What != aDevice ||
			len(got.Nearest) > maxNearest || !slices.Equal(got.Nearest, c.near) {
			t.Errorf("near %s are %v, want %v", c.name, got.Nearest, c.near)
		}
		if !slices.Equal(known, devices) {
			t.Errorf("the names known became %v", known)
		}
	}
}
