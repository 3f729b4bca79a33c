// Package giveway lets long work on a processor give way to what is short.
//
// The runtime takes a processor from a goroutine that never waits after ten milliseconds. Where a few walk over a
// fleet, whoever asks about one device would wait for several such slices at each step of the answer.
package giveway

import (
	"runtime"
	"time"
)

// slice is how long work goes on before it gives way.
const slice = time.Millisecond

// Long is work that takes long; its zero value has begun just now. It is for one goroutine.
type Long struct{ since time.Time }

// Pass is called every now and then, many times in a slice: others that are ready to run do so first when it is over.
func (l *Long) Pass() {
	switch now := time.Now(); {
	case l.since.IsZero():
		l.since = now
	case now.Sub(l.since) > slice:
		runtime.Gosched()
		l.since = time.Now()
	}
}
