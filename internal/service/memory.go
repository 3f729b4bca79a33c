package service

import (
	"os"
	"runtime/debug"
)

// ballast is memory that is never touched, and so costs none: it makes the
// collector take even a small heap for one that is worth leaving alone.
var ballast []byte

const ballastSize = 64 << 20

// TuneMemory lets the heap grow to five times what is live, and to 320 MB
// before anything is collected at all, unless GOGC says otherwise: the fleet is
// large and lives long, and marking it again for every few megabytes of
// requests cost a quarter of the processor.
func TuneMemory() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(400)
		if ballast == nil {
			ballast = make([]byte, ballastSize)
		}
	}
}
