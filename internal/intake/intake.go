// Package intake takes reports in: it joins them to devices, keeps aside what is
// nobody's, and tells what was refused.
package intake

import (
	"cmp"
	"context"
	"fmt"
	"io"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/state"
)

// Service takes reports into open records.
type Service struct {
	*engine.Engine
	// Refused is told of a source of which something was not taken, and what that was: "attribute" or "report". It is
	// set before anything is taken in; nil for nobody.
	Refused func(source, what string)
}

// New is a service over open records.
func New(e *engine.Engine) *Service { return &Service{Engine: e} }

// trouble reports whether something of the report was not taken as it came.
func trouble(t *api.ReportResult) bool {
	return t.Error != "" || len(t.Refused) > 0 || t.Unmatched != "" || t.Waiting != ""
}

// What an answer tells of reports, those that went in and the others.
const (
	maxResults  = 10_000
	maxTroubles = 1_000
)

// What one stream may bring: reports altogether, and reports refused as a whole.
const (
	maxReports  = 2_000_000
	maxRejected = 10_000
)

// BudgetError says that a request brings more than one may. What came before has
// been taken.
type BudgetError struct{ Message string }

func (e *BudgetError) Error() string { return e.Message }

// BrokenError says that a stream of reports broke off. What came before has been taken.
type BrokenError struct{ Err error }

func (e *BrokenError) Error() string { return "the stream of reports broke off: " + e.Err.Error() }
func (e *BrokenError) Unwrap() error { return e.Err }

// A stream is cut into chunks that are each applied as one change, and read on
// while at most a few of them are still being applied.
const (
	chunk = 64
	ahead = 48
)

// part is a chunk of a stream on its way through the writer.
type part struct {
	job     *engine.Job
	items   []evidence.Item
	results []api.ReportResult
}

// stream is a stream of reports being taken.
type stream struct {
	ctx     context.Context
	service *Service
	actor   string
	items   []evidence.Item
	parts   []part
	out     *api.IngestResult
	refused refusals
	told    int // reports of trouble in the answer
	each    func(evidence.Item, *api.ReportResult)
}

// await waits until no more than left parts are under way.
func (st *stream) await(left int) error {
	for len(st.parts) > left {
		p := st.parts[0]
		st.parts = st.parts[1:]
		// Also when the caller has left: the writer works on the part until it is done, and
		// what was refused of it is to be on record.
		err := p.job.Wait(context.WithoutCancel(st.ctx))
		st.add(p.items, p.results, err)
		if err != nil {
			return err
		}
	}
	return nil
}

// flush hands the reports read so far to the writer.
func (st *stream) flush() error {
	if len(st.items) == 0 {
		return nil
	}
	items, results := st.items, make([]api.ReportResult, len(st.items))
	st.items = make([]evidence.Item, 0, chunk)
	st.parts = append(st.parts, part{st.service.Submit(func(c *state.Change) error {
		c.Expect(len(items))
		for i, it := range items {
			results[i] = take(c, st.actor, it)
		}
		return nil
	}), items, results})
	return st.await(ahead)
}

// add tells what became of reports.
func (st *stream) add(items []evidence.Item, results []api.ReportResult, err error) {
	in := st.out
	for i, t := range results {
		if err != nil {
			t = api.ReportResult{Line: t.Line, Error: err.Error()}
		}
		if st.each != nil {
			st.each(items[i], &t)
		}
		if t.Error != "" {
			st.say("", t.Error, t.Line)
		} else {
			in.Readings += len(items[i].Report.Readings)
		}
		for _, r := range t.Refused {
			st.say(r.Attribute, r.Message, t.Line)
		}
		switch {
		case t.Error != "":
			in.Rejected++
		case t.Waiting != "":
			in.Accepted++
			in.Waiting++
			in.Refused += len(t.Refused)
		default:
			in.Accepted++
			in.Refused += len(t.Refused)
		}
		st.refused.add(&t)
		st.tell(items[i].Report, &t)
		switch tell := len(in.Results)-st.told < maxResults; {
		case trouble(&t) && st.told < maxTroubles:
			st.told++
			in.Results = append(in.Results, t)
		case !trouble(&t) && tell:
			in.Results = append(in.Results, t)
		default:
			in.More++
		}
	}
}

// tell tells whoever counts them of what was not taken.
func (st *stream) tell(rep *evidence.Report, t *api.ReportResult) {
	tell := st.service.Refused
	if tell == nil || st.out.Dry {
		return
	}
	source := ""
	if rep != nil {
		source = rep.Source
	}
	if t.Error != "" {
		tell(source, "report")
	}
	for range t.Refused {
		tell(source, "attribute")
	}
}

// refusals collects what one request brought that was not taken.
type refusals struct {
	event.EvidenceRefused
	others bool // of more than one device
}

// maxExamples bounds how many refusals of a request its entry tells.
const maxExamples = 50

func (r *refusals) add(t *api.ReportResult) {
	example := func(x event.Refusal) {
		if len(r.Examples) < maxExamples {
			x.Message = event.Clipped(x.Message, event.MaxReason)
			r.Examples = append(r.Examples, x)
		}
	}
	switch {
	case t.Unmatched != "":
		r.Unmatched++
		example(event.Refusal{Line: t.Line, Message: t.Error, Unmatched: t.Unmatched})
	case t.Error != "":
		r.Reports++
		example(event.Refusal{Line: t.Line, Device: t.Device, Message: t.Error})
	default:
		r.Attributes += len(t.Refused)
		for _, x := range t.Refused {
			example(event.Refusal{Attribute: x.Attribute, Device: t.Device, Line: t.Line, Message: x.Message})
		}
	}
	if trouble(t) {
		r.others = r.others || r.Device != "" && r.Device != t.Device
		r.Device = t.Device
	}
}

// record writes the entry, if anything was refused.
func (r *refusals) record(c *state.Change, actor string) {
	if r.Reports+r.Attributes+r.Unmatched == 0 {
		return
	}
	if r.others {
		r.Device = ""
	}
	c.Record(actor, &r.EvidenceRefused)
}

// Ingest reads a stream of reports and applies it. A bad report is told of in
// the answer and the rest goes in. When only is not "", every report must come
// from that source. The error is for a stream that broke off ([*BrokenError]) or
// is larger than one may be ([*BudgetError]), or for records that could not be written; what the
// answer lists has been taken all the same.
func (s *Service) Ingest(ctx context.Context, actor, only string, in io.Reader,
	format evidence.Format) (*api.IngestResult, error) {
	return s.Follow(ctx, actor, only, in, format, nil)
}

// Follow is [Service.Ingest] for who wants to see what became of each report, in their order.
func (s *Service) Follow(ctx context.Context, actor, only string, in io.Reader, format evidence.Format,
	each func(evidence.Item, *api.ReportResult)) (*api.IngestResult, error) {
	st := &stream{ctx: ctx, service: s, actor: actor, out: &api.IngestResult{Results: []api.ReportResult{}}, each: each}
	dict := s.Snapshot().Book.Rulebook.Dict
	var broken error
	reports := 0
	for it := range dict.Read(in, format, only, s.Micros()) {
		if it.Line == 0 {
			broken = &BrokenError{it.Err}
			break
		}
		if st.items = append(st.items, it); len(st.items) == chunk {
			if broken = st.flush(); broken != nil {
				break
			}
		}
		if reports++; reports == maxReports || st.out.Rejected >= maxRejected {
			broken = &BudgetError{fmt.Sprintf("the stream goes on after %d reports of which %d were refused; "+
				"one request may bring %d, and %d that are refused",
				reports, st.out.Rejected, maxReports, maxRejected)}
			break
		}
	}
	err := cmp.Or(st.flush(), st.await(0), broken)
	if out := &st.refused; out.Reports+out.Attributes+out.Unmatched > 0 {
		// Also when the caller has left: what was refused is on record.
		err = cmp.Or(err, s.Do(context.WithoutCancel(ctx),
			func(c *state.Change) error { out.record(c, actor); return nil }))
	}
	return st.out, err
}
