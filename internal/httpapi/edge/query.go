package edge

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/internal/fault"
)

// Limit is the page size asked for, 50 when none is.
func Limit(c *gin.Context, limit int) (int, error) {
	if c.Query("limit") == "" {
		return 50, nil
	}
	if limit < 1 || limit > 1000 {
		return 0, &fault.QueryError{Param: "limit", Message: "a page has 1 to 1000 lines"}
	}
	return limit, nil
}

// EntryCursor reads the cursor of a list of entries; 0 when there is none.
func EntryCursor(cursor string) (int64, error) {
	if cursor == "" {
		return 0, nil
	}
	before, err := strconv.ParseInt(cursor, 10, 64)
	if err != nil || before < 1 {
		return 0, &fault.QueryError{Param: "cursor", Message: "this is not a cursor that a page of this list gave"}
	}
	return before, nil
}

// CheckMost checks how many lines are asked for at most of a list that shows all for 0.
func CheckMost(limit int) error {
	if limit < 0 {
		return &fault.QueryError{Param: "limit", Message: "a page has 1 line or more, and all for 0"}
	}
	return nil
}

// Some is of a list that is at hand what a page shows: behind a cursor, at most so many, 0 for all. key tells the lines
// from each other, and compare in which order they are by it: so a page goes on where the one before ended, also when
// the line there is gone.
func Some[T any](items []T, cursor string, limit int, key func(*T) string,
	compare func(a, b string) int) (api.List[T], error) {
	page := All(items)
	if err := CheckMost(limit); err != nil {
		return page, err
	}
	page.Total = len(items)
	if cursor != "" {
		behind, _ := slices.BinarySearchFunc(items, cursor, func(x T, cursor string) int {
			return cmp.Or(compare(key(&x), cursor), -1) // the first that is greater
		})
		page.Items = page.Items[behind:]
	}
	if limit > 0 && len(page.Items) > limit {
		page.Items = page.Items[:limit]
		page.Next = key(&page.Items[limit-1])
	}
	return page, nil
}

// NewestFirst compares ids of which the later is the greater.
func NewestFirst(a, b string) int { return strings.Compare(b, a) }
