package httpapi

import (
	"errors"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/view/find"
)

var _ operations = (*Server)(nil)

func sessionOf(t *bearer.Token) *api.Session {
	s := &api.Session{Name: t.Name, Role: string(t.Role), May: []string{}}
	for _, p := range bearer.Permissions {
		if t.Role.May(p) {
			s.May = append(s.May, string(p))
		}
	}
	return s
}

// GetSession tells the caller who they are.
func (s *Server) GetSession(c *gin.Context) (*api.Session, error) { return sessionOf(actor(c)), nil }

// OpenSession signs a person in to the console.
func (s *Server) OpenSession(c *gin.Context, in api.SignIn) (*api.Session, error) {
	if err := s.origin.Check(c.Request); err != nil {
		return nil, edge.NewProblem(http.StatusForbidden, "the request comes from another site")
	}
	t, ok := s.service.Admin.Authenticate(strings.TrimSpace(in.Token))
	switch {
	case !ok:
		if err := s.guessed(c, "token at the sign-in"); err != nil {
			return nil, err
		}
		return nil, edge.NewProblem(http.StatusUnauthorized, "this token is not valid here")
	case !t.Role.May(bearer.MayRead):
		return nil, edge.NewProblem(http.StatusForbidden, "a token of the role %s does not open the console", t.Role)
	}
	secret, err := s.service.Admin.SignIn(t)
	if err != nil {
		return nil, err
	}
	s.setCookie(c, secret, int(admin.SessionLength.Seconds()))
	s.log.Info("signed in to the console", "token", t.Name)
	return sessionOf(t), nil
}

func (s *Server) setCookie(c *gin.Context, value string, age int) {
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Value: value, Path: "/", MaxAge: age,
		HttpOnly: true, Secure: s.secure, SameSite: http.SameSiteStrictMode})
}

// CloseSession signs a person out of the console.
func (s *Server) CloseSession(c *gin.Context) error {
	if secret, err := c.Cookie(cookieName); err == nil {
		if err := s.service.Admin.SignOut(secret); err != nil {
			return err
		}
	}
	s.setCookie(c, "", -1)
	return nil
}

// GetStatus shows the service at a glance.
func (s *Server) GetStatus(c *gin.Context) (*api.Status, error) {
	snap := s.service.Snapshot()
	count, err := s.service.Decisions.DecisionCount(c.Request.Context())
	if err != nil {
		return nil, err
	}
	page, err := s.service.View.Devices(c.Request.Context(), find.Query{Limit: 1})
	if err != nil {
		return nil, err
	}
	size, err := s.service.Audit.Size(c.Request.Context())
	if err != nil {
		return nil, err
	}
	var levels []api.LevelCount
	for _, l := range snap.Book.Rulebook.Ladder {
		levels = append(levels, api.LevelCount{Level: l, Devices: page.Levels[l]})
	}
	info := infoOf(snap.Book.Info)
	info.Files = nil
	return &api.Status{Version: s.version, Devices: page.Total, People: snap.People.Len(), Decisions: count,
		Rulebook: info, Levels: levels, StartedAt: value.FormatTime(value.Micros(s.started)),
		Now: value.FormatTime(value.Micros(s.service.Now())), Records: *size}, nil
}

// GetVocabulary lists what conditions may speak of.
func (s *Server) GetVocabulary(c *gin.Context) (*api.Vocabulary, error) {
	return s.service.View.Vocabulary(), nil
}

// PostEvidence takes one report or a stream of them.
func (s *Server) PostEvidence(c *gin.Context, p api.PostEvidenceParams) (*api.IngestResult, error) {
	media, err := edge.MediaType(c, "application/json", "application/x-ndjson", "text/csv")
	if err != nil {
		return nil, err
	}
	format := map[string]evidence.Format{"application/json": evidence.JSON,
		"application/x-ndjson": evidence.NDJSON, "text/csv": evidence.CSV}[media]
	who := actor(c)
	only, err := sourceOf(who, p.Source)
	if err == nil {
		err = wholeAsked(&p, only)
	}
	if err != nil {
		return nil, err
	}
	if !s.streams.Take(who.ID) {
		return nil, edge.TooMany("the token has %d streams of evidence open already", edge.MaxStreams)
	}
	defer s.streams.Give(who.ID)
	ctx, in := c.Request.Context(), http.MaxBytesReader(c.Writer, c.Request.Body, edge.MaxEvidence)
	var out *api.IngestResult
	switch {
	case p.DryRun:
		out, err = s.service.Intake.Try(ctx, who.Name, only, in, format)
	case p.Whole:
		out, err = s.service.Intake.IngestWhole(ctx, who.Name, in, format,
			intake.Whole{Source: only, Accept: strings.TrimSpace(p.AcceptImpact)})
	default:
		out, err = s.service.Intake.Ingest(ctx, who.Name, only, in, format)
	}
	switch {
	case err != nil && len(out.Results) == 0:
		return nil, brokenStream(err)
	case err != nil: // part of it has taken effect: say so line by line
		out.Results = append(out.Results, api.ReportResult{Error: err.Error()})
		out.Rejected++
	case format == evidence.JSON && len(out.Results) == 1 && out.Results[0].Error != "":
		return nil, edge.NewProblem(http.StatusBadRequest, "%s", out.Results[0].Error)
	}
	return out, nil
}

// sourceOf is the one source that a token may report as, "" for any.
func sourceOf(who *bearer.Token, asked string) (string, error) {
	if who.Role != bearer.Source {
		return asked, nil
	}
	if asked != "" && asked != who.Name {
		return "", &fault.QueryError{Param: "source", Message: "the token may only report as " + who.Name}
	}
	return who.Name, nil
}

// LookAtFile tells what stands in a file.
func (s *Server) LookAtFile(_ *gin.Context, in api.FileDraft) (*api.FileColumns, error) {
	return s.service.Uploads.Look(&in)
}

// ImportFile brings a file in, or tries it.
func (s *Server) ImportFile(c *gin.Context, in api.FileImport) (*api.FileResult, error) {
	who := actor(c)
	only, err := sourceOf(who, in.Source)
	if err != nil {
		return nil, err
	}
	return s.service.Uploads.Bring(c.Request.Context(), who.Name, only, &in)
}

// ListMappings lists how files of sources are read.
func (s *Server) ListMappings(*gin.Context) (api.List[api.KeptMapping], error) {
	return api.List[api.KeptMapping]{Items: s.service.Uploads.Mappings()}, nil
}

// DropMapping forgets one.
func (s *Server) DropMapping(c *gin.Context, source string) error {
	return s.service.Uploads.Forget(c.Request.Context(), source)
}

// wholeAsked checks what is asked beside evidence.
func wholeAsked(p *api.PostEvidenceParams, source string) error {
	switch {
	case p.Whole && source == "":
		return &fault.QueryError{Param: "source", Message: "say whose whole inventory it is"}
	case p.Whole && p.DryRun:
		return &fault.QueryError{Param: "dry_run", Message: "a trial tells nothing of devices that are gone; leave whole out"}
	case !p.Whole && p.AcceptImpact != "":
		return &fault.QueryError{Param: "accept_impact", Message: "only a whole inventory has devices that are gone"}
	}
	return nil
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

// ListTokens lists tokens.
func (s *Server) ListTokens(*gin.Context) (api.List[api.Token], error) {
	return edge.All(s.service.Admin.Tokens()), nil
}

// CreateToken makes a token.
func (s *Server) CreateToken(c *gin.Context, in api.TokenDraft) (*api.NewToken, error) {
	return s.newToken(s.service.Admin.CreateToken(c.Request.Context(), actor(c).Name, in.Name,
		bearer.Role(in.Role), in.For))
}

func (s *Server) newToken(t bearer.Token, secret string, err error) (*api.NewToken, error) {
	if err != nil {
		return nil, err
	}
	return &api.NewToken{Token: s.service.Admin.ShowToken(t), Secret: secret}, nil
}

// RotateToken makes a token in the place of one.
func (s *Server) RotateToken(c *gin.Context, id string, in api.TokenRotation) (*api.NewToken, error) {
	return s.newToken(s.service.Admin.RotateToken(c.Request.Context(), actor(c).Name, id, in))
}

// RevokeToken revokes a token.
func (s *Server) RevokeToken(c *gin.Context, id string) (*api.Token, error) {
	t, err := s.service.Admin.RevokeToken(c.Request.Context(), actor(c).Name, id)
	if err != nil {
		return nil, err
	}
	out := s.service.Admin.ShowToken(t)
	return &out, nil
}

// GetAuthzenConfiguration is the metadata of AuthZEN 1.0 (section 9).
func (s *Server) GetAuthzenConfiguration(c *gin.Context) (*api.AuthzenMetadata, error) {
	base := s.public
	return &api.AuthzenMetadata{PolicyDecisionPoint: base,
		AccessEvaluationEndpoint:  base + "/access/v1/evaluation",
		AccessEvaluationsEndpoint: base + "/access/v1/evaluations",
		SearchSubjectEndpoint:     base + "/access/v1/search/subject",
		SearchResourceEndpoint:    base + "/access/v1/search/resource",
		SearchActionEndpoint:      base + "/access/v1/search/action"}, nil
}
