// Package follow is what a client does with somebody's ledger over time: it remembers
// what it has seen of it, demands that what it sees next goes on from there, and
// passes on what comes, none twice and none left out.
package follow

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/mod/sumdb/note"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/client"
)

// Witness is what a client has seen of a service's ledger.
type Witness struct {
	URL        string `json:"url"`
	Key        string `json:"key"`
	Checkpoint string `json:"checkpoint"`
	SeenAt     string `json:"seen_at"`

	// Verifier and Head are of Key and Checkpoint, once it has met the service. First
	// says that nothing had been seen of it before.
	Verifier note.Verifier `json:"-"`
	Head     ledger.Head   `json:"-"`
	First    bool          `json:"-"`

	path string
}

// ErrOtherKey says that another key was to be trusted than the one that was seen.
var ErrOtherKey = errors.New("the key is not the one that was seen")

// WitnessPath is the file, in a folder, that keeps what was seen of a service.
func WitnessPath(dir, url string) string {
	sum := sha256.Sum256([]byte(url))
	return filepath.Join(dir, hex.EncodeToString(sum[:8])+".json")
}

// Seen reads what was seen of a service's ledger; nothing yet is no error.
func Seen(dir, url string) (*Witness, error) {
	w := &Witness{URL: url, path: WitnessPath(dir, url)}
	raw, err := os.ReadFile(w.path)
	if errors.Is(err, fs.ErrNotExist) {
		return w, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, w)
	}
	if err != nil {
		return nil, fmt.Errorf("what was seen of the ledger, %s: %w", w.path, err)
	}
	return w, nil
}

// Meet checks that the ledger of now goes on from what was seen, and remembers it.
// key is the public key to trust, "" for the one that was seen first: first is told of
// that one.
func (w *Witness) Meet(ctx context.Context, cl *client.Client, key string, first func(key string)) (err error) {
	if key != "" && w.Key != "" && key != w.Key {
		return ErrOtherKey
	}
	if w.Key = cmp.Or(key, w.Key); w.Key == "" {
		now, err := cl.GetLedger(ctx)
		if err != nil {
			return err
		}
		w.Key, w.First = now.Value.Key, true
		first(w.Key)
	}
	if w.Verifier, err = note.NewVerifier(w.Key); err != nil {
		return fmt.Errorf("the key %q: %w", w.Key, err)
	}
	var before ledger.Head
	if w.Checkpoint != "" {
		if before, err = ledger.OpenHead([]byte(w.Checkpoint), w.Verifier); err != nil {
			return fmt.Errorf("%s: %w", w.path, err)
		}
	}
	return w.advance(ctx, cl, before)
}

// advance moves the witness on to the ledger of now, which must go on from
// before, and remembers it.
func (w *Witness) advance(ctx context.Context, cl *client.Client, before ledger.Head) error {
	consistent, err := cl.GetConsistency(ctx, api.GetConsistencyParams{From: before.Size})
	var refused *client.ProblemError
	if errors.As(err, &refused) && refused.Pointer == "from" { // shorter than it was: say so with its own words
		now, err := cl.GetLedger(ctx)
		if err != nil {
			return err
		}
		return w.Alarm(ledger.CheckConsistency(before, ledger.Head{Origin: now.Value.Origin, Size: now.Value.Size}, nil))
	}
	if err != nil {
		return err
	}
	now, err := ledger.OpenHead([]byte(consistent.Value.Checkpoint), w.Verifier)
	if err != nil {
		return w.Alarm(err)
	}
	if before.Size > 0 {
		if err := ledger.CheckConsistency(before, now, consistent.Value.Hashes); err != nil {
			return w.Alarm(err)
		}
	}
	w.Head, w.Checkpoint, w.SeenAt = now, consistent.Value.Checkpoint, time.Now().UTC().Format(time.RFC3339)
	return w.save()
}

// Alarm says that the ledger is not the one that was seen.
func (w *Witness) Alarm(err error) error {
	seen := ""
	if w.SeenAt != "" {
		seen = fmt.Sprintf(" (seen at %s, kept in %s)", w.SeenAt, w.path)
	}
	return fmt.Errorf("the ledger of %s does not go on from what was seen of it%s: %w.\n"+
		"If the service was set up anew, or its key replaced, on purpose: ironledger ledger forget", w.URL,
		seen, err)
}

func (w *Witness) save() error {
	raw, err := json.MarshalIndent(w, "", "  ")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(w.path), 0o700)
	}
	if err == nil {
		err = WriteWhole(w.path, bytes.NewReader(append(raw, '\n')))
	}
	if err != nil {
		return fmt.Errorf("remember the checkpoint: %w", err)
	}
	return nil
}

// WriteWhole writes a file that only its owner reads, whole or not at all.
func WriteWhole(path string, content io.Reader) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*") // mode 0600
	if err != nil {
		return err
	}
	_, err = io.Copy(f, content)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}
