package authority

import (
	"crypto/x509"
	"encoding/asn1"
)

// challengePassword is where a request says which connection it is bound to (RFC 7030, section 3.5; RFC 2985, section
// 5.4.1).
var challengePassword = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 7}

// unread is what a request is bound to that says so in a way that cannot be read: no connection is that.
const unread = "?"

// BoundTo is what a request says that it is bound to, "" for nothing.
func BoundTo(r *x509.CertificateRequest) string {
	var tbs struct {
		Version    int
		Subject    asn1.RawValue
		Key        asn1.RawValue
		Attributes []asn1.RawValue `asn1:"tag:0,optional,omitempty"`
	}
	if _, err := asn1.Unmarshal(r.RawTBSCertificateRequest, &tbs); err != nil {
		return unread
	}
	for _, raw := range tbs.Attributes {
		var a struct {
			ID     asn1.ObjectIdentifier
			Values asn1.RawValue
		}
		if _, err := asn1.Unmarshal(raw.FullBytes, &a); err != nil {
			return unread
		}
		if !a.ID.Equal(challengePassword) {
			continue
		}
		var text string
		if rest, err := asn1.Unmarshal(a.Values.Bytes, &text); err != nil || len(rest) > 0 || text == "" {
			return unread
		}
		return text
	}
	return ""
}
