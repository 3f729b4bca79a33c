package edge

import (
	"slices"
	"strings"
	"testing"

	"ironledger.example/api"
)

// Page by page a list has the lines that it has at once, also when lines leave it meanwhile.
func TestPagesOfAListAtHand(t *testing.T) {
	t.Parallel()
	all := strings.Split("a b c d e f g", " ")
	key := func(x *string) string { return *x }
	for _, limit := range []int{0, 1, 3, 7, 8} {
		var got []string
		for cursor, pages := "", 0; ; pages++ {
			page, err := Some(all, cursor, limit, key, strings.Compare)
			if err != nil || page.Total != len(all) || pages > len(all) {
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
	some := func(list []string, cursor string, compare func(a, b string) int) api.List[string] {
		page, err := Some(list, cursor, 3, key, compare)
		if err != nil {
			t.Fatal(err)
		}
		return page
	}
	next := some(all, "", strings.Compare).Next
	without := slices.DeleteFunc(slices.Clone(all), func(x string) bool { return x < "d" })
	if page := some(without, next, strings.Compare); !slices.Equal(page.Items, []string{"d", "e", "f"}) {
		t.Errorf("behind a line that is gone there are %v", page.Items)
	}
	if page := some(all[:1], next, strings.Compare); page.Items == nil || len(page.Items) != 0 {
		t.Errorf("behind the end there are %v", page.Items)
	}
	slices.Reverse(all)
	if page := some(all, "c", NewestFirst); !slices.Equal(page.Items, []string{"b", "a"}) || page.Next != "" {
		t.Errorf("the other way round there are %v behind c", page.Items)
	}
	if _, err := Some(all, "", -1, key, strings.Compare); err == nil {
		t.Error("fewer lines than none are shown")
	}
}
