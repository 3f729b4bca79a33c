// Package sealed keeps secrets that the service must show to others: encrypted on disk,
// under a key in a file beside the records.
package sealed

import (
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"runtime"

	"golang.org/x/crypto/chacha20poly1305"
)

// Box seals and opens secrets with XChaCha20-Poly1305 (RFC 8439, with the nonce of 24
// bytes of draft-irtf-cfrg-xchacha).
type Box struct{ aead cipher.AEAD }

// ErrWrongKey says that a secret was not sealed with the key there is, or was altered.
var ErrWrongKey = errors.New("a secret cannot be opened: it was sealed with another key, or altered")

// Open reads the key from a file, and makes it when there is none. Nobody but the owner
// may read it.
func Open(path string) (*Box, error) {
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, chacha20poly1305.KeySize)
		rand.Read(key)
		return boxOf(key, WriteNew(path, key))
	}
	if err == nil {
		err = OwnersAlone(path)
	}
	if err == nil && len(key) != chacha20poly1305.KeySize {
		err = fmt.Errorf("%s holds no key of %d bytes", path, chacha20poly1305.KeySize)
	}
	return boxOf(key, err)
}

func boxOf(key []byte, err error) (*Box, error) {
	if err != nil {
		return nil, fmt.Errorf("the key of secrets: %w", err)
	}
	aead, err := chacha20poly1305.NewX(key)
	return &Box{aead}, err
}

// OwnersAlone reports as an error that others may read a file.
func OwnersAlone(path string) error {
	info, err := os.Stat(path)
	if err == nil && info.Mode().Perm()&0o077 != 0 && runtime.GOOS != "windows" {
		err = fmt.Errorf("others may read %s (mode %04o): chmod 600 it, and find out who did", path, info.Mode().Perm())
	}
	return err
}

// WriteNew writes a file that only its owner can read, and no file that is there.
func WriteNew(path string, content []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Sync(), f.Close())
}

// Seal encrypts a secret for a use: it can be opened for that alone.
func (b *Box) Seal(secret, use string) []byte {
	nonce := make([]byte, b.aead.NonceSize())
	rand.Read(nonce)
	return b.aead.Seal(nonce, nonce, []byte(secret), []byte(use))
}

// Open decrypts a secret that was sealed for a use. The error is [ErrWrongKey].
func (b *Box) Open(sealed []byte, use string) (string, error) {
	n := b.aead.NonceSize()
	if len(sealed) < n {
		return "", ErrWrongKey
	}
	secret, err := b.aead.Open(nil, sealed[:n], sealed[n:], []byte(use))
	if err != nil {
		return "", ErrWrongKey
	}
	return string(secret), nil
}
