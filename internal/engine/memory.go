package engine

import (
	"context"
	"log/slog"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"sync"
	"time"

	"github.com/KimMachineGun/automemlimit/memlimit"
)

// ballast is memory that is never touched, and so costs none: it makes the
// collector take even a small heap for one that is worth leaving alone.
var ballast []byte

const ballastSize = 64 << 20

// deviceSize is what a device takes, with what is thrown away when it is read.
const deviceSize = 12 << 10

// tuned is how much the heap may grow before it is collected, in parts of a hundred of what is live.
var tuned struct {
	mu      sync.Mutex
	percent int  // 0: the environment says it
	keeping int  // how many read a fleet at present
	read    bool // one was read since it was looked at last
}

// keepAll puts collecting off while about so many devices are read: nearly all
// of it stays, and a collection before the end would find that out at some cost.
// It returns what to do at the end. What was thrown away is given back a moment later.
func keepAll(devices int64) (done func()) {
	percent := devices * deviceSize * 100 / ballastSize
	tuned.mu.Lock()
	defer tuned.mu.Unlock()
	if tuned.percent == 0 {
		return func() {}
	}
	debug.SetGCPercent(int(min(max(percent, collectAt), 1<<20)))
	tuned.keeping++
	return func() {
		tuned.mu.Lock()
		defer tuned.mu.Unlock()
		tuned.keeping--
		tuned.percent, tuned.read = collectAt, true
		debug.SetGCPercent(tuned.percent)
	}
}

const (
	// collectAt is the growth at which a small heap is collected.
	collectAt = 400
	// spare is how many bytes may be thrown away before they are collected, in a heap that is neither small nor large:
	// a large one may double.
	spare = 640 << 20
	// tuneEach is how often it is looked how large the heap is.
	tuneEach = time.Second
)

// growth is by how many parts of a hundred a heap of which so much is live may grow: marking it again for every few
// megabytes of requests cost a quarter of the processor, and four times a large heap is more than a machine has.
func growth(live uint64) int {
	allowed := min(max(spare, live), live*collectAt/100)
	return int(allowed * 100 / max(live, 1))
}

// most is how much of the machine's memory, or of what this process may have of it, is used before it is collected
// whatever else is said: SQLite has some beside.
const most = 0.8

// TuneMemory has the heap collected when it has grown by some part of what is live, unless GOGC says when: a small one
// at five times that and at 320 MB, a large one at twice that, and none beyond four fifths of the memory there is,
// unless GOMEMLIMIT says how much. What was thrown away is given back after a start, and while little is done. It looks
// how large the heap is until ctx ends. It logs when it cannot tell how much memory there is.
func TuneMemory(ctx context.Context, log *slog.Logger) {
	if _, err := memlimit.Set(memlimit.WithRatio(most),
		memlimit.WithProvider(memlimit.ApplyFallback(memlimit.FromCgroup, memlimit.FromSystem))); err != nil {
		log.Warn("nobody knows how much memory there is; set GOMEMLIMIT to bound what is used", "error", err)
	}
	tuned.mu.Lock()
	defer tuned.mu.Unlock()
	if os.Getenv("GOGC") != "" || ballast != nil {
		return
	}
	ballast = make([]byte, ballastSize)
	tuned.percent = collectAt
	debug.SetGCPercent(collectAt)
	go func() {
		tick := time.NewTicker(tuneEach)
		defer tick.Stop()
		var q quiet
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				now := heapNow()
				if read := tune(now.live); q.lingers(now) || read {
					debug.FreeOSMemory()
				}
			}
		}
	}()
}

// heapSize is how large a heap is: what was live when it was collected last, what there is, and how often it was collected.
type heapSize struct{ live, all, collected uint64 }

func heapNow() heapSize {
	of := []metrics.Sample{{Name: "/gc/heap/live:bytes"}, {Name: "/memory/classes/heap/objects:bytes"},
		{Name: "/gc/cycles/total:gc-cycles"}}
	metrics.Read(of)
	var n [3]uint64
	for i, s := range of {
		if s.Value.Kind() == metrics.KindUint64 {
			n[i] = s.Value.Uint64()
		}
	}
	return heapSize{live: n[0], all: n[1], collected: n[2]}
}

// quiet is for how long a heap was not collected.
type quiet struct {
	collected uint64
	ticks     int
}

// quietFor is for how many ticks a heap is left alone in which something lingers.
const quietFor = 30

// lingers reports whether so little happens that what was thrown away would stay for long, and is worth to be given back.
func (q *quiet) lingers(now heapSize) bool {
	if now.collected != q.collected {
		q.collected, q.ticks = now.collected, 0
		return false
	}
	q.ticks++
	return q.ticks >= quietFor && now.all > now.live+max(now.live/4, ballastSize)
}

// tune sets the growth anew if it should be another by a tenth and more, and reports whether a fleet was read, so that
// much was thrown away.
func tune(live uint64) (read bool) {
	tuned.mu.Lock()
	defer tuned.mu.Unlock()
	if tuned.keeping > 0 || live == 0 {
		return false
	}
	want := growth(max(live, ballastSize))
	if 10*max(want-tuned.percent, tuned.percent-want) > tuned.percent {
		tuned.percent = want
		debug.SetGCPercent(want)
	}
	read, tuned.read = tuned.read, false
	return read
}

// HaveRead notes that much was read and thrown away.
func HaveRead() {
	tuned.mu.Lock()
	defer tuned.mu.Unlock()
	tuned.read = true
}
