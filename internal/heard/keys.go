package heard

import (
	"context"
	"crypto/rsa"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	core "ironledger.example/core/heard"
	"ironledger.example/internal/outbound"
)

// algorithms are those that a token may be signed by (RFC 7518): none with a shared secret.
var algorithms = []jose.SignatureAlgorithm{jose.ES256, jose.ES384, jose.ES512, jose.RS256, jose.PS256, jose.EdDSA}

// How keys are fetched.
const (
	keepKeys  = time.Hour // before they are fetched again
	lookEach  = 20 * time.Second
	fetchWait = 10 * time.Second
	maxSet    = 256 << 10 // bytes
	maxKeys   = 50
	leastRSA  = 2048 // bits
)

// keyrings are the JWK sets of partners, by where they are.
type keyrings struct {
	policy outbound.Policy
	client *http.Client
	now    func() time.Time
	mu     sync.Mutex
	of     map[string]*keyring
}

// keyring is a JWK set (RFC 7517).
type keyring struct {
	mu    sync.Mutex // held while it is fetched: once for all who wait
	set   jose.JSONWebKeySet
	at    time.Time // when it was fetched
	tried time.Time
	why   error // why it could not be fetched when it was tried last
}

func newKeyrings(p outbound.Policy, now func() time.Time) *keyrings {
	return &keyrings{policy: p, client: p.Client(fetchWait), now: now, of: map[string]*keyring{}}
}

// verify checks the signature of a token and returns its claims. The error is a [*core.Error], or
// says that the keys are not to be had now.
func (k *keyrings) verify(ctx context.Context, where string, signed *jwt.JSONWebToken) ([]byte, error) {
	k.mu.Lock()
	ring := k.of[where]
	if ring == nil {
		ring = &keyring{}
		k.of[where] = ring
	}
	k.mu.Unlock()
	kid := signed.Headers[0].KeyID
	keys, err := ring.find(ctx, k, where, kid)
	if err != nil {
		return nil, err
	}
	for i := range keys {
		var claims json.RawMessage
		if fit(&keys[i], signed.Headers[0].Algorithm) && signed.Claims(keys[i].Key, &claims) == nil {
			return claims, nil
		}
	}
	if len(keys) == 0 {
		return nil, core.Refuse(core.InvalidKey, "the issuer's set has no key %.100q", kid)
	}
	return nil, core.Refuse(core.InvalidKey, "the signature is not one of the issuer's key %.100q", kid)
}

// fit reports whether a key may have signed by an algorithm.
func fit(key *jose.JSONWebKey, algorithm string) bool {
	if key.Algorithm != "" && key.Algorithm != algorithm || key.Use != "" && key.Use != "sig" || !key.IsPublic() {
		return false
	}
	if r, is := key.Key.(*rsa.PublicKey); is && r.N.BitLen() < leastRSA {
		return false
	}
	return true
}

// find returns the keys of an id, fetching the set when it is old or has none; without an id, the
// only one.
func (r *keyring) find(ctx context.Context, k *keyrings, where, kid string) ([]jose.JSONWebKey, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := k.now()
	found, fetched := r.named(kid), false
	// An id that is not there may be new; whoever makes ids up has the set fetched no more often for it.
	if (len(found) == 0 || now.Sub(r.at) > keepKeys) && now.Sub(r.tried) > lookEach {
		r.tried, fetched = now, true
		set, err := k.fetch(ctx, where)
		if r.why = err; err == nil {
			r.set, r.at = *set, now
			found = r.named(kid)
		}
	}
	if r.at.IsZero() || now.Sub(r.at) > 24*keepKeys { // a key that was taken back long ago counts no more
		return nil, &BusyError{fmt.Sprintf("the keys of the issuer are not to be had: %v", r.why)}
	}
	if len(found) == 0 && !fetched {
		return nil, &BusyError{fmt.Sprintf("the issuer's set had no key %.100q a moment ago; it is looked at "+
			"again soon", kid)}
	}
	return found, nil
}

func (r *keyring) named(kid string) []jose.JSONWebKey {
	if kid != "" {
		return r.set.Key(kid)
	}
	if len(r.set.Keys) == 1 {
		return r.set.Keys
	}
	return nil
}

// fetch gets a set.
func (k *keyrings) fetch(ctx context.Context, where string) (*jose.JSONWebKeySet, error) {
	if err := k.policy.CheckURL(where); err != nil {
		return nil, err
	}
	// Not in the caller's time: others wait for it too.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), fetchWait)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, where, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "application/jwk-set+json, application/json")
	answer, err := k.client.Do(r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answers %s", where, answer.Status)
	}
	raw, err := io.ReadAll(io.LimitReader(answer.Body, maxSet+1))
	if err != nil {
		return nil, err
	}
	var given struct {
		Keys []json.RawMessage `json:"keys"`
	}
	switch {
	case len(raw) > maxSet:
		return nil, fmt.Errorf("%s gives more than %d bytes", where, maxSet)
	case json.Unmarshal(raw, &given) != nil || given.Keys == nil:
		return nil, fmt.Errorf("%s gives no JWK set (RFC 7517)", where)
	case len(given.Keys) > maxKeys:
		return nil, fmt.Errorf("%s gives more than %d keys", where, maxKeys)
	}
	var set jose.JSONWebKeySet
	for _, one := range given.Keys {
		var key jose.JSONWebKey
		if json.Unmarshal(one, &key) == nil { // one of a kind that is not known here is passed over (section 5)
			set.Keys = append(set.Keys, key)
		}
	}
	return &set, nil
}
