package edge

import (
	"slices"
	"strings"
	"testing"
)

// Page by page a list has the lines that it has at once, also when lines leave it meanwhile.
func TestPagesOfAListAtHand(t *testing.T) {
	t.Parallel()
	all := strings.Split("a b c d e f g", " ")
	key := func(x *string) string { return *x }
	for _, limit := range []int{0, 1, 3, 7, 8} {
		var got []string
		for cursor, pages := "", 0; ; pages++ {
			page := Some(all, cursor, limit, key, strings.Compare)
			if page.Total != len(all) || pages > len(all) {
				t.Fatalf("by %d, page %d: %+v", limit, pages, page)
			}
			got = append(got, page.Items...)
			if cursor = page.Next; cursor == "" {
				break
			}
		}
		if !slices.Equal(got, all) {
			t.Errorf("by %d there are %v", limit, got)
		}
	}
	next := Some(all, "", 3, key, strings.Compare).Next
	without := slices.DeleteFunc(slices.Clone(all), func(x string) bool { return x < "d" })
	if page := Some(without, next, 3, key, strings.Compare); !slices.Equal(page.Items, []string{"d", "e", "f"}) {
		t.Errorf("behind a line that is gone there are %v", page.Items)
	}
	if page := Some(all[:1], next, 3, key, strings.Compare); page.Items == nil || len(page.Items) != 0 {
		t.Errorf("behind the end there are %v", page.Items)
	}
	slices.Reverse(all)
	if page := Some(all, "c", 3, key, NewestFirst); !slices.Equal(page.Items, []string{"b", "a"}) || page.Next != "" {
		t.Errorf("the other way round there are %v behind c", page.Items)
	}
}
