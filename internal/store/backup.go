package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"

	"ironledger.example/internal/keyfile"
)

// OpenReader opens records that another process may be writing, for reading
// alone.
func OpenReader(path string) (*Store, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("open the records: %w", err)
	}
	read, err := sql.Open("sqlite", dsn(path)+fmt.Sprintf("?_pragma=busy_timeout(%d)&_pragma=query_only(ON)", busy))
	if err != nil {
		return nil, fmt.Errorf("open the records: %w", err)
	}
	s := &Store{read: read, write: read, log: slog.Default(), wake: make(chan struct{}, 1),
		done: make(chan struct{})}
	close(s.done)
	return s, nil
}

// Backup writes a copy of the records as they are at this moment into a file
// that must not be there yet. Whoever writes to the records goes on meanwhile.
func (s *Store) Backup(ctx context.Context, path string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600) // VACUUM INTO takes a file that is empty
	if err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	if err := f.Close(); err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	conn, err := s.read.Conn(ctx)
	if err == nil {
		_, err = conn.ExecContext(ctx, "PRAGMA query_only(OFF)") // it holds for the copy too
		if err == nil {
			_, err = conn.ExecContext(ctx, "VACUUM INTO ?", path)
		}
		_, again := conn.ExecContext(ctx, "PRAGMA query_only(ON)")
		err = errors.Join(err, again, conn.Close())
	}
	if err == nil {
		err = syncFile(path)
	}
	if err != nil {
		return errors.Join(fmt.Errorf("write the backup: %w", err), os.Remove(path))
	}
	return nil
}

func syncFile(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close(), keyfile.SyncFolder(filepath.Dir(path)))
}
