// Package interned keeps short lists once for all who have the same.
package interned

import (
	"slices"
	"strings"
	"sync"
	"unsafe"
)

// most bounds how many lists are kept; others are kept by those who have them.
const most = 10_000

// Lists are lists of small values. Its zero value has none. It is safe for concurrent use.
type Lists[T ~uint8] struct {
	mu    sync.RWMutex
	known map[string][]T
}

// Of returns a copy of a list, which nobody may change; nil for an empty one.
func (s *Lists[T]) Of(list []T) []T {
	if len(list) == 0 {
		return nil
	}
	key := unsafe.String((*byte)(unsafe.Pointer(&list[0])), len(list)) // for looking up only
	s.mu.RLock()
	kept, n := s.known[key], len(s.known)
	s.mu.RUnlock()
	if kept != nil {
		return kept
	}
	kept = slices.Clone(list)
	if n >= most {
		return kept
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known = map[string][]T{}
	}
	s.known[strings.Clone(key)] = kept
	return kept
}
