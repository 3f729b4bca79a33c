package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
)

// ReportResult is what became of one report.
type ReportResult struct {
	Line     int                `json:"line"`
	Device   string             `json:"device,omitempty"`
	Level    string             `json:"level,omitempty"`
	Previous string             `json:"previous_level,omitempty"`
	New      bool               `json:"new,omitempty"` // the device was not known before
	Refused  []evidence.Refusal `json:"refused,omitempty"`
	Error    string             `json:"error,omitempty"` // why the whole report was refused
	// Unmatched is the id under which the report waits for a person to say whose it is.
	Unmatched string `json:"unmatched,omitempty"`
	// Waiting is the id under which the report waits until another source makes its
	// device known.
	Waiting string `json:"waiting,omitempty"`
	// Moved are keys that were those of another device, or of another machine.
	Moved []event.MovedKey `json:"moved,omitempty"`
}

// trouble reports whether something of the report was not taken as it came.
func (t *ReportResult) trouble() bool {
	return t.Error != "" || len(t.Refused) > 0 || t.Unmatched != "" || t.Waiting != ""
}

// IngestResult is what became of a stream of reports.
type IngestResult struct {
	Accepted int            `json:"accepted"`
	Rejected int            `json:"rejected"` // reports refused as a whole
	Refused  int            `json:"refused"`  // attributes refused in accepted reports
	Waiting  int            `json:"waiting"`  // accepted, and wait until their device is known
	Results  []ReportResult `json:"results"`
	More     int            `json:"more,omitempty"` // reports of which Results does not tell

	troubles int // how many Results tell of
	refusals refusals
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

// A stream is cut into chunks that are each applied as one change, and read on
// while at most a few of them are still being applied.
const (
	chunk = 64
	ahead = 48
)

// part is a chunk of a stream on its way through the writer.
type part struct {
	job     *job
	results []ReportResult
}

// stream is a stream of reports being taken.
type stream struct {
	ctx     context.Context
	service *Service
	actor   string
	items   []evidence.Item
	parts   []part
	out     *IngestResult
}

// await waits until no more than left parts are under way.
func (st *stream) await(left int) error {
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

// flush hands the reports read so far to the writer.
func (st *stream) flush() error {
	if len(st.items) == 0 {
		return nil
	}
	items, results := st.items, make([]ReportResult, len(st.items))
	st.items = make([]evidence.Item, 0, chunk)
	st.parts = append(st.parts, part{st.service.submit(&job{apply: func(c *change) error {
		c.expect(len(items))
		for i, it := range items {
			results[i] = c.take(st.actor, it)
		}
		return nil
	}}), results})
	return st.await(ahead)
}

func (in *IngestResult) add(results []ReportResult, err error) {
	for _, t := range results {
		if err != nil {
			t = ReportResult{Line: t.Line, Error: err.Error()}
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
		in.refusals.add(&t)
		switch tell := len(in.Results)-in.troubles < maxResults; {
		case t.trouble() && in.troubles < maxTroubles:
			in.troubles++
			in.Results = append(in.Results, t)
		case !t.trouble() && tell:
			in.Results = append(in.Results, t)
		default:
			in.More++
		}
	}
}

// refusals collects what one request brought that was not taken.
type refusals struct {
	event.EvidenceRefused
	others bool // of more than one device
}

// maxExamples bounds how many refusals of a request its entry tells.
const maxExamples = 50

func (r *refusals) add(t *ReportResult) {
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
	if t.trouble() {
		r.others = r.others || r.Device != "" && r.Device != t.Device
		r.Device = t.Device
	}
}

// record writes the entry, if anything was refused.
func (r *refusals) record(c *change, actor string) {
	if r.Reports+r.Attributes+r.Unmatched == 0 {
		return
	}
	if r.others {
		r.Device = ""
	}
	c.record(actor, &r.EvidenceRefused)
}

// Ingest reads a stream of reports and applies it. A bad report is told of in
// the answer and the rest goes in. When only is not "", every report must come
// from that source. The error is for a stream that broke off or is larger than
// one may be ([*BudgetError]), or for records that could not be written; what the
// answer lists has been taken all the same.
func (s *Service) Ingest(ctx context.Context, actor, only string, in io.Reader,
	format evidence.Format) (*IngestResult, error) {
	st := &stream{ctx: ctx, service: s, actor: actor, out: &IngestResult{Results: []ReportResult{}}}
	dict := s.Snapshot().Book.Rulebook.Dict
	var broken error
	reports := 0
	for it := range dict.Read(in, format, only, s.micros()) {
		if it.Line == 0 {
			broken = fmt.Errorf("the stream of reports broke off: %w", it.Err)
			break
		}
		if st.items = append(st.items, it); len(st.items) == chunk {
			if broken = st.flush(); broken != nil {
				break
			}
		}
		if reports++; reports == maxReports || st.out.Rejected >= maxRejected {
			broken = &BudgetError{fmt.Sprintf("the stream goes on after %d reports of which %d were refused; one request may bring %d, and %d that are refused",
				reports, st.out.Rejected, maxReports, maxRejected)}
			break
		}
	}
	err := cmp.Or(st.flush(), st.await(0), broken)
	if out := &st.out.refusals; out.Reports+out.Attributes+out.Unmatched > 0 {
		// Also when the caller has left: what was refused is on record.
		err = cmp.Or(err, s.do(context.WithoutCancel(ctx),
			func(c *change) error { out.record(c, actor); return nil }))
	}
	return st.out, err
}

// take applies one report to the change.
func (c *change) take(actor string, it evidence.Item) ReportResult {
	t := ReportResult{Line: it.Line}
	if it.Err != nil {
		t.Error = it.Err.Error()
		return t
	}
	rep, by := it.Report, c.base.Book.Resolver
	j, err := by.Join(rep, c)
	var conflict *evidence.ConflictError
	if errors.As(err, &conflict) {
		rep.Refused = append(rep.Refused, by.RefuseUnprovided(rep)...)
		t.Error = err.Error()
		if t.Unmatched, err = c.keepUnmatched(rep, conflict); err != nil {
			t.Error, t.Unmatched = err.Error(), ""
		}
		return t
	}
	if err != nil {
		t.Error = err.Error()
		return t
	}
	rep.Refused = append(rep.Refused, by.RefuseUnprovided(rep)...)
	if len(rep.Readings) == 0 && len(rep.Refused) > 0 && !j.Known {
		t.Error, t.Refused = "nothing in the report could be taken", rep.Refused
		return t
	}
	if j.Wait {
		t.Refused = rep.Refused
		if t.Waiting, err = c.keepWaiting(rep); err != nil {
			t.Error = err.Error()
		}
		return t
	}
	return c.apply(actor, it.Line, rep, j)
}

// apply takes a report of a device in.
func (c *change) apply(actor string, line int, rep *evidence.Report, j evidence.Joined) ReportResult {
	book, old := c.base.Book, c.device(j.Device)
	d, was := &Device{ID: j.Device, FirstSeen: c.now}, stood(book, old)
	if old != nil {
		d = old.copied()
		d.View = nil
	}
	d.Record = d.Record.With(rep)
	d.SeenAt = max(d.SeenAt, rep.At)
	d.Spoken = evidence.With(d.Spoken, evidence.SpokenBy(rep))
	d.refuse(rep)
	keyed := event.DeviceKeyed{Source: rep.Source}
	c.rekey(d, j, &keyed)
	c.appraise(c.base, d, was, cause{kind: event.ByEvidence, actor: actor,
		evidence: func() []event.EvidenceChange { return evidenceChanges(old.Record, rep) }})
	c.keep(book, d, was)
	c.recordKeys(actor, d.ID, &keyed)
	t := ReportResult{Line: line, Device: d.ID, Previous: was.level, New: old == nil, Refused: rep.Refused,
		Level: book.Rulebook.LevelName(d.Result.Level)}
	for _, k := range j.Lost {
		t.Moved = append(t.Moved, event.MovedKey{Kind: k.Kind, Text: k.Text, From: d.ID})
	}
	if len(j.Gained) > 0 {
		c.awaited(actor, j.Gained)
	}
	return t
}

// recordKeys adds the keys that a device gained or lost to the ledger, if any.
func (c *change) recordKeys(actor, device string, k *event.DeviceKeyed) {
	if len(k.Gained)+len(k.Lost) > 0 {
		k.Device = device
		c.record(actor, k)
	}
}

// rekey gives a device the keys that it gained, and takes those that it lost.
func (c *change) rekey(d *Device, j evidence.Joined, keyed *event.DeviceKeyed) {
	for _, k := range j.Lost {
		c.lose(d, k, keyed)
	}
	for _, k := range j.Gained {
		if k.Kind != evidence.ByID { // a device's own id needs no key
			c.gain(d, k, keyed)
		}
	}
	c.certify(d, keyed)
	d.Held = c.admission(d.Keys)
}

// certify makes the certificates that sources show of a device now its keys, and
// no others. While none shows any, those it was enrolled with stay.
func (c *change) certify(d *Device, keyed *event.DeviceKeyed) {
	shown := c.base.Book.Resolver.CertificateKeys(d.Record)
	if len(shown) == 0 {
		return
	}
	for _, k := range slices.Clone(d.Keys) {
		enrolled := k.Kind == evidence.Approved &&
			!slices.Contains(shown, evidence.Key{Kind: evidence.ByCertificate, Text: k.Text})
		if enrolled || k.Kind == evidence.ByCertificate && !slices.Contains(shown, k) {
			c.lose(d, k, keyed)
		}
	}
	for _, k := range shown {
		if !slices.Contains(d.Keys, k) {
			c.gain(d, k, keyed)
		}
	}
}

// gain makes a key point at a device. A certificate that another shows too points
// at neither.
func (c *change) gain(d *Device, k evidence.Key, keyed *event.DeviceKeyed) {
	if c.keys == nil {
		c.keys = map[evidence.Key]string{}
	}
	owner, known := c.Find(k)
	switch {
	case k.Kind == evidence.Approved:
	case k.Kind == evidence.ByCertificate && (known && owner != d.ID || c.base.Fleet.ambiguous(k)):
		c.keys[k] = ""
	default:
		c.keys[k] = d.ID
	}
	if !slices.Contains(d.Keys, k) {
		d.Keys = append(slices.Clip(d.Keys), k) // the device it was copied from keeps its own
		keyed.Gained = append(keyed.Gained, k)
	}
}

// lose makes a key no longer point at a device.
func (c *change) lose(d *Device, k evidence.Key, keyed *event.DeviceKeyed) {
	i := slices.Index(d.Keys, k)
	if i < 0 {
		return
	}
	d.Keys = slices.Delete(slices.Clone(d.Keys), i, i+1)
	keyed.Lost = append(keyed.Lost, k)
	if owner, known := c.Find(k); known && owner == d.ID {
		if c.keys == nil {
			c.keys = map[evidence.Key]string{}
		}
		c.keys[k] = ""
	}
}
