package view

import (
	"context"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/rulebook/form"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
)

// History lists the published versions, newest first.
func (s *Service) History(ctx context.Context) ([]store.Rulebook, error) {
	return s.Store.Rulebooks(ctx)
}

// Version reads one published version; 0 is the one in force.
func (s *Service) Version(ctx context.Context, version int64) (*store.Rulebook, error) {
	return s.Store.Rulebook(ctx, version)
}

// Vocabulary lists the names of the rulebook in force that a search may use.
func (s *Service) Vocabulary() *api.Vocabulary {
	book := s.Snapshot().Book
	rb := book.Rulebook
	v := &api.Vocabulary{Keys: form.Keys(), Defaults: api.Defaults{Cap: rb.LevelName(0),
		Unknown:   rb.LevelName(rb.Doubt()),
		Otherwise: string(access.Deny), ValidFor: value.FormatDuration(rulebook.DefaultValid)}, Ladder: rb.Ladder,
		Resources: rb.Resources, BreakGlass: rb.BreakGlass,
		Places: []string{}, Names: []api.VocabularyName{}}
	for _, p := range rb.Places {
		v.Places = append(v.Places, p.ID)
	}
	add := func(name, title string, t value.Type) {
		n := api.VocabularyName{Name: name, Title: title, Type: t.String()}
		if t.Kind == value.Enum {
			n.Type, n.Words = "enum", t.Enum.Words
		}
		v.Names = append(v.Names, n)
	}
	for _, x := range book.Search.Extra() {
		add(x.Name, x.Title, x.Type)
	}
	for _, a := range rb.Dict.Attributes() {
		add(a.Name, a.Title, a.Type)
	}
	if v.Resources == nil {
		v.Resources = []rulebook.Resource{}
	}
	if v.BreakGlass == nil {
		v.BreakGlass = []string{}
	}
	return v
}
