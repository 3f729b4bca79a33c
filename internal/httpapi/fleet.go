package httpapi

import (
	"encoding/csv"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/core/value"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view"
	"ironledger.example/internal/view/find"
)

// GetOverview shows the fleet at a glance.
func (s *Server) GetOverview(c *gin.Context, p api.GetOverviewParams) (*api.Overview, error) {
	within, err := view.Span("within", p.Within, view.FirstLook)
	if err != nil {
		return nil, err
	}
	back, err := view.Span("back", p.Back, view.FirstLook)
	if err != nil {
		return nil, err
	}
	return s.service.View.Overview(c.Request.Context(), within, back)
}

// ListDevices lists devices.
func (s *Server) ListDevices(c *gin.Context, p api.ListDevicesParams) {
	limit, err := edge.Limit(c, p.Limit)
	if err != nil {
		s.fail(c, err)
		return
	}
	q := find.Query{Where: p.Where, Text: p.Q, Sort: p.Sort, Cursor: p.Cursor, Limit: limit,
		Rule: p.Rule, Verdict: p.Verdict, Retired: p.Retired, Undecided: p.Undecided,
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

// exportCSV writes every device that a query selects as CSV: what a list shows
// and the attributes asked for.
func (s *Server) exportCSV(c *gin.Context, q find.Query) {
	if err := s.exporting(c); err != nil {
		s.fail(c, err)
		return
	}
	defer s.exports.Give(actor(c).ID)
	devices, err := s.service.View.AllDevices(c.Request.Context(), q)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Type", "text/csv; charset=utf-8")
	c.Header("Content-Disposition", `attachment; filename="devices.csv"`)
	w := csv.NewWriter(c.Writer)
	write := func(row []string) {
		for i := range row {
			row[i] = value.Cell(row[i])
		}
		_ = w.Write(row) // told of by Flush
	}
	write(append([]string{"id", "name", "level", "shadow_level", "binding", "platform", "os_version", "form",
		"model", "owner", "ownership", "serial", "since", "seen_at", "next_change"}, q.Columns...))
	for d := range devices {
		if w.Error() != nil {
			break
		}
		row := []string{d.ID, d.Name, d.Level, d.ShadowLevel, strings.Join(d.Binding, "; "), d.Platform,
			d.OSVersion, d.Form, d.Model, d.Owner, d.Ownership, d.Serial, d.Since, d.SeenAt, d.NextChange}
		for _, name := range q.Columns {
			row = append(row, d.Values[name])
		}
		write(row)
	}
	if w.Flush(); w.Error() != nil {
		s.log.Debug("export broke off", "error", w.Error())
	}
}

// GetDevice shows a device.
func (s *Server) GetDevice(c *gin.Context, id string) (*api.Device, error) {
	d := s.service.View.Device(id)
	if d == nil {
		return nil, edge.NewProblem(http.StatusNotFound, "there is no device with the id, serial or hardware id %s", id)
	}
	edge.SpeakDevice(c, d)
	return d, nil
}

// GetDeviceHistory lists what became of a device.
func (s *Server) GetDeviceHistory(c *gin.Context, id string,
	p api.GetDeviceHistoryParams) (out api.List[api.HistoryEvent], err error) {
	limit, err := edge.Limit(c, p.Limit)
	if err != nil {
		return out, err
	}
	before, err := edge.EntryCursor(p.Cursor)
	if err != nil {
		return out, err
	}
	events, err := s.service.View.DeviceHistory(c.Request.Context(), id, before, limit+1)
	return page(events, limit, func(e *api.HistoryEvent) string { return strconv.FormatInt(e.Seq, 10) }), err
}

// GetPastDevice shows a device as it stood at a moment.
func (s *Server) GetPastDevice(c *gin.Context, id string, p api.GetPastDeviceParams) (*api.PastDevice, error) {
	at, err := value.ParseTime(p.At)
	if err != nil {
		return nil, &fault.QueryError{Param: "at", Message: err.Error()}
	}
	d, err := s.service.View.DeviceAt(c.Request.Context(), id, at.Num())
	if err == nil {
		edge.SpeakDevice(c, &d.Device)
	}
	return d, err
}

// QuarantineDevices orders that devices stand at the lowest level.
func (s *Server) QuarantineDevices(c *gin.Context, in api.QuarantineDraft) (api.List[api.Quarantine], error) {
	lasts := time.Duration(0)
	if in.For != "" {
		d, err := value.ParseDuration(in.For)
		if err != nil {
			return api.List[api.Quarantine]{}, fault.Input("/for", err.Error())
		}
		if lasts = time.Duration(d.Num()) * time.Microsecond; lasts == 0 {
			return api.List[api.Quarantine]{}, fault.Input("/for", "a quarantine of no time is none")
		}
	}
	list, err := s.service.Admin.Quarantine(c.Request.Context(), actor(c).Name, in.Devices, in.Reason, lasts)
	return orders(list), err
}

// ReleaseDevices lifts such orders.
func (s *Server) ReleaseDevices(c *gin.Context, in api.ReleaseDraft) (api.List[api.Quarantine], error) {
	list, err := s.service.Admin.Release(c.Request.Context(), actor(c).Name, in.Devices, in.Reason)
	return orders(list), err
}

// TagDevices puts words on devices and takes some off.
func (s *Server) TagDevices(c *gin.Context, in api.TagsDraft) (api.List[api.DeviceTags], error) {
	list, err := s.service.Admin.Tag(c.Request.Context(), actor(c).Name, in)
	out := []api.DeviceTags{}
	for i := range list {
		out = append(out, view.Tags(&list[i]))
	}
	return edge.All(out), err
}

func orders(list []kept.Quarantine) api.List[api.Quarantine] {
	out := []api.Quarantine{}
	for i := range list {
		out = append(out, view.Quarantine(&list[i]))
	}
	return edge.All(out)
}

// RetireDevice takes a device out of service.
func (s *Server) RetireDevice(c *gin.Context, id string, in api.Reason) (*api.Retirement, error) {
	return first(s.service.Admin.Retire(c.Request.Context(), actor(c).Name, []string{id}, in.Reason))
}

// RetireDevices takes devices out of service.
func (s *Server) RetireDevices(c *gin.Context, in api.ReleaseDraft) (api.List[api.Retirement], error) {
	list, err := s.service.Admin.Retire(c.Request.Context(), actor(c).Name, in.Devices, in.Reason)
	return edge.All(list), err
}

// deviceID is the id of a device that somebody calls by its id, serial or hardware id.
func (s *Server) deviceID(name string) string { return s.service.View.DeviceID(name) }

// PurgeDevices removes what is known of retired devices.
func (s *Server) PurgeDevices(c *gin.Context, in api.PurgeDraft) (out api.List[api.Purged], err error) {
	ctx, who := c.Request.Context(), actor(c).Name
	list, err := s.service.Admin.Purge(ctx, who, in.Devices, in.Reason)
	if err != nil {
		return out, err
	}
	out.Items = []api.Purged{}
	for _, p := range list {
		x := api.Purged{Device: p.Device, Readings: p.Readings}
		if in.Redact {
			if x.Redacted, err = s.service.Audit.RedactAbout(ctx, who, p.Device, in.Reason); err != nil {
				return out, fmt.Errorf("the devices are purged, and of %s %d entries are redacted, not all: %w", p.Device,
					x.Redacted, err)
			}
			x.Archives = s.service.Audit.ArchiveFiles()
		}
		out.Items = append(out.Items, x)
	}
	return out, nil
}

// first is the one of a list of one.
func first[T any](list []T, err error) (*T, error) {
	if err != nil {
		return nil, err
	}
	return &list[0], nil
}

// EnrolDevice takes a device's request to be known here.
func (s *Server) EnrolDevice(c *gin.Context, claims api.Claims) (*api.Enrolment, error) {
	return shownEnrolment(s.service.Admin.Enrol(c.Request.Context(), actor(c).Name, claims, nil))
}

// ListEnrolments lists devices that asked to be known here.
func (s *Server) ListEnrolments(c *gin.Context, p api.ListEnrolmentsParams) (api.List[api.Enrolment], error) {
	items, err := s.service.View.Enrolments(p.State)
	return edge.All(items), err
}

// DecideEnrolment decides about a device that is held.
func (s *Server) DecideEnrolment(c *gin.Context, id string, in api.Admission) (*api.Enrolment, error) {
	return shownEnrolment(s.service.Admin.DecideEnrolment(c.Request.Context(), actor(c).Name, id, in.Admit, in.Reason))
}

func shownEnrolment(e *state.Enrolment, err error) (*api.Enrolment, error) {
	if err != nil {
		return nil, err
	}
	return view.ShowEnrolment(e), nil
}

// ListCertificates lists the certificates of the fleet.
func (s *Server) ListCertificates(c *gin.Context, p api.ListCertificatesParams) (*api.CertificatePage, error) {
	limit, err := edge.Limit(c, p.Limit)
	if err != nil {
		return nil, err
	}
	return s.service.View.Certificates(c.Request.Context(),
		view.CertificateQuery{Where: p.Where, Text: p.Q, State: p.State, Cursor: p.Cursor, Limit: limit})
}

// ListUnmatched lists the reports kept aside.
func (s *Server) ListUnmatched(c *gin.Context, p api.ListUnmatchedParams) (api.List[api.Unmatched], error) {
	items, err := s.service.View.Unmatched(p.All)
	return edge.All(items), err
}

// SettleUnmatched says whose a report is.
func (s *Server) SettleUnmatched(c *gin.Context, id string, in api.Settlement) (*api.ReportResult, error) {
	return s.service.Admin.Settle(c.Request.Context(), actor(c).Name, id, in)
}

// ListWaivers lists waivers.
func (s *Server) ListWaivers(c *gin.Context, p api.ListWaiversParams) (api.List[api.Exception], error) {
	items, err := s.service.View.Waivers(view.ExceptionQuery{Device: p.Device, State: p.State, Within: p.Within})
	if err != nil {
		return edge.All(items), err
	}
	return edge.Some(items, p.Cursor, p.Limit, view.ExceptionPlace, strings.Compare)
}

// ListVouches lists vouches.
func (s *Server) ListVouches(c *gin.Context, p api.ListVouchesParams) (api.List[api.Exception], error) {
	items, err := s.service.View.Vouches(view.ExceptionQuery{Device: p.Device, State: p.State, Within: p.Within})
	if err != nil {
		return edge.All(items), err
	}
	return edge.Some(items, p.Cursor, p.Limit, view.ExceptionPlace, strings.Compare)
}

// CreateWaiver makes an exception.
func (s *Server) CreateWaiver(c *gin.Context, in api.ExceptionDraft) (*api.Exception, error) {
	return first(s.service.Admin.Waive(c.Request.Context(), actor(c), several(in)))
}

// several is an exception for one device as one for several.
func several(in api.ExceptionDraft) api.ExceptionsDraft {
	return api.ExceptionsDraft{Devices: []string{in.Device}, Rule: in.Rule, Reason: in.Reason, For: in.For,
		Until: in.Until}
}

// WaiveDevices makes exceptions for devices and one rule.
func (s *Server) WaiveDevices(c *gin.Context, in api.ExceptionsDraft) (api.List[api.Exception], error) {
	list, err := s.service.Admin.Waive(c.Request.Context(), actor(c), in)
	return edge.All(list), err
}

// ApproveWaiver makes a waiver count that needs a second person.
func (s *Server) ApproveWaiver(c *gin.Context, id string, in api.Reason) (*api.Exception, error) {
	return s.service.Admin.Approve(c.Request.Context(), actor(c), id, in.Reason)
}

// CreateVouch states that a device is genuine.
func (s *Server) CreateVouch(c *gin.Context, in api.ExceptionDraft) (*api.Exception, error) {
	return first(s.service.Admin.Vouch(c.Request.Context(), actor(c).Name, several(in)))
}

// VouchDevices states that devices are genuine.
func (s *Server) VouchDevices(c *gin.Context, in api.ExceptionsDraft) (api.List[api.Exception], error) {
	list, err := s.service.Admin.Vouch(c.Request.Context(), actor(c).Name, in)
	return edge.All(list), err
}

// RevokeWaiver ends a waiver.
func (s *Server) RevokeWaiver(c *gin.Context, id string, in api.Reason) (*api.Exception, error) {
	return s.service.Admin.Revoke(c.Request.Context(), actor(c).Name, id, in.Reason)
}

// RevokeVouch ends a vouch.
func (s *Server) RevokeVouch(c *gin.Context, id string, in api.Reason) (*api.Exception, error) {
	return s.service.Admin.Revoke(c.Request.Context(), actor(c).Name, id, in.Reason)
}

// ListRoster lists the hardware registered in advance.
func (s *Server) ListRoster(c *gin.Context, p api.ListRosterParams) (api.List[api.RosterEntry], error) {
	return edge.Some(s.service.View.RosterList(p.Q, p.Unseen), p.Cursor, p.Limit,
		func(e *api.RosterEntry) string { return e.ID }, strings.Compare)
}

// ImportRoster adds hardware to the roster.
func (s *Server) ImportRoster(c *gin.Context, p api.ImportRosterParams) (*api.ListIntake, error) {
	if _, err := edge.MediaType(c, "text/csv"); err != nil {
		return nil, err
	}
	entries, refused, err := readList(c, directory.ReadRoster)
	if err != nil {
		return nil, err
	}
	in, err := s.service.Admin.ImportRoster(c.Request.Context(), actor(c).Name, entries,
		admin.ListImport{DryRun: p.DryRun, AcceptImpact: p.AcceptImpact})
	return listed(in, refused, err)
}

// RemoveRoster takes an entry off the roster.
func (s *Server) RemoveRoster(c *gin.Context, id string, in api.Removal) (*api.ListIntake, error) {
	got, err := s.service.Admin.RemoveRoster(c.Request.Context(), actor(c).Name, id, in)
	return listed(got, nil, err)
}

// ListSearches lists the searches that are kept.
func (s *Server) ListSearches(c *gin.Context) (api.List[api.Search], error) {
	out := []api.Search{}
	for _, q := range s.service.View.Searches() {
		out = append(out, api.Search(q))
	}
	return edge.All(out), nil
}

// KeepSearch keeps a search.
func (s *Server) KeepSearch(c *gin.Context, in api.SearchDraft) (*api.Search, error) {
	q := kept.Search{Name: in.Name, Where: in.Where, Q: in.Q, Sort: in.Sort, Columns: in.Columns}
	kept, err := s.service.Admin.KeepSearch(c.Request.Context(), actor(c).Name, q, s.service.View.CheckSearch)
	return (*api.Search)(kept), err
}

// DropSearch forgets a search.
func (s *Server) DropSearch(c *gin.Context, name string) error {
	return s.service.Admin.DropSearch(c.Request.Context(), name)
}
