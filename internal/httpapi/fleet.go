package httpapi

import (
	"context"
	"encoding/csv"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view"
)

// GetOverview shows the fleet at a glance.
func (s *Server) GetOverview(c *gin.Context, p api.GetOverviewParams) {
	const day = 24 * 3600 * 1_000_000
	within, err := view.Span("within", p.Within, 7*day)
	if err != nil {
		s.fail(c, err)
		return
	}
	back, err := view.Span("back", p.Back, 7*day)
	if err != nil {
		s.fail(c, err)
		return
	}
	o, err := s.service.View.Overview(c.Request.Context(), within, back)
	s.answer(c, http.StatusOK, o, err)
}

// GetDeviceHistory lists what became of a device.
func (s *Server) GetDeviceHistory(c *gin.Context, id string, p api.GetDeviceHistoryParams) {
	limit, err := limitOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	before := int64(0)
	if p.Cursor != "" {
		if before, err = strconv.ParseInt(p.Cursor, 10, 64); err != nil || before < 1 {
			s.fail(c, &fault.QueryError{Param: "cursor",
				Message: "this is not a cursor that a page of this list gave"})
			return
		}
	}
	events, err := s.service.View.DeviceHistory(c.Request.Context(), id, before, limit+1)
	out := list[view.HistoryEvent]{Items: events}
	if len(events) > limit {
		out.Items, out.Next = events[:limit], strconv.FormatInt(events[limit-1].Seq, 10)
	}
	s.answer(c, http.StatusOK, out, err)
}

// exportCSV writes every device that a query selects as CSV: what a list shows
// and the attributes asked for.
func (s *Server) exportCSV(c *gin.Context, q view.DeviceSearch) {
	if !s.exporting(c) {
		return
	}
	defer s.exports.Give(actor(c).ID)
	q.Limit, q.Cursor = 1<<30, ""
	page, err := s.service.View.Devices(c.Request.Context(), q)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Type", "text/csv; charset=utf-8")
	c.Header("Content-Disposition", `attachment; filename="devices.csv"`)
	w := csv.NewWriter(c.Writer)
	write := func(row []string) {
		for i := range row {
			row[i] = harmless(row[i])
		}
		_ = w.Write(row) // told of by Flush
	}
	write(append([]string{"id", "name", "level", "shadow_level", "binding", "platform", "os_version", "form",
		"model", "owner", "ownership", "serial", "since", "seen_at", "next_change"}, q.Columns...))
	for _, d := range page.Items {
		row := []string{d.ID, d.Name, d.Level, d.Shadow, strings.Join(d.Binding, "; "), d.Platform,
			d.OSVersion, d.Form, d.Model, d.Owner, d.Ownership, d.Serial, d.Since, d.SeenAt, d.Next}
		for _, name := range q.Columns {
			row = append(row, d.Values[name])
		}
		write(row)
	}
	if w.Flush(); w.Error() != nil {
		s.log.Debug("export broke off", "error", w.Error())
	}
}

// harmless keeps a cell that devices themselves may have written from being
// taken for a formula by a spreadsheet.
func harmless(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
		return "'" + cell
	}
	return cell
}

// ListCertificates lists the certificates of the fleet.
func (s *Server) ListCertificates(c *gin.Context, p api.ListCertificatesParams) {
	limit, err := limitOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	page, err := s.service.View.Certificates(c.Request.Context(),
		view.CertificateQuery{Where: p.Where, Text: p.Q, State: p.State, Cursor: p.Cursor, Limit: limit})
	s.answer(c, http.StatusOK, page, err)
}

// ListSources lists who supplies evidence.
func (s *Server) ListSources(c *gin.Context) {
	c.JSON(http.StatusOK, list[view.Source]{Items: s.service.View.Sources()})
}

// ListUnmatched lists the reports kept aside.
func (s *Server) ListUnmatched(c *gin.Context, p api.ListUnmatchedParams) {
	items, err := s.service.View.Unmatched(p.All)
	s.answer(c, http.StatusOK, list[view.Unmatched]{Items: items}, err)
}

// SettleUnmatched says whose a report is.
func (s *Server) SettleUnmatched(c *gin.Context, id string) {
	var in admin.Settlement
	if err := edge.Decode(c, edge.MaxBody, &in); err != nil {
		s.fail(c, err)
		return
	}
	t, err := s.service.Admin.Settle(c.Request.Context(), actor(c).Name, id, in)
	s.answer(c, http.StatusOK, t, err)
}

// ListWaivers lists waivers.
func (s *Server) ListWaivers(c *gin.Context, p api.ListWaiversParams) {
	items, err := s.service.View.Waivers(view.ExceptionQuery{Device: p.Device, State: p.State, Within: p.Within})
	s.answer(c, http.StatusOK, list[state.ShownException]{Items: items}, err)
}

// ListVouches lists vouches.
func (s *Server) ListVouches(c *gin.Context, p api.ListVouchesParams) {
	items, err := s.service.View.Vouches(view.ExceptionQuery{Device: p.Device, State: p.State, Within: p.Within})
	s.answer(c, http.StatusOK, list[state.ShownException]{Items: items}, err)
}

// CreateWaiver makes an exception.
func (s *Server) CreateWaiver(c *gin.Context) {
	var in admin.ExceptionRequest
	if err := edge.Decode(c, edge.MaxBody, &in); err != nil {
		s.fail(c, err)
		return
	}
	g, err := s.service.Admin.Waive(c.Request.Context(), actor(c).Name, in)
	s.answer(c, http.StatusCreated, g, err)
}

// CreateVouch states that a device is genuine.
func (s *Server) CreateVouch(c *gin.Context) {
	var in admin.ExceptionRequest
	if err := edge.Decode(c, edge.MaxBody, &in); err != nil {
		s.fail(c, err)
		return
	}
	g, err := s.service.Admin.Vouch(c.Request.Context(), actor(c).Name, in)
	s.answer(c, http.StatusCreated, g, err)
}

// RevokeWaiver ends a waiver.
func (s *Server) RevokeWaiver(c *gin.Context, id string) { s.revoke(c, id) }

// RevokeVouch ends a vouch.
func (s *Server) RevokeVouch(c *gin.Context, id string) { s.revoke(c, id) }

type reason struct {
	Reason string `json:"reason"`
}

func (s *Server) revoke(c *gin.Context, id string) {
	var in reason
	if err := edge.Decode(c, edge.MaxBody, &in); err != nil {
		s.fail(c, err)
		return
	}
	g, err := s.service.Admin.Revoke(c.Request.Context(), actor(c).Name, id, in.Reason)
	s.answer(c, http.StatusOK, g, err)
}

// ListRoster lists the hardware registered in advance.
func (s *Server) ListRoster(c *gin.Context, p api.ListRosterParams) {
	c.JSON(http.StatusOK, list[view.RosterEntry]{Items: s.service.View.RosterList(p.Q)})
}

// ImportRoster adds hardware to the roster.
func (s *Server) ImportRoster(c *gin.Context, p api.ImportRosterParams) {
	if _, err := edge.MediaType(c, "text/csv"); err != nil {
		s.fail(c, err)
		return
	}
	entries, refused, err := readList(c, directory.ReadRoster)
	if err != nil {
		s.fail(c, err)
		return
	}
	in, err := s.service.Admin.ImportRoster(c.Request.Context(), actor(c).Name, entries,
		admin.ListImport{DryRun: p.DryRun, AcceptImpact: p.AcceptImpact})
	s.answer(c, http.StatusOK, listIntake{in, refused}, err)
}

// RemoveRoster takes an entry off the roster.
func (s *Server) RemoveRoster(c *gin.Context, id string) {
	s.remove(c, id, s.service.Admin.RemoveRoster)
}

// remove removes something for a reason, or tells what that would change.
func (s *Server) remove(c *gin.Context, id string,
	from func(ctx context.Context, actor, id string, how admin.Removal) (admin.ListIntake, error)) {
	var in admin.Removal
	if err := edge.Decode(c, edge.MaxBody, &in); err != nil {
		s.fail(c, err)
		return
	}
	got, err := from(c.Request.Context(), actor(c).Name, id, in)
	if err == nil && !in.DryRun {
		c.Status(http.StatusNoContent)
		return
	}
	s.answer(c, http.StatusOK, listIntake{got, []directory.Refusal{}}, err)
}

// ListSearches lists the searches that are kept.
func (s *Server) ListSearches(c *gin.Context) {
	c.JSON(http.StatusOK, list[state.Search]{Items: s.service.View.Searches()})
}

// KeepSearch keeps a search.
func (s *Server) KeepSearch(c *gin.Context) {
	var in struct {
		Name    string   `json:"name"`
		Where   string   `json:"where"`
		Text    string   `json:"q"`
		Sort    string   `json:"sort"`
		Columns []string `json:"columns"`
	}
	if err := edge.Decode(c, edge.MaxBody, &in); err != nil {
		s.fail(c, err)
		return
	}
	q, err := s.service.View.KeepSearch(c.Request.Context(), actor(c).Name,
		state.Search{Name: in.Name, Where: in.Where, Text: in.Text, Sort: in.Sort, Columns: in.Columns})
	s.answer(c, http.StatusOK, q, err)
}

// DropSearch forgets a search.
func (s *Server) DropSearch(c *gin.Context, name string) {
	if err := s.service.View.DropSearch(c.Request.Context(), name); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
