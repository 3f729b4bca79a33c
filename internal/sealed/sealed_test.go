package sealed

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"
)

func TestSecretsAreOpenedForTheirUseAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "secrets.key")
	box, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	sealed := box.Seal("Bearer x", "stream a")
	if bytes.Contains(sealed, []byte("Bearer")) || bytes.Equal(sealed, box.Seal("Bearer x", "stream a")) {
		t.Error("the secret can be seen, or told from another")
	}
	again, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Open(sealed, "stream a"); got != "Bearer x" || err != nil {
		t.Errorf("it opens as %q (%v)", got, err)
	}
	altered := bytes.Clone(sealed)
	altered[len(altered)-1] ^= 1
	other, err := Open(filepath.Join(t.TempDir(), "other.key"))
	if err != nil {
		t.Fatal(err)
	}
	for name, try := range map[string]func() (string, error){
		"another use": func() (string, error) { return box.Open(sealed, "stream b") },
		"altered":     func() (string, error) { return box.Open(altered, "stream a") },
		"another key": func() (string, error) { return other.Open(sealed, "stream a") },
		"cut":         func() (string, error) { return box.Open(sealed[:10], "stream a") },
	} {
		if got, err := try(); !errors.Is(err, ErrWrongKey) {
			t.Errorf("%s: %q (%v)", name, got, err)
		}
	}
	if err := os.Chmod(path, 0o640); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err == nil {
		t.Error("a key that others may read is used")
	}
	short := filepath.Join(t.TempDir(), "short.key")
	if err := os.WriteFile(short, []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(short); err == nil {
		t.Error("a key that is none is used")
	}
}
