package cli

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
	"strings"
	"time"

	"golang.org/x/mod/sumdb/note"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/client"
)

// witness is what this client has seen of a service's ledger. It demands that
// what it sees next goes on from there.
type witness struct {
	URL        string `json:"url"`
	Key        string `json:"key"`
	Checkpoint string `json:"checkpoint"`
	SeenAt     string `json:"seen_at"`

	path     string
	verifier note.Verifier
	head     ledger.Head // of Checkpoint; none before the first contact
	first    bool        // nothing had been seen before
}

func (a *app) witnessPath(url string) string {
	sum := sha256.Sum256([]byte(url))
	return filepath.Join(filepath.Dir(a.settings), "seen", hex.EncodeToString(sum[:8])+".json")
}

// witness reads what was seen of the service's ledger, and checks that the
// ledger of now goes on from it. key is the public key to trust, "" for the one
// that was seen first.
func (a *app) witness(ctx context.Context, cl *client.Client, key string) (*witness, error) {
	w, err := a.seen(cl.URL())
	if err != nil {
		return nil, err
	}
	if key != "" {
		if key, err = publicKey(key); err != nil {
			return nil, err
		}
	}
	if key != "" && w.Key != "" && key != w.Key {
		return nil, fmt.Errorf("--key is not the key that this client has seen at %s; \"ledger forget\" drops what it has seen", cl.URL())
	}
	if w.Key = cmp.Or(key, w.Key); w.Key == "" {
		now, err := cl.Ledger(ctx)
		if err != nil {
			return nil, err
		}
		w.Key, w.first = now.Value.Key, true
		line(a.err, "First contact with this ledger: its key is trusted from now on. Compare it with \"ironledger ledger key --data\" on the service's machine.\n  %s", w.Key)
	}
	if w.verifier, err = note.NewVerifier(w.Key); err != nil {
		return nil, fmt.Errorf("the key %q: %w", w.Key, err)
	}
	var before ledger.Head
	if w.Checkpoint != "" {
		if before, err = ledger.OpenHead([]byte(w.Checkpoint), w.verifier); err != nil {
			return nil, fmt.Errorf("%s: %w", w.path, err)
		}
	}
	return w, w.advance(ctx, cl, before)
}

// advance moves the witness on to the ledger of now, which must go on from
// before, and remembers it.
func (w *witness) advance(ctx context.Context, cl *client.Client, before ledger.Head) error {
	growth, err := cl.Growth(ctx, before.Size)
	var refused *client.Problem
	if errors.As(err, &refused) && refused.Pointer == "from" { // shorter than it was: say so with its own words
		now, err := cl.Ledger(ctx)
		if err != nil {
			return err
		}
		return w.alarm(ledger.CheckGrowth(before, ledger.Head{Origin: now.Value.Origin, Size: now.Value.Size}, nil))
	}
	if err != nil {
		return err
	}
	now, err := ledger.OpenHead([]byte(growth.Value.Checkpoint), w.verifier)
	if err != nil {
		return w.alarm(err)
	}
	if before.Size > 0 {
		if err := ledger.CheckGrowth(before, now, growth.Value.Hashes); err != nil {
			return w.alarm(err)
		}
	}
	w.head, w.Checkpoint, w.SeenAt = now, growth.Value.Checkpoint, time.Now().UTC().Format(time.RFC3339)
	return w.save()
}

// alarm says that the ledger is not the one that was seen.
func (w *witness) alarm(err error) error {
	seen := ""
	if w.SeenAt != "" {
		seen = fmt.Sprintf(" (seen at %s, kept in %s)", w.SeenAt, w.path)
	}
	return fmt.Errorf("the ledger of %s does not go on from what was seen of it%s: %w.\nIf the service was set up anew, or its key replaced, on purpose: ironledger ledger forget", w.URL, seen, err)
}

func (a *app) seen(url string) (*witness, error) {
	w := &witness{URL: url, path: a.witnessPath(url)}
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

func (w *witness) save() error {
	raw, err := json.MarshalIndent(w, "", "  ")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(w.path), 0o700)
	}
	if err == nil {
		err = writeWhole(w.path, bytes.NewReader(append(raw, '\n')))
	}
	if err != nil {
		return fmt.Errorf("remember the checkpoint: %w", err)
	}
	return nil
}

// writeWhole writes a file that only its owner reads, whole or not at all.
func writeWhole(path string, content io.Reader) error {
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

// keyOf is the verifier of a public key: itself, or a file that holds it.
func keyOf(text string) (note.Verifier, error) {
	key, err := publicKey(text)
	if err != nil {
		return nil, err
	}
	return note.NewVerifier(key)
}

func publicKey(text string) (string, error) {
	if _, err := note.NewVerifier(text); err == nil {
		return text, nil
	}
	raw, err := os.ReadFile(text)
	if err != nil {
		return "", usageError{fmt.Errorf("--key %q is neither a public key such as %q nor a file that holds one", text, "origin+1a2b3c4d+AX…")}
	}
	for l := range strings.Lines(string(raw)) {
		if key := strings.TrimSpace(l); key != "" {
			if _, err := note.NewVerifier(key); err == nil {
				return key, nil
			}
		}
	}
	return "", usageError{fmt.Errorf("no line of %s is a public key", text)}
}

// watch connects to the service and opens what is remembered of its ledger. It
// returns what was seen of it before, too.
func (a *app) watch(ctx context.Context, key string) (cl *client.Client, w, before *witness, err error) {
	if cl, err = a.client(); err != nil {
		return nil, nil, nil, err
	}
	if before, err = a.seen(cl.URL()); err != nil {
		return nil, nil, nil, err
	}
	w, err = a.witness(ctx, cl, key)
	return cl, w, before, err
}
