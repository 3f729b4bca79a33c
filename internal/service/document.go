package service

import (
	"context"
	"maps"
	"slices"
	"sync"

	"ironledger.example/internal/store"
)

// table holds the documents of a kind, in memory as they are on disk. Only the
// writer changes it, through a change: see [put].
type table[T any] struct {
	kind string
	mu   sync.RWMutex
	all  map[string]T
}

// load reads the documents from disk.
func (t *table[T]) load(ctx context.Context, s *store.Store, kind string) (err error) {
	t.kind = kind
	t.all, err = store.Documents[T](ctx, s, kind)
	return err
}

// list returns what is durable, in the order of ids.
func (t *table[T]) list() []T {
	t.mu.RLock()
	defer t.mu.RUnlock()
	out := make([]T, 0, len(t.all))
	for _, id := range slices.Sorted(maps.Keys(t.all)) {
		out = append(out, t.all[id])
	}
	return out
}

// documentKey names a document in the layers of a change.
type documentKey struct{ kind, id string }

// dropped stands in a layer for a document that is no longer there.
type dropped struct{}

// get reads a document as a change finds it: with what earlier changes did to it
// that are still on their way to the disk.
func get[T any](c *change, t *table[T], id string) (v T, ok bool) {
	for layer := c; layer != nil; layer = layer.below {
		if x, there := layer.documents[documentKey{t.kind, id}]; there {
			v, ok = x.(T)
			return v, ok
		}
	}
	t.mu.RLock()
	defer t.mu.RUnlock()
	v, ok = t.all[id]
	return v, ok
}

// all reads the documents of a kind as a change finds them, by id.
func all[T any](c *change, t *table[T]) map[string]T {
	t.mu.RLock()
	out := maps.Clone(t.all)
	t.mu.RUnlock()
	var layers []*change
	for layer := c; layer != nil; layer = layer.below {
		layers = append(layers, layer)
	}
	for _, layer := range slices.Backward(layers) {
		for k, x := range layer.documents {
			if v, ok := x.(T); k.kind == t.kind && ok {
				out[k.id] = v
			} else if k.kind == t.kind {
				delete(out, k.id)
			}
		}
	}
	return out
}

// put writes a document as a part of a change.
func put[T any](c *change, t *table[T], id string, v T) error {
	if err := c.batch.PutDocument(t.kind, id, v); err != nil {
		return err
	}
	c.lay(documentKey{t.kind, id}, v)
	c.after(func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.all[id] = v
	})
	return nil
}

// keep takes in a document that was committed without a change.
func (t *table[T]) keep(id string, v T) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.all[id] = v
}

// drop removes a document as a part of a change.
func drop[T any](c *change, t *table[T], id string) {
	c.batch.DropDocument(t.kind, id)
	c.lay(documentKey{t.kind, id}, dropped{})
	c.after(func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		delete(t.all, id)
	})
}

func (c *change) lay(k documentKey, v any) {
	if c.documents == nil {
		c.documents = map[documentKey]any{}
	}
	c.documents[k] = v
}
