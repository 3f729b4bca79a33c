package feed

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"

	core "ironledger.example/core/feed"
	"ironledger.example/core/heard"
)

// pollRequest asks for events and says what became of those before (RFC 8936, section 2.2).
type pollRequest struct {
	Max     int                 `json:"maxEvents"`
	AtOnce  bool                `json:"returnImmediately"`
	Ack     []string            `json:"ack,omitempty"`
	Refused map[string]setError `json:"setErrs,omitempty"`
}

// setError is why an event was not taken (RFC 8936, section 2.6).
type setError struct {
	Err         string `json:"err"`
	Description string `json:"description"`
}

// pollAnswer is what a transmitter has (RFC 8936, section 2.3).
type pollAnswer struct {
	Sets map[string]string `json:"sets"`
	More bool              `json:"moreAvailable"`
}

const (
	pollAtOnce  = 100
	maxPollBody = 8 << 20
)

// poll asks for events until there are no more. What was taken is acknowledged with the next question, and
// once more at the end.
func (x *running) poll(ctx context.Context) error {
	q := pollRequest{Max: pollAtOnce, AtOnce: true}
	for range maxPages {
		a, err := x.fetcher.poll(ctx, &q)
		if err != nil {
			return err
		}
		x.count(func(r *core.Run) { r.Pages++ })
		q.Ack, q.Refused = nil, nil
		if len(a.Sets) == 0 && q.Max == 0 {
			return nil
		}
		for _, jti := range slices.Sorted(maps.Keys(a.Sets)) {
			if err := x.takeSet(ctx, &q, jti, a.Sets[jti]); err != nil {
				return err
			}
		}
		switch {
		case len(q.Ack)+len(q.Refused) == 0:
			return nil
		case !a.More:
			q.Max = 0 // only to acknowledge
		}
	}
	return failed(stepItems, "there are more than %d answers", maxPages)
}

// takeSet takes one event, and notes what the transmitter is told of it.
func (x *running) takeSet(ctx context.Context, q *pollRequest, jti, set string) error {
	x.count(func(r *core.Run) { r.Items++ })
	err := x.service.heard.Take(ctx, set, x.feed.Source)
	var refused *heard.Error
	switch {
	case errors.As(err, &refused):
		if q.Refused == nil {
			q.Refused = map[string]setError{}
		}
		q.Refused[jti] = setError{refused.Code, refused.Description}
		x.count(func(r *core.Run) { r.Rejected++; r.Say("event", refused.Error(), r.Items) })
	case err != nil: // it can be neither taken nor refused now: it comes again
		return failed(stepItems, "an event can not be taken: %w", err)
	default:
		q.Ack = append(q.Ack, jti)
		x.count(func(r *core.Run) { r.Accepted++ })
	}
	return nil
}

// poll sends one question.
func (f *fetcher) poll(ctx context.Context, q *pollRequest) (*pollAnswer, error) {
	ctx, cancel := context.WithTimeout(ctx, f.limits.Headers+f.limits.Stall)
	defer cancel()
	body, err := json.Marshal(q)
	if err != nil {
		return nil, err
	}
	answer, err := f.ask(ctx, http.MethodPost, f.settings.URL, body, validators{})
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(answer.Body, maxPollBody+1))
	if err != nil {
		return nil, &stepError{step: stepItems, err: err}
	}
	f.read(len(raw))
	var out pollAnswer
	switch typ := answer.Header.Get("Content-Type"); {
	case len(raw) > maxPollBody:
		return nil, failed(stepItems, "an answer is larger than %d bytes", maxPollBody)
	case q.Max == 0 && len(bytes.TrimSpace(raw)) == 0:
		return &out, nil // some acknowledge an acknowledgement with nothing
	case !strings.HasPrefix(typ, "application/json"):
		return nil, failed(stepAnswer, "the partner answers with %.100q, where events in JSON were expected", typ)
	}
	if err := json.Unmarshal(raw, &out); err != nil {
		return nil, failed(stepItems, "the answer holds no events (RFC 8936): %w", err)
	}
	if len(out.Sets) > pollAtOnce {
		return nil, &stepError{step: stepItems, err: fmt.Errorf("%d events come at once, where at most %d were "+
			"asked for", len(out.Sets), pollAtOnce)}
	}
	return &out, nil
}
