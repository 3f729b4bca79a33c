//go:build unix

package agent

import (
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
)

// ownerOf is the user to whom a file belongs.
func ownerOf(info fs.FileInfo) uint32 {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return s.Uid
	}
	return math.MaxUint32
}

// trustedUsers are those whose programs may run: root, and whoever runs the agent, who could do the same anyway.
func trustedUsers() []uint32 { return []uint32{0, uint32(os.Geteuid())} }

// unprivileged has a program run as somebody without rights and groups, in a group of processes of its own, which
// ends with it.
func unprivileged(p *exec.Cmd, name string) error {
	p.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	p.Cancel = func() error { return syscall.Kill(-p.Process.Pid, syscall.SIGKILL) }
	if os.Geteuid() != 0 {
		return nil
	}
	if name == "" {
		return errors.New("it does not run as root, and nobody else was named")
	}
	who, err := user.Lookup(name)
	if err != nil {
		return fmt.Errorf("it cannot run as %s: %w", name, err)
	}
	uid, errU := strconv.ParseUint(who.Uid, 10, 32)
	gid, errG := strconv.ParseUint(who.Gid, 10, 32)
	if err := errors.Join(errU, errG); err != nil || uid == 0 {
		return fmt.Errorf("it cannot run as %s, which is no user without rights", name)
	}
	p.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid), Groups: []uint32{}}
	return nil
}

// end ends what a program left running.
func end(p *exec.Cmd) {
	if p.Process != nil {
		_ = syscall.Kill(-p.Process.Pid, syscall.SIGKILL) // mostly there is nobody
	}
}
