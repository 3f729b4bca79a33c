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
func (s *Server) GetLedger(c *gin.Context) (*api.Ledger, error) { return s.service.Audit.Ledger(), nil }

// VerifyLedger has the whole ledger checked.
func (s *Server) VerifyLedger(c *gin.Context) (*api.Verification, error) {
	return s.service.Audit.BeginVerification(false), nil
}

// ListEntries lists entries.
func (s *Server) ListEntries(c *gin.Context, p api.ListEntriesParams) (out api.List[api.Entry], err error) {
	limit, err := edge.Limit(c, p.Limit)
	if err != nil {
		return out, err
	}
	before, err := edge.EntryCursor(p.Cursor)
	if err != nil {
		return out, err
	}
	items, err := s.service.Audit.LedgerLines(c.Request.Context(), audit.Query{Kind: p.Kind, Actor: p.Actor,
		About: p.About, Device: s.deviceID(p.Device), Person: p.Person, Since: p.Since, Until: p.Until,
		Before: before, Limit: limit + 1})
	return page(items, limit, func(e *api.Entry) string { return strconv.FormatInt(e.Seq, 10) }), err
}

// GetEntry shows an entry with its proof.
func (s *Server) GetEntry(c *gin.Context, seq int64) (*api.ProvenEntry, error) {
	return s.service.Audit.LedgerEntry(c.Request.Context(), seq)
}

// RedactEntry removes the body of an entry.
func (s *Server) RedactEntry(c *gin.Context, seq int64, in api.Reason) (*api.Entry, error) {
	return s.service.Audit.Redact(c.Request.Context(), actor(c).Name, seq, in.Reason)
}

// ListArchives lists the files that hold old entries.
func (s *Server) ListArchives(*gin.Context) (*api.ArchiveList, error) {
	return s.service.Audit.Archives(), nil
}

// MakeArchive begins to make one.
func (s *Server) MakeArchive(c *gin.Context, in api.ArchiveDraft) (*api.ArchiveList, error) {
	return s.service.Audit.BeginArchive(c.Request.Context(), actor(c).Name, in)
}

// PlaceArchive notes where the file of one was taken.
func (s *Server) PlaceArchive(c *gin.Context, id string, in api.ArchivePlace) (*api.Archive, error) {
	return s.service.Audit.PlaceArchive(c.Request.Context(), id, in.Place)
}

// GetConsistency proves that the ledger only grew.
func (s *Server) GetConsistency(c *gin.Context, p api.GetConsistencyParams) (*api.Consistency, error) {
	return s.service.Audit.Consistency(c.Request.Context(), p.From)
}

// ReplayDecision makes a recorded decision again.
func (s *Server) ReplayDecision(c *gin.Context, id string) (*api.Reproduction, error) {
	return s.service.Decisions.ReproduceDecision(c.Request.Context(), id)
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
		ctx, cancel := edge.UntilStop(c.Request)
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
	if err := s.exporting(c); err != nil {
		s.fail(c, err)
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
