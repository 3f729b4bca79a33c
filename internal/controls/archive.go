package controls

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/fault"
)

// fromArchive feeds entries from one on whose bodies an archive holds, and returns the last of them. The file must be
// in the folder of archives, and of this ledger.
func (s *Service) fromArchive(ctx context.Context, id string, from int64, feed func(*ledger.Entry) error) (int64, error) {
	kept := s.Snapshot().Archives.Get(id)
	if kept == nil {
		return 0, fmt.Errorf("entry %d is in the archive %s, of which nothing is known", from, id)
	}
	f, err := os.Open(filepath.Join(s.archives, kept.File))
	if errors.Is(err, fs.ErrNotExist) {
		return 0, fault.Inputf("", "entry %d is needed, and %s: put the file back into %s, and ask again", from,
			kept.Where(id), s.archives)
	}
	if err != nil {
		return 0, err
	}
	defer func() { _ = f.Close() }() // it was read alone
	z, err := gzip.NewReader(f)
	if err != nil {
		return 0, fmt.Errorf("the archive %s: %w", kept.File, err)
	}
	h, head, err := ledger.ReadArchive(z, s.Key.Verifier, func(l *ledger.Line) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		if l.Seq < from {
			return nil
		}
		return feed(&l.Entry)
	})
	if err != nil {
		return 0, fmt.Errorf("the archive %s: %w", kept.File, err)
	}
	if h.Archive != id || h.To < from {
		return 0, fmt.Errorf("the file %s is that of the archive %s, and not of %s", kept.File, h.Archive, id)
	}
	root, err := s.Store.RootAt(ctx, head.Size)
	if err == nil && root != head.Root {
		err = fmt.Errorf("the archive %s is not of this ledger", kept.File)
	}
	return h.To, err
}
