// Package reliance checks the signatures of statements, as whoever relies on them does: with the keys of the service
// and without asking it.
package reliance

import (
	"encoding/json"
	"errors"
	"fmt"

	"github.com/go-jose/go-jose/v4"

	"ironledger.example/core/statement"
)

// Verified checks the signature of a statement by a set of keys (RFC 7517), and reads it.
func Verified(token string, jwks []byte) (*statement.Claims, error) {
	var set jose.JSONWebKeySet
	if err := json.Unmarshal(jwks, &set); err != nil || len(set.Keys) == 0 {
		return nil, errors.New("the keys are no JSON Web Key Set, or an empty one (RFC 7517)")
	}
	signed, err := jose.ParseSignedCompact(token, []jose.SignatureAlgorithm{jose.ES256})
	if err != nil || len(signed.Signatures) != 1 {
		return nil, errors.New("the token is no compact JWS signed with ES256 (RFC 7515)")
	}
	h := signed.Signatures[0].Protected
	if typ, ok := h.ExtraHeaders[jose.HeaderType].(string); !ok || typ != statement.Type {
		return nil, fmt.Errorf("the token is no statement: its type is %v", h.ExtraHeaders[jose.HeaderType])
	}
	for _, k := range set.Key(h.KeyID) {
		if payload, err := signed.Verify(k.Public()); err == nil {
			return statement.Read(payload)
		}
	}
	return nil, errors.New("the token was signed with none of these keys, or was altered")
}
