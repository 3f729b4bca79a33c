// Package news reads what has happened lately once for all who tell others of it:
// entries of the ledger, each compared with the signed tree.
package news

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

// told are the kinds of entries of which others may hear.
var told = []ledger.Kind{ledger.StandingChanged, ledger.SessionEnded, ledger.EnrolmentHeld, ledger.NoticeSent,
	ledger.DeviceRetired, ledger.CertificateRevoked, ledger.StatementRevoked, ledger.ReportMade}

// maxNews bounds how many entries are kept for those who come a moment later.
const maxNews = 4096

// News are the newest entries of which others may hear, proved once for all who ask. It is
// safe for concurrent use.
type News struct {
	engine *engine.Engine

	mu       sync.Mutex
	from, to int64 // of the entries that were looked at; from 0: none
	entries  []ledger.Entry
}

// Of are the news of records.
func Of(e *engine.Engine) *News { return &News{engine: e} }

// Between are the entries of which others may hear, from one on to another, each
// compared with the signed tree. It waits until the state has what they say: who owns a
// device, what its serial is.
func (n *News) Between(ctx context.Context, from, to int64) ([]ledger.Entry, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	switch {
	case n.from != 0 && from < n.from: // somebody who is behind: not for all
		return read(ctx, n.engine, from, to)
	case n.from == 0 || from > n.to+1:
		n.from, n.to, n.entries = from, from-1, nil
	}
	if to > n.to {
		more, err := read(ctx, n.engine, n.to+1, to)
		if err != nil {
			return nil, err
		}
		n.entries, n.to = append(n.entries, more...), to
		if over := len(n.entries) - maxNews; over > 0 {
			n.from = n.entries[over-1].Seq + 1
			n.entries = slices.Clone(n.entries[over:])
		}
		if from < n.from {
			return read(ctx, n.engine, from, to)
		}
	}
	at := func(seq int64) int {
		i, _ := slices.BinarySearchFunc(n.entries, seq, func(x ledger.Entry,
			seq int64) int {
			return cmp.Compare(x.Seq, seq)
		})
		return i
	}
	return n.entries[at(from):at(to+1)], nil
}

var errAltered = errors.New("the records were altered; nothing is told that cannot be proved")

// read reads entries from disk.
func read(ctx context.Context, e *engine.Engine, from, to int64) ([]ledger.Entry, error) {
	var out []ledger.Entry
	err := e.Store.ProvenBetween(ctx, from, to, func(x ledger.Entry) error {
		if slices.Contains(told, x.Kind) {
			out = append(out, x)
		}
		return nil
	})
	var altered *store.TamperError
	if errors.As(err, &altered) {
		err = errors.Join(errAltered, err)
	}
	if err != nil || len(out) == 0 {
		return nil, err
	}
	return out, e.AwaitState(ctx, out[len(out)-1].Seq)
}
