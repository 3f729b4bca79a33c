package engine

import (
	"context"
	"runtime"
	"sync"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
)

// restoreChunk is how many rows are handed over at a time.
const restoreChunk = 256

// restore reads the devices and brings them to the present moment: one goroutine
// reads the rows, the others work them out. It returns the digest of the rows, and
// what is to be written since it changed while the records were closed.
func (e *Engine) restore(ctx context.Context, snap *state.Snapshot) (ledger.Digest, *store.Batch, error) {
	r := snap.Restore(e.Store.Newest(), e.Micros())
	chunks := make(chan []store.DeviceRow, 8)
	var wg sync.WaitGroup
	var once sync.Once
	var damaged error
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for rows := range chunks {
				if err := r.Take(rows); err != nil {
					once.Do(func() { damaged = err })
				}
			}
		})
	}
	rows := make([]store.DeviceRow, 0, restoreChunk)
	err := e.Store.Devices(ctx, func(row store.DeviceRow) error {
		if rows = append(rows, row); len(rows) == restoreChunk {
			chunks <- rows
			rows = make([]store.DeviceRow, 0, restoreChunk)
		}
		return nil
	})
	chunks <- rows
	close(chunks)
	wg.Wait()
	if err == nil {
		err = damaged
	}
	digest, batch := r.End()
	return digest, batch, err
}
