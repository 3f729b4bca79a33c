package rulebook

import (
	"slices"
	"strings"

	"ironledger.example/core/certificate"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook/tree"
	"ironledger.example/core/value"
)

// DefaultMaxWaiver is how long a waiver may live when the rulebook does not
// say: 90 days, in microseconds.
const DefaultMaxWaiver = 90 * 24 * 3600 * 1_000_000

// waivers reads the limits of waivers: {max: 30d, helpdesk: 2d, approve: [barred]}.
func (l *loader) waivers() {
	f, ok := l.single("waivers")
	if !ok {
		return
	}
	lives := func(into *int64) func(tree.Field) {
		return func(f tree.Field) {
			if f.Duration(into); *into <= 0 {
				f.Fail("a waiver must be allowed to live for some time")
			}
		}
	}
	f.Mapping("waivers", map[string]func(tree.Field){
		"max":      lives(&l.rb.MaxWaiver),
		"helpdesk": lives(&l.rb.HelpdeskWaiver),
		"approve": func(f tree.Field) {
			for _, m := range f.Seq() {
				if i, ok := m.Word("level", l.rb.Ladder); ok {
					l.rb.ApproveWaivers = append(l.rb.ApproveWaivers, Level(i))
				}
			}
		},
	})
	if l.rb.HelpdeskWaiver > l.rb.MaxWaiver {
		f.Fail("the help desk's waivers may live for %s, and others for %s only",
			value.FormatDuration(l.rb.HelpdeskWaiver), value.FormatDuration(l.rb.MaxWaiver))
	}
}

// combine reads how the readings of several sources combine, by prefix.
func (l *loader) combine() {
	for _, f := range l.keyed("combine") {
		way, ok := f.Word("way to combine", []string{"rank", "worst"})
		if !l.coversSome(f.Key) {
			f.KeyAt.Fail("no attribute begins with %s", f.Key)
			continue
		}
		if ok && way == 1 {
			for _, a := range l.rb.Dict.Attributes() {
				if evidence.Covers(f.Key, a.Name) && a.Worse == 0 {
					f.Fail("%s is a %s, of which none is worse than another; it combines by rank", a.Name, a.Type)
					ok = false
				}
			}
		}
		if ok {
			l.rb.Policy.Combine = append(l.rb.Policy.Combine, evidence.Combine{Prefix: f.Key, Worst: way == 1})
		}
	}
}

// issuers reads the authorities whose certificates are trusted, and their
// files beside the rulebook.
func (l *loader) issuers() {
	seen := unique{}
	for _, it := range l.members("issuers") {
		var is certificate.Issuer
		var file, crl tree.Field
		ok := it.Mapping("an issuer", map[string]func(tree.Field){
			"id":    func(f tree.Field) { f.ID(&is.ID) },
			"title": func(f tree.Field) { var t string; f.Text(&t) },
			"file":  func(f tree.Field) { file = f },
			"crl":   func(f tree.Field) { crl = f },
			"binds": func(f tree.Field) {
				if i, ok := f.Word("identity to bind to", certificate.Bindings); ok {
					is.Binds = certificate.Binding(certificate.Bindings[i])
				}
			},
			"max_lifetime": func(f tree.Field) { f.Duration(&is.MaxLifetime) },
		})
		if !ok || !l.named(it, "an issuer", is.ID) || !seen.add(it, "issuers", is.ID) {
			continue
		}
		if file.Absent() {
			it.Fail("the issuer %s needs file: the name of a PEM file beside the rulebook", is.ID)
			continue
		}
		text, ok := l.beside(file, false)
		if !ok {
			continue
		}
		var err error
		if is.Certificates, err = certificate.ReadIssuer(text); err != nil {
			file.Fail("%s: %v", file.Said(), err)
			continue
		}
		if !crl.Absent() {
			if text, ok := l.beside(crl, false); ok {
				if is.CRL, err = certificate.ReadCRL(text, is.Certificates); err != nil {
					crl.Fail("%s: %v", crl.Said(), err)
				}
			}
		}
		l.rb.Policy.Issuers = append(l.rb.Policy.Issuers, is)
	}
}

// beside returns the text of a file that the rulebook names: of certificates, or of a catalogue.
func (l *loader) beside(f tree.Field, catalogue bool) (string, bool) {
	name, ok := f.Scalar()
	if !ok {
		return "", false
	}
	i := slices.IndexFunc(l.files, func(x File) bool { return x.Name == name })
	fits := IsRulebookFile(name) && !IsYAML(name) && IsCatalogue(name) == catalogue
	if i >= 0 && fits {
		return l.files[i].Text, true
	}
	var there []string
	for _, x := range l.files {
		if !IsYAML(x.Name) {
			there = append(there, x.Name)
		}
	}
	switch {
	case !fits && catalogue:
		f.Fail("%s is not the name of an OSCAL catalogue: it ends in catalog.json", name)
	case !fits:
		f.Fail("%s is not the name of a PEM file: it ends in .pem, .crt, .cer or .crl", name)
	case len(there) == 0:
		f.Fail("there is no file %s beside the rulebook; give the folder that holds both", name)
	default:
		f.Fail("there is no file %s beside the rulebook; there are %s", name, strings.Join(there, ", "))
	}
	return "", false
}

// IssuerEnds is when an issuer's trust, or its revocation list, ends.
type IssuerEnds struct {
	ID       string
	NotAfter int64 // of its last certificate, in microseconds since the Unix epoch
	CRLEnds  int64 // 0: it has no list, or one that does not end
}

// Issuers lists the issuers with their ends.
func (rb *Rulebook) Issuers() []IssuerEnds {
	var out []IssuerEnds
	for _, is := range rb.Policy.Issuers {
		e := IssuerEnds{ID: is.ID}
		for _, c := range is.Certificates {
			e.NotAfter = max(e.NotAfter, value.Micros(c.NotAfter))
		}
		if is.CRL != nil && !is.CRL.NextUpdate.IsZero() {
			e.CRLEnds = value.Micros(is.CRL.NextUpdate)
		}
		out = append(out, e)
	}
	return out
}

// retention reads how long things are kept: {retired: 400d}.
func (l *loader) retention() {
	f, ok := l.single("retention")
	if !ok {
		return
	}
	f.Mapping("retention", map[string]func(tree.Field){
		"retired": func(f tree.Field) {
			if f.Duration(&l.rb.KeepRetired); l.rb.KeepRetired < value.Day {
				f.Fail("what is known of a retired device is kept for a day at least")
			}
		},
	})
}
