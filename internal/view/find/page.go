package find

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"

	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
)

// Cursor is a place in a list: what it is sorted by, and what tells equals apart.
type Cursor struct {
	Key string `json:"k"`
	ID  string `json:"i"`
}

// compare orders places by rising keys, or by falling ones; equal ones by rising ids.
func compare(a, b Cursor, falling bool) int {
	c := strings.Compare(a.Key, b.Key)
	if falling {
		c = -c
	}
	return cmp.Or(c, strings.Compare(a.ID, b.ID))
}

// Paged orders rows by their cursors and returns those of one page, which begins after a cursor (nil for the first), and
// the text of the cursor of the next.
func Paged[T any](rows []T, at func(T) Cursor, after *Cursor, limit int) (page []T, next string) {
	slices.SortFunc(rows, func(a, b T) int { return compare(at(a), at(b), false) })
	start := 0
	if after != nil {
		i, found := slices.BinarySearchFunc(rows, *after, func(r T, c Cursor) int { return compare(at(r), c, false) })
		if start = i; found {
			start++
		}
	}
	end := min(len(rows), start+limit)
	if end < len(rows) {
		next = at(rows[end-1]).String()
	}
	return rows[start:end], next
}

// String is the text that a page of a list gives for it.
func (c Cursor) String() string { return base64.RawURLEncoding.EncodeToString(value.JSON(c)) }

// ParseCursor reads the text of a cursor; nil for "".
func ParseCursor(text string) (*Cursor, error) {
	if text == "" {
		return nil, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(text)
	c := &Cursor{}
	if err != nil || json.Unmarshal(raw, c) != nil {
		return nil, &fault.QueryError{Param: "cursor",
			Message: "this is not a cursor that a page of this list gave"}
	}
	return c, nil
}

// spending is what a search has taken, in all its parts.
type spending struct {
	ctx   context.Context
	steps atomic.Int64
	seen  atomic.Int64
}

// Budget is what a part of a search may take.
type Budget struct {
	*spending
	steps int64 // that the whole does not know of yet
	seen  int64
}

// maxQuerySteps bounds how many members of lists a search looks at, over all
// devices.
const maxQuerySteps = 20_000_000

// Take notes that a search looked at members of lists.
func (b *Budget) Take(steps int64) { b.steps += steps }

// NewBudget is that of a search with one part, which ends with ctx.
func NewBudget(ctx context.Context) *Budget { return &Budget{spending: &spending{ctx: ctx}} }

// GoesOn reports whether to look at the next device: the caller is still there,
// and the search has not taken too much.
func (b *Budget) GoesOn() bool {
	if b.seen++; b.seen < 64 && b.steps < 4096 {
		return true
	}
	all := b.spending.steps.Add(b.steps)
	b.spending.seen.Add(b.seen)
	b.steps, b.seen = 0, 0
	return all <= maxQuerySteps && b.ctx.Err() == nil
}

// Err says why a search was given up, if it was.
func (s *spending) Err() error {
	if s.steps.Load() > maxQuerySteps {
		return &fault.QueryError{Param: "where", Message: fmt.Sprintf(
			"the search was given up after %d devices: its quantifiers looked at more than %d members of "+
				"lists; nest fewer of them", s.seen.Load(), maxQuerySteps)}
	}
	return s.ctx.Err()
}
