// Package decision answers who may reach what, and keeps the allows that may still be
// relied on, which end with what they rest on.
package decision

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"time"

	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/past"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
	"ironledger.example/internal/tally"
)

// unheard is what stands between a device that was enrolled and never reported
// and any level: the cures of every rule that could be meant would be noise.
var unheard = access.Obstacle{Rule: "evidence", Title: "Something has been reported of the device",
	Verdict: posture.Unknown.String(),
	Why: []condition.Leaf{{Condition: "evidence", Path: "the evidence", Required: "a first report",
		Holds: condition.Unknown, Unknown: "never reported"}},
	Remedy: map[string]plaintext.Remedy{
		"en": {Title: "Let the device report",
			Steps: "Nothing is known of it yet. Open its management program or wait a few minutes, then check again."},
		"sv": {Title: "Låt enheten rapportera",
			Steps: "Inget är känt om den än. Öppna dess hanteringsprogram eller vänta några minuter och " +
				"kontrollera sedan igen."},
	}}

func obstacles(b *state.Book, d *state.Device, level rulebook.Level, now int64) []access.Obstacle {
	if d.Record.Len() == 0 {
		return []access.Obstacle{unheard}
	}
	env := d.View.Env(now)
	list := rehearsal.Obstacles(b.Rules.Holding(env, d.View, &d.Result, level))
	if d.Quarantine.Holds(now) {
		list = append([]access.Obstacle{ordered(d.Quarantine)}, list...)
	}
	return list
}

// ordered tells of a person's order that a device stands at the lowest level: to whoever runs the service who gave it
// and why, to the person of the device whom to ask.
func ordered(q *kept.Quarantine) access.Obstacle {
	return access.Obstacle{Rule: posture.Quarantine, Title: "The device is in quarantine",
		Verdict: posture.Fail.String(),
		Remedy:  posture.QuarantineRemedy,
		Why: []condition.Leaf{{Condition: posture.Quarantine, Path: posture.Quarantine, Holds: condition.False,
			Required: "lifted",
			Observed: q.Why(), Source: q.By, At: value.FormatTime(q.At)}}}
}

// Service decides requests over open records.
type Service struct {
	*engine.Engine
	past      *past.Service
	sessions  sessions // allows that may still be relied on
	alarms    alarms
	ticketKey []byte
	newCode   func() string // makes the codes of refusals
	// Decided is told of each decision that counts, of its outcome ("unrecorded" for one that could not be), and how
	// long it took until it was durable. It is set before anybody asks; nil for nobody.
	Decided func(outcome string, took time.Duration)
	differs func(error) // nil: no shortcut is checked

	outcomes, rulings *tally.Tally // of the decisions of the last days
}

// New is a service over records whose engine has not been started, with the sessions
// that were live when they were closed.
func New(ctx context.Context, e *engine.Engine, past *past.Service) (*Service, error) {
	s := &Service{Engine: e, past: past, newCode: newCode,
		outcomes: tally.Of(tally.Outcomes, 15*tally.Minute, (MaxReplayDays+1)*value.Day),
		rulings:  tally.Of(tally.Rulings, 5*tally.Minute, 8*value.Day)}
	for _, load := range []func(context.Context) error{s.loadAlarms, s.loadTicketKey, s.restoreSessions} {
		if err := load(ctx); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// Companion ends sessions with what they rest on.
func (s *Service) Companion() engine.Companion { return &s.sessions }

// Answer is a decision as it is recorded and shown.
type Answer = event.DecisionMade

// Basis says which states a decision was made from.
type Basis = event.Basis

// Ask answers a request and records nothing: a trial, for people.
func (s *Service) Ask(e *access.Evaluation) *Answer {
	snap, now := s.Snapshot(), s.Micros()
	q := Pose(snap, e, now)
	return answer(snap, e, q, now)
}

// AskUnder answers a request as a candidate rulebook, nil for the one in force,
// would at a moment, 0 for now, with the evidence of today. Nothing is changed
// or recorded. The error is [rulebook.Problems] when the files are to blame.
func (s *Service) AskUnder(e *access.Evaluation, files []rulebook.File, at int64) (*Answer, error) {
	snap, now := s.Snapshot(), cmp.Or(at, s.Micros())
	if files != nil {
		book, err := s.Candidate(files)
		if err != nil {
			return nil, err
		}
		snap = snap.TryOut(book, snap.People, snap.Roster)
	}
	q := Pose(snap, e, now)
	return answer(snap, e, q, now), nil
}

// question is a question with what is known of its person and device.
type question struct {
	*access.Request
	found  *state.Device // that it names, as it was found; nil for none
	device *state.Device // from which it is asked: found, unless that is not to be believed
}

// Pose is a question with what a snapshot knows of its person and device.
func Pose(snap *state.Snapshot, e *access.Evaluation, now int64) question {
	return pose(snap, e, now, func(d *state.Device) *state.Device { return snap.At(d, now) })
}

// pose is the same for a caller who knows how devices are at the moment now.
func pose(snap *state.Snapshot, e *access.Evaluation, now int64,
	at func(*state.Device) *state.Device) question {
	q := poseAlone(snap, e)
	if id, ok := e.Find(snap.Find); ok {
		q.found = snap.Fleet.Get(id)
		q.device = q.found
		Place(snap, q.Request, e, at(q.device), now)
	}
	if q.Device.ID == "" {
		q.device = nil
	}
	return q
}

// Certified is the device that a connection proved by its certificate, as a request
// says it. A certificate that is not trusted at this moment points at none.
func (s *Service) Certified(cert *x509.Certificate) *access.DeviceRef {
	snap, now := s.Snapshot(), s.Micros()
	ref := &access.DeviceRef{CertificateSHA256: state.Fingerprint(cert)}
	if d := snap.Shows(ref.CertificateSHA256); d != nil {
		ref.Untrusted = snap.At(d, now).Distrusts(cert, now)
	}
	return ref
}

// poseAlone is a question from a person on no device that is known.
func poseAlone(snap *state.Snapshot, e *access.Evaluation) question {
	q := question{Request: e.Request()}
	q.Device.Unknown = e.Missed()
	snap.People.Ask(q.Request, q.User)
	return q
}

// Place makes a request come from a device that is at the moment now.
// Of one that is not admitted nothing is known but that it stands no higher than
// what is not covered.
func Place(snap *state.Snapshot, q *access.Request, e *access.Evaluation, d *state.Device, now int64) {
	if !e.Certified(d.Certified) {
		q.Device, q.Certificate = access.Device{Unknown: e.Missed()}, nil
		return
	}
	if d.Outsider() {
		q.Device, q.Certificate = access.Device{ID: d.ID, Unknown: d.WhyOutside(), Level: d.Result.Level,
			Revision: d.Revision}, nil
		return
	}
	q.Device = access.Device{ID: d.ID, Known: true, Revision: d.Revision, Level: d.Result.Level, View: d.View,
		Wake: d.Wake, Next: func() int64 { return snap.Book.Next(d, now) },
		Below: func(l rulebook.Level) []access.Obstacle { return obstacles(snap.Book, d, l, now) }}
	if e.ShowsCertificate() {
		e.Prove(q, d.View.Get(snap.Book.Rulebook.Dict.Slot("certs"), now))
	}
}

func answer(snap *state.Snapshot, e *access.Evaluation, q question, now int64) *Answer {
	return &Answer{At: value.FormatTime(now), Asked: e, Rulebook: snap.Book.Info.Version,
		KnownPerson: q.Known, Decision: snap.Book.Gates.Decide(q.Request, now)}
}

// Decide answers a request for an enforcer. The decision is durable in the ledger
// before Decide returns. When it cannot be recorded there is no answer to rely on: the
// error is a [*store.TroubleError] while nothing can be.
func (s *Service) Decide(actor string, e *access.Evaluation) (*Answer, error) {
	if s.Decided == nil {
		return s.decide(actor, e)
	}
	began := time.Now()
	a, err := s.decide(actor, e)
	outcome := "unrecorded"
	if err == nil {
		outcome = string(a.Outcome)
	}
	s.Decided(outcome, time.Since(began))
	return a, err
}

func (s *Service) decide(actor string, e *access.Evaluation) (*Answer, error) {
	snap, now := s.Snapshot(), s.Micros()
	q := Pose(snap, e, now)
	a := answer(snap, e, q, now)
	a.ID = s.IDs.Next(now)
	a.Basis = &Basis{Moment: now, Device: q.Device.Revision, People: snap.People.Revision,
		Roster: snap.Roster.Revision}
	replaced := s.replacedBy(actor, a)
	if err := s.commitDecision(actor, e, a, now, replaced); err != nil {
		if replaced != nil {
			s.sessions.release([]*Session{replaced})
		}
		return nil, fmt.Errorf("the decision could not be recorded: %w", err)
	}
	if replaced != nil {
		s.sessions.remove(replaced)
	}
	if a.BreakGlass {
		s.Log.Warn("break-glass account used", "person", e.Subject.ID, "resource", e.Resource.ID, "decision", a.ID)
	}
	s.stillHolds(s.sessions.begin(snap, actor, a, q.found, now), now)
	return a, nil
}

// stillHolds has a session looked at again from whose allow the ground was taken while it was on
// its way to the disk.
func (s *Service) stillHolds(x *Session, decided int64) {
	if x == nil {
		return
	}
	by, revoked := s.sessions.revokedSince(x, decided)
	if !revoked {
		by = state.Cause{Kind: event.ByStanding, Actor: ledger.Service}
	}
	if revoked || !x.restsOn(s.Snapshot()) {
		s.sessions.lookAgain(recheck{x, by, revoked})
		s.Nudge()
	}
}

// replacedBy is the session that an answer other than an allow ends: the enforcer
// asked the same and was answered otherwise.
func (s *Service) replacedBy(actor string, a *Answer) *Session {
	if a.Outcome == access.Allow {
		return nil
	}
	return s.sessions.replaced(askingOf(actor, a.Asked))
}

// codeTries is how many codes are tried for one refusal: one is enough but for
// once in 850 thousand million, times the refusals there are.
const codeTries = 20

// commitDecision makes an answer durable, and the end of a session with it.
func (s *Service) commitDecision(actor string, e *access.Evaluation, a *Answer, now int64,
	replaced *Session) (err error) {
	for range codeTries {
		batch := store.Batch{}
		if a.Outcome != access.Allow {
			a.Code = s.newCode()
			batch.Codes = []store.Code{{Code: a.Code, Decision: a.ID}}
		}
		used := Emergency{a.ID, e.Subject.ID, e.Resource.ID, e.Action.Name, a.At}
		if a.BreakGlass {
			if err := alarm(&batch, used); err != nil {
				return err
			}
		}
		batch.Entries = []ledger.Entry{a.Record(now, actor)}
		if replaced != nil {
			batch.Entries = append(batch.Entries, replaced.ends(actor, now, a.Level, a.Outcome, event.ByAnswer)...)
		}
		if err = s.Store.Commit(&batch); err == nil && a.BreakGlass {
			s.alarms.add(used)
		}
		if !errors.Is(err, store.ErrCodeTaken) {
			break
		}
	}
	return err
}

// codeLetters leave out what looks like something else: 0 and O, 1, I and L.
const codeLetters = "23456789ABCDEFGHJKMNPQRSTUVWXYZ"

// newCode makes the short name of a refusal, as in K7M2-9XQD: 39 bits, to be
// read aloud. It opens nothing by itself.
func newCode() string {
	var b [8]byte
	rand.Read(b[:])
	out := make([]byte, 0, 9)
	for i, x := range b {
		if i == 4 {
			out = append(out, '-')
		}
		out = append(out, codeLetters[int(x)%len(codeLetters)])
	}
	return string(out)
}
