package agent

import (
	"context"
	"errors"
	"hash/fnv"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/fsnotify/fsnotify"
)

// Runner reports for as long as it runs: at once when something changed that is watched, and else at the interval
// that the service named; and it renews the certificate.
type Runner struct {
	*Reporter
	// LookEvery is how often the machine is looked at for what tells nobody that it changed. Nothing is sent when it
	// did not.
	LookEvery time.Duration
	// Told is told of each report, also of one that did not reach the service; nil for nobody.
	Told func(*Status, error)

	watcher *fsnotify.Watcher
	watched []string
	again   chan struct{}
	last    *message
	lastAt  time.Time
	failed  int // reports in a row
	renewed time.Time
}

// The waits of a runner.
const (
	settle       = 200 * time.Millisecond // several changes are mostly one
	firstRetry   = time.Second
	lastRetry    = time.Minute
	defaultEvery = 15 * time.Minute // until the service names an interval
	renewRetry   = 5 * time.Minute
	// DefaultLookEvery is how often the machine is looked at.
	DefaultLookEvery = 30 * time.Second
)

// NewRunner is a runner of a reporter.
func NewRunner(r *Reporter) *Runner {
	return &Runner{Reporter: r, LookEvery: DefaultLookEvery, again: make(chan struct{}, 1)}
}

// Again has the runner look at once.
func (r *Runner) Again() {
	select {
	case r.again <- struct{}{}:
	default: // it is about to
	}
}

// Run runs until the context ends. The error says why it cannot.
func (r *Runner) Run(ctx context.Context) error {
	if _, err := r.Folder.Settings(); err != nil {
		return err
	}
	if _, err := r.Folder.Certificate(); err != nil {
		return err
	}
	var err error
	if r.watcher, err = fsnotify.NewWatcher(); err != nil {
		r.Log.Warn("changes of files are not told of; they are looked for", "error", err)
	} else {
		defer r.watcher.Close()
	}
	all := true
	for ctx.Err() == nil {
		next := r.turn(ctx, all)
		all = r.wait(ctx, next)
	}
	return nil
}

// turn reports once: whatever there is when all is set, else what changed. It returns when to report again.
func (r *Runner) turn(ctx context.Context, all bool) time.Time {
	before := r.last
	if all {
		before = nil
	}
	st, m, err := r.report(ctx, before)
	if ctx.Err() != nil {
		return r.now()
	}
	r.watch()
	switch {
	case err != nil:
		r.failed++
		r.Log.Warn("a report did not reach the service", "error", err, "queued", queuedIn(st))
		r.tell(st, err)
	case m != nil:
		r.failed, r.last, r.lastAt = 0, m, r.now()
		r.tell(st, nil)
	}
	r.renew(ctx, st)
	return r.next(st)
}

func queuedIn(st *Status) int {
	if st == nil {
		return 0
	}
	return st.Queued
}

func (r *Runner) tell(st *Status, err error) {
	if r.Told != nil && st != nil {
		r.Told(st, err)
	}
}

// next is when to report again, changed or not.
func (r *Runner) next(st *Status) time.Time {
	if r.failed > 0 {
		wait := min(firstRetry<<min(r.failed-1, 10), lastRetry)
		return r.now().Add(wait/2 + rand.N(wait/2+1))
	}
	every := defaultEvery
	if st != nil && st.Standing != nil {
		every = interval(st.Standing.ReportEvery)
	}
	return r.lastAt.Add(every - rand.N(every/10+1))
}

// wait waits until there is something to do, and reports whether to report though nothing changed.
func (r *Runner) wait(ctx context.Context, next time.Time) (all bool) {
	due := time.NewTimer(max(0, next.Sub(r.now())))
	defer due.Stop()
	look := time.NewTimer(r.LookEvery)
	defer look.Stop()
	var events chan fsnotify.Event
	var trouble chan error
	if r.watcher != nil {
		events, trouble = r.watcher.Events, r.watcher.Errors
	}
	for {
		select {
		case <-ctx.Done():
			return false
		case <-r.again:
			return true
		case <-due.C:
			return true
		case <-look.C:
			return r.failed > 0 // what did not reach the service is not known to it
		case <-trouble:
			return false // events were lost: look
		case e := <-events:
			if !r.concerns(e) {
				continue
			}
			r.calm(ctx, events)
			return r.failed > 0
		}
	}
}

// calm waits until no more changes come for a moment.
func (r *Runner) calm(ctx context.Context, events chan fsnotify.Event) {
	most := time.After(10 * settle)
	for {
		select {
		case <-events:
		case <-time.After(settle):
			return
		case <-most:
			return
		case <-ctx.Done():
			return
		}
	}
}

// concerns reports whether a change is of something that is watched: whole folders are, so that a file is seen that
// was not there, or is replaced.
func (r *Runner) concerns(e fsnotify.Event) bool {
	return slices.ContainsFunc(r.watched, func(path string) bool {
		return path == e.Name || filepath.Dir(e.Name) == path || len(path) > len(e.Name) &&
			path[:len(e.Name)] == e.Name
	})
}

// watch watches the folders of what was read.
func (r *Runner) watch() {
	if r.watcher == nil {
		return
	}
	r.watched = append(r.Machine.Watched(), r.Checks.Watched()...)
	var want []string
	for _, path := range r.watched {
		info, err := os.Stat(path)
		if err != nil || !info.IsDir() {
			path = filepath.Dir(path)
		}
		for path != filepath.Dir(path) { // the nearest folder that is there
			if info, err := os.Stat(path); err == nil && info.IsDir() {
				want = append(want, path)
				break
			}
			path = filepath.Dir(path)
		}
	}
	slices.Sort(want)
	want = slices.Compact(want)
	for _, path := range r.watcher.WatchList() {
		if !slices.Contains(want, path) {
			_ = r.watcher.Remove(path) // it may be gone
		}
	}
	for _, path := range want {
		if err := r.watcher.Add(path); err != nil {
			r.Log.Warn("a folder cannot be watched; it is looked at", "folder", path, "error", err)
		}
	}
}

// interval is how often to report, as the service said.
func interval(text string) time.Duration {
	d, err := time.ParseDuration(text)
	if err != nil || d < time.Second || d > 24*time.Hour {
		return defaultEvery
	}
	return d
}

// renew renews the certificate when that is due: from the moment on that its profile says, at a place in the time
// that is left which differs from device to device.
func (r *Runner) renew(ctx context.Context, st *Status) {
	if st == nil || st.RenewAt == nil || st.Until == nil {
		return
	}
	now := r.now()
	if now.Before(renewAt(st, *st.RenewAt, *st.Until)) || now.Sub(r.renewed) < min(renewRetry, st.Until.Sub(now)/10) {
		return
	}
	r.renewed = now
	cert, err := r.Folder.Renew(ctx)
	if ctx.Err() != nil {
		return
	}
	if st.NotNew = ""; err != nil {
		r.Log.Warn("the certificate could not be renewed", "error", err)
		st.NotNew = err.Error()
	}
	if cert != nil {
		r.Log.Info("the certificate was renewed", "until", cert.NotAfter)
		st.RenewAt = nil
		st.certificate(r.Folder)
		r.renewed = time.Time{}
		r.Again() // the service says when the next is due
	}
	r.tell(st, err)
	err = r.Folder.alone(ctx, func() error { return r.Folder.writeJSON(statusFile, st, 0o644) })
	if err != nil && !errors.Is(err, context.Canceled) {
		r.Log.Warn("how the agent stands cannot be kept", "error", err)
	}
}

// renewAt is the moment at which a device renews: in the first quarter of the time that is left for that, or at once
// when the service says that it was due when it was asked.
func renewAt(st *Status, from, until time.Time) time.Time {
	if o := st.Standing; o != nil && from.Format(time.RFC3339) <= o.At {
		return from
	}
	h := fnv.New32a()
	h.Write([]byte(st.Device + from.Format(time.RFC3339)))
	quarter := max(0, until.Sub(from)/4)
	return from.Add(time.Duration(float64(quarter) * float64(h.Sum32()) / (1 << 32)))
}
