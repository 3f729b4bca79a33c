package reported

import (
	"slices"
	"testing"
)

// A device is found by all who may own it, and an index that was read stays as it was.
func TestDevicesAreFoundByTheirOwners(t *testing.T) {
	first := Of([]Pair{{"sunniva", "d-2"}, {"runar", "d-3"}, {"sunniva", "d-1"}})
	edit := first.Edit()
	edit.Move("d-1", []string{"sunniva"}, []string{"runar", "tove"})
	edit.Move("d-9", nil, []string{"sunniva"})
	edit.Move("d-3", []string{"runar"}, nil)
	next := edit.Index()
	for _, c := range []struct {
		index  Index
		person string
		want   []string
	}{
		{first, "sunniva", []string{"d-1", "d-2"}}, {first, "runar", []string{"d-3"}}, {first, "tove", nil},
		{next, "sunniva", []string{"d-2", "d-9"}}, {next, "runar", []string{"d-1"}}, {next, "tove", []string{"d-1"}},
		{Index{}, "sunniva", nil}, {next, "sun", nil},
	} {
		if got := c.index.Devices(c.person); !slices.Equal(got, c.want) {
			t.Errorf("%s may own %v, want %v", c.person, got, c.want)
		}
	}
	n := 0
	next.All(func(Pair) { n++ })
	Index{}.All(func(Pair) { n++ })
	if n != 4 {
		t.Errorf("there are %d pairs, want 4", n)
	}
}
