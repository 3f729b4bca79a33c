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
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/store"
)

type rulebookInfo struct {
	store.Rulebook
	At string `json:"at,omitempty"`
}

func infoOf(r store.Rulebook) rulebookInfo {
	i := rulebookInfo{Rulebook: r}
	if r.Version > 0 {
		i.At = value.FormatTime(r.At)
	}
	return i
}

// ListRulebooks lists the published versions.
func (s *Server) ListRulebooks(c *gin.Context) {
	all, err := s.service.View.History(c.Request.Context())
	out := list[rulebookInfo]{Items: []rulebookInfo{}}
	for _, r := range all {
		out.Items = append(out.Items, infoOf(r))
	}
	s.answer(c, http.StatusOK, out, err)
}

// GetRulebook shows a published version.
func (s *Server) GetRulebook(c *gin.Context, version string) {
	n := int64(0)
	if version != "current" {
		var err error
		if n, err = strconv.ParseInt(version, 10, 64); err != nil || n < 1 {
			s.fail(c, edge.NewProblem(http.StatusBadRequest, "%q is not a version: write a number or current", version))
			return
		}
	}
	r, err := s.service.View.Version(c.Request.Context(), n)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("ETag", strconv.Quote(strconv.FormatInt(r.Version, 10)))
	c.JSON(http.StatusOK, infoOf(*r))
}

func draftOf(c *gin.Context) (admin.Draft, error) {
	var d admin.Draft
	if err := edge.Decode(c, edge.MaxRulebook, &d); err != nil {
		return d, err
	}
	if len(d.Files) == 0 {
		return d, &access.FieldError{Pointer: "/files", Message: "a rulebook has at least one file"}
	}
	if len(d.Message) > 2000 {
		return d, &access.FieldError{Pointer: "/message", Message: "longer than 2000 bytes"}
	}
	if match := c.GetHeader("If-Match"); match != "" && d.Base == nil {
		n, err := strconv.ParseInt(strings.Trim(match, `"`), 10, 64)
		if err != nil {
			return d, edge.NewProblem(http.StatusBadRequest, "If-Match must be the ETag of a rulebook, such as \"3\"")
		}
		d.Base = &n
	}
	return d, nil
}

// PublishRulebook puts a rulebook in force.
func (s *Server) PublishRulebook(c *gin.Context) {
	d, err := draftOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	r, moved, err := s.service.Admin.Publish(c.Request.Context(), actor(c).Name, d)
	if err != nil {
		s.fail(c, err)
		return
	}
	info := *r
	info.Files = nil
	c.JSON(http.StatusCreated, gin.H{"rulebook": infoOf(info), "moved": moved})
}

// CheckRulebook finds what is wrong with a rulebook.
func (s *Server) CheckRulebook(c *gin.Context) {
	d, err := draftOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := struct {
		OK       bool                `json:"ok"`
		Problems rulebook.Problems   `json:"problems"`
		Examples []rehearsal.Outcome `json:"examples"`
		Remarks  []rulebook.Remark   `json:"remarks"`
	}{Problems: rulebook.Problems{}, Examples: []rehearsal.Outcome{}, Remarks: []rulebook.Remark{}}
	rb, remarks, err := s.service.Admin.Review(d.Files)
	var problems rulebook.Problems
	if errors.As(err, &problems) {
		out.Problems = problems
	} else if err != nil {
		s.fail(c, err)
		return
	} else {
		out.OK, out.Remarks = true, append(out.Remarks, remarks...)
		out.Examples = rehearsal.Examples(rb, value.Micros(s.service.Now()))
		for _, e := range out.Examples {
			out.OK = out.OK && e.Passed
		}
	}
	c.JSON(http.StatusOK, out)
}

// FormatRulebook prints conditions in the canonical way.
func (s *Server) FormatRulebook(c *gin.Context) {
	d, err := draftOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	files, err := rulebook.Format(d.Files)
	s.answer(c, http.StatusOK, gin.H{"files": files}, err)
}

// CompareRulebook tells what a rulebook changes.
func (s *Server) CompareRulebook(c *gin.Context, p api.CompareRulebookParams) {
	d, err := draftOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	items, err := s.service.Admin.CompareRulebooks(c.Request.Context(), p.Version, d.Files)
	s.answer(c, http.StatusOK, list[rulebook.Difference]{Items: items}, err)
}

// RehearseRulebook works out what a rulebook would do.
func (s *Server) RehearseRulebook(c *gin.Context) {
	d, err := draftOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	shift, err := s.service.Admin.Rehearse(d.Files)
	s.answer(c, http.StatusOK, shift, err)
}

// RehearseDevice tells how a device would stand under a rulebook.
func (s *Server) RehearseDevice(c *gin.Context, id string) {
	d, err := draftOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	detail, err := s.service.View.RehearseDevice(d.Files, id)
	if err == nil {
		speakDevice(c, detail)
	}
	s.answer(c, http.StatusOK, detail, err)
}

// GetShadow tells what the shadow baselines would do.
func (s *Server) GetShadow(c *gin.Context) { c.JSON(http.StatusOK, s.service.Admin.Shadow()) }
