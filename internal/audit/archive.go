package audit

import (
	"cmp"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/keyfile"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
)

// LeastAge is how old entries are at least that may be archived: nothing that counts, draws or
// replays what was decided looks further back.
const LeastAge = 90 * 24 * time.Hour

// ArchiveFolder is where archives are made, within the folder of the records.
func ArchiveFolder(dir string) string { return filepath.Join(dir, "archives") }

// making is the archive that is being made.
type making struct {
	running bool
	now     api.ArchiveProgress
}

// Archives lists the archives, the newest first, with the one that is being made.
func (s *Service) Archives() *api.ArchiveList {
	out := &api.ArchiveList{Items: []api.Archive{}}
	for _, a := range s.Snapshot().Archives.List() {
		out.Items = append(out.Items, s.shownArchive(&a))
	}
	slices.SortFunc(out.Items, func(a, b api.Archive) int { return cmp.Compare(b.From, a.From) })
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.making.now.State != "" {
		now := s.making.now
		out.Progress = &now
	}
	return out
}

func (s *Service) shownArchive(a *kept.Archive) api.Archive {
	_, err := os.Stat(filepath.Join(ArchiveFolder(s.dir), a.File))
	return api.Archive{ID: a.Archive, From: a.From, To: a.To, Entries: a.Entries, Before: a.Before, File: a.File,
		SHA256: a.SHA256, Bytes: a.Bytes, Reason: a.Reason, By: a.By, At: value.FormatTime(a.At), Place: a.Place,
		Done: a.Away >= a.To, Here: err == nil}
}

// Archive shows one archive, nil for none.
func (s *Service) Archive(id string) *api.Archive {
	a := s.Snapshot().Archives.Get(id)
	if a == nil {
		return nil
	}
	out := s.shownArchive(a)
	return &out
}

// ArchiveFiles are the names of the files of archives, none for none.
func (s *Service) ArchiveFiles() (names []string) {
	for _, a := range s.Snapshot().Archives.List() {
		names = append(names, a.File)
	}
	slices.Sort(names)
	return names
}

// ArchivedUntil is the last entry that an archive has, 0 for none.
func (s *Service) ArchivedUntil() (last int64) {
	for _, a := range s.Snapshot().Archives.List() {
		last = max(last, a.To)
	}
	return last
}

// held is the last entry that may be archived for what still reads entries, and what that is.
// Notices are not made of entries that are days old.
func held(snap *state.Snapshot) (last int64, by string) {
	last = math.MaxInt64
	hold := func(at int64, what string) {
		if at < last {
			last, by = at, what
		}
	}
	for _, x := range snap.Streams.List() {
		hold(snap.StreamPlace(&x), "the stream to "+x.Receiver+", which has not come further")
	}
	for _, x := range snap.Letters.List() {
		hold(x.Seq-1, "a letter to the stream "+x.Stream+", which was given up and may be sent again")
	}
	return last, by
}

// BeginArchive makes an archive of the entries before a moment, in the background: first the
// file, which is read again and proved; then an entry tells of it; then the bodies that the
// file has give way. When the service ends in between, what was begun goes on at its next
// start, or nothing was.
func (s *Service) BeginArchive(ctx context.Context, actor string, d api.ArchiveDraft) (*api.ArchiveList, error) {
	if err := fault.CheckReason(&d.Reason); err != nil {
		return nil, err
	}
	s.mu.Lock()
	was, busy := s.making, s.making.running
	s.making.running = true
	s.mu.Unlock()
	if busy {
		return nil, fault.Inputf("", "an archive is being made already; see ironledger ledger archive list")
	}
	from, to, moment, why, err := s.archivable(ctx, d.Before) // while nobody else makes one
	s.mu.Lock()
	if s.making = was; err == nil {
		s.making = making{running: true, now: api.ArchiveProgress{State: "writing", Of: to - from + 1, Held: why}}
	}
	s.mu.Unlock()
	if err != nil {
		return nil, err
	}
	told := ledger.Archival{Archive: "ar-" + s.IDs.Next(s.Micros()), From: from, To: to,
		Before: value.FormatTime(moment), Reason: d.Reason}
	told.File = told.Archive + ".ndjson.gz"
	s.Chore(func() {
		ctx, cancel := s.UntilQuit()
		defer cancel()
		err := s.archive(ctx, actor, &told)
		s.mu.Lock()
		defer s.mu.Unlock()
		s.making.running = false
		switch {
		case err != nil && ctx.Err() == nil:
			s.Log.Error("an archive is not made", "archive", told.Archive, "error", err)
			s.making.now.State, s.making.now.Problem = "failed", err.Error()
		case err == nil:
			s.making.now.State, s.making.now.Archive = "done", told.Archive
		}
	})
	return s.Archives(), nil
}

// archivable is which entries before a moment can be archived now, and in a sentence why not
// all of them, "" if they can.
func (s *Service) archivable(ctx context.Context, before string) (from, to, moment int64, why string, err error) {
	if moment, err = fault.Moment("before", before); err != nil {
		return 0, 0, 0, "", err
	}
	least := max(s.keepPast, LeastAge)
	if moment == 0 || moment > s.Micros()-least.Microseconds() {
		return 0, 0, 0, "", &fault.InputError{Pointer: "/before", Message: fmt.Sprintf("entries of the last %s stay "+
			"here: charts, the guard and replay read them; say a moment before %s",
			value.FormatDuration(least.Microseconds()), value.FormatTime(s.Micros()-least.Microseconds()))}
	}
	from = s.ArchivedUntil() + 1
	all, err := s.Store.Before(ctx, moment)
	if err != nil {
		return 0, 0, 0, "", err
	}
	last, by := held(s.Snapshot())
	switch to = min(all, last); {
	case to < from && last < from && all >= from:
		return 0, 0, 0, "", fault.Inputf("/before", "nothing can be archived: entry %d is still needed by %s", from, by)
	case to < from:
		return 0, 0, 0, "", fault.Inputf("/before", "there is nothing to archive: entry %d, the first that no archive has, "+
			"is not before %s", from, value.FormatTime(moment))
	}
	if to < all {
		why = fmt.Sprintf("entries %d to %d, which are before that moment too, are still needed by %s", to+1, all, by)
	}
	return from, to, moment, why, nil
}

// step tells how far the making of an archive is.
func (s *Service) step(state string, done, of int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.making.now.State, s.making.now.Done, s.making.now.Of = state, done, of
}

func (s *Service) archive(ctx context.Context, actor string, told *ledger.Archival) error {
	if err := s.writeArchive(ctx, told); err != nil {
		return err
	}
	n, err := s.Store.Archivable(ctx, told.From, told.To)
	if err != nil {
		return err
	}
	told.Entries = n
	err = s.DoLanded(ctx, func(c *state.Change) error {
		doc := kept.Archive{Archival: *told, By: actor, At: c.Now, Away: told.From - 1}
		c.Record(actor, &event.Archived{Archival: *told})
		return state.Put(c, state.ArchiveKind, told.Archive, &doc)
	})
	if err != nil {
		return err
	}
	return s.letGo(ctx, told.Archive)
}

// writeArchive writes the file of an archive beside its name, reads it again and proves it,
// and gives it its name.
func (s *Service) writeArchive(ctx context.Context, told *ledger.Archival) (err error) {
	folder := ArchiveFolder(s.dir)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	path := filepath.Join(folder, told.File)
	part := path + ".part"
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(part))
		}
	}()
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }() // a second time it has nothing to do
	sum := sha256.New()
	z := gzip.NewWriter(io.MultiWriter(f, sum))
	if err := s.fillArchive(ctx, z, told); err != nil {
		return err
	}
	if err := errors.Join(z.Close(), f.Sync()); err != nil {
		return err
	}
	told.SHA256 = hex.EncodeToString(sum.Sum(nil))
	if told.Bytes, err = f.Seek(0, io.SeekCurrent); err != nil {
		return err
	}
	if err := s.readBack(f, told); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := os.Rename(part, path); err != nil {
		return err
	}
	return keyfile.SyncFolder(folder)
}

func (s *Service) fillArchive(ctx context.Context, w io.Writer, told *ledger.Archival) error {
	head := s.Store.Sealed()
	left, err := ledger.Edge(told.From-1, s.Store.Tiles(ctx))
	if err != nil {
		return err
	}
	consistency, err := ledger.ProveConsistency(told.To, head.Size, s.Store.Tiles(ctx))
	if err != nil {
		return err
	}
	h := &ledger.ArchiveHead{Archive: told.Archive, Origin: head.Origin, From: told.From, To: told.To,
		Left: left.RootsOf()}
	return ledger.WriteArchive(w, h, head.Checkpoint, consistency, func(visit func(*ledger.Line) error) error {
		for first := told.From; first <= told.To; first += verifyChunk {
			last := min(first+verifyChunk-1, told.To)
			if err := s.Store.Lines(ctx, first, last, visit); err != nil {
				return err
			}
			s.step("writing", last-told.From+1, told.To-told.From+1)
		}
		return nil
	})
}

// readBack proves what stands on the disk.
func (s *Service) readBack(f io.ReadSeeker, told *ledger.Archival) error {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	z, err := gzip.NewReader(f)
	if err != nil {
		return err
	}
	done := int64(0)
	h, _, err := ledger.ReadArchive(z, s.Key.Verifier, func(*ledger.Line) error {
		if done++; done%verifyChunk == 0 {
			s.step("proving", done, told.To-told.From+1)
		}
		return nil
	})
	if err == nil && (h.From != told.From || h.To != told.To) {
		err = fmt.Errorf("%w: it has other entries than were written", ledger.ErrArchive)
	}
	return err
}

// awayAtOnce is how many entries' bodies go in one commit.
const awayAtOnce = 2000

// letGo has the bodies go that an archive holds, piece by piece: others write in between.
func (s *Service) letGo(ctx context.Context, id string) error {
	for {
		begun, done := time.Now(), false
		err := s.DoLanded(ctx, func(c *state.Change) error {
			a := *state.Get(c, state.ArchiveKind, id)
			if done = a.Away >= a.To; done {
				return nil
			}
			first := a.Away + 1
			a.Away = min(a.Away+awayAtOnce, a.To)
			c.Batch.Away = &store.Away{Archive: id, From: first, To: a.Away, Last: a.To}
			s.step("removing", a.Away-a.From+1, a.To-a.From+1)
			return state.Put(c, state.ArchiveKind, id, &a)
		})
		if err != nil || done {
			return err
		}
		select {
		case <-time.After(2 * time.Since(begun)):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// goOn ends what was begun of archives before the service ended. Nobody makes one meanwhile.
func (s *Service) goOn(ctx context.Context) error {
	s.mu.Lock()
	busy := s.making.running
	s.making.running = true
	s.mu.Unlock()
	if busy {
		return nil
	}
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.making = making{}
	}()
	parts, err := filepath.Glob(filepath.Join(ArchiveFolder(s.dir), "*.part"))
	if err != nil {
		return err
	}
	for _, p := range parts {
		if err := os.Remove(p); err != nil {
			return err
		}
	}
	for _, a := range s.Snapshot().Archives.List() {
		if a.Away >= a.To {
			continue
		}
		if err := s.stillThere(&a); err != nil {
			return err
		}
		if err := s.letGo(ctx, a.Archive); err != nil {
			return err
		}
	}
	return nil
}

// stillThere checks that the file of an archive is in the folder as it was made: records that
// were restored elsewhere may not let bodies go that are in no file there.
func (s *Service) stillThere(a *kept.Archive) error {
	f, err := os.Open(filepath.Join(ArchiveFolder(s.dir), a.File))
	if err != nil {
		return fmt.Errorf("the rest of the bodies that %s has stays here: %w", a.Archive, err)
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return err
	}
	if got := hex.EncodeToString(sum.Sum(nil)); got != a.SHA256 {
		return fmt.Errorf("the rest of the bodies that %s has stays here: its file is not the one that was made "+
			"(SHA-256 %s, not %s)", a.Archive, got, a.SHA256)
	}
	return nil
}

// PlaceArchive notes where people took the file of an archive.
func (s *Service) PlaceArchive(ctx context.Context, id, place string) (*api.Archive, error) {
	if len(place) > fault.MaxReason {
		return nil, fault.Inputf("/place", "longer than %d bytes", fault.MaxReason)
	}
	err := s.Do(ctx, func(c *state.Change) error {
		a := state.Get(c, state.ArchiveKind, id)
		if a == nil {
			return fault.NotFound("archive", id)
		}
		next := *a
		next.Place = place
		return state.Put(c, state.ArchiveKind, id, &next)
	})
	if err != nil {
		return nil, err
	}
	return s.Archive(id), nil
}
