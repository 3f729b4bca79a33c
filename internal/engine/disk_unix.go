//go:build linux || darwin

package engine

import "syscall"

// DiskSpace is how many bytes of the disk that a folder is on are left to us, and of how
// many.
func DiskSpace(dir string) (free, total uint64, err error) {
	var s syscall.Statfs_t
	if err := syscall.Statfs(dir, &s); err != nil {
		return 0, 0, err
	}
	return s.Bavail * uint64(s.Bsize), s.Blocks * uint64(s.Bsize), nil
}
