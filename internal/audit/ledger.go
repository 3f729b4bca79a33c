// Package audit has the ledger as people and verifiers see it: its entries with their
// proofs, what it grew by, its verification, and the redaction of an entry.
package audit

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
)

// Service is the ledger of open records.
type Service struct {
	*engine.Engine
	verified newest
	keepPast time.Duration
	dir      string // of the records

	mu     sync.Mutex
	making making // the archive that is being made, or was made last
}

// DefaultKeepPast is how long the past of evidence is kept, for computing past
// standings and decisions again.
const DefaultKeepPast = 90 * 24 * time.Hour

// New is a service over open records in the folder dir; keepPast is how long the past of
// evidence is kept, 0 for DefaultKeepPast.
func New(e *engine.Engine, dir string, keepPast time.Duration) *Service {
	return &Service{Engine: e, dir: dir, keepPast: cmp.Or(keepPast, DefaultKeepPast)}
}

// Ledger tells the state of the ledger.
func (s *Service) Ledger() *api.Ledger {
	head := s.Store.Sealed()
	out := &api.Ledger{Origin: head.Origin, Key: s.Key.Public, Size: head.Size, Root: head.Root.String(),
		Checkpoint: string(head.Checkpoint), Kinds: ledger.Kinds, Verification: *s.verified.get()}
	if t := s.Store.Trouble(); t != nil {
		out.Trouble = t.Error()
	}
	out.ArchivedUntil = s.ArchivedUntil()
	out.ClockAhead = int64(s.ClockAhead().Seconds())
	return out
}

// Checkpoint is the newest signed head.
func (s *Service) Checkpoint() []byte { return s.Store.Sealed().Checkpoint }

// Line is an entry as people are shown it.
func Line(l *ledger.Line) api.Entry {
	return api.Entry{Seq: l.Seq, At: string(ledger.AppendTime(nil, l.At)), Kind: l.Kind, Actor: l.Actor, About: l.About,
		Gist: event.Gist(&l.Entry), Leaf: l.Leaf.String(), Redacted: l.Body == nil && l.Archive == "",
		Archive: l.Archive, Body: l.Body}
}

// Query selects entries.
type Query struct {
	Kind, Actor, About, Device, Person string
	Since, Until                       string // RFC 3339
	Before                             int64
	Limit                              int
}

// LedgerLines finds entries, newest first.
func (s *Service) LedgerLines(ctx context.Context, q Query) ([]api.Entry, error) {
	kept := store.LineQuery{Kind: q.Kind, Actor: q.Actor, About: q.About, Device: q.Device, Person: q.Person,
		Before: q.Before, Limit: q.Limit}
	var err error
	if kept.Since, err = fault.Moment("since", q.Since); err != nil {
		return nil, err
	}
	if kept.Until, err = fault.Moment("until", q.Until); err != nil {
		return nil, err
	}
	lines, err := s.Store.Search(ctx, kept)
	out := make([]api.Entry, len(lines))
	for i := range lines {
		out[i] = Line(&lines[i])
	}
	return out, err
}

// LedgerEntry shows an entry with the proof that it is in the ledger.
func (s *Service) LedgerEntry(ctx context.Context, seq int64) (*api.ProvenEntry, error) {
	l, err := s.Store.Line(ctx, seq)
	if errors.Is(err, store.ErrNotFound) {
		return nil, fault.NotFound("entry", fmt.Sprint(seq))
	}
	if err != nil {
		return nil, err
	}
	out := &api.ProvenEntry{Entry: Line(&l)}
	var canonical []byte
	if l.Body != nil {
		canonical = l.Append(nil)
		out.Canonical = string(canonical)
	} else if l.Archive != "" {
		out.Where = s.Snapshot().Archives.Get(l.Archive).Where(l.Archive)
	} else if out.RedactedBy, err = s.redactionOf(ctx, seq); err != nil {
		return nil, err
	}
	head := s.Store.Sealed()
	proof, err := ledger.Prove(seq, canonical, l.Leaf, head.Size, head.Checkpoint, s.Store.Tiles(ctx))
	if err != nil {
		return nil, err
	}
	out.Proof, out.Path = *proof, proof.Path(head.Size)
	return out, nil
}

// Consistency makes the proof that the ledger only grew since it had a size.
func (s *Service) Consistency(ctx context.Context, from int64) (*api.Consistency, error) {
	head := s.Store.Sealed()
	if from < 0 || from > head.Size {
		return nil, &fault.QueryError{Param: "from", Message: fmt.Sprintf("the ledger has %d entries", head.Size)}
	}
	hashes, err := ledger.ProveConsistency(from, head.Size, s.Store.Tiles(ctx))
	return &api.Consistency{From: from, To: head.Size, Hashes: hashes, Checkpoint: string(head.Checkpoint)}, err
}

// LedgerTile reads a tile, or a bundle of entries (level -1). It is
// [store.ErrNotFound] when the ledger is not that long.
func (s *Service) LedgerTile(ctx context.Context, t tlog.Tile) ([]byte, error) {
	level := max(0, t.L)
	have := s.Store.Sealed().Size >> (ledger.TileHeight * level)
	if t.L > 7 || t.N > have/ledger.TileWidth || t.N*ledger.TileWidth+int64(t.W) > have {
		return nil, store.ErrNotFound
	}
	if t.L >= 0 {
		return s.Store.Tiles(ctx).Tile(t)
	}
	var out, canonical []byte
	err := s.Store.Lines(ctx, t.N*ledger.TileWidth+1, t.N*ledger.TileWidth+int64(t.W), func(l *ledger.Line) error {
		if l.Archive != "" {
			return &fault.NotFoundError{What: "bundle of these entries here: of entry", ID: fmt.Sprintf("%d, %s", l.Seq,
				s.Snapshot().Archives.Get(l.Archive).Where(l.Archive))}
		}
		canonical = l.Append(canonical[:0])
		out = ledger.AppendBundled(out, canonical)
		return nil
	})
	return out, err
}

// exportChunk is how many entries are read at a time for an export. Whoever
// takes them may be slow, and must not keep a transaction open.
const exportChunk = 256

// Export visits the entries from one on to another, 0 for the newest, and
// returns the signed head of the moment at which it began.
func (s *Service) Export(ctx context.Context, from, to int64,
	visit func(*ledger.Line) error) (checkpoint []byte, err error) {
	head := s.Store.Sealed()
	if to == 0 || to > head.Size {
		to = head.Size
	}
	chunk := make([]ledger.Line, 0, exportChunk)
	for ; from <= to; from += exportChunk {
		chunk = chunk[:0]
		if err := s.Store.Lines(ctx, from, min(from+exportChunk-1, to), func(l *ledger.Line) error {
			kept := *l
			kept.Body = bytes.Clone(l.Body)
			chunk = append(chunk, kept)
			return nil
		}); err != nil {
			return nil, err
		}
		for i := range chunk {
			if err := visit(&chunk[i]); err != nil {
				return nil, err
			}
		}
	}
	return head.Checkpoint, nil
}

// DeviceLevel is a device and the level it stands at.
type DeviceLevel struct {
	Device string `json:"device"`
	Level  string `json:"level"`
}

// Standings reads the level that is kept of every device, and the size of the
// ledger at the same moment.
func (s *Service) Standings(ctx context.Context) (all []DeviceLevel, size int64, err error) {
	v, err := s.Store.View(ctx)
	if err != nil {
		return nil, 0, err
	}
	err = v.Levels(ctx, func(device, level string) { all = append(all, DeviceLevel{device, level}) })
	return all, v.Size, errors.Join(err, v.Close())
}

// Redact removes the body of an entry, because what it says must go. Its hash
// stays, so that every proof holds; the redaction is an entry itself.
func (s *Service) Redact(ctx context.Context, actor string, seq int64, reason string) (*api.Entry, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	err := s.DoLanded(ctx, func(c *state.Change) error {
		l, err := s.Store.Line(ctx, seq)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return fault.NotFound("entry", fmt.Sprint(seq))
		case err != nil:
			return err
		case l.Archive != "":
			return fault.Inputf("", "the body of entry %d is not here: %s. It cannot be redacted there: keep the file "+
				"from who must not read it, or remove it", seq, c.Base.Archives.Get(l.Archive).Where(l.Archive))
		case l.Body == nil:
			return fault.Inputf("", "entry %d is redacted already", seq)
		case l.Kind == ledger.Redacted || l.Kind == ledger.KeyReplaced || l.Kind == ledger.ClockReset:
			return fault.Inputf("", "entry %d is a %s: without its body the ledger could not be verified",
				seq, l.Kind)
		}
		c.Batch.Redact(seq)
		c.Redacts = l.About
		c.Record(actor, &event.Redacted{Redaction: ledger.Redaction{Entry: seq, Leaf: l.Leaf.String(),
			At:   string(ledger.AppendTime(nil, l.At)),
			Kind: l.Kind, Actor: l.Actor, About: l.About, Reason: reason}})
		return nil
	})
	if err != nil {
		return nil, err
	}
	if err := s.Store.Scrub(ctx); err != nil {
		s.Log.Warn("after a redaction", "error", err)
	}
	by, err := s.redactionOf(ctx, seq)
	if err != nil {
		return nil, err
	}
	l, err := s.Store.Line(ctx, by)
	if err != nil {
		return nil, err
	}
	shown := Line(&l)
	return &shown, nil
}

// redactionOf finds the entry that tells of the redaction of another, 0 when
// there is none.
func (s *Service) redactionOf(ctx context.Context, seq int64) (int64, error) {
	about, err := s.Store.About(ctx, fmt.Sprint(seq), 0, 10) // a rulebook's version may have the same number
	for _, e := range about {
		if e.Kind == ledger.Redacted {
			return e.Seq, nil
		}
	}
	return 0, err
}

// RedactAbout removes the bodies of all entries that are about a device, or speak of it, but for those that say that it
// was retired and purged, and how it stands since. It returns how many there were.
func (s *Service) RedactAbout(ctx context.Context, actor, device, reason string) (n int, err error) {
	const page = 200
	stands := false
	for before := int64(0); ; {
		lines, err := s.Store.Search(ctx, store.LineQuery{Device: device, Before: before, Limit: page})
		if err != nil {
			return n, err
		}
		for _, l := range lines {
			before = l.Seq
			switch l.Kind {
			case ledger.Redacted, ledger.KeyReplaced, ledger.ClockReset, ledger.DeviceRetired, ledger.DevicePurged:
				continue
			}
			if newest := l.Kind == ledger.StandingChanged && !stands; newest || l.Body == nil { // or archived
				stands = stands || newest
				continue
			}
			if _, err := s.Redact(ctx, actor, l.Seq, reason); err != nil {
				return n, err
			}
			n++
		}
		if len(lines) < page {
			return n, nil
		}
	}
}
