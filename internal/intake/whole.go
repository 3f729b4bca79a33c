package intake

import (
	"context"
	"fmt"
	"io"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/state"
)

// Whole says that a stream is all that a source knows.
type Whole struct {
	Source string
	Accept string // why devices are gone although they are many; "" to hold that back
}

// mostGone is how many of a hundred devices may be gone from one whole stream to the next, unless somebody says so: one
// that shrinks by more is more likely cut short than true.
const mostGone = 20

// maxGone bounds how many devices are named that are gone.
const maxGone = 50

// IngestWhole is [Service.Ingest] of all that a source knows: what it said of devices that are not among the reports
// becomes unavailable, with that reason. Nothing is taken back when the stream broke off, when a report does not say
// which device it is about, or when too many would be gone.
func (s *Service) IngestWhole(ctx context.Context, actor string, in io.Reader, format evidence.Format, w Whole) (
	*api.IngestResult, error) {
	began, listed, unclear := s.Micros(), map[string]bool{}, 0
	out, err := s.Follow(ctx, actor, w.Source, in, format, func(it evidence.Item, t *api.ReportResult) {
		ids, clear := Meant(s.Snapshot(), it.Report, t)
		for _, id := range ids {
			listed[id] = true
		}
		if !clear {
			unclear++
		}
	})
	if err != nil {
		return out, err
	}
	why := "the whole inventory of " + w.Source + " lists it no longer"
	var gone []string
	for _, id := range Said(s.Snapshot(), w.Source, began, why) {
		if !listed[id] {
			gone = append(gone, id)
		}
	}
	out.Gone = api.GoneDevices{Devices: len(gone), Some: append([]string{}, gone[:min(len(gone), maxGone)]...)}
	if len(gone) == 0 {
		return out, nil
	}
	told := &event.EvidenceGone{Source: w.Source, Devices: len(gone), Some: out.Gone.Some, Reason: w.Accept}
	switch all := len(gone) + len(listed); {
	case unclear > 0:
		out.Gone.Held = fmt.Sprintf("%d reports could not be read: one of them may be about a device that is not listed",
			unclear)
	case w.Accept == "" && len(gone)*100 > mostGone*all:
		out.Gone.Held = fmt.Sprintf("%d of %d devices are no longer listed, and more than %d%% do not leave at a time",
			len(gone), all, mostGone)
	}
	if told.Held = out.Gone.Held; told.Held == "" {
		if err := TakeBack(ctx, s.Engine, actor, w.Source, why, began, gone); err != nil {
			return out, err
		}
	}
	return out, s.Do(ctx, func(c *state.Change) error { c.Record(actor, told); return nil })
}

// Meant are the known devices that a report was about, or may have been. It is not clear when it names none that
// anybody could look for.
func Meant(snap *state.Snapshot, rep *evidence.Report, t *api.ReportResult) (ids []string, clear bool) {
	switch {
	case t.Device != "":
		return []string{t.Device}, true
	case rep == nil:
		return nil, false
	}
	keys := rep.Keys()
	for _, k := range keys {
		if id, known := snap.Find(k); known {
			ids = append(ids, id)
		}
	}
	return ids, len(keys) > 0
}

// Said are the devices of which a source said something up to a moment that is not taken back for a reason.
func Said(snap *state.Snapshot, source string, before int64, why string) (out []string) {
	snap.Fleet.All(func(d *state.Device) bool {
		for r := range d.Record.All() {
			if r.Source == source && r.At <= before && (r.Value.Known() || r.Unavailable != why) {
				out = append(out, d.ID)
				return true
			}
		}
		for _, v := range d.Vouches {
			if v.Source == source && v.Live(before) {
				out = append(out, d.ID)
				return true
			}
		}
		return true
	})
	return out
}

// TakeBack makes what a source said of devices up to a moment unavailable, so many at once.
func TakeBack(ctx context.Context, e *engine.Engine, actor, source, why string, before int64,
	devices []string) error {
	for len(devices) > 0 {
		n := min(chunk, len(devices))
		part := devices[:n]
		if err := e.Do(ctx, func(c *state.Change) error { return Gone(c, actor, source, why, before, part) }); err != nil {
			return err
		}
		devices = devices[n:]
	}
	return nil
}

// Try tells what a stream of reports would become, and takes nothing.
func (s *Service) Try(ctx context.Context, actor, only string, in io.Reader, format evidence.Format) (
	*api.IngestResult, error) {
	st := &stream{ctx: ctx, service: s, actor: actor, out: &api.IngestResult{Results: []api.ReportResult{}, Dry: true}}
	snap, now := s.Snapshot(), s.Micros()
	c := state.NewChange(snap, now)
	reports := 0
	for it := range snap.Book.Rulebook.Dict.Read(in, format, only, now) {
		if it.Line == 0 {
			return st.out, &BrokenError{it.Err}
		}
		if err := ctx.Err(); err != nil {
			return st.out, err
		}
		st.add([]evidence.Item{it}, []api.ReportResult{take(c, actor, it)}, nil)
		if reports++; reports == maxTried || st.out.Rejected >= maxRejected {
			return st.out, &BudgetError{fmt.Sprintf("the stream goes on after %d reports of which %d would be refused; "+
				"a trial takes %d, and %d that are refused", reports, st.out.Rejected, maxTried, maxRejected)}
		}
	}
	return st.out, nil
}

// maxTried bounds the reports of a trial, which is held in memory.
const maxTried = 100_000

// maxReasons bounds how many reasons an answer tells apart.
const maxReasons = 40

// say counts a reason why something was not taken.
func (st *stream) say(what, message string, line int) {
	message = event.Clipped(message, event.MaxReason)
	if _, wanted, is := strings.Cut(message, " stands where "); is {
		message = "… stands where " + wanted
	}
	if i := strings.IndexByte(message, '"'); i >= 0 { // what was said differs from line to line; what is wrong does not
		if j := strings.LastIndexByte(message, '"'); j > i+1 {
			message = message[:i+1] + "…" + message[j:]
		}
	}
	for i := range st.out.Reasons {
		if r := &st.out.Reasons[i]; r.What == what && r.Message == message {
			r.Count++
			return
		}
	}
	if len(st.out.Reasons) == maxReasons-1 {
		what, message = "", "for other reasons"
	} else if len(st.out.Reasons) == maxReasons {
		st.out.Reasons[maxReasons-1].Count++
		return
	}
	st.out.Reasons = append(st.out.Reasons, api.EvidenceReason{What: what, Message: message, Count: 1, Line: line})
}
