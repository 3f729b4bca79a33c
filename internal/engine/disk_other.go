//go:build !linux && !darwin

package engine

import "errors"

// DiskSpace is not known here.
func DiskSpace(string) (free, total uint64, err error) { return 0, 0, errors.ErrUnsupported }
