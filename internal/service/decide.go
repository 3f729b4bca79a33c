package service

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"

	"ironledger.example/core/access"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
)

// Answer is a decision as it is recorded and shown.
type Answer struct {
	ID       string             `json:"id,omitempty"`
	At       string             `json:"at"`
	Asked    *access.Evaluation `json:"asked"`
	Rulebook int64              `json:"rulebook"` // the version that decided
	// KnownPerson tells whether the directory knows the person.
	KnownPerson bool `json:"known_person"`
	*access.Decision
}

// Ask answers a request and records nothing: a trial, for people.
func (s *Service) Ask(e *access.Evaluation) *Answer {
	return s.Snapshot().answer(e, s.micros())
}

func (snap *Snapshot) answer(e *access.Evaluation, now int64) *Answer {
	q := e.Request()
	_, known := snap.People.Get(q.User)
	q.Groups = snap.People.Groups(q.User)
	if id, ok := e.Find(snap.Fleet.Find); ok {
		d := snap.at(snap.Fleet.Get(id), now)
		q.Device = access.Device{ID: id, Known: true, Level: d.Result.Level, View: d.View, NextChange: d.next(now),
			Below: func(l rulebook.Level) []access.Obstacle { return snap.Book.obstacles(d, l, now) }}
	}
	return &Answer{At: value.FormatTime(now), Asked: e, Rulebook: snap.Book.Info.Version, KnownPerson: known, Decision: snap.Book.Gates.Decide(q, now)}
}

// Decide answers a request for an enforcer. The decision is durable in the
// ledger before Decide returns; when it cannot be, the error says so and there
// is no answer to rely on. The answer is an [access.Response] in JSON.
func (s *Service) Decide(actor string, e *access.Evaluation) (json.RawMessage, error) {
	now := s.micros()
	a := s.Snapshot().answer(e, now)
	a.ID = s.ids.next(now)
	decision := mustJSON(a.Decision)
	head := *a
	head.Decision = nil
	entry := ledger.Entry{At: now, Kind: ledger.DecisionMade, Actor: actor, About: a.ID, Body: joinObjects(mustJSON(head), decision)}
	if err := s.store.Commit(&store.Batch{Entries: []ledger.Entry{entry}}); err != nil {
		return nil, fmt.Errorf("the decision could not be recorded: %w", err)
	}
	if a.BreakGlass {
		s.log.Warn("break-glass account used", "person", e.Subject.ID, "resource", e.Resource.ID, "decision", a.ID)
	}
	response := append(make([]byte, 0, len(decision)+96), `{"decision":`...)
	response = strconv.AppendBool(response, a.Outcome == access.Allow)
	response = append(response, `,"context":`...)
	response = append(response, joinObjects(fmt.Appendf(nil, `{"id":%q}`, a.ID), decision)...)
	return append(response, '}'), nil
}

// joinObjects makes one JSON object of two that are not empty. The decision in
// an answer and in its entry is the same, and is encoded once.
func joinObjects(a, b []byte) []byte {
	out := append(make([]byte, 0, len(a)+len(b)), a[:len(a)-1]...)
	return append(append(out, ','), b[1:]...)
}

// DecisionQuery selects recorded decisions.
type DecisionQuery struct {
	Person, Device, Resource, Outcome string
	Before                            string // those before this decision only; "" for all
	Limit                             int
}

// Recorded is a decision with its place in the ledger.
type Recorded struct {
	Seq   int64  `json:"seq"`
	Actor string `json:"actor"` // the enforcer that asked
	Answer
}

// Decisions lists recorded decisions, newest first.
func (s *Service) Decisions(ctx context.Context, q DecisionQuery) ([]Recorded, error) {
	body := map[string]string{}
	for path, want := range map[string]string{"$.asked.subject.id": q.Person, "$.device": q.Device, "$.asked.resource.id": q.Resource, "$.outcome": q.Outcome} {
		if want != "" {
			body[path] = want
		}
	}
	entries, err := s.store.Decisions(ctx, store.DecisionQuery{Before: q.Before, Body: body, Limit: q.Limit})
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

// Decision reads one recorded decision.
func (s *Service) Decision(ctx context.Context, id string) (Recorded, error) {
	e, err := s.store.Decision(ctx, id)
	if err != nil {
		return Recorded{}, err
	}
	return recorded(e)
}

func recorded(e ledger.Entry) (Recorded, error) {
	r := Recorded{Seq: e.Seq, Actor: e.Actor}
	if err := json.Unmarshal(e.Body, &r.Answer); err != nil {
		return r, fmt.Errorf("entry %d cannot be read: %w", e.Seq, err)
	}
	return r, nil
}

// DecisionCount is how many decisions have been recorded.
func (s *Service) DecisionCount(ctx context.Context) (int64, error) {
	return s.store.DecisionCount(ctx)
}
