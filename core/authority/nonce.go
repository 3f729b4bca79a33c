package authority

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rand"
	_ "crypto/sha512" // SHA-384, for P-384
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
)

// nonceID is id-pkix-ocsp-nonce (RFC 6960, section 4.4.1).
var nonceID = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 48, 1, 2}

// maxNonce bounds a nonce, in bytes (RFC 8954, section 2.1).
const maxNonce = 32

// ErrNonce is a nonce that is none: the request is malformed (RFC 8954, section 2.1).
var ErrNonce = errors.New("the nonce has 1 to 32 bytes")

// Nonce is what a question about a certificate (RFC 6960, in DER) wants to find in its answer, as the extension has
// it; nil when it wants nothing. The error is [ErrNonce].
func Nonce(request []byte) ([]byte, error) {
	var q struct {
		TBS struct {
			Version    int           `asn1:"explicit,tag:0,default:0,optional"`
			Requestor  asn1.RawValue `asn1:"explicit,tag:1,optional"`
			List       asn1.RawValue
			Extensions []pkix.Extension `asn1:"explicit,tag:2,optional"`
		}
	}
	if _, err := asn1.Unmarshal(request, &q); err != nil {
		return nil, nil // what else is wrong with it is said by whoever reads the rest
	}
	for _, e := range q.TBS.Extensions {
		if !e.Id.Equal(nonceID) {
			continue
		}
		var octets []byte
		if rest, err := asn1.Unmarshal(e.Value, &octets); err != nil || len(rest) > 0 || len(octets) < 1 ||
			len(octets) > maxNonce {
			return nil, ErrNonce
		}
		return e.Value, nil
	}
	return nil, nil
}

// ed25519ID is id-Ed25519 (RFC 8410, section 3).
var ed25519ID = asn1.ObjectIdentifier{1, 3, 101, 112}

// Resign puts a nonce, as [Nonce] gave it, or none, into an answer in DER, and signs it again with the authority's
// key: one that signed it before, or of a kind that whoever made the answer cannot sign with.
func Resign(answer, nonce []byte, key crypto.Signer) ([]byte, error) {
	var outer struct {
		Status   asn1.Enumerated
		Response struct {
			Type     asn1.ObjectIdentifier
			Response []byte
		} `asn1:"explicit,tag:0,optional"`
	}
	var basic struct {
		Data         asn1.RawValue
		Algorithm    pkix.AlgorithmIdentifier
		Signature    asn1.BitString
		Certificates []asn1.RawValue `asn1:"explicit,tag:0,optional"`
	}
	if _, err := asn1.Unmarshal(answer, &outer); err != nil {
		return nil, err
	}
	if _, err := asn1.Unmarshal(outer.Response.Response, &basic); err != nil {
		return nil, err
	}
	var extensions []byte
	if nonce != nil {
		var err error
		if extensions, err = asn1.MarshalWithParams([]pkix.Extension{{Id: nonceID, Value: nonce}},
			"explicit,tag:1"); err != nil {
			return nil, err
		}
	}
	if _, is := key.Public().(ed25519.PublicKey); is {
		basic.Algorithm = pkix.AlgorithmIdentifier{Algorithm: ed25519ID}
	}
	data, err := asn1.Marshal(asn1.RawValue{Class: asn1.ClassUniversal, Tag: asn1.TagSequence, IsCompound: true,
		Bytes: append(append([]byte{}, basic.Data.Bytes...), extensions...)})
	if err != nil {
		return nil, err
	}
	signed, err := signAnswer(key, data)
	if err != nil {
		return nil, err
	}
	basic.Data = asn1.RawValue{FullBytes: data}
	basic.Signature = asn1.BitString{Bytes: signed, BitLength: 8 * len(signed)}
	if outer.Response.Response, err = asn1.Marshal(basic); err != nil {
		return nil, err
	}
	return asn1.Marshal(outer)
}

// signAnswer signs as answers are that the same key signed without a nonce.
func signAnswer(key crypto.Signer, data []byte) ([]byte, error) {
	var hash crypto.Hash
	switch k := key.Public().(type) {
	case ed25519.PublicKey:
		return key.Sign(rand.Reader, data, crypto.Hash(0))
	case *ecdsa.PublicKey:
		if hash = crypto.SHA256; k.Curve.Params().BitSize > 256 {
			hash = crypto.SHA384
		}
	default:
		return nil, fmt.Errorf("no answers are signed with a key of %T", k)
	}
	h := hash.New()
	h.Write(data)
	return key.Sign(rand.Reader, h.Sum(nil), hash)
}
