package service

import (
	"iter"
	"maps"
)

// layered is an immutable map that is cheap to make another from: a large part that
// many share, and over it what has changed since.
type layered[K comparable, V any] struct {
	base map[K]V
	over map[K]*V // nil: no longer there
	n    int
}

func newLayered[K comparable, V any](all map[K]V) layered[K, V] {
	return layered[K, V]{base: all, n: len(all)}
}

func (l layered[K, V]) len() int { return l.n }

func (l layered[K, V]) get(k K) (v V, ok bool) {
	if len(l.over) > 0 {
		if x, changed := l.over[k]; changed {
			if x == nil {
				return v, false
			}
			return *x, true
		}
	}
	v, ok = l.base[k]
	return v, ok
}

// all yields everything, in no order.
func (l layered[K, V]) all() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		for k, v := range l.base {
			if _, changed := l.over[k]; !changed && !yield(k, v) {
				return
			}
		}
		for k, v := range l.over {
			if v != nil && !yield(k, *v) {
				return
			}
		}
	}
}

// with is the map with changes: values, or nil for what is no longer there.
func (l layered[K, V]) with(changes map[K]*V) layered[K, V] {
	out := l
	for k, v := range changes {
		switch _, there := l.get(k); {
		case there && v == nil:
			out.n--
		case !there && v != nil:
			out.n++
		}
	}
	// What is laid over is copied for each change, the rest once it has grown so far.
	if len(l.over)+len(changes) <= max(256, l.n/64) {
		out.over = make(map[K]*V, len(l.over)+len(changes))
		maps.Copy(out.over, l.over)
		maps.Copy(out.over, changes)
		return out
	}
	out.base, out.over = make(map[K]V, out.n), nil
	maps.Insert(out.base, l.all())
	for k, v := range changes {
		if v == nil {
			delete(out.base, k)
		} else {
			out.base[k] = *v
		}
	}
	return out
}
