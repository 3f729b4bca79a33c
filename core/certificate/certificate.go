// Package certificate turns X.509 certificates (RFC 5280) that a device shows
// into evidence.
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

	"ironledger.example/core/value"
)

// MaxSize bounds one certificate, in bytes of DER.
const MaxSize = 64 << 10

// Type is what a condition sees of a certificate. Whether it is trusted or
// revoked, and which issuer it chains to, is unknown until it has been checked
// against issuers.
var Type = &value.RecordType{Name: "certificate", Fields: []value.Field{
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
}}

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
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return value.Value{}, fmt.Errorf("not an X.509 certificate: %w", err)
	}
	return record(c), nil
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
	fields := map[string]value.Value{
		"subject": value.OfText(c.Subject.String()), "issuer": value.OfText(c.Issuer.String()),
		"names": value.OfTexts(names), "serial": value.OfText(c.SerialNumber.Text(16)),
		"sha256": value.OfText(hex.EncodeToString(sum[:])), "not_before": value.OfTime(from),
		"not_after": value.OfTime(to), "lifetime": value.OfDuration(to - from),
	}
	list := make([]value.Value, len(Type.Fields))
	for i, f := range Type.Fields {
		list[i] = fields[f.Name]
	}
	return value.OfRecord(Type, list)
}
