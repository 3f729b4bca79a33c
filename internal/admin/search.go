package admin

import (
	"context"

	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// maxSearches bounds how many searches are kept.
const maxSearches = 500

// KeepSearch keeps a search under its name, in place of one of the same name. check finds
// what is wrong with what it searches for.
func (s *Service) KeepSearch(ctx context.Context, actor string, q kept.Search,
	check func(*kept.Search) error) (*kept.Search, error) {
	switch {
	case q.Name == "" || len(q.Name) > 100:
		return nil, fault.Input("/name", "a search needs a name of at most 100 bytes")
	case len(q.Columns) > 40:
		return nil, fault.Input("/columns", "there are more than 40 columns")
	}
	if err := check(&q); err != nil {
		return nil, err
	}
	q.By = actor
	err := s.Do(ctx, func(c *state.Change) error {
		if state.Get(c, state.SearchKind, q.Name) == nil && len(state.All(c, state.SearchKind)) >= maxSearches {
			return fault.Inputf("/name", "there are %d searches already; drop one first", maxSearches)
		}
		return state.Put(c, state.SearchKind, q.Name, &q)
	})
	return &q, err
}

// DropSearch forgets a search.
func (s *Service) DropSearch(ctx context.Context, name string) error {
	return s.Do(ctx, func(c *state.Change) error {
		if state.Get(c, state.SearchKind, name) == nil {
			return fault.NotFound("search", name)
		}
		state.Drop(c, state.SearchKind, name)
		return nil
	})
}
