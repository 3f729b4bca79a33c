//go:build !unix

package agent

import (
	"errors"
	"io/fs"
	"math"
	"os/exec"
)

func ownerOf(fs.FileInfo) uint32 { return math.MaxUint32 }

func trustedUsers() []uint32 { return nil }

func unprivileged(*exec.Cmd, string) error {
	return errors.New("site checks run on Unix systems alone")
}

func end(*exec.Cmd) {}
