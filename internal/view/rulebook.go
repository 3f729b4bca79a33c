package view

import (
	"context"

	"ironledger.example/core/access"
	"ironledger.example/core/rulebook"
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

// Vocabulary is what a condition or a question may speak of.
type Vocabulary struct {
	Keys       []string            `json:"keys"` // that a rulebook may have
	Defaults   Defaults            `json:"defaults"`
	Ladder     []string            `json:"ladder"`
	Names      []VocabularyName    `json:"names"`
	Resources  []rulebook.Resource `json:"resources"`
	Places     []string            `json:"places"`
	BreakGlass []string            `json:"break_glass"`
}

// Defaults are what a rule and a gate mean that do not say.
type Defaults struct {
	Cap       string `json:"cap"`     // the level that a failing device is held at
	Unknown   string `json:"unknown"` // the level while a check is not known
	Otherwise string `json:"otherwise"`
	ValidFor  string `json:"valid_for"`
}

// VocabularyName is a name with its type.
type VocabularyName struct {
	Name  string   `json:"name"`
	Title string   `json:"title"`
	Type  string   `json:"type"`
	Words []string `json:"words,omitempty"`
}

// Vocabulary lists the names of the rulebook in force that a search may use.
func (s *Service) Vocabulary() *Vocabulary {
	book := s.Snapshot().Book
	rb := book.Rulebook
	v := &Vocabulary{Keys: rulebook.Keys(), Defaults: Defaults{Cap: rb.LevelName(0), Unknown: rb.LevelName(rb.Doubt()),
		Otherwise: string(access.Deny), ValidFor: value.FormatDuration(rulebook.DefaultValid)}, Ladder: rb.Ladder, Resources: rb.Resources, BreakGlass: rb.BreakGlass,
		Places: []string{}, Names: []VocabularyName{}}
	for _, p := range rb.Places {
		v.Places = append(v.Places, p.ID)
	}
	add := func(name, title string, t value.Type) {
		n := VocabularyName{Name: name, Title: title, Type: t.String()}
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
