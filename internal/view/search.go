package view

import (
	"ironledger.example/internal/kept"
	"ironledger.example/internal/view/find"
)

// Searches lists the searches that are kept, by name.
func (s *Service) Searches() []kept.Search { return s.Snapshot().Searches.List() }

// CheckSearch finds what is wrong with a search that somebody wants to keep.
func (s *Service) CheckSearch(q *kept.Search) error {
	return find.Query{Where: q.Where, Text: q.Q, Columns: q.Columns}.Check(s.Snapshot().Book)
}
