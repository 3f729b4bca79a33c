package authority

import (
	"context"
	"slices"
	"strings"

	"ironledger.example/core/authority"
	"ironledger.example/core/certificate"
	"ironledger.example/core/event"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// Revoke takes back a certificate, by its serial in hex, or all of a device: from then on they identify nobody. It
// returns them.
func (s *Service) Revoke(ctx context.Context, actor, serial, device, code, reason string) ([]kept.Certificate,
	error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	if _, known := authority.Codes[code]; !known {
		return nil, fault.Input("/code", "the code is one of "+strings.Join(authority.CodeNames(), ", ")+", not "+code)
	}
	serial = strings.TrimLeft(strings.ToLower(strings.ReplaceAll(serial, ":", "")), "0")
	var out []kept.Certificate
	err := s.Do(ctx, func(c *state.Change) (err error) {
		out = nil
		id := c.Resolve(device)
		if serial != "" {
			x := state.Get(c, state.CertificateKind, serial)
			switch {
			case x == nil:
				return fault.NotFound("certificate", serial)
			case x.RevokedAt != 0:
				return fault.Input("", "the certificate is revoked already: "+x.Why)
			case device != "" && x.Device != id:
				return fault.Inputf("", "the certificate is that of %s", x.Device)
			}
			id = x.Device
		} else if c.Device(id) == nil {
			return fault.NotFound("device", device)
		}
		out, err = RevokeOf(c, id, serial, actor, code, reason)
		if err == nil && len(out) == 0 {
			err = fault.Inputf("", "%s has no certificate of ours that counts", id)
		}
		return err
	})
	return out, err
}

// RevokeOf takes back a certificate of a device as a part of a change, or with "" all that count.
func RevokeOf(c *state.Change, device, serial, actor, code, reason string) (out []kept.Certificate, err error) {
	list := slices.Clone(c.IssuedTo(device))
	for i, v := range list {
		of := certificate.Field(v, "serial").Str()
		x := state.Get(c, state.CertificateKind, of)
		if x == nil || serial != "" && of != serial || x.RevokedAt != 0 || x.NotAfter < c.Now {
			continue
		}
		list[i] = certificate.Revoke(v)
		next := *x
		next.RevokedAt, next.RevokedBy, next.Why, next.Code = c.Now, actor, reason, authority.Codes[code]
		if err := state.Put(c, state.CertificateKind, of, &next); err != nil {
			return nil, err
		}
		c.Record(actor, &event.CertificateRevoked{Device: device, Serial: of, SHA256: x.SHA256, Code: code,
			Reason: reason})
		out = append(out, next)
	}
	if len(out) > 0 {
		c.SetIssued(device, list, state.Cause{Kind: event.ByEvidence, Actor: actor})
	}
	return out, nil
}
