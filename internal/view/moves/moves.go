// Package moves keeps how many devices changed level, minute by minute, from the entries that tell of it.
package moves

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/store"
)

// Minute is the stretch by which changes of level are kept, in microseconds, and keepMoves how far back.
const (
	Minute    = 60 * 1_000_000
	keepMoves = 32 * 24 * 60 * Minute
)

// Moves are the changes of level of the last days by the minute, as far as somebody asked: read once, and kept up from
// entries that came since.
type Moves struct {
	mu   sync.Mutex
	from int64 // they are told since this moment; 0 for none
	seq  int64 // the entry up to which they are counted
	list []store.Moves
	// looked is since when it is to be looked whether entries were redacted: a little before it was looked last, for what
	// was under way then.
	looked int64
}

// Since are those since a moment.
func (m *Moves) Since(ctx context.Context, records *store.Store, since, now int64) ([]store.Moves, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	since -= since % Minute
	size := records.Sealed().Size
	anew, err := m.spoilt(ctx, records, now)
	if err != nil {
		return nil, err
	}
	if anew || m.from == 0 || since < m.from {
		first, err := records.Before(ctx, since)
		if err != nil {
			return nil, err
		}
		m.from, m.seq, m.list = since, first, nil
	}
	if size > m.seq {
		more, err := records.Moves(ctx, m.seq, size, m.from, Minute)
		if err != nil {
			m.from = 0 // as if nothing had been read
			return nil, err
		}
		m.list, m.seq = append(m.list, more...), size // some minute may be there in two parts
	}
	if old := now - keepMoves; m.from < old && since >= old {
		m.from = old - old%Minute
		m.list = slices.DeleteFunc(m.list, func(x store.Moves) bool { return x.At < m.from })
	}
	i, _ := slices.BinarySearchFunc(m.list, since, func(x store.Moves, since int64) int { return int(x.At - since) })
	return slices.Clone(m.list[i:]), nil
}

// spoilt reports whether an entry was redacted since it was counted up to one: then it is counted anew. What goes into
// an archive is older than what is kept.
func (m *Moves) spoilt(ctx context.Context, records *store.Store, now int64) (is bool, err error) {
	if m.from != 0 {
		err = records.Since(ctx, ledger.Redacted, m.looked, func(e ledger.Entry) error {
			is = is || e.Seq > m.seq
			return nil
		})
	}
	m.looked = now - Minute
	return is, err
}

// Check compares them with what the entries tell of, and returns where they differ.
func (m *Moves) Check(ctx context.Context, records *store.Store, now int64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if anew, err := m.spoilt(ctx, records, now); err != nil || anew || m.from == 0 {
		m.from = 0 // it is read anew when somebody asks
		return err
	}
	first, err := records.Before(ctx, m.from)
	if err != nil {
		return err
	}
	told, err := records.Moves(ctx, first, m.seq, m.from, Minute)
	if err != nil {
		return err
	}
	sum := map[string]int{}
	for _, x := range m.list {
		sum[fmt.Sprint(x.At, " ", x.From, " ", x.To)] += x.Devices
	}
	for _, x := range told {
		sum[fmt.Sprint(x.At, " ", x.From, " ", x.To)] -= x.Devices
	}
	for what, n := range sum {
		if n != 0 {
			at, levels, _ := strings.Cut(what, " ")
			return fmt.Errorf("of changes from and to %s in the minute of %s %d more are kept than entries tell of",
				levels, at, n)
		}
	}
	return nil
}
