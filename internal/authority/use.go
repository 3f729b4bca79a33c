package authority

import (
	"context"
	"crypto/x509"
	"net/netip"

	"ironledger.example/core/authority"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// How often it is kept when and where a certificate was used last, and told again that it is in two places; and of
// how many uses are remembered.
const (
	keepUse    = value.Day / 24
	shareAgain = value.Day
	maxUses    = 200_000
)

// Used notes that a device showed a certificate of ours on a connection from an address, and records when it is used
// in two places at once. What could not be recorded is told to whoever runs the service, and stops nobody.
func (s *Service) Used(ctx context.Context, cert *x509.Certificate, from string) {
	serial := cert.SerialNumber.Text(16)
	x := s.Snapshot().Issued.Get(serial)
	if x == nil || x.SHA256 != state.Fingerprint(cert) {
		return
	}
	now := s.Micros()
	shared := s.placed(serial, from, now)
	tell := shared != nil && now-x.SharedAt > shareAgain
	rest := keepUse
	if x.UsedFrom != from {
		rest /= 60 // who goes to and fro makes no change each time
	}
	if !tell && now-x.UsedAt < rest {
		return
	}
	err := s.Do(context.WithoutCancel(ctx), func(c *state.Change) error {
		old := state.Get(c, state.CertificateKind, serial)
		if old == nil {
			return nil
		}
		next := *old
		next.UsedAt, next.UsedFrom = max(old.UsedAt, now), from
		if tell && now-old.SharedAt > shareAgain {
			next.SharedAt, next.Shared = now, shared
			c.Record(ledger.Service, &event.CertificateShared{Device: old.Device, Serial: serial, From: shared})
		}
		return state.Put(c, state.CertificateKind, serial, &next)
	})
	if err != nil {
		s.Log.Warn("where a certificate was used is not kept", "device", x.Device, "error", err)
	}
}

// placed notes where a certificate is, and returns the places that it goes to and fro between.
func (s *Service) placed(serial, from string, now int64) (out []string) {
	a, err := netip.ParseAddr(from)
	if err != nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	u := s.uses[serial]
	if u == nil {
		if len(s.uses) >= maxUses {
			clear(s.uses)
		}
		u = &authority.Uses{}
		s.uses[serial] = u
	}
	for _, p := range u.Use(authority.PlaceOf(a), now) {
		if p.IsSingleIP() {
			out = append(out, p.Addr().String())
		} else {
			out = append(out, p.String())
		}
	}
	return out
}

// Sharing are the certificates that were used in two places at once since a moment, and are not revoked.
func Sharing(snap *state.Snapshot, since int64) (out []*kept.Certificate) {
	for _, x := range snap.Issued.All() {
		if x.SharedAt > since && x.RevokedAt == 0 {
			out = append(out, x)
		}
	}
	return out
}
