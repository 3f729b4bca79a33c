package view

import (
	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
)

// FirstLook is how far back and how far ahead is looked unless somebody says how far, in microseconds.
const FirstLook = 7 * value.Day

// Warming works out what people look at first, since after a start nothing of it is known; until that is done, or the
// service ends. Without it the first of them waits, and nothing is wrong. It is called when what is checked is set.
func (s *Service) Warming() {
	ctx, cancel := s.UntilQuit()
	defer cancel()
	defer func() { // nobody asked: what would fail one answer must not end the service
		if failed := recover(); failed != nil {
			s.Log.Error("what people look at first is not worked out before they look", "error", failed)
		}
	}()
	_, err := s.Overview(ctx, FirstLook, FirstLook)
	if err == nil {
		_, err = s.decisions.DecisionCounts(ctx, int(FirstLook/value.Day))
	}
	if err == nil {
		_, err = s.decisions.GateWeeks(ctx)
	}
	s.Sources()
	engine.HaveRead()
	if err != nil && ctx.Err() == nil {
		s.Log.Warn("what people look at first is not worked out before they look", "error", err)
	}
}
