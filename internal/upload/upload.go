// Package upload reads the files that a person brings in by hand: what stands in their columns, and the reports that
// a mapping makes of them. Mappings are kept by their source.
package upload

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/evidence"
	"ironledger.example/core/mapping"
	"ironledger.example/core/textfile"
	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// Bounds on one file.
const (
	MaxFile    = 24 << 20 // bytes
	maxLooked  = 200      // items of which the places are told
	maxRemarks = 50       // that are told
)

// Service brings files in.
type Service struct {
	*engine.Engine
	intake *intake.Service
}

// New is a service over open records.
func New(e *engine.Engine, in *intake.Service) *Service { return &Service{e, in} }

// Look tells what a file is: how many items it has, what stands where in the first of them, and what that may be.
func (s *Service) Look(d *api.FileDraft) (*api.FileColumns, error) {
	if err := bounded(d.File); err != nil {
		return nil, err
	}
	format, list := formOf(d.Name, d.File)
	out := &api.FileColumns{Format: string(format), ListAt: list, Places: []mapping.Place{}}
	dict := s.Snapshot().Book.Rulebook.Dict
	m, err := mapping.Load(string(value.JSON(map[string]any{"items": list, "identity": map[string]string{"id": "/id"}})), dict)
	if err != nil {
		return nil, err
	}
	var first [][]byte
	err = m.Items(bytes.NewReader(d.File), format, func(n int, item []byte) error {
		if out.Items = n; n <= maxLooked {
			first = append(first, bytes.Clone(item))
		}
		return nil
	})
	switch {
	case err != nil:
		return nil, fault.Input("/file", err.Error())
	case out.Items == 0:
		return nil, fault.Input("/file", "there is nothing in it")
	}
	out.Places = append(out.Places, mapping.Places(first, dict)...)
	out.Own = own(format, out.Places, dict)
	return out, nil
}

func bounded(file []byte) error {
	switch {
	case len(file) > MaxFile:
		return fault.Inputf("/file", "larger than %d bytes; bring it with ironledger device import, which takes any size", MaxFile)
	case len(bytes.TrimSpace(file)) == 0:
		return fault.Input("/file", "the file is empty")
	}
	return nil
}

// formOf is the format of a file, and where the list of its items stands if that is within one document.
func formOf(name string, file []byte) (evidence.Format, string) {
	text := textfile.Open(bytes.NewReader(file))
	head := make([]byte, 64<<10)
	n, _ := io.ReadFull(text, head) // a short file ends early
	format := evidence.Detect(name, head[:n])
	if format == evidence.CSV || format == evidence.NDJSON && !oneDocument(name, file) {
		return format, ""
	}
	return evidence.JSON, mapping.ListAt(textfile.Open(bytes.NewReader(file)))
}

// oneDocument reports whether what could be lines of JSON is one object with a list of items in it.
func oneDocument(name string, file []byte) bool {
	lower := strings.ToLower(name)
	if strings.HasSuffix(lower, ".ndjson") || strings.HasSuffix(lower, ".jsonl") {
		return false
	}
	var members map[string]json.RawMessage
	if json.Unmarshal(bytes.TrimSpace(file), &members) != nil || members["evidence"] != nil {
		return false
	}
	return mapping.ListAt(bytes.NewReader(file)) != ""
}

// own reports whether a file speaks in our own words, so that it needs no mapping.
func own(format evidence.Format, places []mapping.Place, dict *evidence.Dictionary) bool {
	keyed := false
	for _, p := range places {
		name := strings.TrimPrefix(p.At, "/")
		key := slices.Contains([]string{"id", "external_id", "serial", "hardware_id"}, strings.TrimPrefix(name, "identity/"))
		keyed = keyed || key
		top, _, _ := strings.Cut(name, "/")
		if format != evidence.CSV {
			if !slices.Contains([]string{"source", "external_id", "observed_at", "identity", "evidence", "vouch"}, top) {
				return false
			}
			continue
		}
		if !key && dict.Slot(name) < 0 && name != "source" && name != "observed_at" {
			return false
		}
	}
	return keyed
}

// Bring takes a file, or tells what would become of it; only is the one source that the caller may speak as, "" for
// the one that the draft names.
func (s *Service) Bring(ctx context.Context, actor, only string, d *api.FileImport) (*api.FileResult, error) {
	if err := bounded(d.File); err != nil {
		return nil, err
	}
	source := cmp.Or(only, strings.TrimSpace(d.Source))
	switch {
	case source == "":
		return nil, fault.Input("/source", "say whose file it is: the source that its reports are of")
	case d.DryRun && (d.Whole || d.Keep):
		return nil, fault.Input("/dry_run", "a trial keeps nothing and tells nothing of devices that are gone; leave whole and keep out")
	case d.AcceptImpact != "" && !d.Whole:
		return nil, fault.Input("/accept_impact", "only a whole inventory has devices that are gone")
	}
	format, _ := formOf(d.Name, d.File)
	in := io.Reader(bytes.NewReader(d.File))
	out := &api.FileResult{Remarks: []api.FileRemark{}}
	given, end := len(d.Mapping) > 0 && string(d.Mapping) != "null", func() {}
	if given {
		m, err := mapping.Load(string(d.Mapping), s.Snapshot().Book.Rulebook.Dict)
		if err == nil && m.OfPeople() {
			err = errors.New("it is one of people; bring them with ironledger person import, or a feed")
		}
		if err != nil {
			return nil, fault.Input("/mapping", err.Error())
		}
		if m.Nested() {
			format = evidence.JSON
		}
		in, end = mapped(m, in, format, out)
		format = evidence.NDJSON
	}
	got, err := s.take(ctx, actor, source, in, format, d)
	end()
	if err != nil {
		return nil, err
	}
	out.Taken = *got
	if d.Keep && given {
		return out, s.keep(ctx, actor, source, d.Mapping)
	}
	return out, nil
}

func (s *Service) take(ctx context.Context, actor, source string, in io.Reader, format evidence.Format,
	d *api.FileImport) (got *api.IngestResult, err error) {
	switch {
	case d.DryRun:
		got, err = s.intake.Try(ctx, actor, source, in, format)
	case d.Whole:
		got, err = s.intake.IngestWhole(ctx, actor, in, format,
			intake.Whole{Source: source, Accept: strings.TrimSpace(d.AcceptImpact)})
	default:
		got, err = s.intake.Ingest(ctx, actor, source, in, format)
	}
	switch broken := (*intake.BrokenError)(nil); {
	case err == nil:
		return got, nil
	case errors.As(err, &broken) && len(got.Results) == 0:
		return nil, fault.Input("/file", broken.Error())
	case len(got.Results) == 0:
		return nil, err
	}
	got.Results = append(got.Results, api.ReportResult{Error: err.Error()}) // part of it has taken effect
	got.Rejected++
	return got, nil
}

// mapped are the reports that a mapping makes of the items of a file, one a line, as they are read; an item of which none
// can be made leaves an empty line, and is told of in out, which may be read once end has returned.
func mapped(m *mapping.Mapping, in io.Reader, format evidence.Format, out *api.FileResult) (reports io.Reader,
	end func()) {
	r, w := io.Pipe()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		err := m.Items(in, format, func(n int, item []byte) error {
			raw, remarks, err := m.Report(item, "")
			if err != nil {
				out.Lost++
				remarks = append(remarks, mapping.Remark{Message: err.Error()})
			}
			for _, x := range remarks {
				if len(out.Remarks) < maxRemarks {
					out.Remarks = append(out.Remarks, api.FileRemark{Item: n, Attribute: x.Attribute, Message: x.Message})
				} else {
					out.More++
				}
			}
			_, err = w.Write(append(raw, '\n'))
			return err
		})
		w.CloseWithError(err)
	}()
	return r, func() {
		_ = r.Close() // whoever still writes is told so
		<-ended
	}
}

// keep remembers how the files of a source are read.
func (s *Service) keep(ctx context.Context, actor, source string, m json.RawMessage) error {
	return s.Do(ctx, func(c *state.Change) error {
		x := kept.Mapping{Source: source, Mapping: m, By: actor, At: c.Now}
		if old := state.Get(c, state.MappingKind, source); old != nil && bytes.Equal(old.Mapping, m) {
			return nil
		}
		return state.Put(c, state.MappingKind, source, &x)
	})
}

// Mappings lists the mappings that are kept, by their source.
func (s *Service) Mappings() []api.KeptMapping {
	out := []api.KeptMapping{}
	for _, m := range s.Snapshot().Mappings.List() {
		out = append(out, api.KeptMapping{Source: m.Source, Mapping: m.Mapping, By: m.By, At: value.FormatTime(m.At)})
	}
	slices.SortFunc(out, func(a, b api.KeptMapping) int { return strings.Compare(a.Source, b.Source) })
	return out
}

// Forget drops the mapping of a source.
func (s *Service) Forget(ctx context.Context, source string) error {
	return s.Do(ctx, func(c *state.Change) error {
		if state.Get(c, state.MappingKind, source) == nil {
			return fault.NotFound("mapping of the source", source)
		}
		state.Drop(c, state.MappingKind, source)
		return nil
	})
}
