package fold

import (
	"iter"
	"reflect"
	"sync"

	"ironledger.example/core/condition"
	"ironledger.example/internal/state"
)

// rowSize is how many devices are looked at when one of them changes.
const rowSize = 32

// Rows keeps beside what each page comes to what each row of its devices does, so that a change takes the time of a row.
type Rows[T any] struct {
	// Differs and Same are as those of [Fold].
	Differs func(error)
	Same    func(kept, anew T, now int64) bool

	begun sync.Once
	fold  Fold[*rowed[T]]
}

type rowed[T any] struct {
	rows  [PageSize / rowSize]T
	until [PageSize / rowSize]int64
	all   T
}

// Over is as that of [Fold]: work says what the devices of a row come to, and until when that holds; joined what rows come
// to together, and until when that holds while they do.
func (f *Rows[T]) Over(snap *state.Snapshot, now int64, work func(iter.Seq[*state.Device]) (T, int64),
	joined func([]T) (T, int64)) []T {
	f.begun.Do(func() {
		f.fold.Differs = f.Differs
		f.fold.Same = func(kept, anew *rowed[T], now int64) bool {
			if f.Same == nil {
				return reflect.DeepEqual(kept.all, anew.all)
			}
			return f.Same(kept.all, anew.all, now)
		}
	})
	pages := f.fold.Over(snap, now, func(p Part[*rowed[T]]) (*rowed[T], int64) {
		out, until := &rowed[T]{}, int64(condition.Always)
		if p.Known != nil {
			*out = **p.Known
		}
		for i := range out.rows {
			if p.rowChanged(i) || now >= out.until[i] {
				out.rows[i], out.until[i] = work(p.row(i))
			}
			until = min(until, out.until[i])
		}
		var own int64
		out.all, own = joined(out.rows[:])
		return out, min(until, own)
	})
	out := make([]T, len(pages))
	for i, p := range pages {
		if p != nil {
			out[i] = p.all
		}
	}
	return out
}

// rowChanged reports whether a device of a row may be another than what is known is of.
func (p *Part[T]) rowChanged(row int) bool {
	for place := row * rowSize; place < (row+1)*rowSize; place++ {
		if p.Changed(place) {
			return true
		}
	}
	return false
}

// row yields the devices of a row.
func (p *Part[T]) row(row int) iter.Seq[*state.Device] {
	return func(yield func(*state.Device) bool) {
		for place := row * rowSize; place < (row+1)*rowSize; place++ {
			if d := p.At(place); d != nil && !yield(d) {
				return
			}
		}
	}
}
