package view

import (
	"cmp"
	"crypto/x509"

	"ironledger.example/api"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/value"
	"ironledger.example/internal/authority"
	"ironledger.example/internal/state"
)

// How often a device is to report: a third of what it shows may go missing twice before anything is stale.
const (
	reportsInFreshness = 3
	mostOften          = value.Minute / 2
	leastOften         = value.Day / 24
)

// Own is what a device is told of itself that reported over its certificate: how it stands now, and what is to do, in
// its owner's language or else the one that the caller reads. refused is what was not taken of its report.
func (s *Service) Own(id string, cert *x509.Certificate, refused []evidence.Refusal, language string) *api.OwnReport {
	snap, now := s.Snapshot(), s.Micros()
	d := snap.Fleet.Get(id)
	if d == nil {
		return nil
	}
	d = snap.At(d, now)
	b := snap.Book
	sum := Summarize(b, d, now)
	if p, known := snap.People.Get(sum.Owner); known {
		language = cmp.Or(p.Language, language)
	}
	out := &api.OwnReport{Device: d.ID, Name: sum.Name, Level: sum.Level, Rank: sum.Rank, Top: sum.Top,
		Since: sum.Since,
		At:    value.FormatTime(now), NextChange: sum.NextChange, Refused: refused, Checks: []api.OwnCheck{},
		Language: language,
		ReportEvery: value.FormatDuration(min(max(b.Resolver.FreshFor(d.Record,
			evidence.Agent)/reportsInFreshness, mostOften), leastOften)),
		Certificate: ownCertificate(snap, d, cert, now)}
	if out.Refused == nil {
		out.Refused = []evidence.Refusal{}
	}
	if d.Quarantine.Holds(now) {
		r, _ := plaintext.Language(posture.QuarantineRemedy, language)
		out.Checks = append(out.Checks, api.OwnCheck{Rule: posture.Quarantine, Title: r.Title, Steps: r.Steps, Mend: true,
			Verdict: posture.Fail.String(), HoldsAt: sum.Level, Until: sum.Quarantine.Until})
	}
	verdicts := standing(b, d, now).Verdicts
	for i := range verdicts {
		if v := &verdicts[i]; !v.Shadow && v.Verdict != posture.None {
			out.Checks = append(out.Checks, ownCheck(v, language))
		}
	}
	return out
}

// ownCertificate tells until when a certificate lasts, and from when it is to be renewed: at once when another
// profile fits the device by now.
func ownCertificate(snap *state.Snapshot, d *state.Device, cert *x509.Certificate, now int64) api.OwnCertificate {
	out := api.OwnCertificate{Serial: cert.SerialNumber.Text(16),
		NotAfter: value.FormatTime(value.Micros(cert.NotAfter))}
	from := value.Micros(cert.NotAfter) - (value.Micros(cert.NotAfter)-value.Micros(cert.NotBefore))/3 // of another issuer's
	if x := snap.Issued.Get(out.Serial); x != nil && x.SHA256 == state.Fingerprint(cert) {
		out.Profile, from = x.Profile, renewFrom(snap.Book.Rulebook, x)
		if fits := authority.Fits(snap, x, d, now); fits != "" && fits != x.Profile {
			from = now
		}
	}
	out.RenewAt = value.FormatTime(from)
	return out
}

// ownCheck tells the person of a device of a rule: of its remedy rather than of the rule, where it is to be mended.
func ownCheck(v *posture.Ruling, language string) api.OwnCheck {
	out := api.OwnCheck{Rule: v.Rule, Title: cmp.Or(v.Title, v.Rule), Verdict: v.Verdict.String(),
		HoldsAt: v.HoldsAt, Mend: v.Mend,
		Until: cmp.Or(v.GraceUntil, v.WaivedUntil)}
	if !v.Mend {
		return out
	}
	if r, ok := plaintext.Language(v.Remedy, language); ok {
		out.Title, out.Steps = cmp.Or(r.Title, out.Title), r.Steps
	}
	for i := range v.Why {
		l := &v.Why[i]
		out.Seen = append(out.Seen, api.OwnSeen{Attribute: l.Path, Observed: l.Observed, At: l.At,
			Unknown: l.Unknown})
	}
	return out
}
