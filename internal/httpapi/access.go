package httpapi

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/value"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/ids"
	"ironledger.example/internal/store"
)

// EvaluateMany is the access evaluations of AuthZEN 1.0 (section 7).
func (s *Server) EvaluateMany(c *gin.Context) {
	body, err := edge.JSONBody(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	batch, err := access.ParseBatch(body)
	if err != nil {
		s.fail(c, badRequest(err))
		return
	}
	if batch.Single {
		if err := batch.Items[0].Err; err != nil {
			s.fail(c, badRequest(err))
			return
		}
		s.evaluate(c, batch.Items[0].Asked)
		return
	}
	answers, err := s.evaluations(actor(c).Name, batch)
	s.answer(c, http.StatusOK, map[string]any{"evaluations": answers}, err)
}

// evaluate decides a request and answers as AuthZEN 1.0 has it.
func (s *Server) evaluate(c *gin.Context, e *access.Evaluation) {
	r, _, err := s.evaluation(actor(c).Name, e)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/json; charset=utf-8", r)
}

// evaluation decides a request: what AuthZEN has for the answer, and whether it is an
// allow. While nothing can be recorded it is none.
func (s *Server) evaluation(actor string, e *access.Evaluation) (response json.RawMessage, allowed bool, err error) {
	a, err := s.service.Decisions.Decide(actor, e)
	var trouble *store.TroubleError
	switch {
	case errors.As(err, &trouble):
		return access.Unrecorded(trouble), false, nil
	case err != nil:
		return nil, false, err
	}
	return a.Response(), a.Outcome == access.Allow, nil
}

// evaluations answers the questions of a batch in turn, as its semantics ask.
func (s *Server) evaluations(actor string, b *access.EvaluationBatch) ([]json.RawMessage, error) {
	out := []json.RawMessage{}
	for _, it := range b.Items {
		response, allowed := access.Refusal(it.Err), false
		if it.Err == nil {
			var err error
			if response, allowed, err = s.evaluation(actor, it.Asked); err != nil {
				return nil, err
			}
		}
		if out = append(out, response); b.Stops(allowed) {
			break
		}
	}
	return out, nil
}

func badRequest(err error) error {
	if p := edge.ProblemOf(err); p.Status != http.StatusInternalServerError {
		return err
	}
	return edge.NewProblem(http.StatusBadRequest, "%s", err)
}

// SearchSubject is the subject search of AuthZEN 1.0 (section 8.4).
func (s *Server) SearchSubject(c *gin.Context) { s.search(c, access.SearchSubject) }

// SearchResource is the resource search of AuthZEN 1.0 (section 8.5).
func (s *Server) SearchResource(c *gin.Context) { s.search(c, access.SearchResource) }

// SearchAction is the action search of AuthZEN 1.0 (section 8.6).
func (s *Server) SearchAction(c *gin.Context) { s.search(c, access.SearchAction) }

func (s *Server) search(c *gin.Context, kind access.SearchKind) {
	body, err := edge.JSONBody(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	q, err := access.ParseSearch(kind, body)
	if err != nil {
		s.fail(c, badRequest(err))
		return
	}
	first := 0
	if q.Page.Token != "" {
		if first, err = strconv.Atoi(q.Page.Token); err != nil || first < 0 {
			s.fail(c, &access.FieldError{Pointer: "/page/token",
				Message: "this is not a token that a page of this search gave"})
			return
		}
	}
	found := s.service.Decisions.Find(kind, &q.Evaluation)
	total := len(found)
	found = found[min(first, total):]
	next := ""
	if limit := q.Page.Limit; limit > 0 && limit < len(found) {
		found, next = found[:limit], strconv.Itoa(first+limit)
	}
	c.JSON(http.StatusOK, api.AccessResults{Results: found,
		Page: api.AccessPage{NextToken: next, Count: len(found), Total: total}})
}

// shownAnswer is an answer as the API has it, in the caller's language.
func shownAnswer(c *gin.Context, a *decision.Answer) *api.Answer {
	out := answerOf(a)
	edge.SpeakAnswer(c, &out.Decision)
	return &out
}

func answerOf(a *decision.Answer) api.Answer {
	return api.Answer{Decision: *a.Decision, ID: a.ID, Code: a.Code, At: a.At, Asked: *a.Asked, Rulebook: a.Rulebook,
		KnownPerson: a.KnownPerson, Basis: a.Basis}
}

// shownDecision is a recorded decision as the API has it.
func shownDecision(r *decision.Recorded) api.RecordedDecision {
	return api.RecordedDecision{Answer: answerOf(&r.Answer), Seq: r.Seq, Actor: r.Actor, Redacted: r.Redacted, Archive: r.Archive, Where: r.Where,
		Decisive: r.Decisive}
}

// evaluationOf reads the question that is the body of a request.
func evaluationOf(c *gin.Context) (*access.Evaluation, error) {
	body, err := edge.JSONBody(c)
	if err != nil {
		return nil, err
	}
	e, err := access.ParseEvaluation(body)
	if err != nil {
		return nil, badRequest(err)
	}
	return e, nil
}

// Ask tries a request without recording it.
func (s *Server) Ask(c *gin.Context) (*api.Answer, error) {
	e, err := evaluationOf(c)
	if err != nil {
		return nil, err
	}
	return s.tried(c, e, s.service.Decisions.Ask), nil
}

// tried is the answer of a trial, for people: with what of it nobody knows.
func (s *Server) tried(c *gin.Context, e *access.Evaluation,
	ask func(*access.Evaluation) *decision.Answer) *api.Answer {
	s.service.Decisions.Spelled(e)
	out := shownAnswer(c, ask(e))
	out.Strangers = s.service.Decisions.Strangers(e)
	return out
}

// Evaluate is the access evaluation of AuthZEN 1.0 (section 6).
func (s *Server) Evaluate(c *gin.Context) {
	e, err := evaluationOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	s.evaluate(c, e)
}

// AskUnder tries a request under a candidate, or at another moment.
func (s *Server) AskUnder(c *gin.Context, in api.AskDraft) (*api.Answer, error) {
	if err := in.Asked.Check(); err != nil {
		return nil, err
	}
	at := int64(0)
	if in.At != "" {
		v, err := value.ParseTime(in.At)
		if err != nil {
			return nil, &fault.InputError{Pointer: "/at", Message: err.Error()}
		}
		at = v.Num()
	}
	var err error
	out := s.tried(c, &in.Asked, func(e *access.Evaluation) (a *decision.Answer) {
		if a, err = s.service.Decisions.AskUnder(e, in.Files, at); err != nil {
			a = &decision.Answer{Asked: e, Decision: &access.Decision{}}
		}
		return a
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// WhoReaches tells who can get to a resource.
func (s *Server) WhoReaches(c *gin.Context, p api.WhoReachesParams) (*api.Reach, error) {
	e, err := evaluationOf(c)
	if err != nil {
		return nil, err
	}
	if err := edge.CheckMost(p.Limit); err != nil {
		return nil, err
	}
	s.service.Decisions.Spelled(e)
	return s.service.Decisions.WhoReaches(c.Request.Context(), e,
		decision.ReachQuery{Text: p.Q, Through: p.Through, Cursor: p.Cursor, Limit: p.Limit})
}

// WhatReaches tells what a person can get to.
func (s *Server) WhatReaches(c *gin.Context) (out api.List[api.ReachResource], err error) {
	e, err := evaluationOf(c)
	if err != nil {
		return out, err
	}
	s.service.Decisions.Spelled(e)
	return edge.All(s.service.Decisions.WhatReaches(e)), nil
}

// GetCoverage tells what it takes for each group to reach each resource.
func (s *Server) GetCoverage(c *gin.Context, p api.GetCoverageParams) {
	switch p.Format {
	case "", "json":
		c.JSON(http.StatusOK, s.service.Decisions.GateCoverage())
	case "csv":
		s.coverageCSV(c, s.service.Decisions.GateCoverage())
	default:
		s.fail(c, &fault.QueryError{Param: "format", Message: "a format is json or csv"})
	}
}

// coverageCSV writes what it takes, a row a group.
func (s *Server) coverageCSV(c *gin.Context, cover *access.Coverage) {
	c.Header("Content-Type", "text/csv; charset=utf-8")
	c.Header("Content-Disposition", `attachment; filename="coverage.csv"`)
	rows := [][]string{append([]string{"group"}, cover.Resources...)}
	for i, g := range cover.Groups {
		row := []string{cmp.Or(g, "(no group)")}
		for _, cell := range cover.Cells[i] {
			row = append(row, cell.String())
		}
		rows = append(rows, row)
	}
	for _, row := range rows {
		for i := range row {
			row[i] = value.Cell(row[i])
		}
	}
	if err := csv.NewWriter(c.Writer).WriteAll(rows); err != nil {
		s.log.Debug("export broke off", "error", err)
	}
}

// ListGates lists the gates with what the last week brought.
func (s *Server) ListGates(c *gin.Context) (api.List[api.Gate], error) {
	gates, err := s.service.Decisions.Gates(c.Request.Context())
	return edge.All(gates), err
}

// ListLiveSessions lists the allows that may still be relied on.
func (s *Server) ListLiveSessions(c *gin.Context, p api.ListLiveSessionsParams) (api.List[api.LiveSession], error) {
	return edge.Some(s.service.Decisions.Sessions(p.Person, s.deviceID(p.Device), p.Resource), p.Cursor, p.Limit,
		func(x *api.LiveSession) string { return x.Decision }, edge.NewestFirst)
}

// EndSessions ends sessions by hand.
func (s *Server) EndSessions(c *gin.Context, in api.SessionsEnd) (*api.SessionsEnd, error) {
	n, err := s.service.Decisions.EndSessions(c.Request.Context(), actor(c).Name, in.Device, in.Person,
		in.Resource, in.Reason)
	in.Ended = n
	return &in, err
}

// daysOf is how many days are asked about: a week when the caller does not say.
func daysOf(c *gin.Context, days int) int {
	if c.Query("days") == "" {
		return 7
	}
	return days
}

// CountDecisions tells how many decisions came to what.
func (s *Server) CountDecisions(c *gin.Context, p api.CountDecisionsParams) (api.List[api.DecisionCount], error) {
	items, err := s.service.Decisions.DecisionCounts(c.Request.Context(), daysOf(c, p.Days))
	return edge.All(items), err
}

// ListDecisions lists recorded decisions.
func (s *Server) ListDecisions(c *gin.Context, p api.ListDecisionsParams) {
	limit, err := edge.Limit(c, p.Limit)
	if err != nil {
		s.fail(c, err)
		return
	}
	q := decision.Query{Person: p.Person, Device: s.deviceID(p.Device), Resource: p.Resource,
		Outcome: string(p.Outcome), Gate: p.Gate, Since: p.Since, Until: p.Until, Before: p.Cursor,
		Limit: limit + 1}
	if p.Cursor != "" && !ids.IsID(p.Cursor) {
		s.fail(c, &fault.QueryError{Param: "cursor",
			Message: "this is not a cursor that a page of this list gave"})
		return
	}
	if q.Outcome != "" && q.Outcome != string(access.Allow) && q.Outcome != string(access.Deny) &&
		q.Outcome != string(access.StepUp) {
		s.fail(c, &fault.QueryError{Param: "outcome", Message: "an outcome is allow, deny or step-up"})
		return
	}
	if p.Format == "csv" {
		s.exportDecisions(c, q)
		return
	}
	items, err := s.service.Decisions.Decisions(c.Request.Context(), q)
	shown := make([]api.RecordedDecision, len(items))
	for i := range items {
		shown[i] = shownDecision(&items[i])
	}
	s.answer(c, http.StatusOK, page(shown, limit, func(r *api.RecordedDecision) string { return r.ID }), err)
}

// GetDecision shows a recorded decision.
func (s *Server) GetDecision(c *gin.Context, id string) (*api.RecordedDecision, error) {
	r, err := s.service.Decisions.Decision(c.Request.Context(), id)
	if err != nil {
		return nil, err
	}
	shown := shownDecision(&r)
	edge.SpeakAnswer(c, &shown.Decision)
	return &shown, nil
}

// exportPage is how many decisions are read at a time for an export.
const exportPage = 500

// exportDecisions writes every decision that a search finds as CSV.
func (s *Server) exportDecisions(c *gin.Context, q decision.Query) {
	if err := s.exporting(c); err != nil {
		s.fail(c, err)
		return
	}
	defer s.exports.Give(actor(c).ID)
	q.Limit = exportPage
	items, err := s.service.Decisions.Decisions(c.Request.Context(), q)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Type", "text/csv; charset=utf-8")
	c.Header("Content-Disposition", `attachment; filename="decisions.csv"`)
	w := csv.NewWriter(c.Writer)
	write := func(cells ...string) {
		for i := range cells {
			cells[i] = value.Cell(cells[i])
		}
		err = w.Write(cells)
	}
	write("id", "at", "outcome", "shadow_outcome", "person", "resource", "action", "device", "level", "gates",
		"enforcer", "rulebook", "entry")
	for len(items) > 0 && err == nil {
		for i := range items {
			d := &items[i]
			var gates []string
			for _, g := range d.Gates {
				gates = append(gates, g.Gate+" "+g.Verdict)
			}
			write(d.ID, d.At, string(d.Outcome), string(d.ShadowOutcome), d.Asked.Subject.ID,
				d.Asked.Resource.ID, d.Asked.Action.Name, d.Device, d.Level, strings.Join(gates, "; "),
				d.Actor, strconv.FormatInt(d.Rulebook, 10), strconv.FormatInt(d.Seq, 10))
		}
		q.Before = items[len(items)-1].ID
		if len(items) < exportPage {
			break
		}
		items, err = s.service.Decisions.Decisions(c.Request.Context(), q)
	}
	w.Flush()
	if err != nil { // the head is sent; a broken end is all that is left to say
		s.log.Error("an export broke off", "error", err)
		panic(http.ErrAbortHandler)
	}
}
