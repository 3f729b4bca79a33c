package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/access"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
)

// Answer is a decision as it is recorded and shown.
type Answer = event.DecisionMade

// Basis says which states a decision was made from.
type Basis = event.Basis

// Ask answers a request and records nothing: a trial, for people.
func (s *Service) Ask(e *access.Evaluation) *Answer {
	snap, now := s.Snapshot(), s.micros()
	q := snap.request(e, now)
	return snap.answer(e, q, now)
}

// AskUnder answers a request as a candidate rulebook, nil for the one in force,
// would at a moment, 0 for now, with the evidence of today. Nothing is changed
// or recorded. The error is [rulebook.Problems] when the files are to blame.
func (s *Service) AskUnder(e *access.Evaluation, files []rulebook.File, at int64) (*Answer, error) {
	snap, now := s.Snapshot(), cmp.Or(at, s.micros())
	if files != nil {
		book, err := s.candidate(files)
		if err != nil {
			return nil, err
		}
		snap = snap.tryOut(book, snap.People, snap.Roster)
	}
	q := snap.request(e, now)
	return snap.answer(e, q, now), nil
}

// request is a question with what is known of its person and device.
type request struct {
	*access.Request
	device *Device // as it was found; nil for none
}

// sameGround reports whether what a question was answered from is still so.
func (snap *Snapshot) sameGround(q *request, now *Snapshot) bool {
	return snap == now || snap.sameHouse(now) && (q.device == nil || now.Fleet.Get(q.device.ID) == q.device)
}

func (snap *Snapshot) request(e *access.Evaluation, now int64) request {
	q := snap.from(e)
	if id, ok := e.Find(snap.find); ok {
		q.device = snap.Fleet.Get(id)
		snap.on(q.Request, e, snap.at(q.device, now), now)
	}
	if q.Device.ID == "" {
		q.Device.Unknown = e.Missed()
		q.device = nil
	}
	return q
}

// Certified is the device that a connection proved by its certificate, as a request
// says it. A certificate that is not trusted at this moment points at none.
func (s *Service) Certified(cert *x509.Certificate) *access.DeviceRef {
	snap, now := s.Snapshot(), s.micros()
	ref := &access.DeviceRef{CertificateSHA256: fingerprint(cert)}
	if d := snap.shows(ref.CertificateSHA256); d != nil {
		ref.Untrusted = snap.at(d, now).distrusts(cert, now)
	}
	return ref
}

// DeviceOf shows the device that a connection proved by its certificate in full;
// nil for none.
func (s *Service) DeviceOf(cert *x509.Certificate) *Detail {
	ref := s.Certified(cert)
	snap, now := s.Snapshot(), s.micros()
	d := snap.shows(ref.CertificateSHA256)
	if d == nil || ref.Untrusted != "" {
		return nil
	}
	return snap.detail(snap.at(d, now), now)
}

// shows finds the device that shows a certificate, by its SHA-256 in hex.
func (snap *Snapshot) shows(sha256 string) *Device {
	if id, ok := snap.find(evidence.Folded(evidence.ByCertificate, sha256)); ok {
		return snap.Fleet.Get(id)
	}
	return nil
}

// distrusts says why a certificate does not identify the device at now, "" when it
// does. One that a person approved counts while it is valid.
func (d *Device) distrusts(cert *x509.Certificate, now int64) string {
	if d.approved(fingerprint(cert)) {
		switch {
		case now < value.Micros(cert.NotBefore):
			return "it is not valid yet"
		case now > value.Micros(cert.NotAfter):
			return "it expired on " + value.FormatTime(value.Micros(cert.NotAfter))
		}
		return ""
	}
	return d.View.Trusts(d.ID, d.Keys, cert, now)
}

// certified reports whether a certificate, by its SHA-256 in hex, points at the
// device: an issuer of the rulebook issued it for the device, or a person said so.
func (d *Device) certified(sha256 string) bool {
	return d.approved(sha256) || d.View.Issued(d.ID, d.Keys, sha256)
}

// approved reports whether a person said that a certificate is the device's.
func (d *Device) approved(sha256 string) bool {
	return slices.Contains(d.Keys, evidence.Folded(evidence.Approved, sha256))
}

// from is a question from a person on no device.
func (snap *Snapshot) from(e *access.Evaluation) request {
	q := request{Request: e.Request()}
	snap.People.ask(q.Request, q.User)
	return q
}

// on makes a request come from a device that is at the moment now.
// Of one that is not admitted nothing is known but that it stands no higher than
// what is not covered.
func (snap *Snapshot) on(q *access.Request, e *access.Evaluation, d *Device, now int64) {
	if !e.Certified(d.certified) {
		q.Device, q.Certificate = access.Device{Unknown: e.Missed()}, nil
		return
	}
	if d.outsider() {
		q.Device, q.Certificate = access.Device{ID: d.ID, Unknown: d.whyOutside(), Level: d.Result.Level,
			Revision: d.Revision}, nil
		return
	}
	q.Device = access.Device{ID: d.ID, Known: true, Revision: d.Revision, Level: d.Result.Level, View: d.View,
		Wake: d.Wake, Next: func() int64 { return snap.Book.next(d, now) },
		Below: func(l rulebook.Level) []access.Obstacle { return snap.Book.obstacles(d, l, now) }}
	if e.ShowsCertificate() {
		q.Certificate = e.Proof(d.View.Get(snap.Book.Rulebook.Dict.Slot("certs"), now))
	}
}

func (snap *Snapshot) answer(e *access.Evaluation, q request, now int64) *Answer {
	return &Answer{At: value.FormatTime(now), Asked: e, Rulebook: snap.Book.Info.Version,
		KnownPerson: q.Known, Decision: snap.Book.Gates.Decide(q.Request, now)}
}

// Decide answers a request for an enforcer. The decision is durable in the
// ledger before Decide returns; when it cannot be, the error says so and there
// is no answer to rely on. The answer is an [access.Response] in JSON.
func (s *Service) Decide(actor string, e *access.Evaluation) (json.RawMessage, error) {
	_, response, err := s.decide(actor, e)
	if err != nil {
		return unrecorded(err)
	}
	return response, nil
}

// unrecorded is the answer when the disk fails: a denial, which nobody can rely
// on as a decision. Any other error is returned.
func unrecorded(err error) (json.RawMessage, error) {
	var trouble *store.TroubleError
	if !errors.As(err, &trouble) {
		return nil, err
	}
	return value.JSON(map[string]any{"decision": false, "context": map[string]any{
		"outcome": access.Deny, "recorded": false,
		"reason_admin": map[string]string{"en": "Denied: " + trouble.Error() +
			". Nothing is granted until they can."},
		"reason_user": map[string]string{"en": "Access cannot be granted at the moment. It is not your device; try again in a few minutes.", "sv": "Åtkomst kan inte ges just nu. Det beror inte på din enhet; försök igen om några minuter."},
	}}), nil
}

// DecideMany answers the questions of a batch in turn, as its semantics ask.
func (s *Service) DecideMany(actor string, b *access.Batch) ([]json.RawMessage, error) {
	out := []json.RawMessage{}
	for _, it := range b.Items {
		var answer json.RawMessage
		allowed := false
		if it.Err != nil {
			answer = access.Refusal(it.Err)
		} else {
			a, response, err := s.decide(actor, it.Asked)
			if err != nil {
				answer, err = unrecorded(err)
			} else {
				answer, allowed = response, a.Outcome == access.Allow
			}
			if err != nil {
				return nil, err
			}
		}
		if out = append(out, answer); b.Stops(allowed) {
			break
		}
	}
	return out, nil
}

// decide answers a request, records the answer and returns it, also as the
// enforcer gets it.
func (s *Service) decide(actor string, e *access.Evaluation) (*Answer, json.RawMessage, error) {
	snap, now := s.Snapshot(), s.micros()
	q := snap.request(e, now)
	a := snap.answer(e, q, now)
	a.ID = s.ids.next(now)
	a.Basis = &Basis{Moment: now, Device: q.Device.Revision, People: snap.People.revision,
		Roster: snap.Roster.revision}
	replaced := s.replacedBy(actor, a)
	response, err := s.commitDecision(actor, e, a, now, replaced)
	if err != nil {
		if replaced != nil {
			s.sessions.release([]*Session{replaced})
		}
		return nil, nil, fmt.Errorf("the decision could not be recorded: %w", err)
	}
	if replaced != nil {
		s.sessions.remove(replaced)
	}
	if a.BreakGlass {
		s.log.Warn("break-glass account used", "person", e.Subject.ID, "resource", e.Resource.ID, "decision", a.ID)
	}
	if x := s.sessions.begin(snap, actor, a, q.device, now); x != nil && !snap.sameGround(&q, s.Snapshot()) {
		s.sessions.lookAgainAt([]recheck{{x, ledger.Service}})
		s.submit(&job{apply: nothing})
	}
	return a, response, nil
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
	replaced *Session) (response json.RawMessage, err error) {
	for range codeTries {
		batch := store.Batch{}
		if a.Outcome != access.Allow {
			a.Code = s.newCode()
			batch.Codes = []store.Code{{Code: a.Code, Decision: a.ID}}
		}
		used := Emergency{a.ID, e.Subject.ID, e.Resource.ID, e.Action.Name, a.At}
		if a.BreakGlass {
			if err := alarm(&batch, used); err != nil {
				return nil, err
			}
		}
		batch.Entries = make([]ledger.Entry, 1)
		batch.Entries[0], response = a.Record(now, actor)
		if replaced != nil {
			batch.Entries = append(batch.Entries, replaced.ends(actor, now, a.Level, a.Outcome, event.ByAnswer)...)
		}
		if err = s.store.Commit(&batch); err == nil && a.BreakGlass {
			s.alarms.add(used)
		}
		if !errors.Is(err, store.ErrCodeTaken) {
			break
		}
	}
	return response, err
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

// DecisionQuery selects recorded decisions.
type DecisionQuery struct {
	Person, Device, Resource, Outcome string
	Gate                              string // that matched
	Since, Until                      string // RFC 3339
	Before                            string // those before this decision only; "" for all
	Limit                             int
}

// Recorded is a decision with its place in the ledger.
type Recorded struct {
	Seq   int64  `json:"seq"`
	Actor string `json:"actor"` // the enforcer that asked
	// Redacted tells that the body was removed: only the id and the time are left.
	Redacted bool `json:"redacted,omitempty"`
	Answer
}

// Decisions lists recorded decisions, newest first.
func (s *Service) Decisions(ctx context.Context, q DecisionQuery) ([]Recorded, error) {
	body := map[string]string{}
	for path, want := range map[string]string{"$.asked.subject.id": q.Person, "$.device": q.Device,
		"$.asked.resource.id": q.Resource, "$.outcome": q.Outcome} {
		if want != "" {
			body[path] = want
		}
	}
	kept := store.DecisionQuery{Before: q.Before, Body: body, Gate: q.Gate, Limit: q.Limit}
	if err := momentsOf(map[string]momentParam{"since": {q.Since, &kept.Since},
		"until": {q.Until, &kept.Until}}); err != nil {
		return nil, err
	}
	entries, err := s.store.Decisions(ctx, kept)
	if err != nil {
		return nil, err
	}
	out := make([]Recorded, len(entries))
	for i, e := range entries {
		if out[i], err = recorded(e); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// DecisionCountLine is how many decisions of a stretch of time came to something.
type DecisionCountLine struct {
	At      string `json:"at"`
	Outcome string `json:"outcome"`
	Shadow  bool   `json:"shadow,omitempty"` // shadow gates would have come to something else
	Count   int    `json:"count"`
}

// DecisionCounts counts the decisions of the last days: by the hour up to two
// days, else by six hours.
func (s *Service) DecisionCounts(ctx context.Context, days int) ([]DecisionCountLine, error) {
	if days < 1 || days > MaxReplayDays {
		return nil, &QueryError{Param: "days",
			Message: fmt.Sprintf("between 1 and %d days are counted", MaxReplayDays)}
	}
	stretch := value.Day / 4
	if days <= 2 {
		stretch = value.Day / 24
	}
	counts, err := s.store.OutcomeCounts(ctx, s.micros()-int64(days)*value.Day, stretch)
	out := make([]DecisionCountLine, len(counts))
	for i, c := range counts {
		out[i] = DecisionCountLine{value.FormatTime(c.At), c.Outcome, c.Shadow, c.Count}
	}
	return out, err
}

// Decision reads one recorded decision, by its id or the code of a refusal.
func (s *Service) Decision(ctx context.Context, id string) (Recorded, error) {
	code := ""
	if len(id) < 20 {
		if code = strings.ToUpper(strings.TrimSpace(id)); len(code) == 8 {
			code = code[:4] + "-" + code[4:]
		}
		var err error
		if id, err = s.store.ByCode(ctx, code); err != nil {
			return Recorded{}, err
		}
	}
	e, err := s.store.Decision(ctx, id)
	if err != nil {
		return Recorded{}, err
	}
	r, err := recorded(e)
	if err == nil && code != "" && !r.Redacted && r.Code != code {
		err = &store.TamperError{Message: fmt.Sprintf("the code %s was made to lead to the decision %s, which has another", code, id)}
	}
	return r, err
}

func recorded(e ledger.Entry) (Recorded, error) {
	r := Recorded{Seq: e.Seq, Actor: e.Actor}
	if e.Body == nil {
		r.Answer = Answer{ID: e.About, At: value.FormatTime(e.At), Asked: &access.Evaluation{},
			Decision: &access.Decision{Gates: []access.GateRuling{}}}
		r.Redacted = true
		return r, nil
	}
	made, err := event.Read(&e)
	if err != nil {
		return r, err
	}
	r.Answer = *made.(*event.DecisionMade)
	return r, nil
}

// DecisionCount is how many decisions have been recorded.
func (s *Service) DecisionCount(ctx context.Context) (int64, error) {
	return s.store.DecisionCount(ctx)
}
