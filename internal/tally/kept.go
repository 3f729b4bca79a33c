package tally

import (
	"context"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/store"
)

// Kept is what entries tell of since a moment: read once, and kept up from those that came since. Only one at a time may
// use it.
type Kept[T any] struct {
	Of   T
	from int64 // it is told since this moment; 0 for none
	seq  int64 // the entry up to which was read
}

// Bring reads up to the newest entry what is told since a moment at least: anew where it does not reach so far back, or
// where an entry lost its body. more adds to what there is what entries behind one and up to another tell of since a
// moment. Is all of that not read, nothing changes: a caller who leaves takes nothing from the others.
func (k *Kept[T]) Bring(ctx context.Context, records *store.Store, since int64,
	more func(of T, since, behind, last int64) (T, error)) error {
	size := records.Sealed().Size
	next := *k
	lost, err := Lost(ctx, records, k.seq)
	if err == nil && (lost || k.from == 0 || since < k.from) {
		next = Kept[T]{from: since}
		next.seq, err = records.Before(ctx, since)
	}
	if err == nil && size > next.seq {
		next.Of, err = more(next.Of, next.from, next.seq, size)
		next.seq = size
	}
	if err == nil {
		*k = next
	}
	return err
}

// Forget drops what is older than a moment, unless it was asked for just now.
func (k *Kept[T]) Forget(old, since int64, drop func(of T, old int64) T) {
	if k.from < old && since >= old {
		k.Of, k.from = drop(k.Of, old), old
	}
}

// Told reads again all that was. It reports false while there is nothing to compare that with: it is read anew when
// somebody asks.
func (k *Kept[T]) Told(ctx context.Context, records *store.Store,
	read func(since, behind, last int64) error) (is bool, err error) {
	lost, err := Lost(ctx, records, k.seq)
	if err != nil || lost || k.from == 0 {
		k.from = 0
		return false, err
	}
	first, err := records.Before(ctx, k.from)
	if err != nil {
		return false, err
	}
	return true, read(k.from, first, k.seq)
}

// Lost reports whether an entry lost its body since those up to one were read: by a redaction, or to an archive. The
// entry that tells so comes with it.
func Lost(ctx context.Context, records *store.Store, seq int64) (is bool, err error) {
	for _, kind := range []ledger.Kind{ledger.Redacted, ledger.Archived} {
		if err = records.Behind(ctx, kind, seq, 0, func(ledger.Entry) error { is = true; return nil }); err != nil {
			return false, err
		}
	}
	return is, nil
}
