package edge

import (
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

// Some is of a list that is at hand what a page shows: behind a cursor, at most so many, 0 for all. key tells the lines
// from each other. The line of a cursor may be gone; then the page goes on from where that stood.
func Some[T any](items []T, cursor string, limit int, key func(*T) string) (page api.List[T], err error) {
	page = All(items)
	page.Total = len(items)
	if cursor != "" {
		place, of, ok := strings.Cut(cursor, " ")
		from, err := strconv.Atoi(place)
		if !ok || err != nil || from < 0 {
			return page, &fault.QueryError{Param: "cursor", Message: "this is not a cursor that a page of this list gave"}
		}
		if i := slices.IndexFunc(items, func(x T) bool { return key(&x) == of }); i >= 0 {
			from = i + 1
		}
		page.Items = page.Items[min(from, len(items)):]
	}
	if limit > 0 && len(page.Items) > limit {
		from := len(items) - len(page.Items) + limit
		page.Items = page.Items[:limit]
		page.Next = strconv.Itoa(from) + " " + key(&page.Items[limit-1])
	}
	return page, nil
}
