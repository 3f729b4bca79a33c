package intake

import (
	"errors"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/internal/state"
)

// take applies one report to the change.
func take(c *state.Change, actor string, it evidence.Item) api.ReportResult {
	t := api.ReportResult{Line: it.Line}
	if it.Err != nil {
		t.Error = it.Err.Error()
		return t
	}
	rep, by := it.Report, c.Base.Book.Resolver
	j, err := by.Join(rep, c)
	var conflict *evidence.ConflictError
	if errors.As(err, &conflict) {
		rep.Refused = append(rep.Refused, by.RefuseUnprovided(rep)...)
		t.Error = err.Error()
		if t.Unmatched, err = keepUnmatched(c, rep, conflict); err != nil {
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
		if t.Waiting, err = keepWaiting(c, rep); err != nil {
			t.Error = err.Error()
		}
		return t
	}
	return apply(c, actor, it.Line, rep, j)
}

// apply takes a report of a device in.
func apply(c *state.Change, actor string, line int, rep *evidence.Report, j evidence.Joined) api.ReportResult {
	old, d := c.Device(j.Device), c.Reported(j.Device)
	d.Record = d.Record.With(rep)
	d.SeenAt = max(d.SeenAt, rep.At)
	d.Spoken = evidence.With(d.Spoken, evidence.SpokenBy(rep))
	rep.Refused = append(rep.Refused, vouch(c, d, rep)...)
	d.Refuse(rep)
	keyed := event.DeviceKeyed{Source: rep.Source}
	rekey(c, d, j, &keyed)
	was := c.Reappraise(d, state.Cause{Kind: event.ByEvidence, Actor: actor,
		Evidence: func() []event.EvidenceChange { return event.EvidenceChanges(old.Record, rep) }})
	c.RecordKeys(actor, d.ID, &keyed)
	t := api.ReportResult{Line: line, Device: d.ID, PreviousLevel: was.Level, New: old == nil, Refused: rep.Refused,
		Level: c.Base.Book.Rulebook.LevelName(d.Result.Level)}
	for _, k := range j.Lost {
		t.Moved = append(t.Moved, event.MovedKey{Kind: k.Kind, Text: k.Text, From: d.ID})
	}
	if len(j.Gained) > 0 {
		Awaited(c, actor, j.Gained)
	}
	return t
}

// rekey gives a device the keys that it gained, and takes those that it lost.
func rekey(c *state.Change, d *state.Device, j evidence.Joined, keyed *event.DeviceKeyed) {
	for _, k := range j.Lost {
		c.Lose(d, k, keyed)
	}
	for _, k := range j.Gained {
		if k.Kind != evidence.ByID { // a device's own id needs no key
			c.Gain(d, k, keyed)
		}
	}
	c.Certify(d, keyed)
	d.Held = c.Admission(d.Keys)
}

// One takes one report that was parsed in, and records what was refused of it.
func One(c *state.Change, actor string, rep *evidence.Report) api.ReportResult {
	t := take(c, actor, evidence.Item{Line: 1, Report: rep})
	var r refusals
	r.add(&t)
	r.record(c, actor)
	return t
}
