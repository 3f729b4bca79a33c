package records

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/follow"
	"ironledger.example/internal/keyfile"
	"ironledger.example/internal/store"
)

// keySuffix is added to the name of a backup for its key.
const keySuffix = ".key"

// BackupCmd is the command backup.
func BackupCmd(a *shell.App) *cobra.Command {
	data, noKey := "", false
	c := &cobra.Command{
		Use: "backup FILE --data DIR", Short: "Copy the records of a service, which may go on running",
		Args: cobra.ExactArgs(1),
		Long: `Copy the records of a service on this machine into one file, as they are at this
moment; the service goes on. The key that signs the ledger is put beside it, as
FILE.key: without it a restored service cannot go on with the same ledger. Keep
both where only administrators can read them.`,
		Example: "  sudo ironledger backup /var/backups/ironledger-$(date +%F).db --data /var/lib/ironledger",
		RunE: func(cmd *cobra.Command, args []string) error {
			begun := time.Now()
			file := args[0]
			key, err := keyfile.Read(engine.KeyPath(data))
			if err != nil {
				return err
			}
			if _, err := os.Stat(file); err == nil {
				return fmt.Errorf("%s is there already", file)
			}
			if err := copyRecords(cmd.Context(), engine.DatabasePath(data), file); err != nil {
				return err
			}
			if !noKey {
				if err := copyTo(engine.KeyPath(data), file+keySuffix); err != nil {
					return errors.Join(err, os.Remove(file))
				}
			}
			v, err := verifyRecords(cmd.Context(), file, key)
			if err != nil {
				return err
			}
			if v.State != "sound" {
				shell.Line(a.Err, "The copy was made, and what it holds does not verify:")
				return verified(a, *v, key.Verifier.Name())
			}
			info, err := os.Stat(file)
			if err != nil {
				return err
			}
			shell.Line(a.Out, "%s: %s entries, %s devices, %s bytes, verified (%s).", file, counted(v.Size),
				counted(int64(v.Devices)), counted(info.Size()), time.Since(begun).Round(time.Millisecond))
			return nil
		},
	}
	c.Flags().StringVar(&data, "data", "", "the folder of the records")
	c.Flags().BoolVar(&noKey, "no-key", false, "leave the key out")
	shell.Must(c.MarkFlagRequired("data"))
	return c
}

func copyRecords(ctx context.Context, from, to string) error {
	records, err := store.OpenReader(from)
	if err != nil {
		return err
	}
	return errors.Join(records.Backup(ctx, to), records.Close())
}

func verifyRecords(ctx context.Context, path string, key keyfile.Pair) (*api.Verification, error) {
	records, err := store.OpenReader(path)
	if err != nil {
		return nil, err
	}
	v, err := audit.VerifyRecords(ctx, records, key.Verifier, audit.VerifyOptions{File: true, Searches: true})
	return v, errors.Join(err, records.Close())
}

// RestoreCmd is the command restore.
func RestoreCmd(a *shell.App) *cobra.Command {
	data, acceptLoss := "", false
	c := &cobra.Command{
		Use: "restore FILE --data DIR", Short: "Put the records of a backup into an empty folder, verified",
		Args: cobra.ExactArgs(1),
		Long: `Put the records of a backup, and the key beside it, into a folder that holds none.
Everything in the backup is verified first, and compared with what this client has
seen of the service (--url): a backup that ends before the newest head that was
seen lacks entries, and one with another history is not of this ledger. Both are
refused; --accept-loss takes the first all the same.`,
		Example: "  sudo ironledger restore /var/backups/ironledger-2026-11-22.db --data /var/lib/ironledger",
		RunE: func(cmd *cobra.Command, args []string) error {
			file := args[0]
			key, err := keyBeside(file, data)
			if err != nil {
				return err
			}
			if _, err := os.Stat(engine.DatabasePath(data)); err == nil {
				return fmt.Errorf("%s holds records already; restore into an empty folder, or move them away "+
					"first", data)
			}
			v, err := verifyRecords(cmd.Context(), file, key)
			if err != nil {
				return fmt.Errorf("%s: %w", file, err)
			}
			if v.State != "sound" {
				return verified(a, *v, key.Verifier.Name())
			}
			if err := compareSeen(cmd.Context(), a, file, key, acceptLoss); err != nil {
				return err
			}
			if err := place(file, data); err != nil {
				return err
			}
			shell.Line(a.Out, "%s: %s entries and %s devices, verified. Start the service with --data %s.",
				filepath.Clean(data), counted(v.Size), counted(int64(v.Devices)), data)
			return nil
		},
	}
	c.Flags().StringVar(&data, "data", "", "the folder of the records, without any yet")
	c.Flags().BoolVar(&acceptLoss, "accept-loss", false,
		"restore although entries were seen that the backup does not have")
	shell.Must(c.MarkFlagRequired("data"))
	return c
}

// keyBeside is the key of a backup: the one beside it, else the one in the folder of records.
func keyBeside(file, data string) (keyfile.Pair, error) {
	key, err := keyfile.Read(file + keySuffix)
	if !errors.Is(err, keyfile.ErrNone) {
		return key, err
	}
	if key, err = keyfile.Read(engine.KeyPath(data)); err != nil {
		return keyfile.Pair{}, fmt.Errorf("neither %s nor %s is there: %w", file+keySuffix, engine.KeyPath(data),
			keyfile.ErrNone)
	}
	return key, nil
}

// place puts a backup and its key into the folder of records; the database gets its name last.
func place(file, data string) error {
	if err := os.MkdirAll(data, 0o700); err != nil {
		return err
	}
	if _, err := os.Stat(engine.KeyPath(data)); err != nil {
		if err := copyTo(file+keySuffix, engine.KeyPath(data)); err != nil {
			return err
		}
	}
	part := engine.DatabasePath(data) + ".part"
	if err := copyTo(file, part); err != nil {
		return err
	}
	if err := os.Rename(part, engine.DatabasePath(data)); err != nil {
		return errors.Join(err, os.Remove(part))
	}
	return nil
}

// compareSeen checks a backup against what this client has seen of the service.
func compareSeen(ctx context.Context, a *shell.App, file string, key keyfile.Pair, acceptLoss bool) error {
	cl, err := a.Client()
	if err != nil { // no service is known here
		shell.Line(a.Err, "This client has seen no ledger to compare the backup with (no service and token are set).")
		return nil
	}
	w, err := follow.Seen(seenDir(a), cl.URL())
	if err != nil {
		return err
	}
	if w.Checkpoint == "" {
		shell.Line(a.Err, "This client has seen no ledger of %s to compare the backup with.", w.URL)
		return nil
	}
	seen, err := ledger.OpenHead([]byte(w.Checkpoint), key.Verifier)
	if err != nil {
		return fmt.Errorf("the backup is not of the ledger that was seen at %s: %w", w.URL, err)
	}
	records, err := store.OpenReader(file)
	if err != nil {
		return err
	}
	defer func() { _ = records.Close() }() // it only read
	view, err := records.View(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = view.Close() }()
	head, err := ledger.OpenHead(view.Checkpoint, key.Verifier)
	if err != nil {
		return err
	}
	if head.Size < seen.Size {
		lost := fmt.Errorf("the backup ends at entry %d, and entry %d was seen at %s: %d entries would be "+
			"lost", head.Size, seen.Size, w.SeenAt, seen.Size-head.Size)
		if !acceptLoss {
			return fmt.Errorf("%w (--accept-loss restores it all the same)", lost)
		}
		shell.Line(a.Err, "%s. Clients must run \"ironledger ledger forget\".", lost)
		return nil
	}
	proof, err := ledger.ProveConsistency(seen.Size, head.Size, records.Tiles(ctx))
	if err != nil {
		return err
	}
	if err := ledger.CheckConsistency(seen, head, proof); err != nil {
		return w.Alarm(err)
	}
	shell.Line(a.Err, "The backup goes on from what was seen of %s at %s (entry %d).", w.URL, w.SeenAt, seen.Size)
	return nil
}

// copyTo copies a file to a path where nothing is yet, for its owner alone.
func copyTo(from, to string) (err error) {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, in.Close()) }()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already", to)
	}
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err = errors.Join(err, out.Sync(), out.Close(), keyfile.SyncFolder(filepath.Dir(to))); err != nil {
		return errors.Join(err, os.Remove(to))
	}
	return nil
}
