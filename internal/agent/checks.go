package agent

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironledger.example/core/evidence"
)

// Checks are the site's own: programs in a folder, each of which prints attributes as a JSON object. They run as
// somebody without rights, with nothing of the agent's environment.
type Checks struct {
	Dir  string
	User string        // who they run as, when the agent may choose; "" for the agent itself
	For  time.Duration // one may run
}

// DefaultCheckFor is how long a site check may run.
const DefaultCheckFor = 10 * time.Second

// maxOutput bounds what a site check prints, in bytes.
const maxOutput = 64 << 10

// Check is what became of a site check.
type Check struct {
	Name   string   `json:"name"`
	Gave   []string `json:"gave,omitempty"`   // attributes
	Failed string   `json:"failed,omitempty"` // why it gave nothing

	values map[string]json.RawMessage
}

// onlyOwners says who else than those that a site check may be trusted by could change a file or folder, "" for
// nobody. trusted are the user ids that may.
func onlyOwners(path string, trusted []uint32) error {
	for p := path; ; p = filepath.Dir(p) {
		info, err := os.Lstat(p)
		if err != nil {
			return err
		}
		sticky := info.IsDir() && info.Mode()&fs.ModeSticky != 0 && p != path // nobody moves what is another's
		switch owner := ownerOf(info); {
		case info.Mode()&fs.ModeSymlink != 0:
			return fmt.Errorf("%s is a symbolic link", p)
		case !slices.Contains(trusted, owner):
			return fmt.Errorf("%s belongs to the user %d, who is not root", p, owner)
		case info.Mode().Perm()&0o022 != 0 && !sticky:
			return fmt.Errorf("%s can be changed by others than root (%s)", p, info.Mode().Perm())
		}
		if p == filepath.Dir(p) {
			return nil
		}
	}
}

// programs lists the site checks; the error says why none may run.
func (c *Checks) programs() ([]string, error) {
	if c.Dir == "" {
		return nil, nil
	}
	dir, err := filepath.Abs(c.Dir)
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if err := onlyOwners(dir, trustedUsers()); err != nil {
		return nil, fmt.Errorf("no site check runs: %w", err)
	}
	var out []string
	for _, e := range entries {
		if !e.IsDir() && !strings.HasPrefix(e.Name(), ".") {
			out = append(out, filepath.Join(dir, e.Name()))
		}
	}
	return out, nil
}

// Run runs all site checks, those in the order of their names that may.
func (c *Checks) Run(ctx context.Context) ([]Check, error) {
	paths, err := c.programs()
	if err != nil {
		return nil, err
	}
	var out []Check
	for i, path := range paths {
		one := Check{Name: filepath.Base(path)}
		switch {
		case !evidence.CheckName.MatchString(one.Name):
			return out, fmt.Errorf("%q is no name of a site check: letters, digits, dots, dashes and underscores",
				one.Name)
		case i >= evidence.MaxSiteChecks:
			return out, fmt.Errorf("there are more than %d site checks", evidence.MaxSiteChecks)
		}
		if one.values, err = c.run(ctx, path); err != nil {
			one.Failed = err.Error()
		}
		for name := range one.values {
			one.Gave = append(one.Gave, name)
		}
		slices.Sort(one.Gave)
		if out = append(out, one); ctx.Err() != nil {
			return out, ctx.Err()
		}
	}
	twice(out)
	return out, nil
}

// twice has the second of two site checks fail that give the same attribute.
func twice(checks []Check) {
	by := map[string]string{}
	for i := range checks {
		x := &checks[i]
		for _, name := range x.Gave {
			if first, ok := by[name]; ok {
				x.Failed = fmt.Sprintf("the check %s gives %s already", first, name)
				x.Gave, x.values = nil, nil
				break
			}
		}
		for _, name := range x.Gave {
			by[name] = x.Name
		}
	}
}

// run runs one site check and reads what it prints.
func (c *Checks) run(ctx context.Context, path string) (map[string]json.RawMessage, error) {
	if err := onlyOwners(path, trustedUsers()); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, c.For)
	defer cancel()
	p := exec.CommandContext(ctx, path)
	p.Dir, p.Env = "/", []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LANG=C.UTF-8"}
	if err := unprivileged(p, c.User); err != nil {
		return nil, err
	}
	out, complaint := &bounded{most: maxOutput}, &bounded{most: 1 << 10}
	p.Stdout, p.Stderr = out, complaint
	p.WaitDelay = c.For / 4 // what it left running may keep its output open
	err := p.Run()
	end(p)
	switch {
	case ctx.Err() == context.DeadlineExceeded:
		return nil, fmt.Errorf("it took longer than %s", c.For)
	case errors.Is(err, exec.ErrWaitDelay):
		return nil, errors.New("it left something running that holds its output")
	case out.over:
		return nil, fmt.Errorf("it printed more than %d bytes", maxOutput)
	case err != nil:
		if said, _, _ := strings.Cut(strings.TrimSpace(complaint.kept.String()), "\n"); said != "" {
			return nil, fmt.Errorf("%w: %s", err, said)
		}
		return nil, err
	}
	return attributesIn(out.kept.Bytes())
}

// attributesIn reads the JSON object that a site check prints.
func attributesIn(raw []byte) (map[string]json.RawMessage, error) {
	var values map[string]json.RawMessage
	d := json.NewDecoder(bytes.NewReader(raw))
	if err := d.Decode(&values); err != nil || values == nil {
		if errors.Is(err, io.EOF) {
			return nil, errors.New("it printed nothing, where a JSON object of attributes was expected")
		}
		return nil, fmt.Errorf("it printed %.60q, where a JSON object of attributes was expected", raw)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("it printed more than one JSON object")
	}
	if len(values) > 200 {
		return nil, errors.New("it printed more than 200 attributes")
	}
	return values, nil
}

// bounded keeps no more than so much of what is written.
type bounded struct {
	kept bytes.Buffer // no part of it: what reads into a buffer by itself would not be bounded
	most int
	over bool
}

func (b *bounded) Write(p []byte) (int, error) {
	if room := b.most - b.kept.Len(); len(p) > room {
		b.over = true
		b.kept.Write(p[:room])
		return len(p), nil // it is told when it has ended
	}
	return b.kept.Write(p)
}

// watchMark begins a line of a site check that names a file: when that changes, the check is run at once.
const watchMark = "# watch: "

// Watched are the files whose change may change what the site checks give: those that they name, and themselves.
func (c *Checks) Watched() (out []string) {
	paths, err := c.programs()
	if err != nil || c.Dir == "" {
		return nil
	}
	for _, path := range paths {
		out = append(out, path)
		f, err := os.Open(path)
		if err != nil {
			continue
		}
		lines := bufio.NewScanner(io.LimitReader(f, 8<<10))
		for lines.Scan() {
			if name, ok := strings.CutPrefix(lines.Text(), watchMark); ok && filepath.IsAbs(strings.TrimSpace(name)) {
				out = append(out, strings.TrimSpace(name))
			}
		}
		_ = f.Close() // it was only read
	}
	return append(out, filepath.Join(c.Dir, "."))
}
