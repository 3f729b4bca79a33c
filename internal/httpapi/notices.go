package httpapi

import (
	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/internal/httpapi/edge"
)

// ListNotices lists who was told of what, and who is to be told.
func (s *Server) ListNotices(c *gin.Context, p api.ListNoticesParams) (*api.NoticePage, error) {
	limit, err := edge.Limit(c, p.Limit)
	if err != nil {
		return nil, err
	}
	return s.service.Notices.List(p.Device, p.Person, p.State, p.Cursor, limit)
}

// TryNotice shows what a notice would say.
func (s *Server) TryNotice(_ *gin.Context, in api.NoticeTrialDraft) (*api.NoticeTrial, error) {
	return s.service.Notices.Try(in)
}

// ListMutes lists people who are not reminded.
func (s *Server) ListMutes(*gin.Context) (api.List[api.Mute], error) {
	return all(s.service.Notices.Mutes()), nil
}

// Mute has a person not be reminded for a while, or again.
func (s *Server) Mute(c *gin.Context, in api.MuteDraft) (*api.Mute, error) {
	return s.service.Notices.Mute(c.Request.Context(), actor(c).Name, in)
}

// ListAlerts lists what needs a person.
func (s *Server) ListAlerts(*gin.Context) (*api.AlertList, error) { return s.service.Alerts.List() }

// SeeAlerts says that alerts were seen.
func (s *Server) SeeAlerts(c *gin.Context, in api.AlertSeenDraft) (*api.AlertList, error) {
	return s.service.Alerts.See(c.Request.Context(), actor(c).Name, in)
}
