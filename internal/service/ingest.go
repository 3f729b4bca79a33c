package service

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"

	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
)

// Taken is what became of one report.
type Taken struct {
	Line     int                `json:"line"`
	Device   string             `json:"device,omitempty"`
	Level    string             `json:"level,omitempty"`
	Previous string             `json:"previous_level,omitempty"`
	New      bool               `json:"new,omitempty"` // the device was not known before
	Refused  []evidence.Refusal `json:"refused,omitempty"`
	Error    string             `json:"error,omitempty"` // why the whole report was refused
}

// Intake is what became of a stream of reports.
type Intake struct {
	Accepted int     `json:"accepted"`
	Rejected int     `json:"rejected"` // reports refused as a whole
	Refused  int     `json:"refused"`  // attributes refused in accepted reports
	Results  []Taken `json:"results"`
}

// chunk is how many reports of a stream share a change.
const chunk = 1000

// Take reads a stream of reports and applies it. A bad report is told of in
// the answer and the rest goes in. When only is not "", every report must come
// from that source. The error is for a stream that broke off or records that
// could not be written; what the answer lists has been taken all the same.
func (s *Service) Take(ctx context.Context, actor, only string, in io.Reader, format evidence.Format) (*Intake, error) {
	out := &Intake{Results: []Taken{}}
	var pending *job
	var items []evidence.Item
	var results []Taken
	finish := func() error {
		if pending == nil {
			return nil
		}
		err := pending.wait(ctx)
		pending = nil
		for _, t := range results {
			switch {
			case err != nil:
				t = Taken{Line: t.Line, Error: err.Error()}
				out.Rejected++
			case t.Error != "":
				out.Rejected++
			default:
				out.Accepted++
				out.Refused += len(t.Refused)
			}
			out.Results = append(out.Results, t)
		}
		return err
	}
	flush := func() error {
		if err := finish(); err != nil || len(items) == 0 {
			return err
		}
		batch, taken := items, make([]Taken, len(items))
		items, results = nil, taken
		pending = s.submit(func(c *change) error {
			for i, it := range batch {
				taken[i] = c.take(actor, it)
			}
			return nil
		})
		return nil
	}
	dict := s.Snapshot().Book.Rulebook.Dict
	for it := range dict.Read(in, format, s.micros()) {
		if it.Line == 0 { // the stream is broken
			return out, cmp.Or(flush(), finish(), fmt.Errorf("the stream of reports broke off: %w", it.Err))
		}
		if it.Report != nil && only != "" {
			restrict(&it, only)
		}
		if items = append(items, it); len(items) == chunk {
			if err := flush(); err != nil {
				return out, err
			}
		}
	}
	if err := flush(); err != nil {
		return out, err
	}
	return out, finish()
}

// restrict makes a report be from the source its token belongs to.
func restrict(it *evidence.Item, only string) {
	r := it.Report
	if r.Source != only && r.Source != evidence.DefaultSource {
		it.Err = fmt.Errorf("the token may only report as %s, not as %s", only, r.Source)
		it.Report = nil
		return
	}
	r.Source = only
	for i := range r.Readings {
		r.Readings[i].Source = only
	}
}

// take applies one report to the change.
func (c *change) take(actor string, it evidence.Item) Taken {
	t := Taken{Line: it.Line}
	if it.Err != nil {
		t.Error = it.Err.Error()
		c.record(ledger.EvidenceRefused, actor, "", map[string]any{"line": it.Line, "error": t.Error})
		return t
	}
	rep, book := it.Report, c.base.Book
	id, known, err := evidence.Join(rep, c.find)
	if err != nil {
		t.Error = err.Error()
		c.record(ledger.EvidenceRefused, actor, "", map[string]any{"line": it.Line, "error": t.Error})
		return t
	}
	rep.Readings = slices.DeleteFunc(rep.Readings, func(r evidence.Reading) bool {
		err := book.Resolver.Accepts(rep.Source, r.Name)
		if err != nil {
			rep.Refused = append(rep.Refused, evidence.Refusal{Attribute: r.Name, Message: err.Error()})
		}
		return err != nil
	})
	if len(rep.Readings) == 0 && len(rep.Refused) > 0 && !known {
		t.Error, t.Refused = "nothing in the report could be taken", rep.Refused
		c.record(ledger.EvidenceRefused, actor, "", map[string]any{"line": it.Line, "error": t.Error, "refused": rep.Refused})
		return t
	}
	old := c.device(id)
	d, before := &Device{ID: id, FirstSeen: c.now}, ""
	if old != nil {
		d, before = old.again(), book.Rulebook.LevelName(old.Result.Level)
		d.View = nil
	}
	d.Record = d.Record.With(rep)
	d.SeenAt = max(d.SeenAt, rep.At)
	c.addKeys(d, rep)
	c.appraise(book, c.base.People, d, old, before, actor)
	c.keep(book, d)
	if len(rep.Refused) > 0 {
		c.record(ledger.EvidenceRefused, actor, id, map[string]any{"line": it.Line, "refused": rep.Refused})
	}
	t.Device, t.Previous, t.New, t.Refused = id, before, old == nil, rep.Refused
	t.Level = book.Rulebook.LevelName(d.Result.Level)
	return t
}

func (c *change) addKeys(d *Device, rep *evidence.Report) {
	if c.keys == nil {
		c.keys = map[evidence.Key]string{}
	}
	keys := rep.Keys()
	for _, r := range rep.Readings {
		if r.Name == "certs" {
			keys = append(keys, evidence.CertificateKeys(r.Value)...)
		}
	}
	for _, k := range keys {
		if k.Kind == evidence.ByID {
			continue
		}
		c.keys[k] = d.ID
		if !slices.Contains(d.Keys, k) {
			d.Keys = append(slices.Clone(d.Keys), k)
		}
	}
}
