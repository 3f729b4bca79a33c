package agent

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ironledger.example/internal/collect"
)

// Linux is a Linux machine whose files are below a folder, mostly "/".
type Linux struct {
	Root         string
	Certificates string // a folder of certificates to report, "" for none

	mu   sync.Mutex
	seen map[string]bool
}

// Report implements [Machine].
func (l *Linux) Report(device, owner string, set map[string]json.RawMessage, now time.Time) (*collect.Report, error) {
	if l.Root == "" {
		return nil, errors.New("no machine is given to read")
	}
	tree := noted{os.DirFS(l.Root), map[string]bool{}}
	o := collect.Options{ID: device, Owner: owner, Set: set}
	if l.Certificates != "" {
		o.Certificates = os.DirFS(l.Certificates)
	}
	r, err := collect.Linux(tree, o, now)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seen = tree.seen
	return r, err
}

// Watched implements [Machine]. What the kernel makes up when it is read tells nobody that it changed.
func (l *Linux) Watched() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []string
	for name := range l.seen {
		if top, _, _ := strings.Cut(name, "/"); top != "proc" && top != "sys" {
			out = append(out, filepath.Join(l.Root, filepath.FromSlash(name)))
		}
	}
	slices.Sort(out)
	return out
}

// noted is a tree that knows what was read of it.
type noted struct {
	fs.FS
	seen map[string]bool
}

func (n noted) Open(name string) (fs.File, error) {
	n.seen[name] = true
	return n.FS.Open(name)
}

// Stat implements [fs.StatFS]: some of what is looked for cannot be opened.
func (n noted) Stat(name string) (fs.FileInfo, error) {
	n.seen[name] = true
	return fs.Stat(n.FS, name)
}
