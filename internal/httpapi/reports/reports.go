// Package reports answers HTTP for reports on controls.
package reports

import (
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/account"
	"ironledger.example/internal/controls"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/service"
)

// Pages answers for a service.
type Pages struct {
	service *service.Service
	fail    func(*gin.Context, error)
}

// For answers for a service; fail answers with an error.
func For(s *service.Service, fail func(*gin.Context, error)) Pages { return Pages{s, fail} }

// ListReports lists what was kept.
func (p Pages) ListReports(_ *gin.Context, q api.ListReportsParams) (*api.ReportList, error) {
	return p.service.Controls.List(q.Report), nil
}

// ReportTrends compares the last reports of one in the rulebook.
func (p Pages) ReportTrends(_ *gin.Context, q api.ReportTrendsParams) (*api.ReportTrends, error) {
	return p.service.Controls.Trends(q.Report)
}

// ReportControls makes a report.
func (p Pages) ReportControls(c *gin.Context, q api.ReportControlsParams) {
	form, err := formOf(q.Form)
	var ids []string
	if q.Control != "" {
		ids = strings.Split(q.Control, ",")
	}
	var r *account.Report
	if err == nil {
		r, err = p.service.Controls.Make(c.Request.Context(), &controls.Asked{From: q.From, To: q.To, Controls: ids})
	}
	p.write(c, r, form, err)
}

// GetReport shows a report that was kept.
func (p Pages) GetReport(c *gin.Context, id string, q api.GetReportParams) {
	form, err := formOf(q.Form)
	var r *account.Report
	if err == nil {
		if r, err = p.service.Controls.Opened(id); err == nil && r == nil {
			err = fault.NotFound("report", id)
		}
	}
	p.write(c, r, form, err)
}

func formOf(name string) (controls.Form, error) {
	if name == "" {
		return controls.JSON, nil
	}
	if form := controls.Form(name); slices.Contains(controls.Forms, form) {
		return form, nil
	}
	return "", &fault.QueryError{Param: "form", Message: "a report is written as json, html, csv or oscal"}
}

// write answers with a report in a form.
func (p Pages) write(c *gin.Context, r *account.Report, form controls.Form, err error) {
	var raw []byte
	if err == nil {
		raw, err = controls.Write(r, form, p.service.Key.Signer)
	}
	if err != nil {
		p.fail(c, err)
		return
	}
	if form == controls.HTML { // of its own: it has a style and pictures, and nothing that runs or is fetched
		c.Header("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src data:; "+
			"frame-ancestors 'none'; base-uri 'none'; form-action 'none'")
	}
	if form != controls.JSON {
		how := "attachment"
		if form == controls.HTML {
			how = "inline"
		}
		c.Header("Content-Disposition", how+`; filename="`+controls.Name(r)+form.File()+`"`)
	}
	c.Data(http.StatusOK, form.Type(), raw)
}
