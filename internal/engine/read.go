package engine

import (
	"context"
	"sync"
	"time"

	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/ids"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
)

// Follow waits until the ledger has an entry behind a sequence number, or ctx
// ends, and returns its size.
func (e *Engine) Follow(ctx context.Context, after int64) int64 {
	for {
		grown := e.Store.Grown()
		if size := e.Store.Sealed().Size; size > after {
			return size
		}
		select {
		case <-grown:
		case <-ctx.Done():
			return e.Store.Sealed().Size
		case <-e.quit:
			return e.Store.Sealed().Size
		}
	}
}

// shown is up to which entry the state that readers see has everything.
type shown struct {
	mu    sync.Mutex
	seq   int64
	grown chan struct{} // closed when seq rises, and made anew
}

func (s *shown) raise(seq int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if seq <= s.seq {
		return
	}
	s.seq = seq
	if s.grown != nil {
		close(s.grown)
	}
	s.grown = nil
}

// AwaitState waits until readers see the state that an entry came with: the entry is in
// the ledger a moment before. The error is that of ctx.
func (e *Engine) AwaitState(ctx context.Context, seq int64) error {
	for {
		e.shown.mu.Lock()
		if e.shown.seq >= seq {
			e.shown.mu.Unlock()
			return nil
		}
		if e.shown.grown == nil {
			e.shown.grown = make(chan struct{})
		}
		grown := e.shown.grown
		e.shown.mu.Unlock()
		select {
		case <-grown:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// UntilQuit is a context that ends with the service.
func (e *Engine) UntilQuit() (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		select {
		case <-e.quit:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}

// Regularly does something after each pause, until the service ends; failing is what is logged of an error.
func (e *Engine) Regularly(pause time.Duration, failing string, do func(context.Context) error) {
	ctx, cancel := e.UntilQuit()
	defer cancel()
	ticker := time.NewTicker(pause)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		if err := do(ctx); err != nil && ctx.Err() == nil {
			e.Log.Warn(failing, "error", err)
		}
	}
}

// Candidate compiles files as if they were to be published.
func (e *Engine) Candidate(files []rulebook.File) (*state.Book, error) {
	book, err := state.CompileBook(&store.Rulebook{Files: files})
	if err == nil {
		book.Inherit(e.Snapshot().Book)
	}
	return book, err
}

// DecisionsSince visits the decisions since a moment, oldest first, until visit
// returns an error, which it returns.
func (e *Engine) DecisionsSince(ctx context.Context, moment int64, visit func(ledger.Entry) error) error {
	return e.Store.DecisionsSince(ctx, ids.Earliest(moment), moment, visit)
}
