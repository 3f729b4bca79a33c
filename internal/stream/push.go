package stream

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"mime"
	"net/http"
	"strings"
	"time"

	"ironledger.example/internal/kept"
	"ironledger.example/internal/outbound"
)

// How events are sent.
const (
	pushTimeout  = 10 * time.Second
	firstRetry   = time.Second
	longestRetry = 5 * time.Minute
	longestAfter = time.Hour // that a receiver may ask for in Retry-After
	maxAnswer    = 16 << 10  // bytes of an answer that are read
	// maxRefused is how many events a receiver may refuse one after another before the
	// stream is paused: somebody has to look.
	maxRefused = 20
	// hookTries is how often a web hook may refuse an event before it is given up, and
	// hookPatience how long it may not answer as it should.
	hookTries    = 6
	hookPatience = 24 * time.Hour
)

// sendLane sends the events of a lane, one after another.
func (x *sender) sendLane(ctx context.Context, lane int) {
	for ctx.Err() == nil {
		x.mu.Lock()
		var it *item
		if len(x.lanes[lane]) > 0 {
			it = x.lanes[lane][0]
		}
		grown := x.grown
		x.mu.Unlock()
		if it == nil {
			select {
			case <-grown:
			case <-ctx.Done():
			}
			continue
		}
		x.deliver(ctx, it)
		x.mu.Lock()
		if len(x.lanes[lane]) > 0 && x.lanes[lane][0] == it { // they may have been made anew meanwhile
			x.lanes[lane] = x.lanes[lane][1:]
		}
		x.mu.Unlock()
	}
}

// deliver sends an event until the receiver has it, or it is given up, or ctx ends.
func (x *sender) deliver(ctx context.Context, it *item) {
	for wait := x.service.options.Retry; x.current(it); wait = min(2*wait, longestRetry) {
		if it.first.IsZero() {
			it.first = x.service.Now()
		}
		after, err := x.post(ctx, it)
		switch {
		case ctx.Err() != nil:
			return
		case err == nil:
			x.told(ctx, it)
			return
		case errors.Is(err, errGone):
			x.fail(err)
			x.service.pauseItself(x.id, err.Error()+": it wants to hear nothing any more")
		case !errors.Is(err, errPaused):
			it.tries++
			x.fail(err)
			if x.givesUp(it, err) {
				if err = x.bury(ctx, it, err); err == nil || ctx.Err() != nil {
					return
				}
				x.service.Log.Error("an event that a receiver refused is not kept", "stream", x.id, "error", err)
			}
		}
		pause := wait + time.Duration(rand.Int64N(int64(wait)/2)) - wait/4 // not everybody at once
		select {
		case <-ctx.Done():
			return
		case <-time.After(max(pause, after)):
		}
	}
}

// givesUp reports whether an event is tried no longer: what a receiver of Shared Signals
// refuses it has looked at; a web hook may have been out of order, for a while.
func (x *sender) givesUp(it *item, err error) bool {
	var refusal *RefusalError
	refused := errors.As(err, &refusal)
	if !x.hook {
		return refused
	}
	return refused && it.tries >= hookTries || x.service.Now().Sub(it.first) > hookPatience
}

// RefusalError is an event that a receiver cannot take (RFC 8935, section 2.4).
type RefusalError struct{ Code, Description string }

func (e *RefusalError) Error() string {
	return strings.TrimSuffix("refused with "+e.Code+": "+e.Description, ": ")
}

// post sends an event once. after is how long the receiver asks to
// be left alone.
func (x *sender) post(ctx context.Context, it *item) (after time.Duration, err error) {
	st, given, err := x.given()
	if err != nil || !x.current(it) {
		return 0, err
	}
	var r *http.Request
	if x.hook {
		r, err = x.hookRequest(ctx, it, st, given.Device)
	} else {
		r, err = x.setRequest(ctx, it, st)
	}
	if err != nil {
		return 0, err
	}
	r.Header.Set("User-Agent", "ironledger")
	if len(st.Authorization) > 0 {
		secret, err := x.service.box.Open(st.Authorization, "stream "+st.ID)
		if err != nil {
			return 0, err
		}
		r.Header.Set("Authorization", secret)
	}
	got, err := x.service.client.Do(r)
	if err != nil {
		return 0, withoutURL(err)
	}
	defer got.Body.Close()
	body, _ := io.ReadAll(io.LimitReader(got.Body, maxAnswer))
	if x.hook {
		return hookAnswered(got, x.service.Now())
	}
	return answered(got, body, x.service.Now())
}

// setRequest is an event as a signed token on its way (RFC 8935, section 2.1).
func (x *sender) setRequest(ctx context.Context, it *item, st *kept.Stream) (*http.Request, error) {
	token, err := x.sign(it, st.Receiver)
	if err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, st.Endpoint, strings.NewReader(token))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Content-Type", "application/secevent+jwt")
	r.Header.Set("Accept", "application/json")
	return r, nil
}

// withoutURL leaves the address out of an error, which is told beside it.
func withoutURL(err error) error {
	var wrapped interface{ Unwrap() error }
	if errors.As(err, &wrapped) && wrapped.Unwrap() != nil {
		return wrapped.Unwrap()
	}
	return err
}

// answered is what the answer of a receiver means. Only 202 acknowledges (RFC 8935,
// section 2.2): an address that says 200 to anything has not taken it.
func answered(r *http.Response, body []byte, now time.Time) (after time.Duration, err error) {
	switch {
	case r.StatusCode == http.StatusAccepted:
		return 0, nil
	case r.StatusCode == http.StatusBadRequest:
		var told struct {
			Code        string `json:"err"`
			Description string `json:"description"`
		}
		media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
		if media == "application/json" && json.Unmarshal(body, &told) == nil && told.Code != "" {
			return 0, &RefusalError{clipped(told.Code), clipped(told.Description)}
		}
		return 0, errors.New("the receiver answered 400 without saying why, as RFC 8935, section 2.3, asks")
	case r.StatusCode == http.StatusTooManyRequests || r.StatusCode == http.StatusServiceUnavailable:
		after = outbound.RetryAfter(r.Header, now, longestAfter)
	case r.StatusCode >= 300 && r.StatusCode < 400:
		return 0, fmt.Errorf("the receiver answered %s; redirects are not followed", r.Status)
	case r.StatusCode < 300:
		return 0, fmt.Errorf("the receiver answered %s; only 202 says that it has the event (RFC 8935)", r.Status)
	}
	return after, fmt.Errorf("the receiver answered %s", r.Status)
}

func clipped(text string) string { return text[:min(len(text), 300)] }
