package httpapi

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
func (s *Server) GetSSFConfiguration(c *gin.Context) (*api.SSFMetadata, error) {
	base := s.public
	c.Header("Cache-Control", "public, max-age=300")
	return &api.SSFMetadata{SpecVersion: "1_0", Issuer: base, JWKSURI: base + "/ssf/jwks.json",
		DeliveryMethodsSupported: []string{stream.Push, stream.Poll},
		ConfigurationEndpoint:    base + "/ssf/streams", StatusEndpoint: base + "/ssf/status",
		AddSubjectEndpoint: base + "/ssf/subjects/add", RemoveSubjectEndpoint: base + "/ssf/subjects/remove",
		VerificationEndpoint: base + "/ssf/verify", CriticalSubjectMembers: []string{"device"},
		AuthorizationSchemes: []api.AuthorizationScheme{{SpecURN: "urn:ietf:rfc:6750"}}, DefaultSubjects: "ALL"}, nil
}

// ssfConfigurationBelow answers for an issuer whose URL has a path: it stands behind the
// well-known part (SSF 1.0, section 7.2).
func (s *Server) ssfConfigurationBelow(c *gin.Context) {
	u, err := url.Parse(s.public)
	if err != nil || strings.Trim(u.Path, "/") != strings.Trim(c.Param("path"), "/") {
		s.fail(c, edge.NewProblem(http.StatusNotFound, "no issuer of events is called so here"))
		return
	}
	out, err := s.GetSSFConfiguration(c)
	s.answer(c, http.StatusOK, out, err)
}

// GetSSFKeys are the keys that events are checked with (RFC 7517).
func (s *Server) GetSSFKeys(c *gin.Context) {
	c.Header("Cache-Control", "public, max-age=300")
	c.JSON(http.StatusOK, s.service.Streams.Keys())
}

// mayChange takes a change to a stream from the budget of its receiver: each is an entry.
func (s *Server) mayChange(c *gin.Context) error {
	if s.changes.Allow(actor(c).ID, time.Now()) {
		return nil
	}
	return edge.TooMany("the receiver changes its streams too often")
}

// changing reads the body of such a change.
func changing[T any](s *Server, c *gin.Context) (in T, err error) {
	if err := s.mayChange(c); err != nil {
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
func (s *Server) ReadStreams(c *gin.Context, p api.ReadStreamsParams) {
	if p.StreamID == "" {
		c.JSON(http.StatusOK, s.service.Streams.Configurations(actor(c).Name))
		return
	}
	out, err := s.service.Streams.Configuration(actor(c).Name, p.StreamID)
	s.answer(c, http.StatusOK, out, err)
}

// CreateOwnStream creates a stream to the caller.
func (s *Server) CreateOwnStream(c *gin.Context) (*api.StreamConfiguration, error) {
	in, err := changing[api.StreamConfiguration](s, c)
	if err != nil {
		return nil, err
	}
	return s.service.Streams.Configure(c.Request.Context(), actor(c), in)
}

// UpdateOwnStream changes what is given of a stream.
func (s *Server) UpdateOwnStream(c *gin.Context) (*api.StreamConfiguration, error) {
	return s.reconfigure(c, false)
}

// ReplaceOwnStream gives a stream anew.
func (s *Server) ReplaceOwnStream(c *gin.Context) (*api.StreamConfiguration, error) {
	return s.reconfigure(c, true)
}

func (s *Server) reconfigure(c *gin.Context, whole bool) (*api.StreamConfiguration, error) {
	in, err := changing[api.StreamConfiguration](s, c)
	if err == nil && in.StreamID == "" {
		err = fault.Input("/stream_id", "say which stream")
	}
	if err != nil {
		return nil, err
	}
	return s.service.Streams.Reconfigure(c.Request.Context(), actor(c), in, whole)
}

// DeleteOwnStream removes a stream of the caller.
func (s *Server) DeleteOwnStream(c *gin.Context, p api.DeleteOwnStreamParams) error {
	if err := s.mayChange(c); err != nil {
		return err
	}
	return s.service.Streams.Remove(c.Request.Context(), actor(c).Name, p.StreamID, actor(c).Name, "")
}

// ReadStreamStatus tells how a stream stands.
func (s *Server) ReadStreamStatus(c *gin.Context, p api.ReadStreamStatusParams) (*api.StreamStatus, error) {
	return statusOf(s.service.Streams.Of(actor(c).Name, p.StreamID))
}

func statusOf(st *kept.Stream, err error) (*api.StreamStatus, error) {
	if err != nil {
		return nil, err
	}
	return &api.StreamStatus{StreamID: st.ID, Status: st.Status, Reason: st.Reason}, nil
}

// UpdateStreamStatus enables, pauses or disables a stream.
func (s *Server) UpdateStreamStatus(c *gin.Context) (*api.StreamStatus, error) {
	in, err := changing[api.StreamStatus](s, c)
	if err != nil {
		return nil, err
	}
	who := actor(c).Name
	return statusOf(s.service.Streams.SetStatus(c.Request.Context(), who, in.StreamID, who, in.Status, in.Reason))
}

// AddStreamSubject has a stream tell of a subject.
func (s *Server) AddStreamSubject(c *gin.Context) {
	if err := s.setSubject(c, true); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusOK) // with an empty body (SSF 1.0, section 8.1.3.2)
}

// RemoveStreamSubject has a stream tell no longer of a subject.
func (s *Server) RemoveStreamSubject(c *gin.Context) error { return s.setSubject(c, false) }

func (s *Server) setSubject(c *gin.Context, add bool) error {
	in, err := changing[api.StreamSubject](s, c)
	if err != nil {
		return err
	}
	return s.service.Streams.SetSubject(c.Request.Context(), actor(c), in, add)
}

// VerifyStream sends a verification event over a stream.
func (s *Server) VerifyStream(c *gin.Context) error {
	in, err := changing[api.StreamVerification](s, c)
	if err != nil {
		return err
	}
	return s.service.Streams.Verify(actor(c).Name, in)
}

// PollStream hands events over (RFC 8936).
func (s *Server) PollStream(c *gin.Context, id string) (*api.PollAnswer, error) {
	in, err := lenient[api.PollRequest](c)
	if err != nil {
		return nil, err
	}
	if who := actor(c).ID; !s.polls.Take(who) {
		return nil, edge.TooMany("the receiver has %d polls open already", edge.MaxPolls)
	} else {
		defer s.polls.Give(who)
	}
	ctx, cancel := untilStop(c.Request)
	defer cancel()
	return s.service.Streams.Poll(ctx, actor(c).Name, id, in)
}

// ListStreams lists the streams there are.
func (s *Server) ListStreams(c *gin.Context) (api.List[api.Stream], error) {
	return edge.All(s.service.Streams.List()), nil
}

// GetStream shows a stream.
func (s *Server) GetStream(c *gin.Context, id string) (*api.Stream, error) {
	return s.service.Streams.Show(id)
}

// CreateStream creates a stream to a receiver.
func (s *Server) CreateStream(c *gin.Context, in api.StreamDraft) (*api.Stream, error) {
	return s.service.Streams.Create(c.Request.Context(), actor(c).Name, in)
}

// RemoveStream removes a stream.
func (s *Server) RemoveStream(c *gin.Context, id string, in api.Reason) error {
	if err := fault.CheckReason(&in.Reason); err != nil {
		return err
	}
	return s.service.Streams.Remove(c.Request.Context(), actor(c).Name, id, "", in.Reason)
}

// SetStreamStatus enables or pauses a stream.
func (s *Server) SetStreamStatus(c *gin.Context, id string, in api.StreamStatusDraft) (*api.Stream, error) {
	if err := fault.CheckReason(&in.Reason); err != nil {
		return nil, err
	}
	if in.Status == "disabled" {
		return nil, fault.Input("/status", "a stream is enabled or paused; what its receiver shall never hear of, remove")
	}
	if _, err := s.service.Streams.SetStatus(c.Request.Context(), actor(c).Name, id, "", in.Status, in.Reason); err != nil {
		return nil, err
	}
	return s.service.Streams.Show(id)
}

// TestStream sends a verification event and tells what became of it.
func (s *Server) TestStream(c *gin.Context, id string) (*api.StreamTest, error) {
	return s.service.Streams.Test(c.Request.Context(), id)
}

// ListStreamLetters lists what a receiver could not be told.
func (s *Server) ListStreamLetters(c *gin.Context, id string) (api.List[api.StreamLetter], error) {
	list, err := s.service.Streams.Letters(id)
	return edge.All(list), err
}

// ResendStreamLetters sends what a receiver could not be told once more.
func (s *Server) ResendStreamLetters(c *gin.Context, id string, in api.StreamLetterChoice) (*api.StreamResent, error) {
	return s.service.Streams.Resend(c.Request.Context(), actor(c).Name, id, in.IDs)
}

// DropStreamLetters drops what a receiver could not be told.
func (s *Server) DropStreamLetters(c *gin.Context, id string, in api.StreamLetterRemoval) (*api.StreamResent, error) {
	n, err := s.service.Streams.DropLetters(c.Request.Context(), actor(c).Name, id, in.IDs, in.Reason)
	return &api.StreamResent{Dropped: n}, err
}

// RotateStreamSecret has the events of a web hook signed with another secret.
func (s *Server) RotateStreamSecret(c *gin.Context, id string, in api.StreamSecretDraft) (*api.Stream, error) {
	return s.service.Streams.RotateSecret(c.Request.Context(), actor(c).Name, id, in)
}

// RotateSignalKey has events signed with another key.
func (s *Server) RotateSignalKey(c *gin.Context, in api.Reason) error {
	return s.service.Streams.RotateKey(c.Request.Context(), actor(c).Name, in.Reason)
}
