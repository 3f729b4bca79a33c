package stream

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"sync"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/signal"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
)

// How events are fetched.
const (
	pollWait   = 25 * time.Second // how long who asks is kept when there is nothing
	maxPolled  = 500              // events in one answer
	verifyEach = 10 * time.Second // between two verifications that a receiver asks for
	testWait   = 8 * time.Second  // for the acknowledgement of a test
)

// TooSoonError says that a receiver asks for verification too often.
type TooSoonError struct{ After time.Duration }

func (e *TooSoonError) Error() string {
	return fmt.Sprintf("verification can be asked for every %s", verifyEach)
}

// Poll takes acknowledgements, and answers with the events that wait, the oldest first
// (RFC 8936). Those that were fetched before and not acknowledged come again. When there
// is none, and the caller does not say otherwise, it waits.
func (s *Service) Poll(ctx context.Context, receiver, id string, q api.PollRequest) (*api.PollAnswer, error) {
	st, err := s.Of(receiver, id)
	switch {
	case err != nil:
		return nil, err
	case st.Endpoint != "":
		return nil, fault.Input("", "the events of this stream are sent, not fetched")
	case q.MaxEvents != nil && *q.MaxEvents < 0:
		return nil, fault.Input("/maxEvents", "it is at least 0")
	}
	x, err := s.takeAnswers(ctx, receiver, id, &q)
	if err != nil {
		return nil, err
	}
	most := maxPolled
	if q.MaxEvents != nil {
		most = min(most, *q.MaxEvents)
	}
	out := &api.PollAnswer{Sets: map[string]string{}}
	if most == 0 {
		out.MoreAvailable = x.waits()
		return out, nil
	}
	until, cancel := context.WithTimeout(ctx, pollWait)
	defer cancel()
	for {
		grown := soon // while the stream is changed
		if x := s.sender(id); x != nil {
			if grown, err = x.hand(out, most); err != nil {
				return nil, err
			}
		}
		if q.ReturnImmediately || len(out.Sets) > 0 {
			return out, nil
		}
		wait := pollWait
		if grown == nil {
			wait = 50 * time.Millisecond
		}
		select {
		case <-grown:
		case <-time.After(wait):
		case <-until.Done():
			return out, nil
		case <-s.ctx.Done():
			return out, nil
		}
		if _, err := s.Of(receiver, id); err != nil {
			return nil, err
		}
	}
}

// takeAnswers takes what a receiver says of events that it fetched before, and returns the
// sender of its stream.
func (s *Service) takeAnswers(ctx context.Context, receiver, id string, q *api.PollRequest) (*sender, error) {
	x := s.sender(id)
	for x == nil { // while the stream is changed
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
		if _, err := s.Of(receiver, id); err != nil {
			return nil, err
		}
		x = s.sender(id)
	}
	for _, jti := range q.Ack {
		if it := x.waiting(jti); it != nil {
			x.told(ctx, it)
		}
	}
	for jti, e := range q.SetErrs {
		if it := x.waiting(jti); it != nil {
			if err := x.bury(ctx, it, &RefusalError{clipped(e.Err), clipped(e.Description)}); err != nil {
				return nil, err
			}
		}
	}
	return x, nil
}

// hand puts the oldest events that wait into an answer. grown is closed when there are
// more.
func (x *sender) hand(out *api.PollAnswer, most int) (grown chan struct{}, err error) {
	st, _, err := x.given()
	var items []*item
	switch items, out.MoreAvailable, grown = x.oldest(most); {
	case errors.Is(err, errPaused):
		out.MoreAvailable = false // it waits as if there were nothing
		return grown, nil
	case err != nil:
		return grown, &ForbiddenError{err.Error()}
	}
	for _, it := range items {
		if out.Sets[it.jti], err = x.sign(it, st.Receiver); err != nil {
			return grown, err
		}
	}
	return grown, nil
}

// soon is nobody's to close: who waits for it looks again in a moment.
var soon chan struct{}

// waiting is an event that waits to be acknowledged, nil for none of the id.
func (x *sender) waiting(jti string) *item {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.byID[jti]
}

func (x *sender) waits() bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return len(x.items) > 0
}

// oldest are the events that wait, whether there are more, and what is closed when there
// is another.
func (x *sender) oldest(most int) (items []*item, more bool, grown chan struct{}) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, it := range x.items {
		if it.acked {
			continue
		}
		if len(items) == most {
			return items, true, x.grown
		}
		items = append(items, it)
	}
	return items, false, x.grown
}

// verifications bounds how often receivers ask for verification.
type verifications struct {
	mu   sync.Mutex
	last map[string]time.Time
}

// may reports how long to wait, 0 for not at all.
func (v *verifications) may(id string, now time.Time) time.Duration {
	v.mu.Lock()
	defer v.mu.Unlock()
	if left := verifyEach - now.Sub(v.last[id]); left > 0 && !v.last[id].IsZero() {
		return left
	}
	if v.last == nil {
		v.last = map[string]time.Time{}
	}
	v.last[id] = now
	return 0
}

// Verify sends a verification event over a stream of a receiver (SSF 1.0, section 8.1.4).
func (s *Service) Verify(receiver string, in api.StreamVerification) error {
	st, err := s.Of(receiver, in.StreamID)
	if err != nil {
		return err
	}
	if len(in.State) > 1000 {
		return fault.Input("/state", "longer than 1000 bytes")
	}
	if left := s.verified.may(st.ID, s.Now()); left > 0 {
		return &TooSoonError{left}
	}
	_, _, err = s.verification(st, in.State)
	return err
}

// verification puts a verification event behind those that wait.
func (s *Service) verification(st *kept.Stream, said string) (*sender, *item, error) {
	x := s.sender(st.ID)
	if x == nil {
		return nil, nil, errors.New("the transmitter has not started")
	}
	payload := struct {
		State string `json:"state,omitempty"`
	}{said}
	return x, x.note(signal.Signal{Type: signal.Verification, Payload: payload, Subject: signal.Opaque(st.ID),
		At: s.Micros()}, rand.Text()), nil
}

// Test sends a verification event and tells what became of it within a few seconds.
func (s *Service) Test(ctx context.Context, id string) (*api.StreamTest, error) {
	st := s.Snapshot().Streams.Get(id)
	if st == nil {
		return nil, fault.NotFound("stream", id)
	}
	if st.Status != kept.StreamEnabled {
		return nil, fault.Inputf("", "the stream is %s: %s", st.Status, st.Reason)
	}
	x, it, err := s.verification(st, "test")
	if err != nil {
		return nil, err
	}
	out, begin := &api.StreamTest{JTI: it.jti}, time.Now()
	until, cancel := context.WithTimeout(ctx, testWait)
	defer cancel()
	for {
		x.mu.Lock()
		acked, waits, grown, failure := it.acked, x.byID[it.jti] == it, x.grown, x.failure
		x.mu.Unlock()
		out.Failure = ""
		if failure != nil {
			out.Failure = failure.Message
		}
		switch {
		case acked:
			out.Acknowledged, out.Millis = out.Failure == "", time.Since(begin).Milliseconds()
			return out, nil
		case !waits || s.sender(id) != x:
			out.Failure = "the stream was changed meanwhile"
			return out, nil
		}
		select {
		case <-grown:
		case <-time.After(100 * time.Millisecond): // what goes wrong wakes nobody
		case <-until.Done():
			if out.Failure == "" {
				out.Failure = "nobody acknowledged it within " + value.FormatDuration(testWait.Microseconds())
			}
			return out, nil
		}
	}
}
