// Package outside answers HTTP for what is between the service and others: notices, alerts,
// feeds and the security events of partners.
package outside

import (
	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/service"
)

// Routes answers for a service.
type Routes struct{ service *service.Service }

// New answers for a service.
func New(s *service.Service) Routes { return Routes{s} }

// ListNotices lists who was told of what, and who is to be told.
func (r Routes) ListNotices(c *gin.Context, p api.ListNoticesParams) (*api.NoticePage, error) {
	limit, err := edge.Limit(c, p.Limit)
	if err != nil {
		return nil, err
	}
	return r.service.Notices.List(p.Device, p.Person, p.State, p.Cursor, limit)
}

// TryNotice shows what a notice would say.
func (r Routes) TryNotice(_ *gin.Context, in api.NoticeTrialDraft) (*api.NoticeTrial, error) {
	return r.service.Notices.Try(in)
}

// ListMutes lists people who are not reminded.
func (r Routes) ListMutes(*gin.Context) (api.List[api.Mute], error) {
	return edge.All(r.service.Notices.Mutes()), nil
}

// Mute has a person not be reminded for a while, or again.
func (r Routes) Mute(c *gin.Context, in api.MuteDraft) (*api.Mute, error) {
	return r.service.Notices.Mute(c.Request.Context(), edge.Actor(c).Name, in)
}

// ListAlerts lists what needs a person.
func (r Routes) ListAlerts(*gin.Context) (*api.AlertList, error) { return r.service.Alerts.List() }

// SeeAlerts says that alerts were seen.
func (r Routes) SeeAlerts(c *gin.Context, in api.AlertSeenDraft) (*api.AlertList, error) {
	return r.service.Alerts.See(c.Request.Context(), edge.Actor(c).Name, in)
}

// ListFeeds lists the feeds of partners' inventories.
func (r Routes) ListFeeds(*gin.Context) (api.List[api.Feed], error) {
	return edge.All(r.service.Feeds.List()), nil
}

// GetFeed shows a feed.
func (r Routes) GetFeed(_ *gin.Context, id string) (*api.Feed, error) { return r.service.Feeds.Show(id) }

// AddFeed adds a feed.
func (r Routes) AddFeed(c *gin.Context, in api.FeedDraft) (*api.Feed, error) {
	return r.service.Feeds.Add(c.Request.Context(), edge.Actor(c).Name, in)
}

// ChangeFeed gives a feed other settings, or another secret.
func (r Routes) ChangeFeed(c *gin.Context, id string, in api.FeedDraft) (*api.Feed, error) {
	return r.service.Feeds.Change(c.Request.Context(), edge.Actor(c).Name, id, in)
}

// TryFeed shows what a feed would bring.
func (r Routes) TryFeed(c *gin.Context, in api.FeedTrialDraft) (*api.FeedTrial, error) {
	return r.service.Feeds.Try(c.Request.Context(), in)
}

// RunFeed has a feed fetched now.
func (r Routes) RunFeed(c *gin.Context, id string, in api.FeedRunDraft) (*api.Feed, error) {
	return r.service.Feeds.Run(c.Request.Context(), edge.Actor(c).Name, id, in)
}

// SetFeedStatus pauses a feed, or has it go on.
func (r Routes) SetFeedStatus(c *gin.Context, id string, in api.FeedStatusDraft) (*api.Feed, error) {
	return r.service.Feeds.SetStatus(c.Request.Context(), edge.Actor(c).Name, id, in)
}

// RemoveFeed ends a feed.
func (r Routes) RemoveFeed(c *gin.Context, id string, in api.FeedRemoval) (*api.FeedRemoved, error) {
	return r.service.Feeds.Remove(c.Request.Context(), edge.Actor(c).Name, id, in)
}
