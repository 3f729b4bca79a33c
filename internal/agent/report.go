package agent

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"ironledger.example/api"
	"ironledger.example/internal/collect"
)

// Machine is what an agent reads the machine by.
type Machine interface {
	// Report is what the machine shows now. set are attributes that are given, which win.
	Report(device, owner string, set map[string]json.RawMessage, now time.Time) (*collect.Report, error)
	// Watched are the files that the last report was made of and that tell when they change.
	Watched() []string
}

// message is a report as it is sent.
type message struct {
	ObservedAt string               `json:"observed_at"`
	Identity   map[string]string    `json:"identity"`
	Evidence   map[string]any       `json:"evidence"`
	Checks     map[string]checkDone `json:"checks,omitempty"`
}

type checkDone struct {
	Gave   []string `json:"gave,omitempty"`
	Failed string   `json:"failed,omitempty"`
}

// Status is how an agent stands, as whoever asks on the device is told.
type Status struct {
	Device   string         `json:"device"`
	Service  string         `json:"service"`
	At       time.Time      `json:"at"`                 // when it was written
	Standing *api.OwnReport `json:"standing,omitempty"` // what the service said last
	Trouble  string         `json:"trouble,omitempty"`  // why the last report did not reach it
	Since    *time.Time     `json:"since,omitempty"`    // from when that lasts
	Queued   int            `json:"queued"`             // reports that wait for it
	NextAt   *time.Time     `json:"next_at,omitempty"`  // the next report, when nothing happens before
	Checks   []Check        `json:"checks"`
	ChecksNo string         `json:"checks_no,omitempty"` // why no site check runs
	Until    *time.Time     `json:"until,omitempty"`     // the end of the certificate
	RenewAt  *time.Time     `json:"renew_at,omitempty"`
	NotNew   string         `json:"not_new,omitempty"` // why the certificate could not be renewed
	// Gave is what each site check gave when it last did.
	Gave map[string][]string `json:"gave,omitempty"`
}

// Status reads how the agent stands. The error is [ErrNotEnrolled] when it never reported.
func (f *Folder) Status() (*Status, error) {
	var s Status
	err := f.readJSON(statusFile, &s)
	if errors.Is(err, fs.ErrNotExist) {
		if set, err := f.Settings(); err == nil && f.enrolled() == nil {
			return &Status{Device: set.Device, Service: set.Service, Trouble: "it has not reported yet"}, nil
		}
		return nil, ErrNotEnrolled
	}
	return &s, err
}

// Reporter makes and sends the reports of a device.
type Reporter struct {
	Folder  *Folder
	Machine Machine
	Checks  Checks
	// Language is what the person reads, where the service does not know it.
	Language string
	Now      func() time.Time // nil: time.Now
	Log      *slog.Logger
}

func (r *Reporter) now() time.Time {
	if r.Now != nil {
		return r.Now()
	}
	return time.Now()
}

// look is what the machine and the site's checks show now.
func (r *Reporter) look(ctx context.Context, s *Settings, was *Status) (*message, *Status, error) {
	now := r.now().UTC()
	rep, err := r.Machine.Report(s.Device, s.Owner, s.Set, now)
	if err != nil {
		return nil, nil, err
	}
	m := &message{ObservedAt: now.Format(time.RFC3339Nano), Identity: rep.Identity, Evidence: rep.Evidence,
		Checks: map[string]checkDone{}}
	st := &Status{Device: s.Device, Service: s.Service, At: now, Standing: was.Standing, NotNew: was.NotNew,
		Gave: map[string][]string{}}
	checks, err := r.Checks.Run(ctx)
	if ctx.Err() != nil {
		return nil, nil, ctx.Err()
	}
	if err != nil {
		st.ChecksNo = err.Error()
	}
	st.Checks = checks
	m.add(checks)
	for _, c := range checks {
		if st.Gave[c.Name] = c.Gave; c.Failed != "" {
			st.Gave[c.Name] = was.Gave[c.Name]
		}
	}
	// What a check gave and gives no more is not what it was: nobody knows it.
	for _, name := range slices.Sorted(maps.Keys(was.Gave)) {
		if _, there := st.Gave[name]; !there && st.ChecksNo != "" {
			st.Gave[name] = was.Gave[name]
		}
		for _, attribute := range was.Gave[name] {
			if _, told := m.Evidence[attribute]; !told {
				m.Evidence[attribute] = collect.Unavailable{Why: "the site check " + name + " " + whyNot(st, name)}
			}
		}
	}
	return m, st, nil
}

// add lays what site checks gave over what the machine shows.
func (m *message) add(checks []Check) {
	for _, c := range checks {
		m.Checks[c.Name] = checkDone{c.Gave, c.Failed}
		for name, v := range c.values {
			m.Evidence[name] = v
		}
	}
}

func whyNot(s *Status, name string) string {
	if s.ChecksNo != "" {
		return "does not run: " + s.ChecksNo
	}
	for _, c := range s.Checks {
		if c.Name == name && c.Failed != "" {
			return "failed: " + c.Failed
		}
		if c.Name == name {
			return "says nothing of it any more"
		}
	}
	return "is not there any more"
}

// same reports whether two messages say the same, whenever it was seen.
func (m *message) same(o *message) bool {
	if m == nil || o == nil {
		return false
	}
	a, b := *m, *o
	a.ObservedAt, b.ObservedAt = "", ""
	x, errA := json.Marshal(a)
	y, errB := json.Marshal(b)
	return errA == nil && errB == nil && bytes.Equal(x, y)
}

// maxQueued bounds how many reports wait for the service. Past it the oldest are given up: what counts is the newest.
const maxQueued = 500

// queued reads what waits. What is damaged in it is left out.
func (f *Folder) queued() ([][]byte, error) {
	raw, err := os.ReadFile(f.path(queueFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out [][]byte
	lines := bufio.NewScanner(bytes.NewReader(raw))
	lines.Buffer(nil, maxAnswer)
	for lines.Scan() {
		if json.Valid(lines.Bytes()) {
			out = append(out, bytes.Clone(lines.Bytes()))
		}
	}
	return out, lines.Err()
}

func (f *Folder) queue(lines [][]byte) error {
	if len(lines) == 0 {
		if err := os.Remove(f.path(queueFile)); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	lines = lines[max(0, len(lines)-maxQueued):]
	return f.write(queueFile, append(bytes.Join(lines, []byte("\n")), '\n'), 0o600)
}

// enqueue adds a report to those that wait, or has it take the place of the last when that says the same.
func enqueue(lines [][]byte, m *message) ([][]byte, error) {
	raw, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	if n := len(lines); n > 1 {
		var last, before message
		if json.Unmarshal(lines[n-1], &last) == nil && json.Unmarshal(lines[n-2], &before) == nil &&
			last.same(&before) && sameAs(raw, lines[n-1]) {
			lines = lines[:n-1] // of a run that says the same the first and the last
		}
	}
	return append(lines, raw), nil
}

func sameAs(a, b []byte) bool {
	var x, y message
	return json.Unmarshal(a, &x) == nil && json.Unmarshal(b, &y) == nil && x.same(&y)
}

// Report looks at the machine, sends what waits and what there is now, and keeps what the service said. The error
// says why it could not be sent; it waits then.
func (r *Reporter) Report(ctx context.Context) (*Status, error) {
	st, _, err := r.report(ctx, nil)
	return st, err
}

// report is Report. It does nothing, and returns no message, when what there is to tell is the same as before and
// nothing waits.
func (r *Reporter) report(ctx context.Context, before *message) (st *Status, m *message, err error) {
	err = r.Folder.alone(ctx, func() error {
		s, err := r.Folder.Settings()
		if err == nil {
			err = r.Folder.enrolled()
		}
		if err != nil {
			return err
		}
		was, err := r.Folder.Status()
		if err != nil { // it is made anew
			was = &Status{}
		}
		if m, st, err = r.look(ctx, s, was); err != nil {
			return err
		}
		if m.same(before) && was.Queued == 0 && was.Trouble == "" { // nor does anything wait that another agent left
			st, m = was, nil
			return nil
		}
		sendErr := r.send(ctx, s, st, m)
		if sendErr != nil {
			if st.Trouble = sendErr.Error(); was.Since != nil {
				st.Since = was.Since
			} else {
				at := st.At
				st.Since = &at
			}
		}
		return errors.Join(sendErr, r.Folder.writeJSON(statusFile, st, 0o644))
	})
	return st, m, err
}

// send sends what waits and then a report.
func (r *Reporter) send(ctx context.Context, s *Settings, st *Status, m *message) error {
	lines, err := r.Folder.queued()
	if err != nil {
		return err
	}
	if lines, err = enqueue(lines, m); err != nil {
		return err
	}
	defer func() { st.Queued = len(lines) }()
	// Before anything is sent it is kept: whoever stops the agent now loses nothing.
	if err := r.Folder.queue(lines); err != nil {
		return err
	}
	_, c, err := r.Folder.known()
	if err != nil {
		return err
	}
	defer c.close()
	st.certificate(r.Folder)
	for len(lines) > 0 {
		answer, err := r.post(ctx, c, lines[0])
		var a *AnswerError
		lost := errors.As(err, &a) && (a.Status == http.StatusUnprocessableEntity ||
			a.Status == http.StatusBadRequest ||
			a.Status == http.StatusRequestEntityTooLarge)
		if err != nil && !lost {
			return errors.Join(err, r.Folder.queue(lines))
		}
		lines = lines[1:]
		if lost && len(lines) > 0 {
			r.Log.Warn("the service refuses a report that waited; it is given up", "why", a.Message)
		}
		if lost && len(lines) == 0 { // the one of now
			return errors.Join(fmt.Errorf("the service refuses the report: %w", err), r.Folder.queue(lines))
		}
		if answer != nil {
			st.Standing = answer
			st.Renew(answer)
		}
	}
	return r.Folder.queue(lines)
}

// Renew notes until when the certificate lasts.
func (s *Status) Renew(o *api.OwnReport) {
	at, errA := time.Parse(time.RFC3339, o.Certificate.RenewAt)
	until, errB := time.Parse(time.RFC3339, o.Certificate.NotAfter)
	if errA == nil && errB == nil {
		s.RenewAt, s.Until = &at, &until
		if at.After(s.At) { // it is not due: what kept it from being renewed is over
			s.NotNew = ""
		}
	}
}

// certificate notes until when the certificate lasts while the service says nothing.
func (s *Status) certificate(f *Folder) {
	c, err := f.Certificate()
	if err != nil {
		return
	}
	until := c.Leaf.NotAfter
	at := until.Add(-until.Sub(c.Leaf.NotBefore) / 3)
	if s.Standing != nil && s.Standing.Certificate.Serial == c.Leaf.SerialNumber.Text(16) {
		s.Renew(s.Standing)
		return
	}
	s.RenewAt, s.Until = &at, &until
}

func (r *Reporter) post(ctx context.Context, c *caller, report []byte) (*api.OwnReport, error) {
	head := map[string]string{"Content-Type": "application/json"}
	if r.Language != "" {
		head["Accept-Language"] = r.Language
	}
	raw, err := c.do(ctx, http.MethodPost, "/api/v1/evidence", report, head)
	if err != nil {
		return nil, err
	}
	var out api.OwnReport
	if err := json.Unmarshal(raw, &out); err != nil || out.Device == "" {
		return nil, fmt.Errorf("the service's answer cannot be read: %.100q", strings.TrimSpace(string(raw)))
	}
	return &out, nil
}
