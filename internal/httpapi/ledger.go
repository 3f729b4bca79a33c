package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/store"
)

// GetLedger shows the ledger at a glance.
func (s *Server) GetLedger(c *gin.Context) { c.JSON(http.StatusOK, s.service.Audit.Ledger()) }

// VerifyLedger has the whole ledger checked.
func (s *Server) VerifyLedger(c *gin.Context) {
	c.JSON(http.StatusAccepted, s.service.Audit.BeginVerification(false))
}

// ListEntries lists entries.
func (s *Server) ListEntries(c *gin.Context, p api.ListEntriesParams) {
	limit, err := limitOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	q := audit.Query{Kind: p.Kind, Actor: p.Actor, About: p.About, Device: p.Device, Person: p.Person,
		Since: p.Since, Until: p.Until, Limit: limit + 1}
	if p.Cursor != "" {
		if q.Before, err = strconv.ParseInt(p.Cursor, 10, 64); err != nil || q.Before < 1 {
			s.fail(c, &fault.QueryError{Param: "cursor", Message: "this is not a cursor that a page gave"})
			return
		}
	}
	items, err := s.service.Audit.LedgerLines(c.Request.Context(), q)
	out := list[audit.Line]{Items: items}
	if len(items) > limit {
		out.Items = items[:limit]
		out.Next = strconv.FormatInt(items[limit-1].Seq, 10)
	}
	s.answer(c, http.StatusOK, out, err)
}

// GetEntry shows an entry with its proof.
func (s *Server) GetEntry(c *gin.Context, seq int64) {
	e, err := s.service.Audit.LedgerEntry(c.Request.Context(), seq)
	s.answer(c, http.StatusOK, e, err)
}

// RedactEntry removes the body of an entry.
func (s *Server) RedactEntry(c *gin.Context, seq int64) {
	var in reason
	if err := edge.Decode(c, edge.MaxBody, &in); err != nil {
		s.fail(c, err)
		return
	}
	e, err := s.service.Audit.Redact(c.Request.Context(), actor(c).Name, seq, in.Reason)
	s.answer(c, http.StatusOK, e, err)
}

// GetConsistency proves that the ledger only grew.
func (s *Server) GetConsistency(c *gin.Context, p api.GetConsistencyParams) {
	g, err := s.service.Audit.Consistency(c.Request.Context(), p.From)
	s.answer(c, http.StatusOK, g, err)
}

// ReplayDecision makes a recorded decision again.
func (s *Server) ReplayDecision(c *gin.Context, id string) {
	r, err := s.service.Decisions.ReproduceDecision(c.Request.Context(), id)
	s.answer(c, http.StatusOK, r, err)
}

// GetPastDevice shows a device as it stood at a moment.
func (s *Server) GetPastDevice(c *gin.Context, id string, p api.GetPastDeviceParams) {
	at, err := value.ParseTime(p.At)
	if err != nil {
		s.fail(c, &fault.QueryError{Param: "at", Message: err.Error()})
		return
	}
	d, err := s.service.View.DeviceAt(c.Request.Context(), id, at.Num())
	if err == nil {
		speakDevice(c, d.Device)
	}
	s.answer(c, http.StatusOK, d, err)
}

// maxFollow bounds how long a follower is kept waiting for an entry.
const maxFollow = time.Minute

// ExportLedger streams entries.
func (s *Server) ExportLedger(c *gin.Context, p api.ExportLedgerParams) {
	from := max(p.From, 1)
	if p.Format != "" && p.Format != "ndjson" && p.Format != "ocsf" {
		s.fail(c, &fault.QueryError{Param: "format", Message: "the format is ndjson or ocsf"})
		return
	}
	if p.To < 0 || p.To > 0 && p.To < from {
		s.fail(c, &fault.QueryError{Param: "to", Message: "the last entry does not come before the first"})
		return
	}
	if p.Wait != "" {
		wait, err := value.ParseDuration(p.Wait)
		if err != nil || wait.Num() < 0 || wait.Num() > maxFollow.Microseconds() {
			s.fail(c, &fault.QueryError{Param: "wait",
				Message: "how long to wait is a duration of at most a minute, as 30s"})
			return
		}
		ctx, cancel := untilStop(c.Request)
		ctx, done := context.WithTimeout(ctx, time.Duration(wait.Num())*time.Microsecond)
		s.service.Follow(ctx, from-1)
		done()
		cancel()
	}
	origin := s.service.Audit.Ledger().Origin
	var b []byte
	s.stream(c, func(write func([]byte) error) error {
		checkpoint, err := s.service.Audit.Export(c.Request.Context(), from, p.To, func(l *ledger.Line) error {
			if p.Format != "ocsf" {
				b = ledger.AppendLine(b[:0], l)
				return write(b)
			}
			events, err := event.OCSF(&l.Entry, origin)
			for _, e := range events {
				if err == nil {
					err = write(append(e, '\n'))
				}
			}
			return err
		})
		if err == nil && p.Format != "ocsf" {
			err = write(ledger.AppendLastLine(nil, checkpoint))
		}
		return err
	})
}

// ExportStandings streams the level of every device.
func (s *Server) ExportStandings(c *gin.Context) {
	all, size, err := s.service.Audit.Standings(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	s.stream(c, func(write func([]byte) error) error {
		line := func(v any) error {
			raw, err := json.Marshal(v)
			if err == nil {
				err = write(append(raw, '\n'))
			}
			return err
		}
		for _, x := range all {
			if err := line(x); err != nil {
				return err
			}
		}
		return line(gin.H{"size": size})
	})
}

// stream sends lines of JSON as they are made. What breaks off is cut, so that
// nobody takes it for the whole.
func (s *Server) stream(c *gin.Context, produce func(write func([]byte) error) error) {
	if !s.exporting(c) {
		return
	}
	defer s.exports.Give(actor(c).ID)
	sent := false
	err := produce(func(b []byte) error {
		if !sent {
			c.Header("Content-Type", "application/x-ndjson")
			c.Status(http.StatusOK)
			sent = true
		}
		_, err := c.Writer.Write(b)
		return err
	})
	switch {
	case err != nil && !sent:
		s.fail(c, err)
	case err != nil:
		if c.Request.Context().Err() == nil {
			s.log.Error("a stream broke off", "path", c.Request.URL.Path, "error", err)
		}
		panic(http.ErrAbortHandler)
	case !sent:
		c.Data(http.StatusOK, "application/x-ndjson", nil)
	}
}

// ledgerCheckpoint serves the newest signed head (C2SP tlog-tiles): it tells
// nothing but how many entries there are, and is for everybody.
func (s *Server) ledgerCheckpoint(c *gin.Context) {
	c.Header("Cache-Control", "no-cache")
	c.Data(http.StatusOK, "text/plain; charset=utf-8", s.service.Audit.Checkpoint())
}

// ledgerTile serves the tiles of the tree (C2SP tlog-tiles). Hashes are for
// everybody; bundles of entries need the right to read.
func (s *Server) ledgerTile(c *gin.Context) {
	t, err := ledger.ParseTilePath(strings.TrimPrefix(c.Request.URL.Path, "/ledger/"))
	if err != nil {
		s.fail(c, edge.NewProblem(http.StatusNotFound, "%s", err))
		return
	}
	if t.L < 0 {
		if s.authorizeAs(c, bearer.MayRead); c.IsAborted() {
			return
		}
	}
	data, err := s.service.Audit.LedgerTile(c.Request.Context(), t)
	if errors.Is(err, store.ErrNotFound) {
		s.fail(c, edge.NewProblem(http.StatusNotFound, "the ledger has no tile %s yet", c.Request.URL.Path))
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	if t.L < 0 || t.W < ledger.TileWidth { // a redaction changes bundles
		c.Header("Cache-Control", "no-cache")
	} else {
		c.Header("Cache-Control", "public, max-age=31536000, immutable")
	}
	c.Data(http.StatusOK, "application/octet-stream", data)
}
