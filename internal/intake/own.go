package intake

import (
	"context"
	"crypto/x509"
	"fmt"
	"slices"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/state"
)

// UnprovenError says that a certificate identifies no device now.
type UnprovenError struct{ Message string }

func (e *UnprovenError) Error() string { return e.Message }

// Own takes a report that a device makes of itself, over a connection that proved a certificate: it is about the
// device that the certificate identifies at the moment when it is taken, and about no other. A report that names
// another is refused, and that is recorded. The error is an [*UnprovenError], or says that the records cannot be
// written.
func (s *Service) Own(ctx context.Context, cert *x509.Certificate, raw []byte) (*api.ReportResult, error) {
	rep, bad := s.Snapshot().Book.Rulebook.Dict.ParseOwn(raw, s.Micros())
	if bad != nil {
		return &api.ReportResult{Line: 1, Error: bad.Error()}, nil
	}
	var t api.ReportResult
	err := s.Do(ctx, func(c *state.Change) error {
		d, err := Proven(c, cert)
		if err != nil {
			return err
		}
		actor := ledger.Device + " " + d.ID
		own := *rep
		own.Readings, own.Refused = append([]evidence.Reading{}, rep.Readings...), append([]evidence.Refusal{},
			rep.Refused...)
		if why := another(c, d.ID, &own); why != "" {
			t = api.ReportResult{Line: 1, Device: d.ID, Error: why}
			r := refusals{}
			r.add(&t)
			r.record(c, actor)
			return nil
		}
		own.Identity.ID = d.ID
		refused := refusedBefore(c.Device(d.ID))
		t = take(c, actor, evidence.Item{Line: 1, Report: own.Identified()})
		if t.Error != "" || !slices.Equal(t.Refused, refused) { // the same each time is told once
			r := refusals{}
			r.add(&t)
			r.record(c, actor)
		}
		if t.Device != "" && t.Device != d.ID {
			return fmt.Errorf("a report of %s was joined to %s", d.ID, t.Device) // nothing of it is kept
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return &t, nil
}

// refusedBefore is what was refused of the newest report that a device made of itself.
func refusedBefore(d *state.Device) (out []evidence.Refusal) {
	for _, r := range d.Refused {
		if r.Source == evidence.Agent {
			out = append(out, evidence.Refusal{Attribute: r.Attribute, Message: r.Message})
		}
	}
	return out
}

// Proven is the device that a certificate identifies, as a change finds it.
func Proven(c *state.Change, cert *x509.Certificate) (*state.Device, error) {
	id, known := c.Find(evidence.Folded(evidence.ByCertificate, state.Fingerprint(cert)))
	if !known {
		return nil, &UnprovenError{"the certificate that the connection showed identifies no device"}
	}
	d := c.Base.At(c.Device(id), c.Now)
	if why := d.Distrusts(cert, c.Now); why != "" {
		return nil, &UnprovenError{"the certificate that the connection showed identifies no device: " + why}
	}
	return d, nil
}

// another says which other device a report names, "" for none.
func another(c *state.Change, device string, rep *evidence.Report) string {
	if rep.Identity.ID != "" && rep.Identity.ID != device {
		return event.Clipped(fmt.Sprintf("the device %s reports as %s, which it is not", device, rep.Identity.ID),
			event.MaxReason)
	}
	for _, k := range rep.Keys() {
		if id, known := c.Find(k); known && id != device {
			return event.Clipped(fmt.Sprintf("the device %s reports with the %s %s, which is that of %s", device,
				k.Kind,
				k.Text, id), event.MaxReason)
		}
	}
	return ""
}
