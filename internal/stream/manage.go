package stream

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/signal"
	"ironledger.example/core/value"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/outbound"
	"ironledger.example/internal/state"
)

// The ways in which events come to a receiver (SSF 1.0, section 8.1.1).
const (
	Push = "urn:ietf:rfc:8935"
	Poll = "urn:ietf:rfc:8936"
)

// What a receiver may have.
const (
	maxStreams     = 4      // of one receiver
	maxSubjects    = 10_000 // named in one stream
	maxDescription = 500
)

// ForbiddenError says that the rulebook gives a receiver nothing, or that an
// administrator's word stands against it.
type ForbiddenError struct{ Message string }

func (e *ForbiddenError) Error() string { return e.Message }

// create makes a stream to a receiver.
func (s *Service) create(ctx context.Context, actor string, st kept.Stream, secret string) (*kept.Stream, error) {
	err := s.put(ctx, st.ID, func(c *state.Change) error {
		r := c.Base.Book.Rulebook.Signals.Receiver(st.Receiver)
		if r == nil {
			return &ForbiddenError{fmt.Sprintf("the rulebook in force names no receiver %s in its "+
				"signals", st.Receiver)}
		}
		if r.Form != st.Form {
			return &ForbiddenError{fmt.Sprintf("the rulebook in force has %s told by %s, not by "+
				"%s", st.Receiver, r.Form,
				st.Form)}
		}
		n := 0
		for _, x := range state.All(c, state.StreamKind) {
			if x.Receiver == st.Receiver {
				n++
			}
		}
		if n >= maxStreams {
			return fault.Inputf("", "%s has %d streams already", st.Receiver, n)
		}
		st.CreatedAt, st.CreatedBy, st.Status = c.Now, actor, kept.StreamEnabled
		st.From = s.Store.Sealed().Size
		st.Authorization = s.seal(&st, secret)
		c.Record(actor, &event.StreamChanged{Stream: st.ID, Receiver: st.Receiver, Change: event.StreamCreated,
			Endpoint: outbound.Plain(st.Endpoint), Events: names(st.Requested)})
		return state.Put(c, state.StreamKind, st.ID, &st)
	})
	if err != nil {
		return nil, err
	}
	return &st, nil
}

// seal encrypts what is sent along with events; nothing for nothing.
func (s *Service) seal(st *kept.Stream, secret string) []byte {
	if secret == "" {
		return nil
	}
	return s.box.Seal(secret, "stream "+st.ID)
}

// change makes a stream another one, and begins to tell it anew.
func (s *Service) change(ctx context.Context, actor, id, receiver string,
	how func(*kept.Stream, *state.Change) (*event.StreamChanged, error)) (*kept.Stream, error) {
	var out kept.Stream
	err := s.put(ctx, id, func(c *state.Change) error {
		old := state.Get(c, state.StreamKind, id)
		if old == nil || receiver != "" && old.Receiver != receiver {
			return fault.NotFound("stream", id)
		}
		out = *old
		out.Subjects = slices.Clone(old.Subjects)
		e, err := how(&out, c)
		if err != nil {
			return err
		}
		if e == nil { // nothing changes
			return nil
		}
		e.Stream, e.Receiver = id, out.Receiver
		c.Record(actor, e)
		return state.Put(c, state.StreamKind, id, &out)
	})
	if err != nil {
		return nil, err
	}
	return &out, nil
}

// Remove ends a stream; receiver is whose it must be, "" for anybody's.
func (s *Service) Remove(ctx context.Context, actor, id, receiver, reason string) error {
	return s.put(ctx, id, func(c *state.Change) error {
		old := state.Get(c, state.StreamKind, id)
		if old == nil || receiver != "" && old.Receiver != receiver {
			return fault.NotFound("stream", id)
		}
		c.Record(actor, &event.StreamChanged{Stream: id, Receiver: old.Receiver, Change: event.StreamRemoved,
			Reason: event.Clipped(reason, fault.MaxReason)})
		state.Drop(c, state.StreamKind, id)
		state.Drop(c, state.StreamPlaceKind, id)
		for jti, l := range state.All(c, state.LetterKind) {
			if l.Stream == id {
				state.Drop(c, state.LetterKind, jti)
			}
		}
		return nil
	})
}

// SetStatus enables, pauses or disables a stream. A receiver, when it is one, may not
// undo what others did. While a stream is disabled nothing is kept for it.
func (s *Service) SetStatus(ctx context.Context, actor, id, receiver, status, reason string) (*kept.Stream, error) {
	if !slices.Contains([]string{kept.StreamEnabled, kept.StreamPaused, kept.StreamDisabled}, status) {
		return nil, fault.Input("/status", "a stream is enabled, paused or disabled")
	}
	reason = event.Clipped(strings.TrimSpace(reason), fault.MaxReason)
	return s.change(ctx, actor, id, receiver, func(st *kept.Stream, c *state.Change) (*event.StreamChanged, error) {
		if receiver != "" && st.Status != kept.StreamEnabled && st.By != receiver && st.By != "" {
			return nil, &ForbiddenError{fmt.Sprintf("the stream was %s by %s: %s", st.Status, st.By, st.Reason)}
		}
		if st.Status == kept.StreamDisabled && status != kept.StreamDisabled {
			if err := state.Put(c, state.StreamPlaceKind, id, &kept.StreamPlace{Seq: s.Store.Sealed().Size}); err != nil {
				return nil, err
			}
		}
		if st.Status == status && st.Reason == reason {
			return nil, nil
		}
		st.Status, st.Reason, st.By = status, reason, actor
		return &event.StreamChanged{Change: event.StreamStatus, Status: status, Reason: reason}, nil
	})
}

// pauseItself pauses a stream that its receiver cannot take.
func (s *Service) pauseItself(id, reason string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ctx.Err() != nil {
		return
	}
	s.wg.Go(func() { // not in the sender's own time, which ends with it
		if _, err := s.SetStatus(s.ctx, "service", id, "", kept.StreamPaused, reason); err != nil && s.ctx.Err() == nil {
			s.Log.Error("a stream cannot be paused", "stream", id, "error", err)
		}
	})
}

// requested checks event types that a receiver asks for: those that nobody tells here
// are left out of what is delivered, as SSF 1.0 has it.
func requested(types []string) ([]string, error) {
	if len(types) > 50 {
		return nil, fault.Input("/events_requested", "more than 50 event types")
	}
	for _, t := range types {
		if len(t) > 500 {
			return nil, fault.Input("/events_requested", "an event type is a URI of at most 500 bytes")
		}
	}
	return slices.Clone(types), nil
}

// names are the short names of event types, for people.
func names(types []string) (out []string) {
	for _, t := range types {
		if n := signal.NameOf(t); n != "" {
			out = append(out, n)
		}
	}
	return out
}

// endpoint checks where events are to be sent.
func (s *Service) endpoint(pointer, url string) error {
	s.mu.Lock()
	policy := s.options.Policy
	s.mu.Unlock()
	if err := policy.CheckURL(url); err != nil {
		return fault.Input(pointer, err.Error())
	}
	return nil
}

func checkSecret(pointer, secret string) error {
	if len(secret) > 4000 || strings.ContainsFunc(secret, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return fault.Input(pointer, "a header of at most 4000 bytes, in one line")
	}
	return nil
}

// Create makes a stream as an administrator asks for it.
func (s *Service) Create(ctx context.Context, actor string, d api.StreamDraft) (*api.Stream, error) {
	st := kept.Stream{ID: s.newID(), Receiver: d.Receiver, Form: rulebook.SetForm, Endpoint: d.Endpoint,
		Description: d.Description, Chosen: d.Chosen, Binary: d.Binary}
	if r := s.Snapshot().Book.Rulebook.Signals.Receiver(d.Receiver); r != nil {
		st.Form = r.Form
	}
	signing := ""
	switch {
	case st.Form == rulebook.CloudForm && d.Endpoint == "":
		return nil, fault.Inputf("/endpoint", "%s is told by %s: say where they are sent", d.Receiver, st.Form)
	case st.Form == rulebook.CloudForm:
		var sealed kept.StreamSecret
		signing, sealed = s.newSecret(st.ID)
		st.Secrets = []kept.StreamSecret{sealed}
	case d.Binary:
		return nil, fault.Inputf("/binary", "it is a mode of %s, and the rulebook has %s told by "+
			"%s", rulebook.CloudForm,
			d.Receiver, st.Form)
	}
	for i, name := range d.Events {
		if !slices.Contains(rulebook.SignalNames, name) {
			return nil, fault.Inputf(fmt.Sprintf("/events/%d", i), "%s is not an event; there are %s", name,
				strings.Join(rulebook.SignalNames, ", "))
		}
		st.Requested = append(st.Requested, signal.TypeOf(name))
	}
	if d.Endpoint != "" {
		if err := s.endpoint("/endpoint", d.Endpoint); err != nil {
			return nil, err
		}
	} else if d.Authorization != "" {
		return nil, fault.Input("/authorization", "it is sent along with events; these are fetched")
	}
	if len(d.Description) > maxDescription {
		return nil, fault.Inputf("/description", "longer than %d bytes", maxDescription)
	}
	if err := checkSecret("/authorization", d.Authorization); err != nil {
		return nil, err
	}
	made, err := s.create(ctx, actor, st, d.Authorization)
	if barred := (*ForbiddenError)(nil); errors.As(err, &barred) {
		return nil, fault.Input("/receiver", barred.Message)
	}
	if err != nil {
		return nil, err
	}
	out := s.shown(made)
	out.Secret = signing
	return out, nil
}

func (s *Service) newID() string { return "st-" + s.IDs.Next(s.Micros()) }

// Configure makes a stream as its receiver asks for it (SSF 1.0, section 8.1.1.1).
func (s *Service) Configure(ctx context.Context, by *bearer.Token,
	in api.StreamConfiguration) (*api.StreamConfiguration,
	error) {
	st := kept.Stream{ID: s.newID(), Receiver: by.Name, Form: rulebook.SetForm}
	secret, err := s.configure(&st, &in, true)
	if err != nil {
		return nil, err
	}
	made, err := s.create(ctx, by.Name, st, secret)
	if err != nil {
		return nil, err
	}
	return s.configuration(made), nil
}

// Reconfigure changes a stream as its receiver asks (SSF 1.0, sections 8.1.1.3 and
// 8.1.1.4): what is given, or all of it.
func (s *Service) Reconfigure(ctx context.Context, by *bearer.Token, in api.StreamConfiguration,
	whole bool) (*api.StreamConfiguration, error) {
	out, err := s.change(ctx, by.Name, in.StreamID, by.Name,
		func(st *kept.Stream, _ *state.Change) (*event.StreamChanged, error) {
			if is := s.Issuer(); in.Iss != "" && in.Iss != is || in.Aud != "" && in.Aud != st.Receiver {
				return nil, fault.Input("/iss", "what the transmitter says of a stream cannot be changed")
			}
			secret, err := s.configure(st, &in, whole)
			if err != nil {
				return nil, err
			}
			switch {
			case st.Endpoint == "":
				st.Authorization = nil
			case secret != "" || whole || in.Delivery != nil:
				st.Authorization = s.seal(st, secret)
			}
			return &event.StreamChanged{Change: event.StreamUpdated, Endpoint: outbound.Plain(st.Endpoint),
				Events: names(st.Requested)}, nil
		})
	if err != nil {
		return nil, err
	}
	return s.configuration(out), nil
}

// configure lays what a receiver gives over a stream, and returns the secret in it.
func (s *Service) configure(st *kept.Stream, in *api.StreamConfiguration, whole bool) (secret string, err error) {
	if whole || in.EventsRequested != nil {
		if st.Requested, err = requested(in.EventsRequested); err != nil {
			return "", err
		}
	}
	if whole || in.Description != "" {
		if len(in.Description) > maxDescription {
			return "", fault.Inputf("/description", "longer than %d bytes", maxDescription)
		}
		st.Description = in.Description
	}
	d := in.Delivery
	if d == nil {
		if whole {
			st.Endpoint = "" // SSF 1.0, section 8.1.1.1: who does not say fetches
		}
		return "", nil
	}
	switch d.Method {
	case Poll:
		if d.AuthorizationHeader != "" {
			return "", fault.Input("/delivery/authorization_header", "it is sent along with events; these are fetched")
		}
		st.Endpoint = ""
	case Push:
		if err := s.endpoint("/delivery/endpoint_url", d.EndpointURL); err != nil {
			return "", err
		}
		if err := checkSecret("/delivery/authorization_header", d.AuthorizationHeader); err != nil {
			return "", err
		}
		st.Endpoint = d.EndpointURL
	default:
		return "", fault.Inputf("/delivery/method", "%q is not a method; there are %s and %s", d.Method, Push, Poll)
	}
	return d.AuthorizationHeader, nil
}

// configuration is a stream as its receiver has it.
func (s *Service) configuration(st *kept.Stream) *api.StreamConfiguration {
	out := &api.StreamConfiguration{StreamID: st.ID, Iss: s.Issuer(), Aud: st.Receiver, Description: st.Description,
		EventsRequested: st.Requested, EventsSupported: []string{}, EventsDelivered: []string{},
		MinVerificationInterval: int(verifyEach.Seconds())}
	if r := s.Snapshot().Book.Rulebook.Signals.Receiver(st.Receiver); r != nil {
		for _, name := range r.Events {
			out.EventsSupported = append(out.EventsSupported, signal.TypeOf(name))
		}
		for _, name := range delivered(st, r) {
			out.EventsDelivered = append(out.EventsDelivered, signal.TypeOf(name))
		}
	}
	out.Delivery = &api.StreamDelivery{Method: Push, EndpointURL: st.Endpoint}
	if st.Endpoint == "" {
		out.Delivery = &api.StreamDelivery{Method: Poll, EndpointURL: s.Issuer() + "/ssf/streams/" + st.ID + "/poll"}
	}
	return out
}

// Of is a stream of a receiver; an error when it has none of the id.
func (s *Service) Of(receiver, id string) (*kept.Stream, error) {
	st := s.Snapshot().Streams.Get(id)
	if st == nil || st.Receiver != receiver {
		return nil, fault.NotFound("stream", id)
	}
	return st, nil
}

// Configuration is a stream of a receiver as it has it.
func (s *Service) Configuration(receiver, id string) (*api.StreamConfiguration, error) {
	st, err := s.Of(receiver, id)
	if err != nil {
		return nil, err
	}
	return s.configuration(st), nil
}

// Configurations are all streams of a receiver.
func (s *Service) Configurations(receiver string) []api.StreamConfiguration {
	out := []api.StreamConfiguration{}
	for _, st := range s.Snapshot().Streams.List() {
		if st.Receiver == receiver {
			out = append(out, *s.configuration(&st))
		}
	}
	return out
}

// SetSubject has a stream tell of a subject, or no longer.
func (s *Service) SetSubject(ctx context.Context, by *bearer.Token, in api.StreamSubject, add bool) error {
	what, err := s.subjectOf(in.Subject)
	if err != nil {
		return err
	}
	_, err = s.change(ctx, by.Name, in.StreamID, by.Name,
		func(st *kept.Stream, _ *state.Change) (*event.StreamChanged, error) {
			at, there := slices.BinarySearch(st.Subjects, what)
			switch listed := add == st.Chosen; {
			case listed == there:
				return nil, nil
			case listed && len(st.Subjects) >= maxSubjects:
				return nil, fault.Inputf("", "the stream names %d subjects already", maxSubjects)
			case listed:
				st.Subjects = slices.Insert(st.Subjects, at, what)
			default:
				st.Subjects = slices.Delete(st.Subjects, at, at+1)
			}
			sign := map[bool]string{true: "+ ", false: "- "}[add]
			return &event.StreamChanged{Change: event.StreamSubjects, Subject: sign + what}, nil
		})
	return err
}

// subjectOf finds the device or the person that a subject names, in whatever form.
func (s *Service) subjectOf(raw json.RawMessage) (string, error) {
	var in signal.Subject
	if err := json.Unmarshal(raw, &in); err != nil {
		return "", fault.Input("/subject", "the subject is not one of RFC 9493: "+err.Error())
	}
	device, person := &in, &in
	if in.Format == "complex" {
		if device, person = in.Device, in.User; device != nil {
			person = nil
		}
	}
	snap := s.Snapshot()
	name := func(x *signal.Subject) string {
		switch x.Format {
		case "opaque":
			return x.ID
		case "email":
			return x.Email
		case "iss_sub":
			if x.Issuer == s.Issuer() {
				return x.Subject
			}
		}
		return ""
	}
	if device != nil && device.Format != "email" {
		if d := snap.Named(name(device)); d != nil {
			return "device " + d.ID, nil
		}
	}
	if person != nil {
		if p, known := snap.People.Get(name(person)); known {
			return "person " + p.ID, nil
		}
	}
	return "", fault.NotFound("subject", string(raw[:min(len(raw), 200)]))
}

// List shows the streams there are.
func (s *Service) List() []api.Stream {
	out := []api.Stream{}
	for _, st := range s.Snapshot().Streams.List() {
		out = append(out, *s.shown(&st))
	}
	return out
}

// Show shows a stream.
func (s *Service) Show(id string) (*api.Stream, error) {
	st := s.Snapshot().Streams.Get(id)
	if st == nil {
		return nil, fault.NotFound("stream", id)
	}
	return s.shown(st), nil
}

// shown is a stream as administrators see it.
func (s *Service) shown(st *kept.Stream) *api.Stream {
	snap := s.Snapshot()
	out := &api.Stream{ID: st.ID, Receiver: st.Receiver, Description: st.Description, Delivery: "push",
		Form: cmp.Or(st.Form, rulebook.SetForm), Binary: st.Binary,
		Endpoint: outbound.Plain(st.Endpoint), Events: []string{}, Status: st.Status, Reason: st.Reason,
		By: st.By, Chosen: st.Chosen,
		Subjects: append([]string{}, st.Subjects...), CreatedAt: value.FormatTime(st.CreatedAt), CreatedBy: st.CreatedBy,
		Place: snap.StreamPlace(st)}
	if st.Endpoint == "" {
		out.Delivery = "poll"
	}
	if g, err := s.given(snap, st); err != nil {
		out.Failure = err.Error()
	} else {
		out.Events, out.DeviceForm, out.PersonForm = g.Events, g.Device, g.Person
		if g.When != nil {
			out.When = g.When.String()
		}
	}
	for _, l := range snap.Letters.All() {
		if l.Stream == st.ID {
			out.Letters++
		}
	}
	for _, k := range st.Secrets {
		if k.Until != 0 && k.Signs(s.Micros()) {
			out.SecretBeforeUntil = value.FormatTime(k.Until)
		}
	}
	if x := s.sender(st.ID); x != nil {
		x.show(out)
	}
	out.Behind = max(s.Store.Sealed().Size-out.Place, 0)
	return out
}

// show adds what became of the events of a stream.
func (x *sender) show(out *api.Stream) {
	out.Place = x.place()
	x.mu.Lock()
	defer x.mu.Unlock()
	out.Waiting, out.Delivered, out.Refused = len(x.items), x.counts.Delivered, x.counts.Refused
	if len(x.items) > 0 {
		out.OldestAt = value.FormatTime(x.items[0].signal.At)
	}
	if !x.counts.Last.IsZero() {
		out.LastAt = value.FormatTime(value.Micros(x.counts.Last))
	}
	if x.failure != nil && out.Failure == "" {
		out.Failure, out.FailedAt = x.failure.Message, value.FormatTime(value.Micros(x.failure.At))
	}
}
