package service

import (
	"context"
	"maps"
	"slices"
	"sync"

	"ironledger.example/internal/store"
)

// table holds the documents of a kind, in memory as they are on disk. It changes by
// changes that have become durable: see [put] and live.apply.
type table[T any] struct {
	kind string
	// moved is told of a document that was one and is another, nil for none, while
	// nobody reads; nil when nobody wants to know.
	moved func(was, is *T)

	mu  sync.RWMutex
	all map[string]T
}

// documents is a table, whatever its documents are.
type documents interface {
	name() string
	load(ctx context.Context, s *store.Store) error
	land(id string, v any)
}

func (t *table[T]) name() string { return t.kind }

// load reads the documents from disk.
func (t *table[T]) load(ctx context.Context, s *store.Store) error {
	all, err := store.Documents[T](ctx, s, t.kind)
	if err != nil {
		return err
	}
	for id, v := range all {
		t.land(id, v)
	}
	return nil
}

// land makes a document the one that readers see: a T, or dropped.
func (t *table[T]) land(id string, v any) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.all == nil {
		t.all = map[string]T{}
	}
	var was, is *T
	if old, there := t.all[id]; there {
		was = &old
	}
	if x, ok := v.(T); ok {
		is, t.all[id] = &x, x
	} else {
		delete(t.all, id)
	}
	if t.moved != nil {
		t.moved(was, is)
	}
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
	if out == nil {
		out = map[string]T{}
	}
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
	return nil
}

// drop removes a document as a part of a change.
func drop[T any](c *change, t *table[T], id string) {
	c.batch.DropDocument(t.kind, id)
	c.lay(documentKey{t.kind, id}, dropped{})
}

func (c *change) lay(k documentKey, v any) {
	if c.documents == nil {
		c.documents = map[documentKey]any{}
	}
	c.documents[k] = v
}
