package edge

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/store"
	"ironledger.example/internal/stream"
)

// Problem is an error as the API tells it: problem details (RFC 9457).
type Problem struct {
	api.Problem
	RetryAfter int // in how many seconds it is worth while to ask again; 0: not said
}

func (p *Problem) Error() string { return p.Detail }

// NewProblem is a problem of a status with a detail.
func NewProblem(status int, format string, args ...any) *Problem {
	return &Problem{Problem: api.Problem{Type: "about:blank", Title: http.StatusText(status), Status: status,
		Detail: fmt.Sprintf(format, args...)}}
}

// TooMany says that a budget is used up.
func TooMany(format string, args ...any) *Problem {
	p := NewProblem(http.StatusTooManyRequests, format, args...)
	p.RetryAfter = 5
	return p
}

// statusLeft says, to the log alone, that nobody waits for the answer any more.
const statusLeft = 499

// ProblemOf is the one place where errors become answers. It is over a screen since it has a
// case for each kind of error and does nothing else.
func ProblemOf(err error) *Problem {
	var (
		p        *Problem
		field    *access.FieldError
		query    *fault.QueryError
		problems rulebook.Problems
		example  *admin.ExampleError
		conflict *admin.ConflictError
		large    *http.MaxBytesError
		input    *fault.InputError
		missing  *fault.NotFoundError
		impact   *admin.ImpactError
		trouble  *store.TroubleError
		budget   *intake.BudgetError
		barred   *stream.ForbiddenError
		soon     *stream.TooSoonError
	)
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &field):
		p = NewProblem(http.StatusBadRequest, "%s", field.Message)
		p.Pointer = field.Pointer
	case errors.As(err, &query):
		p = NewProblem(http.StatusBadRequest, "%s", query.Message)
		p.Pointer, p.Excerpt = query.Param, query.Excerpt
	case errors.As(err, &problems):
		p = NewProblem(http.StatusUnprocessableEntity,
			"the rulebook has %d problem(s); the one in force stays", len(problems))
		p.Type, p.Title, p.Problems = "urn:ironledger:problem:rulebook", "The rulebook is not right", problems
	case errors.As(err, &example):
		p = NewProblem(http.StatusUnprocessableEntity, "%s", example.Error())
		p.Type, p.Title, p.Examples = "urn:ironledger:problem:examples", "The rulebook's own examples fail",
			example.Failed
	case errors.As(err, &budget):
		p = NewProblem(http.StatusRequestEntityTooLarge, "%s", budget.Message)
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		p = NewProblem(statusLeft, "the caller has left")
	case errors.As(err, &impact):
		p = NewProblem(http.StatusConflict, "%s", impact.Error())
		p.Type, p.Title, p.Impacts = "urn:ironledger:problem:impact", "This would lock people out", impact.Impacts
	case errors.As(err, &conflict):
		p = NewProblem(http.StatusConflict, "%s", conflict.Error())
	case errors.As(err, &input):
		p = NewProblem(http.StatusBadRequest, "%s", input.Message)
		p.Pointer = input.Pointer
	case errors.As(err, &barred):
		p = NewProblem(http.StatusForbidden, "%s", barred.Message)
	case errors.As(err, &soon):
		p = TooMany("%s", soon)
		p.RetryAfter = int(soon.After.Seconds()) + 1
	case errors.As(err, &missing):
		p = NewProblem(http.StatusNotFound, "%s", missing.Error())
	case errors.As(err, &trouble):
		p = NewProblem(http.StatusServiceUnavailable, "%s; nothing has changed", trouble)
		p.Type, p.Title = "urn:ironledger:problem:records", "Nothing can be recorded"
	case errors.Is(err, ledger.ErrTooLarge):
		p = NewProblem(http.StatusRequestEntityTooLarge, "%s (%d bytes); nothing has changed", err, ledger.MaxEntry)
	case errors.As(err, &large):
		p = NewProblem(http.StatusRequestEntityTooLarge, "the body is larger than %d bytes", large.Limit)
	case errors.Is(err, store.ErrNotFound):
		p = NewProblem(http.StatusNotFound, "there is nothing of that id")
	case errors.Is(err, engine.ErrClosed):
		p = NewProblem(http.StatusServiceUnavailable, "%s", err)
	default:
		p = NewProblem(http.StatusInternalServerError, "%s", err)
	}
	return p
}

// Bounds on request bodies, in bytes.
const (
	MaxBody     = 1 << 20
	MaxRulebook = rulebook.MaxSize + rulebook.MaxSize/2 // JSON escapes take room
	MaxPeople   = 16 << 20
	MaxEvidence = 1 << 30
	MaxUpload   = 34 << 20 // a file of 24 MiB in base64, and its mapping
)

// MediaType returns the media type of the body, which must be one of those
// allowed.
func MediaType(c *gin.Context, allowed ...string) (string, error) {
	given := c.GetHeader("Content-Type")
	if slices.Contains(allowed, given) { // without parameters, as machines write it
		return given, nil
	}
	got, _, err := mime.ParseMediaType(given)
	for _, a := range allowed {
		if err == nil && got == a {
			return got, nil
		}
	}
	return "", NewProblem(http.StatusUnsupportedMediaType, "the body must be %s, not %s",
		strings.Join(allowed, " or "), strconv.Quote(given))
}

// ReadBody reads a body, up to a limit in bytes.
func ReadBody(c *gin.Context, limit int64) ([]byte, error) {
	var body bytes.Buffer
	if n := c.Request.ContentLength; n > 0 && n <= min(limit, MaxBody) {
		body.Grow(int(n) + bytes.MinRead) // so that it is read in one piece
	}
	if _, err := body.ReadFrom(http.MaxBytesReader(c.Writer, c.Request.Body, limit)); err != nil {
		return nil, BrokenBody(err)
	}
	return body.Bytes(), nil
}

// JSONBody reads a body that must be JSON, for what parses it by itself.
func JSONBody(c *gin.Context) ([]byte, error) {
	if _, err := MediaType(c, "application/json"); err != nil {
		return nil, err
	}
	return ReadBody(c, MaxBody)
}

// BrokenBody tells of a body that could not be read.
func BrokenBody(err error) error {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return err
	}
	return NewProblem(http.StatusBadRequest, "the body could not be read: %s", err)
}

// Decode reads a JSON body strictly: no unknown members, nothing behind it.
func Decode(c *gin.Context, limit int64, into any) error {
	return decode(c, limit, into, true)
}

// DecodeLenient reads a JSON body as [Decode], and takes members that nobody knows.
func DecodeLenient(c *gin.Context, limit int64, into any) error {
	return decode(c, limit, into, false)
}

func decode(c *gin.Context, limit int64, into any, strict bool) error {
	if _, err := MediaType(c, "application/json"); err != nil {
		return err
	}
	dec := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, limit))
	if strict {
		dec.DisallowUnknownFields()
	}
	err := dec.Decode(into)
	var syntax *json.SyntaxError
	var typ *json.UnmarshalTypeError
	var large *http.MaxBytesError
	switch {
	case err == nil && dec.More():
		return NewProblem(http.StatusBadRequest, "something follows the JSON value of the body")
	case err == nil:
		return nil
	case errors.As(err, &large):
		return err
	case errors.As(err, &syntax):
		return NewProblem(http.StatusBadRequest, "the body is not valid JSON at byte %d: %s", syntax.Offset, err)
	case errors.As(err, &typ):
		p := NewProblem(http.StatusBadRequest, "a JSON %s is not what was expected here", typ.Value)
		p.Pointer = "/" + strings.ReplaceAll(typ.Field, ".", "/")
		return p
	}
	return NewProblem(http.StatusBadRequest, "the body cannot be read: %s",
		strings.TrimPrefix(err.Error(), "json: "))
}
