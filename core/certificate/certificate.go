// Package certificate turns X.509 certificates (RFC 5280) that a device shows
// into evidence, and says which of them are trusted for it.
//
// [Decode] reads a certificate as a record of conditions. [NewChecker] prepares
// the issuers that a rulebook trusts with their revocation lists, and
// [Checker.Check] fills in, for one device at one moment, whether each of its
// certificates is trusted, by which issuer, and whether it is revoked.
package certificate

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"ironledger.example/core/value"
)

// MaxSize bounds one certificate, in bytes of DER.
const MaxSize = 32 << 10

// Type is what a condition sees of a certificate. Whether it is trusted or
// revoked, and which issuer it chains to, is unknown until it has been checked
// against issuers. The certificate itself is carried along, so that it can be
// checked again when the issuers change.
var Type = &value.RecordType{Name: "certificate", Show: show, Fields: []value.Field{
	{Name: "subject", Type: value.Of(value.Text)},
	{Name: "issuer", Type: value.Of(value.Text)},
	{Name: "names", Type: value.ListOf(value.Of(value.Text))},
	{Name: "serial", Type: value.Of(value.Text)},
	{Name: "sha256", Type: value.Of(value.Text)},
	{Name: "not_before", Type: value.Of(value.Time)},
	{Name: "not_after", Type: value.Of(value.Time)},
	{Name: "lifetime", Type: value.Of(value.Duration)},
	{Name: "trusted", Type: value.Of(value.Bool)},
	{Name: "revoked", Type: value.Of(value.Bool)},
	{Name: "issuer_id", Type: value.Of(value.Text)},
	{Name: "der", Type: value.Of(value.Text), Hidden: true}, // base64
	{Name: "why", Type: value.Of(value.Text), Hidden: true}, // why it is not trusted
	{Name: "profile", Type: value.Of(value.Text)},           // under which our own authority issued it
}}

// Field is a field of a certificate that conditions see, by its name.
func Field(c value.Value, name string) value.Value { return c.FieldAt(Type.Index(name)) }

// The places of the fields.
const (
	slotSubject = iota
	slotIssuer
	slotNames
	slotSerial
	slotSHA256
	slotNotBefore
	slotNotAfter
	slotLifetime
	slotTrusted
	slotRevoked
	slotIssuerID
	slotDER
	slotWhy
	slotProfile
)

// show names a certificate in a line: its subject, its end, and what is wrong
// with it.
func show(fields []value.Value) string {
	s := fields[slotSubject].Str() + " until " + fields[slotNotAfter].String()
	if why := fields[slotWhy].Str(); why != "" {
		s += " (" + why + ")"
	} else if fields[slotTrusted].IsTrue() {
		s += " (trusted, " + fields[slotIssuerID].Str() + ")"
	}
	return s
}

// Decode reads {"pem": "…"} or {"der": "base64"} as a certificate record.
func Decode(raw json.RawMessage) (value.Value, error) {
	var in struct {
		PEM string `json:"pem"`
		DER string `json:"der"`
	}
	if err := json.Unmarshal(raw, &in); err != nil || (in.PEM == "") == (in.DER == "") {
		return value.Value{}, errors.New(`expected an object {"pem": "…"} or {"der": "…"}`)
	}
	if len(in.PEM) > 2*MaxSize || len(in.DER) > 2*MaxSize {
		return value.Value{}, fmt.Errorf("the certificate is larger than %d bytes", MaxSize)
	}
	var der []byte
	if in.PEM != "" {
		block, _ := pem.Decode([]byte(in.PEM))
		if block == nil || block.Type != "CERTIFICATE" {
			return value.Value{}, errors.New("no PEM block of type CERTIFICATE")
		}
		der = block.Bytes
	} else {
		var err error
		if der, err = base64.StdEncoding.DecodeString(in.DER); err != nil {
			return value.Value{}, fmt.Errorf("der is not base64: %w", err)
		}
	}
	if len(der) > MaxSize {
		return value.Value{}, fmt.Errorf("the certificate is larger than %d bytes", MaxSize)
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return value.Value{}, fmt.Errorf("not an X.509 certificate: %w", err)
	}
	v := record(c)
	for i, f := range Type.Fields {
		texts := []value.Value{v.FieldAt(i)}
		if i == slotNames {
			texts = texts[0].Members()
		}
		for _, t := range texts {
			if !f.Hidden && len(t.Str()) > value.MaxText {
				return value.Value{}, fmt.Errorf("the %s of the certificate is longer than %d bytes", f.Name,
					value.MaxText)
			}
		}
	}
	return v, nil
}

func record(c *x509.Certificate) value.Value {
	names := append([]string{}, c.DNSNames...)
	names = append(names, c.EmailAddresses...)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
	}
	for _, u := range c.URIs {
		names = append(names, (*url.URL).String(u))
	}
	sum := sha256.Sum256(c.Raw)
	from, to := value.Micros(c.NotBefore), value.Micros(c.NotAfter)
	fields := make([]value.Value, len(Type.Fields))
	fields[slotSubject], fields[slotIssuer] = value.OfText(c.Subject.String()), value.OfText(c.Issuer.String())
	fields[slotNames], fields[slotSerial] = value.OfTexts(names), value.OfText(c.SerialNumber.Text(16))
	fields[slotSHA256] = value.OfText(hex.EncodeToString(sum[:]))
	fields[slotNotBefore], fields[slotNotAfter], fields[slotLifetime] = value.OfTime(from), value.OfTime(to),
		value.OfDuration(to-from)
	fields[slotDER] = value.OfText(base64.StdEncoding.EncodeToString(c.Raw))
	return value.OfRecord(Type, fields)
}

// Of makes the record of a certificate, as [Decode] does.
func Of(c *x509.Certificate) value.Value { return record(c) }

// Issue makes the record of a certificate that our own authority issued under a profile.
func Issue(c *x509.Certificate, profile string) value.Value {
	return record(c).WithFields(map[int]value.Value{slotProfile: value.OfText(profile),
		slotRevoked: value.OfBool(false)})
}

// State makes a record from fields alone, as an example states them: what is not among them is not known, but the
// lifetime, which follows from both ends, and that a certificate is not revoked, which goes without saying.
func State(fields map[string]value.Value) value.Value {
	all := make([]value.Value, len(Type.Fields))
	all[slotRevoked] = value.OfBool(false)
	for name, v := range fields {
		all[Type.Index(name)] = v
	}
	if from, to := all[slotNotBefore], all[slotNotAfter]; from.Known() && to.Known() && !all[slotLifetime].Known() {
		all[slotLifetime] = value.OfDuration(to.Num() - from.Num())
	}
	return value.OfRecord(Type, all)
}

// Revoke makes the record of one that it has taken back.
func Revoke(c value.Value) value.Value {
	return c.WithFields(map[int]value.Value{slotRevoked: value.OfBool(true)})
}

// Union is the certificates that a device shows, with those that our own authority issued to it and that are not
// among them.
func Union(shown value.Value, issued []value.Value) value.Value {
	if len(issued) == 0 {
		return shown
	}
	var list []value.Value
	if shown.Known() {
		list = slices.Clone(shown.Members())
	}
	for _, c := range issued {
		if sum := c.FieldAt(slotSHA256).Str(); !slices.ContainsFunc(list,
			func(x value.Value) bool { return x.FieldAt(slotSHA256).Str() == sum }) {
			list = append(list, c)
		}
	}
	return value.OfList(list)
}

// Why returns why a checked certificate is not trusted, "" when it is.
func Why(cert value.Value) string { return cert.FieldAt(slotWhy).Str() }

// Proven reports whether the certificate with a SHA-256, which a connection
// proved possession of, is among the checked certificates of a device, trusted
// and not revoked. It is not known when nothing is known of the certificates, or
// of the revocation of this one.
func Proven(certs value.Value, sha256 string) (trusted, known bool) {
	if !certs.Known() {
		return false, false
	}
	for _, c := range certs.Members() {
		if !strings.EqualFold(c.FieldAt(slotSHA256).Str(), sha256) {
			continue
		}
		trusted, revoked := c.FieldAt(slotTrusted).IsTrue(), c.FieldAt(slotRevoked)
		return trusted && !revoked.IsTrue(), !trusted || revoked.Known()
	}
	return false, true // the device has shown others since
}
