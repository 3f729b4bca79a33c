package service

import (
	"cmp"
	"context"
	"errors"
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
	// Unmatched is the id under which the report waits for a person to say whose it is.
	Unmatched string `json:"unmatched,omitempty"`
}

// Intake is what became of a stream of reports.
type Intake struct {
	Accepted int     `json:"accepted"`
	Rejected int     `json:"rejected"` // reports refused as a whole
	Refused  int     `json:"refused"`  // attributes refused in accepted reports
	Results  []Taken `json:"results"`
}

// A stream is cut into chunks that are each applied as one change, and read on
// while at most a few of them are still being applied.
const (
	chunk = 64
	ahead = 48
)

// part is a chunk of a stream on its way through the clerk.
type part struct {
	job     *job
	results []Taken
}

// stream is a stream of reports being taken.
type stream struct {
	ctx     context.Context
	service *Service
	actor   string
	items   []evidence.Item
	parts   []part
	out     *Intake
}

// settle waits until no more than left parts are under way.
func (st *stream) settle(left int) error {
	for len(st.parts) > left {
		p := st.parts[0]
		st.parts = st.parts[1:]
		err := p.job.wait(st.ctx)
		st.out.add(p.results, err)
		if err != nil {
			return err
		}
	}
	return nil
}

// flush hands the reports read so far to the clerk.
func (st *stream) flush() error {
	if len(st.items) == 0 {
		return nil
	}
	items, results := st.items, make([]Taken, len(st.items))
	st.items = make([]evidence.Item, 0, chunk)
	st.parts = append(st.parts, part{st.service.submit(&job{apply: func(c *change) error {
		c.expect(len(items))
		for i, it := range items {
			results[i] = c.take(st.actor, it)
		}
		return nil
	}}), results})
	return st.settle(ahead)
}

func (in *Intake) add(results []Taken, err error) {
	for _, t := range results {
		switch {
		case err != nil:
			t = Taken{Line: t.Line, Error: err.Error()}
			in.Rejected++
		case t.Error != "":
			in.Rejected++
		default:
			in.Accepted++
			in.Refused += len(t.Refused)
		}
		in.Results = append(in.Results, t)
	}
}

// Take reads a stream of reports and applies it. A bad report is told of in
// the answer and the rest goes in. When only is not "", every report must come
// from that source. The error is for a stream that broke off or records that
// could not be written; what the answer lists has been taken all the same.
func (s *Service) Take(ctx context.Context, actor, only string, in io.Reader, format evidence.Format) (*Intake, error) {
	st := &stream{ctx: ctx, service: s, actor: actor, out: &Intake{Results: []Taken{}}}
	dict := s.Snapshot().Book.Rulebook.Dict
	var broken error
	for it := range dict.Read(in, format, s.micros()) {
		if it.Line == 0 {
			broken = fmt.Errorf("the stream of reports broke off: %w", it.Err)
			break
		}
		if it.Report != nil && only != "" {
			restrict(&it, only)
		}
		if st.items = append(st.items, it); len(st.items) == chunk {
			if err := st.flush(); err != nil {
				return st.out, err
			}
		}
	}
	return st.out, cmp.Or(st.flush(), st.settle(0), broken)
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
		c.record(ledger.EvidenceRefused, actor, "", map[string]any{"line": it.Line, "error": clipped(t.Error, maxReason)})
		return t
	}
	rep, book := it.Report, c.base.Book
	id, known, err := evidence.Join(rep, c.find)
	if err != nil {
		t.Error = err.Error()
		var conflict *evidence.ConflictError
		if errors.As(err, &conflict) {
			rep.Refused = append(rep.Refused, book.Resolver.Sift(rep)...)
			if t.Unmatched, err = c.keepAside(actor, it.Line, rep, conflict); err == nil {
				return t
			}
		}
		c.record(ledger.EvidenceRefused, actor, "", map[string]any{"line": it.Line, "error": clipped(t.Error, maxReason)})
		return t
	}
	if old := c.device(id); old != nil && old.Retired != nil {
		t.Error = fmt.Sprintf("the device %s is retired (%s); it must be enrolled again", id, old.Retired.Reason)
		c.record(ledger.EvidenceRefused, actor, id, map[string]any{"line": it.Line, "error": clipped(t.Error, maxReason)})
		return t
	}
	rep.Refused = append(rep.Refused, book.Resolver.Sift(rep)...)
	if len(rep.Readings) == 0 && len(rep.Refused) > 0 && !known {
		t.Error, t.Refused = "nothing in the report could be taken", rep.Refused
		c.record(ledger.EvidenceRefused, actor, "", refusals(it.Line, rep.Refused))
		return t
	}
	old := c.device(id)
	d, was := &Device{ID: id, FirstSeen: c.now}, stood(book, old)
	if old != nil {
		d = old.again()
		d.View = nil
	}
	d.Record = d.Record.With(rep)
	d.SeenAt = max(d.SeenAt, rep.At)
	d.refuse(rep)
	c.addKeys(d, rep)
	c.appraise(c.base, d, was, cause{kind: byEvidence, actor: actor, evidence: func() []EvidenceChange { return evidenceChanges(old.Record, rep) }})
	c.keep(book, d, was)
	if len(rep.Refused) > 0 {
		c.record(ledger.EvidenceRefused, actor, id, refusals(it.Line, rep.Refused))
	}
	t.Device, t.Previous, t.New, t.Refused = id, was.level, old == nil, rep.Refused
	t.Level = book.Rulebook.LevelName(d.Result.Level)
	return t
}

func (c *change) addKeys(d *Device, rep *evidence.Report) {
	if c.keys == nil {
		c.keys = map[evidence.Key]string{}
	}
	keys := rep.Keys()
	d.Keys = slices.Clip(d.Keys) // the device it was copied from keeps its own
	if certs := rep.Value("certs"); certs.Known() {
		keys = append(keys, evidence.CertificateKeys(certs)...)
	}
	for _, k := range keys {
		if k.Kind == evidence.ByID {
			continue
		}
		if k.Kind == evidence.ByCertificate {
			if owner, known := c.find(k); known && owner != d.ID {
				c.keys[k] = ""
			}
		}
		if _, set := c.keys[k]; !set || k.Kind != evidence.ByCertificate {
			c.keys[k] = d.ID
		}
		if !slices.Contains(d.Keys, k) {
			d.Keys = append(d.Keys, k)
		}
	}
}
