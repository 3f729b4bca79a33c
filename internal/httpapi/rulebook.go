package httpapi

import (
	"errors"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/review"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/store"
	"ironledger.example/internal/view"
)

func infoOf(r store.Rulebook) api.RulebookInfo {
	i := api.RulebookInfo{Version: r.Version, Author: r.Author, Message: r.Message, Digest: r.Digest, Files: r.Files}
	if r.Version > 0 {
		i.At = value.FormatTime(r.At)
	}
	return i
}

// ListRules lists the rules in force.
func (s *Server) ListRules(*gin.Context) (api.List[api.Rule], error) {
	return edge.All(s.service.View.Rules()), nil
}

// GetRule shows a rule.
func (s *Server) GetRule(c *gin.Context, baseline, rule string, p api.GetRuleParams) (*api.RuleDetail, error) {
	back, err := view.Span("back", p.Back, 7*value.Day)
	if err != nil {
		return nil, err
	}
	return s.service.View.Rule(c.Request.Context(), baseline+"/"+rule, back)
}

// ListRulebooks lists the published versions.
func (s *Server) ListRulebooks(c *gin.Context) (api.List[api.RulebookInfo], error) {
	versions, err := s.service.View.History(c.Request.Context())
	out := []api.RulebookInfo{}
	for _, r := range versions {
		out = append(out, infoOf(r))
	}
	return edge.All(out), err
}

// GetRulebook shows a published version.
func (s *Server) GetRulebook(c *gin.Context, version string) (*api.RulebookInfo, error) {
	n := int64(0)
	if version != "current" {
		var err error
		if n, err = strconv.ParseInt(version, 10, 64); err != nil || n < 1 {
			return nil, edge.NewProblem(http.StatusBadRequest, "%q is not a version: write a number or "+
				"current", version)
		}
	}
	r, err := s.service.View.Version(c.Request.Context(), n)
	if err != nil {
		return nil, err
	}
	c.Header("ETag", strconv.Quote(strconv.FormatInt(r.Version, 10)))
	info := infoOf(*r)
	return &info, nil
}

// checkDraft finds what is wrong with a draft before it is read as a rulebook.
func checkDraft(d *api.Draft) error {
	switch {
	case len(d.Files) == 0:
		return &access.FieldError{Pointer: "/files", Message: "a rulebook has at least one file"}
	case d.Message != "" && strings.TrimSpace(d.Message) == "":
		return &access.FieldError{Pointer: "/message", Message: "the message is empty; say what the change is for"}
	case d.AcceptImpact != "" && strings.TrimSpace(d.AcceptImpact) == "":
		return &access.FieldError{Pointer: "/accept_impact", Message: "the reason is empty; say why it is so all the same"}
	case len(d.Message) > 2000:
		return &access.FieldError{Pointer: "/message", Message: "longer than 2000 bytes"}
	}
	return nil
}

// PublishRulebook puts a rulebook in force.
func (s *Server) PublishRulebook(c *gin.Context, d api.Draft) (*api.Publication, error) {
	if err := checkDraft(&d); err != nil {
		return nil, err
	}
	if match := c.GetHeader("If-Match"); match != "" && d.Base == nil {
		n, err := strconv.ParseInt(strings.Trim(match, `"`), 10, 64)
		if err != nil {
			return nil, edge.NewProblem(http.StatusBadRequest, "If-Match must be the ETag of a rulebook, such as \"3\"")
		}
		d.Base = &n
	}
	r, moved, err := s.service.Admin.Publish(c.Request.Context(), actor(c).Name, d)
	var same *admin.UnchangedError
	if errors.As(err, &same) {
		r, err = same.Book, nil
	}
	if err != nil {
		return nil, err
	}
	info := infoOf(*r)
	info.Files = nil
	return &api.Publication{Rulebook: info, Moved: moved, Unchanged: same != nil}, nil
}

// WeighRulebook tells why a rulebook would be held back.
func (s *Server) WeighRulebook(c *gin.Context, d api.Draft) (api.List[api.Impact], error) {
	if err := checkDraft(&d); err != nil {
		return api.List[api.Impact]{}, err
	}
	list, err := s.service.Admin.Weigh(c.Request.Context(), d.Files)
	return edge.All(list), err
}

// CheckRulebook finds what is wrong with a rulebook.
func (s *Server) CheckRulebook(c *gin.Context, d api.Draft) (*api.Check, error) {
	if err := checkDraft(&d); err != nil {
		return nil, err
	}
	out := &api.Check{Problems: rulebook.Problems{}, Examples: []rehearsal.Outcome{}, Remarks: []review.Remark{}}
	rb, remarks, err := s.service.Admin.Review(d.Files)
	var problems rulebook.Problems
	switch {
	case errors.As(err, &problems):
		out.Problems = problems
		return out, nil
	case err != nil:
		return nil, err
	}
	out.OK, out.Remarks = true, append(out.Remarks, remarks...)
	out.Examples = rehearsal.Examples(rb, value.Micros(s.service.Now()))
	for _, e := range out.Examples {
		out.OK = out.OK && e.Passed
	}
	return out, nil
}

// FormatRulebook prints conditions in the canonical way.
func (s *Server) FormatRulebook(c *gin.Context, d api.Draft) (*api.Formatted, error) {
	if err := checkDraft(&d); err != nil {
		return nil, err
	}
	files, err := rulebook.Format(d.Files)
	return &api.Formatted{Files: files}, err
}

// CompareRulebook tells what a rulebook changes.
func (s *Server) CompareRulebook(c *gin.Context, p api.CompareRulebookParams,
	d api.Draft) (out api.List[api.Difference], err error) {
	if err := checkDraft(&d); err != nil {
		return out, err
	}
	items, err := s.service.Admin.CompareRulebooks(c.Request.Context(), p.Version, d.Files)
	return edge.All(items), err
}

// RehearseRulebook works out what a rulebook would do.
func (s *Server) RehearseRulebook(c *gin.Context, d api.Draft) (*api.Shift, error) {
	if err := checkDraft(&d); err != nil {
		return nil, err
	}
	return s.service.Admin.Rehearse(c.Request.Context(), d.Files)
}

// RehearseDevice tells how a device would stand under a rulebook.
func (s *Server) RehearseDevice(c *gin.Context, id string, d api.Draft) (*api.Device, error) {
	if err := checkDraft(&d); err != nil {
		return nil, err
	}
	detail, err := s.service.View.RehearseDevice(d.Files, id)
	if err == nil {
		edge.SpeakDevice(c, detail)
	}
	return detail, err
}

// ReplayRulebook works out what a rulebook would answer to past requests.
func (s *Server) ReplayRulebook(c *gin.Context, p api.ReplayRulebookParams, d api.Draft) (*api.AccessShift, error) {
	if err := checkDraft(&d); err != nil {
		return nil, err
	}
	return s.service.Decisions.Replay(c.Request.Context(), d.Files, daysOf(c, p.Days))
}

// GetShadow tells what the shadow baselines would do.
func (s *Server) GetShadow(c *gin.Context) (*api.Shift, error) {
	return s.service.Admin.Shadow(c.Request.Context())
}
