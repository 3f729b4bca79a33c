package service

import (
	"context"
	"encoding/json"
	"strconv"

	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
)

// What makes a standing change.
const (
	byEvidence  = "evidence"
	byTime      = "time"
	byRulebook  = "rulebook"
	byPeople    = "people"
	byRoster    = "roster"
	byWaiver    = "waiver"
	byVouch     = "vouch"
	byRestart   = "restart"
	bySettling  = "settling"
	byEnrolment = "enrolment"
)

// cause is why a device is appraised again.
type cause struct {
	kind     string
	actor    string
	evidence func() []EvidenceChange // what a report changed; nil for none
}

// StandingChange is the body of a standing.changed entry: a level or a verdict
// that changed, with what made it change.
type StandingChange struct {
	Device   string           `json:"device"`
	From     string           `json:"from,omitempty"` // "" for a device not seen before
	To       string           `json:"to"`
	Shadow   string           `json:"shadow,omitempty"`
	Binding  []string         `json:"binding"`
	Changed  []VerdictChange  `json:"changed,omitempty"`
	Evidence []EvidenceChange `json:"evidence,omitempty"`
	Cause    string           `json:"cause"`
	Rulebook int64            `json:"rulebook"`
}

// VerdictChange is a rule whose verdict changed.
type VerdictChange struct {
	From posture.Verdict `json:"from"` // members in the order of canonical JSON
	Rule string          `json:"rule"`
	To   posture.Verdict `json:"to"`
	Why  string          `json:"why,omitempty"`

	index int
}

// EvidenceChange is a reading that a report changed.
type EvidenceChange struct {
	Attribute string `json:"attribute"`
	From      string `json:"from,omitempty"`
	Source    string `json:"source"`
	To        string `json:"to"`
}

// append writes the body as canonical JSON. It is the commonest entry of all:
// an import writes one a device.
func (s *StandingChange) append(b []byte) []byte {
	text := func(key, text string) { b = value.OfText(text).AppendJSON(append(b, key...)) }
	b = append(b, `{"binding":`...)
	b = value.OfTexts(s.Binding).AppendJSON(b)
	text(`,"cause":`, s.Cause)
	if len(s.Changed) > 0 {
		b = append(append(b, `,"changed":`...), mustJSON(s.Changed)...)
	}
	text(`,"device":`, s.Device)
	if len(s.Evidence) > 0 {
		b = append(append(b, `,"evidence":`...), mustJSON(s.Evidence)...)
	}
	if s.From != "" {
		text(`,"from":`, s.From)
	}
	b = strconv.AppendInt(append(b, `,"rulebook":`...), s.Rulebook, 10)
	if s.Shadow != "" {
		text(`,"shadow":`, s.Shadow)
	}
	text(`,"to":`, s.To)
	return append(b, '}')
}

// changedVerdicts lists the rules whose verdicts differ from before; none for a
// device of which the verdicts before are not known.
func changedVerdicts(book *Book, d *Device, was before) []VerdictChange {
	if was.device == nil || was.device.Result.Verdicts == nil {
		return nil
	}
	var out []VerdictChange
	if old := was.device.Result.Verdicts; book == was.book {
		for i, v := range d.Result.Verdicts {
			if v != old[i] {
				out = append(out, VerdictChange{Rule: book.ruleKeys[i], From: old[i], To: v, index: i})
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
			out = append(out, VerdictChange{Rule: k, From: old[k], To: v, index: i})
		}
		delete(old, book.ruleKeys[i])
	}
	for _, k := range was.book.ruleKeys { // rules that are gone
		if v := old[k]; v != posture.None {
			out = append(out, VerdictChange{Rule: k, From: v, To: posture.None, index: -1})
		}
	}
	return out
}

// reasons adds to changed verdicts what was observed.
func (b *Book) reasons(env *condition.Env, d *Device, changed []VerdictChange) []VerdictChange {
	for i := range changed {
		if c := &changed[i]; c.index >= 0 && c.To != posture.None {
			if why := b.Rules.Why(env, d.View, &d.Result, c.index); len(why) > 0 {
				c.Why = clipped(access.Reason(why[0]), maxTold)
			}
		}
	}
	return changed
}

// maxEvidenceChanges bounds what one entry tells of a report.
const maxEvidenceChanges = 24

// maxTold bounds what an entry tells of a value, in bytes.
const maxTold = 300

// evidenceChanges tells what a report changes in a record.
func evidenceChanges(old *evidence.Record, rep *evidence.Report) []EvidenceChange {
	was := map[string]string{}
	for _, r := range old.Readings() {
		if r.Source == rep.Source {
			was[r.Name] = readingText(r)
		}
	}
	var out []EvidenceChange
	for _, r := range rep.Readings {
		if text := readingText(r); text != was[r.Name] && len(out) < maxEvidenceChanges {
			out = append(out, EvidenceChange{Attribute: r.Name, From: clipped(was[r.Name], maxTold), Source: r.Source, To: clipped(text, maxTold)})
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

// readStanding reads the body of a standing.changed entry.
func readStanding(e ledger.Entry, into *StandingChange) bool {
	return e.Kind == ledger.StandingChanged && json.Unmarshal(e.Body, into) == nil
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
	d := s.find(id)
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
		ev := Event{Seq: e.Seq, At: formatTime(e.At), Kind: e.Kind, Actor: e.Actor, Gist: e.Gist(), Body: e.Body}
		var body StandingChange
		if readStanding(e, &body) {
			if rank, ok := rb.Rank(body.To); ok {
				ev.Rank = &rank
			}
		}
		out = append(out, ev)
	}
	return out, nil
}
