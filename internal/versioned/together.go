package versioned

import (
	"context"
	"runtime"
	"sync"
	"sync/atomic"
)

// Together calls work for every value of a version, on all processors, and take with what it gave unless it gave nothing:
// for one at a time and in no order. It ends with ctx, whose error it returns.
func Together[K comparable, V, T any](ctx context.Context, m Map[K, V], work func(*V) (T, bool), take func(T)) error {
	workers := min(runtime.GOMAXPROCS(0), len(m.pages))
	worked, next := make(chan []T, 1+workers), atomic.Int64{}
	var wg sync.WaitGroup
	for range workers {
		wg.Go(func() {
			for n := next.Add(1); n <= int64(len(m.pages)) && ctx.Err() == nil; n = next.Add(1) {
				if m.pages[n-1] == nil {
					continue
				}
				out := make([]T, 0, PageSize)
				for v := range (Page[V]{m.pages[n-1]}).Values() {
					if x, is := work(v); is {
						out = append(out, x)
					}
				}
				worked <- out
			}
		})
	}
	go func() { wg.Wait(); close(worked) }()
	for out := range worked {
		for _, x := range out {
			take(x)
		}
	}
	return ctx.Err()
}
