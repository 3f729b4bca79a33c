package stream

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"sync"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/store"
)

// maxNews bounds how many entries are kept for senders that come a moment later.
const maxNews = 4096

// news are the newest entries of which receivers may hear, proved once for all senders.
type news struct {
	mu       sync.Mutex
	from, to int64 // of the entries that were looked at; from 0: none
	entries  []ledger.Entry
}

// between are the entries of which receivers may hear, from one on to another, each
// compared with the signed tree. It waits until the state has what they say: who owns a
// device, what its serial is.
func (n *news) between(ctx context.Context, e *engine.Engine, from, to int64) ([]ledger.Entry, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.from == 0 || from < n.from || from > n.to+1 {
		if n.from != 0 && from < n.from { // somebody who is behind: not for all
			return read(ctx, e, from, to)
		}
		n.from, n.to, n.entries = from, from-1, nil
	}
	if to > n.to {
		more, err := read(ctx, e, n.to+1, to)
		if err != nil {
			return nil, err
		}
		n.entries, n.to = append(n.entries, more...), to
		if over := len(n.entries) - maxNews; over > 0 {
			n.from = n.entries[over-1].Seq + 1
			n.entries = slices.Clone(n.entries[over:])
		}
		if from < n.from {
			return read(ctx, e, from, to)
		}
	}
	at := func(seq int64) int {
		i, _ := slices.BinarySearchFunc(n.entries, seq, func(x ledger.Entry, seq int64) int { return cmp.Compare(x.Seq, seq) })
		return i
	}
	return n.entries[at(from):at(to+1)], nil
}

// read reads entries from disk.
func read(ctx context.Context, e *engine.Engine, from, to int64) ([]ledger.Entry, error) {
	var out []ledger.Entry
	err := e.Store.ProvenBetween(ctx, from, to, func(x ledger.Entry) error {
		if x.Kind == ledger.StandingChanged || x.Kind == ledger.SessionEnded {
			out = append(out, x)
		}
		return nil
	})
	var altered *store.TamperError
	if errors.As(err, &altered) {
		err = errors.Join(errors.New("the records were altered; nothing is told that cannot be proved"), err)
	}
	if err != nil || len(out) == 0 {
		return nil, err
	}
	return out, e.AwaitState(ctx, out[len(out)-1].Seq)
}
