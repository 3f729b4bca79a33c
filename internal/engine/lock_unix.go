//go:build unix

package engine

import (
	"errors"
	"fmt"
	"os"
	"syscall"
)

// lock keeps other processes from the same records until release is called or
// the process ends.
func lock(path string) (release func() error, err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		if errors.Is(err, syscall.EWOULDBLOCK) {
			err = errors.New("another service is running on these records")
		}
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), f.Close())
	}
	return f.Close, nil
}
