package edge

import (
	"strconv"

	"github.com/gin-gonic/gin"

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
