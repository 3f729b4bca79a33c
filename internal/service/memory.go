package service

import (
	"os"
	"runtime/debug"
)

// TuneMemory lets the heap grow to four times what is live before it is
// collected, unless GOGC says otherwise: the fleet is large and lives long, and
// marking it again for every few megabytes of requests cost a quarter of the
// processor. The price is memory: at most five times the fleet's own size.
func TuneMemory() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(400)
	}
}
