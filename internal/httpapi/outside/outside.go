// Package outside answers HTTP for what is between the service and others: streams, notices,
// alerts, feeds and the security events of partners.
package outside

import (
	"errors"
	"io"
	"mime"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	core "ironledger.example/core/heard"
	"ironledger.example/core/value"

	"ironledger.example/api"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/heard"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/outbound"
	"ironledger.example/internal/service"
)

// Routes answers for a service.
type Routes struct {
	service *service.Service
	fail    func(*gin.Context, error)
	public  string        // the base URL for metadata
	wrong   *edge.Budgets // by address: events that were refused
	taking  *edge.Slots   // by address
	changes *edge.Budgets // by receiver: changes to its streams
	polls   *edge.Slots   // by receiver
}

// New answers for a service that others reach by the URL public; fail answers with an error.
func New(s *service.Service, public string, fail func(*gin.Context, error)) Routes {
	return Routes{s, fail, public, edge.NewBudgets(edge.GuessRate, edge.GuessBurst),
		&edge.Slots{Most: edge.MaxTaking}, edge.NewBudgets(edge.ChangeRate, edge.ChangeBurst),
		&edge.Slots{Most: edge.MaxPolls}}
}

// answer sends a value as JSON, or the error in its place.
func (r Routes) answer(c *gin.Context, v any, err error) {
	if err != nil {
		r.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, v)
}

// TakeSecurityEvent takes a security event token of a partner (RFC 8935). One that is right always
// counts, whoever else calls from the same address.
func (r Routes) TakeSecurityEvent(c *gin.Context) {
	from := edge.Address(c.Request)
	if !r.taking.Take(from) {
		r.fail(c, edge.TooMany("more than %d events come from this address at once", edge.MaxTaking))
		return
	}
	defer r.taking.Give(from)
	refuse := func(err *core.Error) {
		if !r.wrong.Allow(from, time.Now()) {
			r.fail(c, edge.TooMany("too many events that were refused came from this address; try again in a while"))
			return
		}
		c.JSON(http.StatusBadRequest, map[string]string{"err": err.Code, "description": err.Description})
	}
	typ, _, _ := mime.ParseMediaType(c.GetHeader("Content-Type"))
	if typ != "application/secevent+jwt" {
		refuse(core.Refuse(core.InvalidRequest, "the content type is %.100q, and not application/secevent+jwt", typ))
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, core.MaxToken))
	if err != nil {
		refuse(core.Refuse(core.InvalidRequest, "the token cannot be read, or is larger than %d bytes", core.MaxToken))
		return
	}
	err = r.service.Heard.Take(c.Request.Context(), strings.TrimSpace(string(body)), "")
	var wrong *core.Error
	switch busy := (*heard.BusyError)(nil); {
	case errors.As(err, &wrong):
		refuse(wrong)
	case errors.As(err, &busy):
		c.Header("Retry-After", "30")
		r.fail(c, edge.NewProblem(http.StatusServiceUnavailable, "%s", busy.Message))
	case err != nil:
		r.fail(c, err)
	default:
		c.Status(http.StatusAccepted)
		c.Writer.WriteHeaderNow()
	}
}

// ListNotices lists who was told of what, and who is to be told.
func (r Routes) ListNotices(c *gin.Context, p api.ListNoticesParams) (*api.NoticePage, error) {
	limit, err := edge.Limit(c, p.Limit)
	if err != nil {
		return nil, err
	}
	return r.service.Notices.List(r.service.View.DeviceID(p.Device), p.Person, p.State, p.Cursor, limit)
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

// ListSources lists sources, with what became of their security events.
func (r Routes) ListSources(*gin.Context) (api.List[api.Source], error) {
	items := r.service.View.Sources()
	for i := range items {
		h := r.service.Snapshot().Book.Rulebook.HeardBy(items[i].ID)
		if h == nil {
			continue
		}
		n := r.service.Heard.Counts(h.Source)
		items[i].Signals = api.SourceSignals{Issuer: h.Issuer, Taken: n.Taken, Refused: n.Refused, Failure: n.Failure}
		if !n.Last.IsZero() {
			items[i].Signals.LastAt = value.FormatTime(value.Micros(n.Last))
		}
	}
	return edge.All(items), nil
}

// ListFeeds lists the feeds of partners' inventories.
func (r Routes) ListFeeds(c *gin.Context) (api.List[api.Feed], error) {
	items := r.service.Feeds.List()
	for i := range items {
		mask(c, &items[i])
	}
	return edge.All(items), nil
}

// mask hides what stands in the query of a feed's address from who may not change it: some keep a
// secret there.
func mask(c *gin.Context, f *api.Feed) {
	if !edge.Actor(c).Role.May(bearer.MayAdmin) {
		f.Feed.URL = outbound.Plain(f.Feed.URL)
	}
}

// GetFeed shows a feed.
func (r Routes) GetFeed(c *gin.Context, id string) (*api.Feed, error) {
	f, err := r.service.Feeds.Show(id)
	if err == nil {
		mask(c, f)
	}
	return f, err
}

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
