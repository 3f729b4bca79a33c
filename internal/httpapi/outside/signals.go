package outside

import (
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/stream"
)

// GetSSFConfiguration is the metadata of the transmitter (SSF 1.0, section 7.1).
func (r Routes) GetSSFConfiguration(c *gin.Context) (*api.SSFMetadata, error) {
	base := r.public
	c.Header("Cache-Control", "public, max-age=300")
	return &api.SSFMetadata{SpecVersion: "1_0", Issuer: base, JWKSURI: base + "/ssf/jwks.json",
		DeliveryMethodsSupported: []string{stream.Push, stream.Poll},
		ConfigurationEndpoint:    base + "/ssf/streams", StatusEndpoint: base + "/ssf/status",
		AddSubjectEndpoint: base + "/ssf/subjects/add", RemoveSubjectEndpoint: base + "/ssf/subjects/remove",
		VerificationEndpoint: base + "/ssf/verify", CriticalSubjectMembers: []string{"device"},
		AuthorizationSchemes: []api.AuthorizationScheme{{SpecURN: "urn:ietf:rfc:6750"}}, DefaultSubjects: "ALL"}, nil
}

// SSFConfigurationBelow answers for an issuer whose URL has a path: it stands behind the
// well-known part (SSF 1.0, section 7.2).
func (r Routes) SSFConfigurationBelow(c *gin.Context) {
	u, err := url.Parse(r.public)
	if err != nil || strings.Trim(u.Path, "/") != strings.Trim(c.Param("path"), "/") {
		r.fail(c, edge.NewProblem(http.StatusNotFound, "no issuer of events is called so here"))
		return
	}
	out, err := r.GetSSFConfiguration(c)
	r.answer(c, out, err)
}

// GetSSFKeys are the keys that events are checked with (RFC 7517).
func (r Routes) GetSSFKeys(c *gin.Context) {
	c.Header("Cache-Control", "public, max-age=300")
	c.JSON(http.StatusOK, r.service.Streams.Keys())
}

// mayChange takes a change to a stream from the budget of its receiver: each is an entry.
func (r Routes) mayChange(c *gin.Context) error {
	if r.changes.Allow(edge.Actor(c).ID, time.Now()) {
		return nil
	}
	return edge.TooMany("the receiver changes its streams too often")
}

// changing reads the body of such a change.
func changing[T any](r Routes, c *gin.Context) (in T, err error) {
	if err := r.mayChange(c); err != nil {
		return in, err
	}
	return lenient[T](c)
}

// lenient reads a body of a protocol that has its receivers say more than we know.
func lenient[T any](c *gin.Context) (T, error) {
	var in T
	err := edge.DecodeLenient(c, edge.MaxBody, &in)
	return in, err
}

// ReadStreams shows the caller one of its streams, or all of them.
func (r Routes) ReadStreams(c *gin.Context, p api.ReadStreamsParams) {
	if p.StreamID == "" {
		c.JSON(http.StatusOK, r.service.Streams.Configurations(edge.Actor(c).Name))
		return
	}
	out, err := r.service.Streams.Configuration(edge.Actor(c).Name, p.StreamID)
	r.answer(c, out, err)
}

// CreateOwnStream creates a stream to the caller.
func (r Routes) CreateOwnStream(c *gin.Context) (*api.StreamConfiguration, error) {
	in, err := changing[api.StreamConfiguration](r, c)
	if err != nil {
		return nil, err
	}
	return r.service.Streams.Configure(c.Request.Context(), edge.Actor(c), in)
}

// UpdateOwnStream changes what is given of a stream.
func (r Routes) UpdateOwnStream(c *gin.Context) (*api.StreamConfiguration, error) {
	return r.reconfigure(c, false)
}

// ReplaceOwnStream gives a stream anew.
func (r Routes) ReplaceOwnStream(c *gin.Context) (*api.StreamConfiguration, error) {
	return r.reconfigure(c, true)
}

func (r Routes) reconfigure(c *gin.Context, whole bool) (*api.StreamConfiguration, error) {
	in, err := changing[api.StreamConfiguration](r, c)
	if err == nil && in.StreamID == "" {
		err = fault.Input("/stream_id", "say which stream")
	}
	if err != nil {
		return nil, err
	}
	return r.service.Streams.Reconfigure(c.Request.Context(), edge.Actor(c), in, whole)
}

// DeleteOwnStream removes a stream of the caller.
func (r Routes) DeleteOwnStream(c *gin.Context, p api.DeleteOwnStreamParams) error {
	if err := r.mayChange(c); err != nil {
		return err
	}
	return r.service.Streams.Remove(c.Request.Context(), edge.Actor(c).Name, p.StreamID, edge.Actor(c).Name, "")
}

// ReadStreamStatus tells how a stream stands.
func (r Routes) ReadStreamStatus(c *gin.Context, p api.ReadStreamStatusParams) (*api.StreamStatus, error) {
	return statusOf(r.service.Streams.Of(edge.Actor(c).Name, p.StreamID))
}

func statusOf(st *kept.Stream, err error) (*api.StreamStatus, error) {
	if err != nil {
		return nil, err
	}
	return &api.StreamStatus{StreamID: st.ID, Status: st.Status, Reason: st.Reason}, nil
}

// UpdateStreamStatus enables, pauses or disables a stream.
func (r Routes) UpdateStreamStatus(c *gin.Context) (*api.StreamStatus, error) {
	in, err := changing[api.StreamStatus](r, c)
	if err != nil {
		return nil, err
	}
	who := edge.Actor(c).Name
	return statusOf(r.service.Streams.SetStatus(c.Request.Context(), who, in.StreamID, who, in.Status, in.Reason))
}

// AddStreamSubject has a stream tell of a subject.
func (r Routes) AddStreamSubject(c *gin.Context) {
	if err := r.setSubject(c, true); err != nil {
		r.fail(c, err)
		return
	}
	c.Status(http.StatusOK) // with an empty body (SSF 1.0, section 8.1.3.2)
}

// RemoveStreamSubject has a stream tell no longer of a subject.
func (r Routes) RemoveStreamSubject(c *gin.Context) error { return r.setSubject(c, false) }

func (r Routes) setSubject(c *gin.Context, add bool) error {
	in, err := changing[api.StreamSubject](r, c)
	if err != nil {
		return err
	}
	return r.service.Streams.SetSubject(c.Request.Context(), edge.Actor(c), in, add)
}

// VerifyStream sends a verification event over a stream.
func (r Routes) VerifyStream(c *gin.Context) error {
	in, err := changing[api.StreamVerification](r, c)
	if err != nil {
		return err
	}
	return r.service.Streams.Verify(edge.Actor(c).Name, in)
}

// PollStream hands events over (RFC 8936).
func (r Routes) PollStream(c *gin.Context, id string) (*api.PollAnswer, error) {
	in, err := lenient[api.PollRequest](c)
	if err != nil {
		return nil, err
	}
	if who := edge.Actor(c).ID; !r.polls.Take(who) {
		return nil, edge.TooMany("the receiver has %d polls open already", edge.MaxPolls)
	} else {
		defer r.polls.Give(who)
	}
	ctx, cancel := edge.UntilStop(c.Request)
	defer cancel()
	return r.service.Streams.Poll(ctx, edge.Actor(c).Name, id, in)
}

// ListStreams lists the streams there are.
func (r Routes) ListStreams(c *gin.Context) (api.List[api.Stream], error) {
	return edge.All(r.service.Streams.List()), nil
}

// GetStream shows a stream.
func (r Routes) GetStream(c *gin.Context, id string) (*api.Stream, error) {
	return r.service.Streams.Show(id)
}

// CreateStream creates a stream to a receiver.
func (r Routes) CreateStream(c *gin.Context, in api.StreamDraft) (*api.Stream, error) {
	return r.service.Streams.Create(c.Request.Context(), edge.Actor(c).Name, in)
}

// RemoveStream removes a stream.
func (r Routes) RemoveStream(c *gin.Context, id string, in api.Reason) error {
	if err := fault.CheckReason(&in.Reason); err != nil {
		return err
	}
	return r.service.Streams.Remove(c.Request.Context(), edge.Actor(c).Name, id, "", in.Reason)
}

// SetStreamStatus enables or pauses a stream.
func (r Routes) SetStreamStatus(c *gin.Context, id string, in api.StreamStatusDraft) (*api.Stream, error) {
	if err := fault.CheckReason(&in.Reason); err != nil {
		return nil, err
	}
	if in.Status == "disabled" {
		return nil, fault.Input("/status", "a stream is enabled or paused; what its receiver shall never hear "+
			"of, remove")
	}
	if _, err := r.service.Streams.SetStatus(c.Request.Context(), edge.Actor(c).Name, id, "", in.Status,
		in.Reason); err != nil {
		return nil, err
	}
	return r.service.Streams.Show(id)
}

// TestStream sends a verification event and tells what became of it.
func (r Routes) TestStream(c *gin.Context, id string) (*api.StreamTest, error) {
	return r.service.Streams.Test(c.Request.Context(), id)
}

// ListStreamLetters lists what a receiver could not be told.
func (r Routes) ListStreamLetters(c *gin.Context, id string) (api.List[api.StreamLetter], error) {
	list, err := r.service.Streams.Letters(id)
	return edge.All(list), err
}

// ResendStreamLetters sends what a receiver could not be told once more.
func (r Routes) ResendStreamLetters(c *gin.Context, id string, in api.StreamLetterChoice) (*api.StreamResent, error) {
	return r.service.Streams.Resend(c.Request.Context(), edge.Actor(c).Name, id, in.IDs)
}

// DropStreamLetters drops what a receiver could not be told.
func (r Routes) DropStreamLetters(c *gin.Context, id string, in api.StreamLetterRemoval) (*api.StreamResent, error) {
	n, err := r.service.Streams.DropLetters(c.Request.Context(), edge.Actor(c).Name, id, in.IDs, in.Reason)
	return &api.StreamResent{Dropped: n}, err
}

// RotateStreamSecret has the events of a web hook signed with another secret.
func (r Routes) RotateStreamSecret(c *gin.Context, id string, in api.StreamSecretDraft) (*api.Stream, error) {
	return r.service.Streams.RotateSecret(c.Request.Context(), edge.Actor(c).Name, id, in)
}

// RotateSignalKey has events signed with another key.
func (r Routes) RotateSignalKey(c *gin.Context, in api.Reason) error {
	return r.service.Streams.RotateKey(c.Request.Context(), edge.Actor(c).Name, in.Reason)
}
