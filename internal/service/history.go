package service

import (
	"context"
	"encoding/json"

	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
)

// cause is why a device is appraised again.
type cause struct {
	kind     string
	actor    string
	evidence func() []event.EvidenceChange // what a report changed; nil for none
}

// changedVerdict is a rule whose verdict changed, with its place in the book; -1
// for one that the book has no more.
type changedVerdict struct {
	event.VerdictChange
	index int
}

// changedVerdicts lists the rules whose verdicts differ from before; none for a
// device of which the verdicts before are not known.
func changedVerdicts(book *Book, d *Device, was before) []changedVerdict {
	if was.device == nil || was.device.Result.Verdicts == nil {
		return nil
	}
	var out []changedVerdict
	if old := was.device.Result.Verdicts; book == was.book {
		for i, v := range d.Result.Verdicts {
			if v != old[i] {
				out = append(out, changedVerdict{event.VerdictChange{Rule: book.ruleKeys[i], From: old[i],
					To: v}, i})
			}
		}
		return out
	}
	old := map[string]posture.Verdict{}
	for i, v := range was.device.Result.Verdicts {
		old[was.book.ruleKeys[i]] = v
	}
	for i, v := range d.Result.Verdicts {
		if k := book.ruleKeys[i]; v != old[k] {
			out = append(out, changedVerdict{event.VerdictChange{Rule: k, From: old[k], To: v}, i})
		}
		delete(old, book.ruleKeys[i])
	}
	for _, k := range was.book.ruleKeys { // rules that are gone
		if v := old[k]; v != posture.None {
			out = append(out, changedVerdict{event.VerdictChange{Rule: k, From: v, To: posture.None}, -1})
		}
	}
	return out
}

// reasons tells changed verdicts with what was observed.
func (b *Book) reasons(env *condition.Env, d *Device, changed []changedVerdict) []event.VerdictChange {
	var out []event.VerdictChange
	for _, c := range changed {
		if c.index >= 0 && c.To != posture.None {
			if why := b.Rules.Why(env, d.View, &d.Result, c.index); len(why) > 0 {
				c.Why = event.Clipped(access.Reason(why[0]), maxTold)
			}
		}
		out = append(out, c.VerdictChange)
	}
	return out
}

// maxEvidenceChanges bounds what one entry tells of a report.
const maxEvidenceChanges = 24

// maxTold bounds what an entry tells of a value, in bytes.
const maxTold = 300

// evidenceChanges tells what a report changes in a record.
func evidenceChanges(old *evidence.Record, rep *evidence.Report) []event.EvidenceChange {
	was := map[string]string{}
	for _, r := range old.Readings() {
		if r.Source == rep.Source {
			was[r.Name] = readingText(r)
		}
	}
	var out []event.EvidenceChange
	for _, r := range rep.Readings {
		if text := readingText(r); text != was[r.Name] && len(out) < maxEvidenceChanges {
			out = append(out, event.EvidenceChange{Attribute: r.Name,
				From: event.Clipped(was[r.Name], maxTold), Source: r.Source, To: event.Clipped(text, maxTold)})
		}
	}
	return out
}

func readingText(r evidence.Reading) string {
	if !r.Value.Known() {
		return "unavailable: " + r.Unavailable
	}
	return r.Value.String()
}

// Event is one moment of a device's history.
type Event struct {
	Seq   int64           `json:"seq"` // of its ledger entry
	At    string          `json:"at"`
	Kind  ledger.Kind     `json:"kind"`
	Actor string          `json:"actor"`
	Rank  *int            `json:"rank,omitempty"` // of the level a change led to, if today's ladder has it
	Gist  string          `json:"gist,omitempty"` // in a few words
	Body  json.RawMessage `json:"body"`
}

// DeviceHistory lists what became of a device, newest first: entries before a
// sequence number only, unless it is 0.
func (s *Service) DeviceHistory(ctx context.Context, id string, before int64, limit int) ([]Event, error) {
	d := s.Snapshot().named(id)
	if d == nil {
		return nil, &NotFoundError{"device", id}
	}
	entries, err := s.store.About(ctx, d.ID, before, limit)
	if err != nil {
		return nil, err
	}
	rb := s.Snapshot().Book.Rulebook
	out := []Event{}
	for _, e := range entries {
		ev := Event{Seq: e.Seq, At: value.FormatTime(e.At), Kind: e.Kind, Actor: e.Actor, Gist: event.Gist(&e),
			Body: e.Body}
		if changed, ok := event.As[*event.StandingChanged](&e); ok {
			if rank, ok := rb.Rank(changed.To); ok {
				ev.Rank = &rank
			}
		}
		out = append(out, ev)
	}
	return out, nil
}
