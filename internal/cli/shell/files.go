package shell

import (
	"bytes"
	"context"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"unicode/utf8"

	"ironledger.example/core/rulebook"
	"ironledger.example/internal/client"
)

// Version reads the files of a rulebook: of a path, or of a published version
// by its number or "current".
func (a *App) Version(ctx context.Context, name string) ([]rulebook.File, error) {
	if _, err := strconv.Atoi(name); err != nil && name != "current" {
		return a.RulebookFiles(name)
	}
	cl, err := a.Client()
	if err != nil {
		return nil, err
	}
	got, err := cl.GetRulebook(ctx, name)
	if err != nil {
		return nil, NonePublished(name, err)
	}
	return got.Value.Files, nil
}

// NonePublished says of an error that there is no rulebook in force yet, where that is what it means.
func NonePublished(version string, err error) error {
	var p *client.ProblemError
	if version == "current" && errors.As(err, &p) && p.Status == http.StatusNotFound {
		return fmt.Errorf("no rulebook has been published yet; begin with ironledger rulebook publish PATH: %w", err)
	}
	return err
}

// RulebookFiles reads the files of a rulebook: one file, a folder, or "-".
func (a *App) RulebookFiles(path string) ([]rulebook.File, error) {
	if info, err := os.Stat(path); path == "-" || err != nil || !info.IsDir() {
		text, err := a.Read(path)
		name := filepath.Base(path)
		if err == nil && !utf8.ValidString(text) {
			err = fmt.Errorf("%s is not text in UTF-8", path)
		}
		if path == "-" {
			name = "stdin.yaml"
		}
		return []rulebook.File{{Name: name, Text: text}}, err
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return nil, err
	}
	var files []rulebook.File
	for _, e := range entries {
		if e.IsDir() || !rulebook.IsRulebookFile(e.Name()) {
			continue
		}
		raw, err := os.ReadFile(filepath.Join(path, e.Name()))
		if err != nil {
			return nil, err
		}
		files = append(files, rulebook.File{Name: e.Name(), Text: armoured(e.Name(), raw)})
	}
	return files, nil
}

// armoured gives the text of a file; a certificate or a revocation list in DER
// is written as PEM (RFC 7468).
func armoured(name string, raw []byte) string {
	if rulebook.IsYAML(name) || rulebook.IsCatalogue(name) || bytes.Contains(raw, []byte("-----BEGIN")) {
		return string(raw)
	}
	kind := "CERTIFICATE"
	if strings.EqualFold(filepath.Ext(name), ".crl") {
		kind = "X509 CRL"
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: raw}))
}

// LoadRulebook reads and checks the rulebook at a path, - for standard input.
func (a *App) LoadRulebook(path string) (*rulebook.Rulebook, error) {
	files, err := a.RulebookFiles(path)
	if err != nil {
		return nil, err
	}
	return rulebook.Load(files)
}
