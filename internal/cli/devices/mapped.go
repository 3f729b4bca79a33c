package devices

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"

	"ironledger.example/core/evidence"
	"ironledger.example/core/mapping"
	"ironledger.example/internal/cli/shell"
)

// LoadMapping reads a mapping from a file, for the attributes of a dictionary.
func LoadMapping(path string, dict *evidence.Dictionary) (*mapping.Mapping, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	m, err := mapping.Load(string(raw), dict)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return m, nil
}

// Mapped turns the items of a file into reports, one a line, as they are read. An item of
// which no report can be made is told of, and leaves an empty line: lines are numbered as
// items are.
type Mapped struct {
	io.ReadCloser
	Lost int // items of which no report could be made; once all is read
}

// NewMapped turns the items that a file has into reports.
func NewMapped(a *shell.App, m *mapping.Mapping, in io.Reader, format evidence.Format) *Mapped {
	r, w := io.Pipe()
	out := &Mapped{ReadCloser: r}
	go func() {
		err := m.Items(in, format, func(n int, item []byte) error {
			raw, remarks, err := m.Report(item, "")
			for _, x := range remarks {
				shell.Line(a.Err, "item %d: %s: %s", n, x.Attribute, x.Message)
			}
			if err != nil {
				out.Lost++
				shell.Line(a.Err, "%s", a.Rust(fmt.Sprintf("item %d: %v", n, err)))
			}
			_, err = w.Write(append(raw, '\n'))
			return err
		})
		w.CloseWithError(err)
	}()
	return out
}

// errEnough ends a trial.
var errEnough = errors.New("enough was seen")

// tryMapping shows what the first items of a file would become. Nothing is sent.
func tryMapping(a *shell.App, m *mapping.Mapping, in io.Reader, format evidence.Format, most int) error {
	type shown struct {
		Item    int              `json:"item"`
		Report  json.RawMessage  `json:"report,omitempty"`
		Remarks []mapping.Remark `json:"remarks,omitempty"`
		Error   string           `json:"error,omitempty"`
	}
	l := shell.Listing{Head: []string{"ITEM", "SAYS", "READING"}}
	all, failed := []shown{}, false
	err := m.Items(in, format, func(n int, item []byte) error {
		raw, remarks, err := m.Report(item, "")
		x := shown{Item: n, Report: raw, Remarks: remarks}
		if err != nil {
			x.Error, failed = err.Error(), true
			l.Rows = append(l.Rows, []string{fmt.Sprint(n), "no report", err.Error()})
		} else if err := reportRows(&l, n, raw); err != nil {
			return err
		}
		if all = append(all, x); len(all) == most {
			return errEnough
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	l.Raw = all
	if err := a.Print(l); err != nil {
		return err
	}
	if failed {
		return shell.ErrNo
	}
	return nil
}

// reportRows adds what a report says, a row a key and an attribute.
func reportRows(l *shell.Listing, n int, raw []byte) error {
	var r struct {
		Source     string                     `json:"source"`
		ExternalID string                     `json:"external_id"`
		ObservedAt string                     `json:"observed_at"`
		Identity   map[string]string          `json:"identity"`
		Evidence   map[string]json.RawMessage `json:"evidence"`
	}
	if err := json.Unmarshal(raw, &r); err != nil {
		return err
	}
	add := func(name, text string) {
		if text != "" {
			l.Rows = append(l.Rows, []string{fmt.Sprint(n), name, shell.Clip(text, 90)})
		}
	}
	add("source", r.Source)
	add("external_id", r.ExternalID)
	add("observed_at", r.ObservedAt)
	for _, k := range slices.Sorted(maps.Keys(r.Identity)) {
		add(k, r.Identity[k])
	}
	for _, k := range slices.Sorted(maps.Keys(r.Evidence)) {
		add(k, string(r.Evidence[k]))
	}
	return nil
}
