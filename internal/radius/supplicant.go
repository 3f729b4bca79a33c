package radius

import (
	"context"
	"crypto/tls"
	"errors"

	"ironledger.example/core/eap"
)

// Supplicant is the device's side of EAP-TLS, for stand-ins of devices. It answers one conversation.
type Supplicant struct {
	Identity string
	// Keys are those for the link, once the conversation succeeded.
	Keys Keys

	tls  *handshake
	in   eap.Reassembler
	out  eap.Fragmenter
	done bool
}

// NewSupplicant is one that proves itself by what c has: a certificate and its key, and whom it trusts.
func NewSupplicant(identity string, c *tls.Config) *Supplicant {
	h := &handshake{flights: newFlights(), done: make(chan error, 1)}
	h.conn = tls.Client(h.flights, c)
	go func() { h.done <- h.run() }()
	<-h.wants // its hello is said
	return &Supplicant{Identity: identity, tls: h}
}

// Close gives the conversation up.
func (s *Supplicant) Close() { s.tls.Close() }

// Answer answers a packet; nil for one that ends the conversation, with an error unless that succeeded.
func (s *Supplicant) Answer(ctx context.Context, raw []byte) ([]byte, error) {
	p, err := eap.Parse(raw)
	if err != nil {
		return nil, err
	}
	say := func(t eap.Type, data []byte) []byte {
		return eap.Packet{Code: eap.Response, ID: p.ID, Type: t, Data: data}.Append(nil)
	}
	switch {
	case p.Code == eap.Success && s.done:
		s.Keys = s.tls.keys
		return nil, nil
	case p.Code != eap.Request:
		return nil, errors.New("the network does not let the device in")
	case p.Type == eap.Identity:
		return say(eap.Identity, []byte(s.Identity)), nil
	case p.Type != eap.TLS:
		return say(eap.Nak, []byte{byte(eap.TLS)}), nil
	}
	f, err := eap.ParseFragment(p.Data)
	if err != nil {
		return nil, err
	}
	switch {
	case f.Start:
		s.out.Send(s.tls.said())
	case len(f.Data) > 0:
		if err := s.hear(ctx, f); err != nil {
			return nil, err
		}
	}
	if s.in.Waits() || !s.out.Pending() {
		return say(eap.TLS, []byte{0}), nil
	}
	return say(eap.TLS, s.out.Next(usualFragment)), nil
}

// hear takes what the network says.
func (s *Supplicant) hear(ctx context.Context, f eap.Fragment) error {
	message, err := s.in.Add(f)
	if err != nil || message == nil || s.done { // when it is done, what comes is that the network lets it in
		return err
	}
	out, done, err := s.tls.step(ctx, message)
	if s.done = done; err != nil && len(out) == 0 {
		return err
	}
	s.out.Send(out)
	return nil
}
