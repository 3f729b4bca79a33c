package stream

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/cloudevents/sdk-go/v2/binding"
	cloud "github.com/cloudevents/sdk-go/v2/event"
	cloudhttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	webhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"ironledger.example/core/signal"
	"ironledger.example/core/value"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/outbound"
)

// How web hooks are signed.
const (
	secretPrefix = "whsec_" // of a secret in the form of Standard Webhooks
	secretSize   = 32       // bytes; Standard Webhooks have 24 to 64
	// cloudType is put before the short name of an event.
	cloudType = "example.ironledger."
)

// hookData is the data of a CloudEvent.
type hookData struct {
	Subject *signal.Subject `json:"sub_id"`
	Event   any             `json:"event"`
	Link    string          `json:"link,omitempty"` // the page of the device
}

// cloudEvent is an event in the form of CloudEvents 1.0.
func (x *sender) cloudEvent(it *item, st *kept.Stream, device string) (cloud.Event, error) {
	ev := cloud.New()
	ev.SetID(it.jti)
	ev.SetSource(x.service.Issuer())
	ev.SetType(cloudType + signal.Short(it.signal.Type))
	ev.SetTime(time.UnixMicro(it.signal.At).UTC())
	if s := subjectOfCloud(it.signal.Subject); s != "" {
		ev.SetSubject(s)
	}
	// Those about one device can be put in order (the extension Sequence of CloudEvents).
	ev.SetExtension("sequence", fmt.Sprintf("%020d", it.entry))
	data := hookData{Subject: it.signal.Subject, Event: it.signal.Payload}
	if device == "id" && it.signal.Device != "" {
		data.Link = x.service.Issuer() + "/devices/" + it.signal.Device
	}
	if err := ev.SetData(cloud.ApplicationJSON, data); err != nil {
		return ev, err
	}
	return ev, ev.Validate()
}

// subjectOfCloud is what a CloudEvent is about, as one text: the device if there is one,
// in the form in which the receiver knows it.
func subjectOfCloud(s *signal.Subject) string {
	for _, x := range []*signal.Subject{s.Device, s.Session, s.User, s} {
		if x == nil {
			continue
		}
		for _, text := range []string{x.ID, x.Subject, x.Email} {
			if text != "" {
				return text
			}
		}
	}
	return ""
}

// hookRequest is a CloudEvent on its way, over HTTP in the structured or the binary mode,
// signed as Standard Webhooks 1.0 say with each secret that is in use.
func (x *sender) hookRequest(ctx context.Context, it *item, st *kept.Stream, device string) (*http.Request, error) {
	ev, err := x.cloudEvent(it, st, device)
	if err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, st.Endpoint, nil)
	if err != nil {
		return nil, err
	}
	mode := binding.WithForceStructured
	if st.Binary {
		mode = binding.WithForceBinary
	}
	if err := cloudhttp.WriteRequest(mode(ctx), binding.ToMessage(&ev), r); err != nil {
		return nil, err
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, err
	}
	r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	now := x.service.Now()
	signatures, err := x.service.signatures(st, it.jti, now, body)
	if err != nil {
		return nil, err
	}
	// In lower case, as the specification writes them; HTTP does not mind.
	r.Header.Set(webhooks.HeaderWebhookID, it.jti)
	r.Header.Set(webhooks.HeaderWebhookTimestamp, fmt.Sprint(now.Unix()))
	r.Header.Set(webhooks.HeaderWebhookSignature, strings.Join(signatures, " "))
	return r, nil
}

// signatures are those of a body under each secret of a stream that is in use.
func (s *Service) signatures(st *kept.Stream, id string, now time.Time, body []byte) ([]string, error) {
	var out []string
	for _, k := range st.Secrets {
		if !k.Signs(value.Micros(now)) {
			continue
		}
		secret, err := s.box.Open(k.Sealed, "secret of stream "+st.ID)
		if err != nil {
			return nil, err
		}
		signer, err := webhooks.NewWebhook(secret)
		if err != nil {
			return nil, err
		}
		signature, err := signer.Sign(id, now, body)
		if err != nil {
			return nil, err
		}
		out = append(out, signature)
	}
	if len(out) == 0 {
		return nil, errors.New("the stream has no secret to sign with")
	}
	return out, nil
}

// newSecret makes a secret of a stream: as its receiver gets it, and sealed.
func (s *Service) newSecret(id string) (string, kept.StreamSecret) {
	raw := make([]byte, secretSize)
	rand.Read(raw)
	secret := secretPrefix + base64.StdEncoding.EncodeToString(raw)
	return secret, kept.StreamSecret{Sealed: s.box.Seal(secret, "secret of stream "+id)}
}

// hookAnswered is what the answer of a web hook means (Standard Webhooks, "Responding").
func hookAnswered(r *http.Response, now time.Time) (after time.Duration, err error) {
	switch code := r.StatusCode; {
	case code >= 200 && code < 300:
		return 0, nil
	case code == http.StatusGone:
		return 0, errGone
	case code == http.StatusTooManyRequests || code >= 500:
		after = outbound.RetryAfter(r.Header, now, longestAfter)
	case code >= 300 && code < 400:
		return 0, fmt.Errorf("the hook answered %s; redirects are not followed", r.Status)
	case code >= 400 && code != http.StatusRequestTimeout && code != http.StatusTooEarly:
		return 0, &RefusalError{Code: r.Status}
	}
	return after, fmt.Errorf("the hook answered %s", r.Status)
}

// errGone says that a hook wants to hear nothing any more.
var errGone = errors.New("the hook answered 410 Gone")
