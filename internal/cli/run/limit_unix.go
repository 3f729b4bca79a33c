//go:build unix

package run

import (
	"os/signal"
	"syscall"
)

// ignoreFileLimit makes a limit on the size of files an error of writing, which
// the service denies on and recovers from, and not the end of the process.
func ignoreFileLimit() { signal.Ignore(syscall.SIGXFSZ) }
