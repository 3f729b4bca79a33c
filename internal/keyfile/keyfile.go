// Package keyfile keeps the key pair that signs the heads of a ledger in a file beside the records.
package keyfile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"golang.org/x/mod/sumdb/note"

	"ironledger.example/core/ledger"
)

// Pair is the key pair that signs the heads of a ledger.
type Pair struct {
	Signer   note.Signer
	Verifier note.Verifier
	Public   string // as verifiers take it (C2SP signed-note)
}

// ErrNone says that there is no key file.
var ErrNone = errors.New("the key of the ledger is missing")

// Read reads a key file: the private key on the first line, the public key
// on the second.
func Read(path string) (Pair, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return Pair{}, fmt.Errorf("%w: %s", ErrNone, path)
	}
	if err == nil && info.Mode().Perm()&0o077 != 0 && runtime.GOOS != "windows" {
		return Pair{}, fmt.Errorf("others may read the key of the ledger, %s (mode %04o): chmod 600 it, and "+
			"find out who did", path, info.Mode().Perm())
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return Pair{}, fmt.Errorf("read the key of the ledger: %w", err)
	}
	private, public, _ := strings.Cut(strings.TrimSpace(string(raw)), "\n")
	return parse(private, public)
}

func parse(private, public string) (k Pair, err error) {
	if k.Signer, err = note.NewSigner(private); err == nil {
		k.Verifier, err = note.NewVerifier(public)
	}
	if err != nil || k.Signer.Name() != k.Verifier.Name() || k.Signer.KeyHash() != k.Verifier.KeyHash() {
		return Pair{}, errors.New("the key file of the ledger does not hold a private key and its public key")
	}
	k.Public = public
	return k, nil
}

// Make makes a key, keeps it in a file that only its owner can read, and
// returns it. A file that is there is not overwritten.
func Make(path, origin string) (Pair, error) {
	private, public, err := ledger.NewKey(origin)
	if err != nil {
		return Pair{}, fmt.Errorf("make the key of the ledger: %w", err)
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return Pair{}, fmt.Errorf("keep the key of the ledger: %w", err)
	}
	_, err = f.WriteString(private + "\n" + public + "\n")
	if err = errors.Join(err, f.Sync(), f.Close(), SyncFolder(filepath.Dir(path))); err != nil {
		return Pair{}, fmt.Errorf("keep the key of the ledger: %w", err)
	}
	return parse(private, public)
}

// SyncFolder makes what was made or named anew in a folder durable.
func SyncFolder(path string) error {
	dir, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}
