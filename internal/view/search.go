package view

import "ironledger.example/internal/kept"

// Searches lists the searches that are kept, by name.
func (s *Service) Searches() []kept.Search { return s.Snapshot().Searches.List() }

// CheckSearch finds what is wrong with a search that somebody wants to keep.
func (s *Service) CheckSearch(q *kept.Search) error {
	book := s.Snapshot().Book
	if _, err := matcher(book, &DeviceSearch{Where: q.Where, Text: q.Q}, s.Micros()); err != nil {
		return err
	}
	return checkColumns(book, q.Columns)
}
