package records

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/mod/sumdb/note"

	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
	"ironledger.example/internal/follow"
)

// seenDir is where this client keeps what it has seen of ledgers.
func seenDir(a *shell.App) string { return filepath.Join(filepath.Dir(a.Settings), "seen") }

// witness reads what was seen of the service's ledger, and checks that the
// ledger of now goes on from it. key is the public key to trust, "" for the one
// that was seen first.
func witness(ctx context.Context, a *shell.App, cl *client.Client, key string) (*follow.Witness, error) {
	w, err := follow.Seen(seenDir(a), cl.URL())
	if err == nil && key != "" {
		key, err = publicKey(key)
	}
	if err != nil {
		return nil, err
	}
	err = w.Meet(ctx, cl, key, func(key string) {
		shell.Line(a.Err, "First contact with this ledger: its key is trusted from now on. Compare it with "+
			"\"ironledger ledger key --data\" on the service's machine.\n  %s", key)
	})
	if errors.Is(err, follow.ErrOtherKey) {
		err = fmt.Errorf("--key is not the key that this client has seen at %s; \"ledger forget\" drops what "+
			"it has seen", cl.URL())
	}
	return w, err
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
		return "", shell.Usagef("--key %q is neither a public key such as %q nor a file that holds one", text,
			"origin+1a2b3c4d+AX…")
	}
	for l := range strings.Lines(string(raw)) {
		if key := strings.TrimSpace(l); key != "" {
			if _, err := note.NewVerifier(key); err == nil {
				return key, nil
			}
		}
	}
	return "", shell.Usagef("no line of %s is a public key", text)
}

// watch connects to the service and opens what is remembered of its ledger. It
// returns what was seen of it before, too.
func watch(ctx context.Context, a *shell.App, key string) (cl *client.Client, w, before *follow.Witness,
	err error) {
	if cl, err = a.Client(); err != nil {
		return nil, nil, nil, err
	}
	if before, err = follow.Seen(seenDir(a), cl.URL()); err != nil {
		return nil, nil, nil, err
	}
	w, err = witness(ctx, a, cl, key)
	return cl, w, before, err
}

// seenKey is the public key that this client has seen of the service, without asking it.
func seenKey(a *shell.App, cl *client.Client) (string, error) {
	w, err := follow.Seen(seenDir(a), cl.URL())
	if err == nil && w.Key == "" {
		err = errors.New("none was seen of " + cl.URL() + " yet")
	}
	if err != nil {
		return "", err
	}
	return w.Key, nil
}
