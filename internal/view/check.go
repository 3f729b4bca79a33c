package view

import (
	"context"
	"errors"
	"slices"

	"ironledger.example/core/value"
	"ironledger.example/internal/view/find"
)

// CheckWith has all that is kept up of the fleet worked out anew whenever it is asked for, and calls differs when it is
// something else. It must be called before anything is asked.
func (s *Service) CheckWith(differs func(error)) {
	s.find.CheckWith(differs)
	s.ends.Differs, s.ends.Same = differs, sameEndings
	s.heard.Differs, s.latest.Differs = differs, differs
}

// sameEndings compares what ends. What did already may be in the one that was kept.
func sameEndings(kept, anew endings, now int64) bool {
	first := slices.DeleteFunc(slices.Clone(kept.first), func(e ending) bool { return e.until <= now })
	at, _ := slices.BinarySearch(kept.all, now+1)
	then, _ := slices.BinarySearch(anew.all, now+1)
	whole := len(kept.first) < maxEndings
	return slices.Equal(kept.all[at:], anew.all[then:]) && len(first) <= len(anew.first) &&
		slices.Equal(first, anew.first[:len(first)]) && (!whole || len(first) == len(anew.first))
}

// Check asks for everything that is kept up, for [Service.CheckWith] to compare, and compares what is kept of changes
// of level. It returns what went wrong otherwise.
func (s *Service) Check(ctx context.Context) error {
	if _, err := s.Overview(ctx, 30*value.Day, value.Day); err != nil {
		return err
	}
	s.Sources()
	s.QuietSources()
	for _, column := range []string{"id", "-level", "name", "seen_at", "-since"} {
		if _, err := s.Devices(ctx, find.Query{Sort: column, Limit: 50}); err != nil {
			return err
		}
	}
	if _, err := s.Devices(ctx, find.Query{Text: "a", Limit: 50}); err != nil {
		return err
	}
	if keys := s.Snapshot().Book.RuleKeys; len(keys) > 0 {
		if _, err := s.Rule(ctx, keys[0], 7*value.Day); err != nil {
			return err
		}
	}
	return errors.Join(s.moved.Check(ctx, s.Store), s.turned.check(ctx, s.Store))
}
