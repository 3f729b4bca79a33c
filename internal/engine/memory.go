package engine

import (
	"os"
	"runtime/debug"
)

// ballast is memory that is never touched, and so costs none: it makes the
// collector take even a small heap for one that is worth leaving alone.
var ballast []byte

const ballastSize = 64 << 20

// deviceSize is what a device takes, with what is thrown away when it is read.
const deviceSize = 12 << 10

// keepAll puts collecting off while about so many devices are read: nearly all
// of it stays, and a collection before the end would find that out at some cost.
// The heap becomes no larger by it than TuneMemory lets it. It returns what to do
// at the end.
func keepAll(devices int64) (done func()) {
	percent := devices * deviceSize * 100 / ballastSize
	if ballast == nil || percent <= collectAt {
		return func() {}
	}
	before := debug.SetGCPercent(int(min(percent, 1<<20)))
	return func() { debug.SetGCPercent(before) }
}

const collectAt = 400

// TuneMemory lets the heap grow to five times what is live, and to 320 MB
// before anything is collected at all, unless GOGC says otherwise: the fleet is
// large and lives long, and marking it again for every few megabytes of
// requests cost a quarter of the processor.
func TuneMemory() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(collectAt)
		if ballast == nil {
			ballast = make([]byte, ballastSize)
		}
	}
}
