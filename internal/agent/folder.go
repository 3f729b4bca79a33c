// Package agent is what runs on a device: it gets a certificate of the service's own authority and renews it, reports
// over it what the machine and the site's own checks show, and tells the device's person how it stands.
package agent

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
	"github.com/google/renameio/v2"
)

// Folder is where an agent keeps what it must not lose. Whatever is written there is there as a whole or not at all.
type Folder struct{ dir string }

// The files of a folder.
const (
	settingsFile    = "settings.json"
	certificateFile = "device.pem"  // the key and its certificate: both or neither
	nextKeyFile     = "next.key"    // of a certificate that was asked for
	trustedFile     = "trusted.pem" // by whom the service is trusted
	queueFile       = "queue.ndjson"
	statusFile      = "status.json"
	lockFile        = "agent.lock"
	statementsDir   = "statements"
)

// Settings are what an agent was told when it enrolled.
type Settings struct {
	Service string `json:"service"` // its URL
	Device  string `json:"device"`
	Profile string `json:"profile,omitempty"`
	Owner   string `json:"owner,omitempty"`
	Key     string `json:"key,omitempty"` // p256 or p384
	// OwnTrust is set when the service is trusted by its own authority, whose certificates change over time.
	OwnTrust bool                       `json:"own_trust,omitempty"`
	Set      map[string]json.RawMessage `json:"set,omitempty"` // attributes that nothing here tells
}

// Open is the folder of an agent, made when it is not there.
func Open(dir string) (*Folder, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("the agent's folder: %w", err)
	}
	return &Folder{dir}, nil
}

// At is the folder of an agent as it is, for whoever only looks.
func At(dir string) *Folder { return &Folder{dir} }

func (f *Folder) path(name string) string { return filepath.Join(f.dir, name) }

func (f *Folder) write(name string, content []byte, mode fs.FileMode) error {
	return renameio.WriteFile(f.path(name), content, mode, renameio.WithStaticPermissions(mode))
}

func (f *Folder) writeJSON(name string, v any, mode fs.FileMode) error {
	raw, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return f.write(name, append(raw, '\n'), mode)
}

func (f *Folder) readJSON(name string, into any) error {
	raw, err := os.ReadFile(f.path(name))
	if err != nil {
		return err
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return fmt.Errorf("%s is damaged: %w", f.path(name), err)
	}
	return nil
}

// lockPatience is how long one agent waits for another that works in the same folder.
const lockPatience = 30 * time.Second

// alone does something while no other agent works in the folder.
func (f *Folder) alone(ctx context.Context, do func() error) error {
	lock := flock.New(f.path(lockFile), flock.SetPermissions(0o600))
	waits, cancel := context.WithTimeout(ctx, lockPatience)
	defer cancel()
	if ok, err := lock.TryLockContext(waits, 50*time.Millisecond); !ok {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("another agent works in %s: %w", f.dir, err)
	}
	err := do()
	return errors.Join(err, lock.Unlock())
}

// ErrNotEnrolled says that a device has no certificate yet.
var ErrNotEnrolled = errors.New("this device has no certificate yet; get a code from whoever runs the service, " +
	"and enrol: ironledger agent enrol")

// Settings reads what the agent was told. The error is [ErrNotEnrolled] when it was told nothing.
func (f *Folder) Settings() (*Settings, error) {
	var s Settings
	err := f.readJSON(settingsFile, &s)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNotEnrolled
	}
	return &s, err
}

// Certificate reads the key and its certificate. The error is [ErrNotEnrolled] when there is none.
func (f *Folder) Certificate() (*tls.Certificate, error) {
	path := f.path(certificateFile)
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, ErrNotEnrolled
	case err != nil:
		return nil, err
	case info.Mode().Perm()&0o077 != 0:
		return nil, fmt.Errorf("%s, which holds the key, may be read or written by others (%s): chmod 600 it, "+
			"and have the certificate revoked if somebody did",
			path, info.Mode().Perm())
	}
	c, err := tls.LoadX509KeyPair(path, path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return &c, nil
}

// keep puts a key and its certificate in force.
func (f *Folder) keep(key crypto.Signer, chain []*x509.Certificate) error {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	out := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	for _, c := range chain {
		out = append(out, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
	}
	if err := f.write(certificateFile, out, 0o600); err != nil {
		return err
	}
	if err := os.Remove(f.path(nextKeyFile)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// nextKey is the key that a certificate is asked for: the one of a request whose answer may be lost, so that it gets
// the same answer, or a new one, which is kept before anybody is asked.
func (f *Folder) nextKey(kind string) (crypto.Signer, error) {
	raw, err := os.ReadFile(f.path(nextKeyFile))
	if err == nil {
		block, _ := pem.Decode(raw)
		if block == nil {
			return nil, fmt.Errorf("%s is damaged; remove it, and ask with a new code", f.path(nextKeyFile))
		}
		key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.path(nextKeyFile), err)
		}
		return key.(crypto.Signer), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	curve := elliptic.P256()
	if kind == "p384" {
		curve = elliptic.P384()
	}
	key, err := ecdsa.GenerateKey(curve, rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return key, f.write(nextKeyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600)
}

// enrolled is nil when there is a certificate.
func (f *Folder) enrolled() error {
	if _, err := os.Stat(f.path(certificateFile)); err == nil || !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return ErrNotEnrolled
}

// trusted are the certificates that the service is trusted by, nil for those of the machine.
func (f *Folder) trusted() (*x509.CertPool, error) {
	raw, err := os.ReadFile(f.path(trustedFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(raw) {
		return nil, fmt.Errorf("%s holds no certificate", f.path(trustedFile))
	}
	return pool, nil
}

// Mine reports whether the folder may be written by whoever runs this.
func (f *Folder) Mine() bool {
	probe, err := os.CreateTemp(f.dir, ".probe-*")
	if err != nil {
		return false
	}
	return errors.Join(probe.Close(), os.Remove(probe.Name())) == nil
}
