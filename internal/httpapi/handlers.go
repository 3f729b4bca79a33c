package httpapi

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/ids"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/view"
)

var _ api.ServerInterface = (*Server)(nil)

type list[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"`
}

// limitOf is the page size asked for, 50 when none is.
func limitOf(c *gin.Context) (int, error) {
	text := c.Query("limit")
	if text == "" {
		return 50, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 1000 {
		return 0, &fault.QueryError{Param: "limit", Message: "a page has 1 to 1000 lines"}
	}
	return n, nil
}

type session struct {
	Name string              `json:"name"`
	Role bearer.Role         `json:"role"`
	May  []bearer.Permission `json:"may"`
}

func sessionOf(t *bearer.Token) session {
	s := session{Name: t.Name, Role: t.Role, May: []bearer.Permission{}}
	for _, p := range []bearer.Permission{bearer.MayRead, bearer.MayAsk, bearer.MayPublish,
		bearer.MayDecide, bearer.MayReport, bearer.MayWaive, bearer.MayVouch, bearer.MayAdmin} {
		if t.Role.May(p) {
			s.May = append(s.May, p)
		}
	}
	return s
}

// GetSession tells the caller who they are.
func (s *Server) GetSession(c *gin.Context) { c.JSON(http.StatusOK, sessionOf(actor(c))) }

// OpenSession signs a person in to the console.
func (s *Server) OpenSession(c *gin.Context) {
	if err := s.origin.Check(c.Request); err != nil {
		s.fail(c, edge.NewProblem(http.StatusForbidden, "the request comes from another site"))
		return
	}
	var in struct {
		Token string `json:"token"`
	}
	if err := edge.Decode(c, edge.MaxBody, &in); err != nil {
		s.fail(c, err)
		return
	}
	t, ok := s.service.Admin.Authenticate(strings.TrimSpace(in.Token))
	switch {
	case !ok:
		if s.guessed(c, "token at the sign-in") {
			s.fail(c, edge.NewProblem(http.StatusUnauthorized, "this token is not valid here"))
		}
		return
	case !t.Role.May(bearer.MayRead):
		s.fail(c, edge.NewProblem(http.StatusForbidden, "a token of the role %s does not open the console", t.Role))
		return
	}
	secret, err := s.service.Admin.SignIn(t)
	if err != nil {
		s.fail(c, err)
		return
	}
	s.setCookie(c, secret, int(admin.SessionLength.Seconds()))
	s.log.Info("signed in to the console", "token", t.Name)
	c.JSON(http.StatusOK, sessionOf(t))
}

func (s *Server) setCookie(c *gin.Context, value string, age int) {
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Value: value, Path: "/", MaxAge: age,
		HttpOnly: true, Secure: s.secure, SameSite: http.SameSiteStrictMode})
}

// CloseSession signs a person out of the console.
func (s *Server) CloseSession(c *gin.Context) {
	if secret, err := c.Cookie(cookieName); err == nil {
		if err := s.service.Admin.SignOut(secret); err != nil {
			s.fail(c, err)
			return
		}
	}
	s.setCookie(c, "", -1)
	c.Status(http.StatusNoContent)
}

type levelCount struct {
	Level   string `json:"level"`
	Devices int    `json:"devices"`
}

// GetStatus shows the service at a glance.
func (s *Server) GetStatus(c *gin.Context) {
	snap := s.service.Snapshot()
	count, err := s.service.Decisions.DecisionCount(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	page, err := s.service.View.Devices(c.Request.Context(), view.DeviceSearch{Limit: 1})
	if err != nil {
		s.fail(c, err)
		return
	}
	var levels []levelCount
	for _, l := range snap.Book.Rulebook.Ladder {
		levels = append(levels, levelCount{l, page.Levels[l]})
	}
	info := snap.Book.Info
	info.Files = nil
	c.JSON(http.StatusOK, gin.H{"version": s.version, "devices": page.Total, "people": snap.People.Len(),
		"decisions": count, "rulebook": infoOf(info),
		"levels": levels, "started_at": value.FormatTime(value.Micros(s.started)),
		"now": value.FormatTime(value.Micros(s.service.Now()))})
}

// GetVocabulary lists what conditions may speak of.
func (s *Server) GetVocabulary(c *gin.Context) { c.JSON(http.StatusOK, s.service.View.Vocabulary()) }

// PostEvidence takes one report or a stream of them.
func (s *Server) PostEvidence(c *gin.Context) {
	media, err := edge.MediaType(c, "application/json", "application/x-ndjson", "text/csv")
	if err != nil {
		s.fail(c, err)
		return
	}
	format := map[string]evidence.Format{"application/json": evidence.JSON,
		"application/x-ndjson": evidence.NDJSON, "text/csv": evidence.CSV}[media]
	who, only := actor(c), ""
	if who.Role == bearer.Source {
		only = who.Name
	}
	if !s.streams.Take(who.ID) {
		s.tooMany(c, fmt.Sprintf("the token has %d streams of evidence open already", edge.MaxStreams))
		return
	}
	defer s.streams.Give(who.ID)
	out, err := s.service.Intake.Ingest(c.Request.Context(), who.Name, only,
		http.MaxBytesReader(c.Writer, c.Request.Body, edge.MaxEvidence), format)
	switch {
	case err != nil && len(out.Results) == 0:
		s.fail(c, brokenStream(err))
		return
	case err != nil: // part of it has taken effect: say so line by line
		out.Results = append(out.Results, intake.ReportResult{Error: err.Error()})
		out.Rejected++
	case format == evidence.JSON && len(out.Results) == 1 && out.Results[0].Error != "":
		s.fail(c, edge.NewProblem(http.StatusBadRequest, "%s", out.Results[0].Error))
		return
	}
	c.JSON(http.StatusOK, out)
}

func brokenStream(err error) error {
	if p := edge.ProblemOf(err); p.Status != http.StatusInternalServerError {
		return err
	}
	if broken := (*intake.BrokenError)(nil); errors.As(err, &broken) {
		return edge.NewProblem(http.StatusBadRequest, "%s", err)
	}
	return err
}

// ListDevices lists devices.
func (s *Server) ListDevices(c *gin.Context, p api.ListDevicesParams) {
	limit, err := limitOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	q := view.DeviceSearch{Where: p.Where, Text: p.Q, Sort: p.Sort, Cursor: p.Cursor, Limit: limit,
		Columns: strings.FieldsFunc(p.Columns, func(r rune) bool { return r == ',' })}
	switch p.Format {
	case "csv":
		s.exportCSV(c, q)
		return
	case "", "json":
	default:
		s.fail(c, &fault.QueryError{Param: "format", Message: "the format is json or csv"})
		return
	}
	page, err := s.service.View.Devices(c.Request.Context(), q)
	s.answer(c, http.StatusOK, page, err)
}

// GetDevice shows a device.
func (s *Server) GetDevice(c *gin.Context, id string) {
	d := s.service.View.Device(id)
	if d == nil {
		s.fail(c, edge.NewProblem(http.StatusNotFound, "there is no device with the id, serial or hardware id %s", id))
		return
	}
	speakDevice(c, d)
	c.JSON(http.StatusOK, d)
}

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
func (s *Server) Ask(c *gin.Context) {
	e, err := evaluationOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	a := s.service.Decisions.Ask(e)
	speakAnswer(c, a)
	c.JSON(http.StatusOK, a)
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

// ListDecisions lists recorded decisions.
func (s *Server) ListDecisions(c *gin.Context, p api.ListDecisionsParams) {
	limit, err := limitOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	q := decision.Query{Person: p.Person, Device: p.Device, Resource: p.Resource,
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
	out := list[decision.Recorded]{Items: items}
	if len(items) > limit {
		out.Items = items[:limit]
		out.Next = items[limit-1].ID
	}
	s.answer(c, http.StatusOK, out, err)
}

// GetDecision shows a recorded decision.
func (s *Server) GetDecision(c *gin.Context, id string) {
	r, err := s.service.Decisions.Decision(c.Request.Context(), id)
	if err == nil {
		speakAnswer(c, &r.Answer)
	}
	s.answer(c, http.StatusOK, r, err)
}

// ListTokens lists tokens.
func (s *Server) ListTokens(c *gin.Context) {
	c.JSON(http.StatusOK, list[bearer.Token]{Items: s.service.Admin.Tokens()})
}

// CreateToken makes a token.
func (s *Server) CreateToken(c *gin.Context) {
	var in struct {
		Name string      `json:"name"`
		Role bearer.Role `json:"role"`
	}
	if err := edge.Decode(c, edge.MaxBody, &in); err != nil {
		s.fail(c, err)
		return
	}
	t, secret, err := s.service.Admin.CreateToken(c.Request.Context(), actor(c).Name, in.Name, in.Role)
	s.answer(c, http.StatusCreated, gin.H{"token": t, "secret": secret}, err)
}

// RevokeToken revokes a token.
func (s *Server) RevokeToken(c *gin.Context, id string) {
	t, err := s.service.Admin.RevokeToken(c.Request.Context(), actor(c).Name, id)
	s.answer(c, http.StatusOK, t, err)
}

// GetAuthzenConfiguration is the metadata of AuthZEN 1.0 (section 9).
func (s *Server) GetAuthzenConfiguration(c *gin.Context) {
	base := s.public
	c.JSON(http.StatusOK, gin.H{"policy_decision_point": base,
		"access_evaluation_endpoint":  base + "/access/v1/evaluation",
		"access_evaluations_endpoint": base + "/access/v1/evaluations",
		"search_subject_endpoint":     base + "/access/v1/search/subject",
		"search_resource_endpoint":    base + "/access/v1/search/resource",
		"search_action_endpoint":      base + "/access/v1/search/action"})
}
