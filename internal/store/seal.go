package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/keyfile"
	"ironledger.example/internal/proven"
)

// Sealed is the newest durable head with its checkpoint.
type Sealed struct {
	ledger.Head
	Checkpoint []byte
	Sums       string // of the tables of the state: JSON
}

// sealer gives entries their place in the ledger: it numbers some, and seals
// what it numbered.
type sealer struct {
	key     keyfile.Pair
	tree    ledger.CompactRange
	size    int64 // entries numbered, of which some may not be in the tree yet
	last    int64 // the time of the newest entry
	scratch []byte
	tiles   []any
}

// clone makes a sealer to go on with, which may yet fail.
func (s *sealer) clone() *sealer {
	next := *s
	next.tree, next.tiles = s.tree.Clone(), nil
	return &next
}

// number numbers an entry, gives it a time that is not before the last one's,
// and returns its leaf.
func (s *sealer) number(e *ledger.Entry, prepared ledger.Prepared) tlog.Hash {
	s.size++
	e.Seq = s.size
	if e.At < s.last && e.Kind != ledger.ClockReset {
		e.At = s.last
		prepared, s.scratch = e.Prepare(s.scratch)
	}
	s.last = e.At
	return prepared.Leaf(e.Seq)
}

// grow adds leaves to the tree.
func (s *sealer) grow(leaves []tlog.Hash) {
	for _, leaf := range leaves {
		s.tree.Add(leaf, func(level int, n int64, h tlog.Hash) { s.tiles = append(s.tiles, level, n, h[:]) })
	}
}

// seal adds the leaves of the entries that were numbered to the tree and signs
// its head, with the state.
func (s *sealer) seal(leaves []tlog.Hash, now *state) *Sealed {
	s.grow(leaves)
	head := ledger.Head{Origin: s.key.Signer.Name(), Size: s.tree.Size(), Root: s.tree.Root()}
	var sums string
	head.State, sums = now.hash()
	checkpoint, err := head.Sign(s.key.Signer)
	if err != nil {
		panic(err) // the head is of the key's own ledger, and Ed25519 signs anything
	}
	return &Sealed{head, checkpoint, sums}
}

// prepare brings the bodies of a batch into canonical form, and hashes its
// entries as far as can be done before they are numbered.
func (b *Batch) prepare() error {
	for i := range b.Devices {
		if d := &b.Devices[i]; d.Sealed == (tlog.Hash{}) {
			d.Past, d.Before = append([]byte{}, d.Past...), append([]byte{}, d.Before...)
			d.Sealed = d.Hash()
		}
	}
	b.prepared = make([]ledger.Prepared, len(b.Entries))
	scratch := make([]byte, 0, 2048)
	for i := range b.Entries {
		e := &b.Entries[i]
		const envelope = 256 // the members beside about, actor and body, escapes included
		if len(e.Body)+6*(len(e.About)+len(e.Actor))+envelope > ledger.MaxEntry {
			return fmt.Errorf("%w: its body has %d bytes", ledger.ErrTooLarge, len(e.Body))
		}
		b.prepared[i], scratch = e.Prepare(scratch)
	}
	return nil
}

// TamperError says that the ledger in the database is not the one that was signed.
type TamperError = proven.TamperError

// unseal makes ready to add to the ledger: it reads the right edge of the tree
// and compares it with the signed head.
func (s *Store) unseal(ctx context.Context, o Options) error {
	s.sealer.key = o.Key
	var size int64
	var checkpoint string
	err := s.read.QueryRowContext(ctx, "SELECT size, checkpoint FROM head").Scan(&size, &checkpoint)
	fresh := errors.Is(err, sql.ErrNoRows)
	if err != nil && !fresh {
		return fmt.Errorf("read the head of the ledger: %w", err)
	}
	var newest int64
	if err := s.read.QueryRowContext(ctx,
		"SELECT coalesce(max(seq), 0), coalesce((SELECT at FROM entries ORDER BY seq DESC LIMIT 1), 0) FROM "+
			"entries").Scan(&newest, &s.sealer.last); err != nil {
		return fmt.Errorf("read the ledger: %w", err)
	}
	if fresh {
		return s.fresh(ctx)
	}
	if newest != size {
		return &TamperError{Message: fmt.Sprintf("its newest entry is %d, and %d entries were signed", newest, size)}
	}
	if s.sealer.tree, err = ledger.Edge(size, func(level int, n int64, width int) ([]tlog.Hash, error) {
		return s.Hashes(ctx, level, n, width)
	}); err != nil {
		return &TamperError{Message: "the hashes of its newest entries: " + err.Error()}
	}
	s.sealer.size = size
	head, err := ledger.OpenHead([]byte(checkpoint), o.Key.Verifier)
	switch {
	case errors.Is(err, ledger.ErrSignature) && o.NewKey != "":
		s.pending = append(s.pending, func() error { return s.rekey(ctx, checkpoint, o.NewKey) })
		if head, err = ledger.ReadHead([]byte(checkpoint)); err != nil {
			return &TamperError{Message: err.Error()}
		}
	case errors.Is(err, ledger.ErrSignature):
		return &TamperError{Message: "its head is not signed by the key in the key file"}
	case err != nil:
		return &TamperError{Message: err.Error()}
	case head.Size != size || head.Root != s.sealer.tree.Root():
		return &TamperError{Message: fmt.Sprintf("its %d entries have the root %s, and %s was signed", size,
			s.sealer.tree.Root(), head.Root)}
	}
	s.announce(&Sealed{head, []byte(checkpoint), ""})
	if o.ResetClock != "" {
		s.pending = append(s.pending, func() error { return s.resetClock(ctx, o.ResetClock) })
	}
	return nil
}

// rekey goes on with another key.
func (s *Store) rekey(ctx context.Context, before, reason string) error {
	origin, _, _ := strings.Cut(before, "\n")
	return s.mark(time.Now().UnixMicro(), &event.KeyReplaced{Reason: reason, Key: s.sealer.key.Public,
		Before: origin})
}

// resetClock lets time go on from what the clock says now, though that lies
// before the newest entry.
func (s *Store) resetClock(ctx context.Context, reason string) error {
	return s.mark(time.Now().UnixMicro(),
		&event.ClockReset{Reason: reason, Newest: string(ledger.AppendTime(nil, s.sealer.last))})
}

// mark writes one entry of the store's own.
func (s *Store) mark(at int64, e event.Event) error {
	b := Batch{Entries: []ledger.Entry{event.Entry(at, ledger.Service, e)}}
	if err := b.prepare(); err != nil {
		return err
	}
	return s.writeAll([]*commit{{batch: &b}})
}

// Newest is the time of the newest entry, in microseconds since the Unix
// epoch; 0 when there is none. It is of the moment at which the store was opened.
func (s *Store) Newest() int64 { return s.opened }

// Sealed is the newest durable head.
func (s *Store) Sealed() *Sealed { return s.sealed.Load() }

// Hashes reads hashes of the tree, at a level of tiles: width of them from n on.
func (s *Store) Hashes(ctx context.Context, level int, n int64, width int) ([]tlog.Hash, error) {
	query, args := "SELECT leaf FROM entries WHERE seq > ? AND seq <= ? ORDER BY seq", []any{n, n + int64(width)}
	if level > 0 {
		query, args = "SELECT hash FROM tiles WHERE n >= ? AND n < ? AND level = ? ORDER BY n", append(args, level)
	}
	rows, err := s.read.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("read hashes: %w", err)
	}
	defer rows.Close()
	out := make([]tlog.Hash, 0, width)
	for rows.Next() {
		var h tlog.Hash
		if err := scanHash(rows, &h); err != nil {
			return nil, err
		}
		out = append(out, h)
	}
	return out, rows.Err()
}

func scanHash(rows *sql.Rows, into *tlog.Hash) error {
	var raw sql.RawBytes
	if err := rows.Scan(&raw); err != nil {
		return fmt.Errorf("read hashes: %w", err)
	}
	if len(raw) != tlog.HashSize {
		return fmt.Errorf("a hash has %d bytes", len(raw))
	}
	copy(into[:], raw)
	return nil
}

// Tiles reads tiles of the tree.
func (s *Store) Tiles(ctx context.Context) ledger.TileReader {
	return func(level int, n int64, width int) ([]tlog.Hash, error) { return s.Hashes(ctx, level, n, width) }
}
