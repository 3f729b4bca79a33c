package feed

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironledger.example/core/evidence"
	core "ironledger.example/core/feed"
)

// suffixes are those of the files of a folder that are read.
var suffixes = map[string]evidence.Format{".json": evidence.JSON, ".ndjson": evidence.NDJSON,
	".jsonl": evidence.NDJSON,
	".csv":   evidence.CSV}

// checkFolder finds why a folder may not be read: the service reads only below those that it was started with.
func checkFolder(folder string, allowed []string) error {
	at := filepath.Clean(folder)
	if real, err := filepath.EvalSymlinks(at); err == nil {
		at = real
	}
	for _, a := range allowed {
		if real, err := filepath.EvalSymlinks(a); err == nil {
			a = real
		}
		if rel, err := filepath.Rel(filepath.Clean(a), at); err == nil && rel != ".." && !strings.HasPrefix(rel, "../") {
			return nil
		}
	}
	if len(allowed) == 0 {
		return fmt.Errorf("the service reads no folders: it must be started with --feed-folder")
	}
	return fmt.Errorf("the service reads no folder there, but below %s", strings.Join(allowed, ", "))
}

// file is one of a folder.
type file struct {
	path   string
	format evidence.Format
	info   fs.FileInfo
}

// files are those of a folder that are read, by name, and what tells whether any of them differs.
func files(s *core.Settings) (out []file, tag string, err error) {
	list, err := os.ReadDir(s.Folder)
	if err != nil {
		return nil, "", failed(stepAnswer, "the folder cannot be read: %w", err)
	}
	sum := sha256.New()
	for _, e := range list {
		format, read := suffixes[strings.ToLower(filepath.Ext(e.Name()))]
		if s.Format != "" {
			format = evidence.Format(s.Format)
		}
		if !read || !e.Type().IsRegular() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		info, err := e.Info()
		if err != nil {
			return nil, "", failed(stepAnswer, "the file %s cannot be read: %w", e.Name(), err)
		}
		fmt.Fprintf(sum, "%q %d %d\n", e.Name(), info.Size(), info.ModTime().UnixNano())
		out = append(out, file{filepath.Join(s.Folder, e.Name()), format, info})
	}
	if len(out) == 0 {
		return nil, "", failed(stepAnswer, "there is no file in the folder that ends in %s",
			strings.Join(slices.Sorted(maps.Keys(suffixes)), ", "))
	}
	return out, hex.EncodeToString(sum.Sum(nil)), nil
}

// eachFile visits the files of a folder. What they do not say they observed when they were written.
func (f *fetcher) eachFile(ctx context.Context, allowed []string, known validators,
	visit func(*page) (int, error)) (tag string, err error) {
	if err := checkFolder(f.settings.Folder, allowed); err != nil {
		return "", &stepError{step: stepAnswer, err: err}
	}
	list, tag, err := files(f.settings)
	if err != nil {
		return "", err
	}
	if known.tag == tag {
		return "", errUnchanged
	}
	for _, x := range list {
		if err := ctx.Err(); err != nil {
			return "", err
		}
		if err := f.visitFile(x, visit); err != nil {
			return "", fmt.Errorf("%s: %w", filepath.Base(x.path), err)
		}
	}
	return tag, nil
}

func (f *fetcher) visitFile(x file, visit func(*page) (int, error)) error {
	in, err := os.Open(x.path)
	if err != nil {
		return err
	}
	defer in.Close()
	_, err = visit(&page{body: &counted{in, f}, format: x.format, status: "read", typ: filepath.Base(x.path),
		seen: x.info.ModTime().UTC().Format(time.RFC3339)})
	return err
}

// counted counts what is read of a file.
type counted struct {
	in *os.File
	f  *fetcher
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	if tooMuch := c.f.took(n); tooMuch != nil {
		return n, tooMuch
	}
	return n, err
}
