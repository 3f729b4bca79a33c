package view

import (
	"context"
	"slices"
	"sync"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/store"
)

// minute is the stretch by which changes of level are kept, in microseconds, and keepMoves how far back.
const (
	minute    = 60 * 1_000_000
	keepMoves = 32 * 24 * 60 * minute
)

// moves are the changes of level of the last days by the minute, as far as somebody asked: read once, and kept up from
// entries that came since.
type moves struct {
	mu   sync.Mutex
	from int64 // they are told since this moment; 0 for none
	seq  int64 // the entry up to which they are counted
	list []store.Moves
	// looked is the moment at which it was looked last whether entries were redacted.
	looked int64
}

// movesSince are those since a moment.
func (s *Service) movesSince(ctx context.Context, since, now int64) ([]store.Moves, error) {
	m := &s.moved
	m.mu.Lock()
	defer m.mu.Unlock()
	since -= since % minute
	size := s.Store.Sealed().Size
	anew, err := m.spoilt(ctx, s.Store, now)
	if err != nil {
		return nil, err
	}
	if anew || m.from == 0 || since < m.from {
		first, err := s.Store.Before(ctx, since)
		if err != nil {
			return nil, err
		}
		m.from, m.seq, m.list = since, first, nil
	}
	if size > m.seq {
		more, err := s.Store.Moves(ctx, m.seq, size, m.from, minute)
		if err != nil {
			m.from = 0 // as if nothing had been read
			return nil, err
		}
		m.list, m.seq = append(m.list, more...), size // some minute may be there in two parts
	}
	if old := now - keepMoves; m.from < old && since >= old {
		m.from = old - old%minute
		m.list = slices.DeleteFunc(m.list, func(x store.Moves) bool { return x.At < m.from })
	}
	i, _ := slices.BinarySearchFunc(m.list, since, func(x store.Moves, since int64) int { return int(x.At - since) })
	return slices.Clone(m.list[i:]), nil
}

// spoilt reports whether an entry was redacted since it was counted up to one: then it is counted anew. What goes into
// an archive is older than what is kept.
func (m *moves) spoilt(ctx context.Context, records *store.Store, now int64) (is bool, err error) {
	if m.from != 0 {
		err = records.Since(ctx, ledger.Redacted, m.looked, func(e ledger.Entry) error {
			is = is || e.Seq > m.seq
			return nil
		})
	}
	m.looked = now
	return is, err
}
