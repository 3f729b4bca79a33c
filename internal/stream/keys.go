package stream

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"ironledger.example/internal/sealed"
)

// How keys follow each other: a new one is shown for a while before anything is signed
// with it, so that receivers who keep our set have it; an old one is shown for a while
// after, for what was signed with it.
const (
	lead = 10 * time.Minute
	tail = 7 * 24 * time.Hour
)

// keptKey is a key as its file has it.
type keptKey struct {
	Key  jose.JSONWebKey `json:"key"`
	Made time.Time       `json:"made"`
}

// keys are those that events are signed with (ES256, RFC 7518).
type keys struct {
	path string
	mu   sync.Mutex
	all  []keptKey // oldest first
	sign map[string]jose.Signer
}

// openKeys reads the keys from a file, and makes one when there is none.
func openKeys(path string, now time.Time) (*keys, error) {
	k := &keys{path: path, sign: map[string]jose.Signer{}}
	raw, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return k, k.rotate(now)
	case err != nil:
	default:
		if err = sealed.OwnersAlone(path); err == nil {
			err = json.Unmarshal(raw, &k.all)
		}
		if err == nil && len(k.all) == 0 {
			err = errors.New("there is no key in it")
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the keys of signals, %s: %w", path, err)
	}
	return k, nil
}

// rotate makes a key that takes over from the one there is, and drops what is too old.
func (k *keys) rotate(now time.Time) error {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	next := []keptKey{}
	for i, x := range k.all { // one is old when its successor has signed for long enough
		if i+1 == len(k.all) || now.Sub(k.all[i+1].Made) < lead+tail {
			next = append(next, x)
		}
	}
	key := jose.JSONWebKey{Key: private, Algorithm: string(jose.ES256), Use: "sig"}
	thumb, err := key.Thumbprint(crypto.SHA256) // RFC 7638
	if err != nil {
		return err
	}
	key.KeyID = base64.RawURLEncoding.EncodeToString(thumb)
	next = append(next, keptKey{key, now})
	raw, err := json.Marshal(next)
	if err != nil {
		return err
	}
	fresh := filepath.Join(filepath.Dir(k.path), "."+filepath.Base(k.path)+".new")
	if err := os.Remove(fresh); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := sealed.WriteNew(fresh, raw); err != nil {
		return err
	}
	if err := os.Rename(fresh, k.path); err != nil {
		return err
	}
	k.all = next
	return nil
}

// The types of what is signed, so that none is taken for another: events (RFC 8417, section 2.3), statements.
const eventType = "secevent+jwt"

// signer signs what is of a type with the key whose turn it is.
func (k *keys) signer(typ string, now time.Time) (jose.Signer, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	current := k.all[0]
	for _, x := range k.all[1:] {
		if now.Sub(x.Made) >= lead {
			current = x
		}
	}
	id := typ + " " + current.Key.KeyID
	if k.sign[id] == nil {
		s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: current.Key},
			(&jose.SignerOptions{}).WithType(jose.ContentType(typ)))
		if err != nil {
			return nil, err
		}
		k.sign[id] = s
	}
	return k.sign[id], nil
}

// public is the set that receivers check events with (RFC 7517).
func (k *keys) public() jose.JSONWebKeySet {
	k.mu.Lock()
	defer k.mu.Unlock()
	var out jose.JSONWebKeySet
	for _, x := range k.all {
		out.Keys = append(out.Keys, x.Key.Public())
	}
	return out
}
