package audit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"sync"
	"time"

	"golang.org/x/mod/sumdb/note"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
	"ironledger.example/internal/store/mention"
)

// verification is the newest one, shared.
type newest struct {
	mu  sync.Mutex
	now api.Verification
}

func (v *newest) get() *api.Verification {
	v.mu.Lock()
	defer v.mu.Unlock()
	out := v.now
	out.State = cmp.Or(out.State, "never")
	if out.Problems == nil {
		out.Problems = []ledger.Problem{}
	}
	return &out
}

func (v *newest) set(now api.Verification) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.now = now
}

// BeginVerification has the ledger checked in the background, unless that is
// under way, and tells how it stands. Gently, it leaves most of the machine to
// others.
func (s *Service) BeginVerification(gentle bool) *api.Verification {
	s.verified.mu.Lock()
	begin := s.verified.now.State != "running"
	if begin {
		s.verified.now.State, s.verified.now.Size, s.verified.now.Of = "running", 0, s.Store.Sealed().Size
	}
	s.verified.mu.Unlock()
	if begin {
		s.Chore(func() {
			ctx, cancel := s.UntilQuit()
			defer cancel()
			out, err := VerifyRecords(ctx, s.Store, s.Key.Verifier,
				VerifyOptions{Gentle: gentle, Searches: true, Progress: func(done, of int64) {
					s.verified.mu.Lock()
					defer s.verified.mu.Unlock()
					s.verified.now.Size, s.verified.now.Of = done, of
				}})
			if err != nil {
				out = &api.Verification{State: "broken", Problems: []ledger.Problem{{Message: err.Error()}}}
				if ctx.Err() != nil {
					out = &api.Verification{}
				}
			}
			out.At = value.FormatTime(s.Micros())
			if out.State == "broken" {
				s.Log.Error("the ledger does not verify", "problems", out.Problems)
			}
			s.verified.set(*out)
		})
	}
	return s.verified.get()
}

// VerifyOptions says how records are verified.
type VerifyOptions struct {
	// File has SQLite check its file too, which reads all of it in one go.
	File bool
	// Searches has what searches go by held against the bodies too.
	Searches bool
	// Gentle leaves most of the machine to others: it takes six times as long.
	Gentle   bool
	Progress func(done, of int64) // may be nil
}

// verifyChunk is how many entries are read at a time. No transaction lasts
// longer, so that the write-ahead log can be emptied meanwhile.
const verifyChunk = mention.Run

// readAll reads the entries up to one, in pieces, with pauses when others must not be
// disturbed, and notes where searches were misled.
func readAll(ctx context.Context, records *store.Store, size int64, how VerifyOptions,
	add func(*ledger.Line) error, misled *[]ledger.Problem) error {
	for first := int64(1); first <= size; first += verifyChunk {
		chunk := time.Now()
		if err := records.Lines(ctx, first, min(first+verifyChunk-1, size), add); err != nil {
			return err
		}
		if how.Searches {
			err := records.CheckMentions(ctx, first)
			if errors.Is(err, mention.ErrWrong) {
				*misled, err = append(*misled, ledger.Problem{Message: err.Error()}), nil
			}
			if err != nil {
				return err
			}
		}
		if how.Progress != nil {
			how.Progress(min(first+verifyChunk-1, size), size)
		}
		if how.Gentle {
			select {
			case <-time.After(5 * time.Since(chunk)):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
	return nil
}

// compare notes where a device stands otherwise than the entries say; said is "" when
// none tells of it.
func compare(out *api.Verification, device, level, said string) {
	if said == level {
		out.Devices++
		return
	}
	if len(out.Problems) >= ledger.MaxProblems {
		out.More++
		return
	}
	problem := fmt.Sprintf("device %s stands at %s, and no entry tells of it", device, level)
	if said != "" {
		problem = fmt.Sprintf("device %s stands at %s, and the newest entry about it moved it to "+
			"%s", device, level, said)
	}
	out.Problems = append(out.Problems, ledger.Problem{Message: problem})
}

// VerifyRecords checks everything there is: every entry, the tree, the signed
// head, and that the level of each device follows from the entries.
func VerifyRecords(ctx context.Context, records *store.Store, key note.Verifier,
	how VerifyOptions) (*api.Verification, error) {
	begun := time.Now()
	w := &ledger.Verifier{Standings: true, Tile: records.Tile(ctx)}
	add := func(l *ledger.Line) error { w.Add(l); return nil }
	early, err := records.View(ctx)
	if err != nil {
		return nil, err
	}
	size := early.Size
	if how.File {
		err = early.Sound(ctx)
	}
	if err = errors.Join(err, early.Close()); err != nil {
		return nil, err
	}
	var misled []ledger.Problem
	if err := readAll(ctx, records, size, how, add, &misled); err != nil {
		return nil, err
	}
	v, err := records.View(ctx) // what came meanwhile, and the devices of the same moment
	if err != nil {
		return nil, err
	}
	defer func() { _ = v.Close() }() // it only read
	head, err := ledger.OpenHead(v.Checkpoint, key)
	if err != nil {
		return nil, err
	}
	if err := v.Lines(ctx, size+1, math.MaxInt64, add); err != nil {
		return nil, err
	}
	w.End(&head)
	out := &api.Verification{State: "sound", Size: w.Size(), Of: v.Size, Redacted: w.Redacted,
		Archived: w.Archived, Problems: w.Problems, More: w.More}
	if err := v.Levels(ctx, func(device, level string) { compare(out, device, level, w.Level(device)) }); err != nil {
		return nil, err
	}
	if _, err := v.State(ctx, head); err != nil {
		var tamper *store.TamperError
		if !errors.As(err, &tamper) {
			return nil, err
		}
		out.Problems = append(out.Problems, ledger.Problem{Message: tamper.Message})
	}
	out.Problems = append(out.Problems, misled...)
	if missing := w.Levels() - out.Devices; missing > 0 && len(out.Problems) == len(misled) {
		out.Problems = append(out.Problems,
			ledger.Problem{Message: fmt.Sprintf("%d devices that the entries tell of are gone", missing)})
	}
	if len(out.Problems) > 0 {
		out.State = "broken"
	}
	out.Millis = time.Since(begun).Milliseconds()
	return out, nil
}

// chorePause is how often the past that need not be kept is forgotten, and the
// whole ledger is verified.
const chorePause = 24 * time.Hour

// Tidy ends an archive that was begun, forgets the past that need not be kept, and verifies the ledger, at the
// start and then each day.
func (s *Service) Tidy() {
	timer := time.NewTimer(time.Minute)
	defer timer.Stop()
	ctx, cancel := s.UntilQuit()
	defer cancel()
	if err := s.goOn(ctx); err != nil && ctx.Err() == nil {
		s.Log.Error("an archive that was begun is not ended", "error", err)
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		}
		if n, err := s.Store.Forget(ctx, s.Micros()-s.keepPast.Microseconds()); err != nil && ctx.Err() == nil {
			s.Log.Error("the past that need not be kept stays", "error", err)
		} else if n > 0 {
			s.Log.Info("past evidence forgotten", "steps", n)
		}
		s.BeginVerification(true)
		timer.Reset(chorePause)
	}
}

// How long it takes at most until mentions that were dropped are made anew, and until they are tried to be kept again:
// without them searches are slow, and not wrong.
const (
	mentionsPause = time.Hour
	mentionsAgain = time.Minute
)

// KeepingMentions keeps whom entries speak of, for searches, until the service ends.
func (s *Service) KeepingMentions() {
	ctx, cancel := s.UntilQuit()
	defer cancel()
	for ctx.Err() == nil {
		wait := mentionsPause
		size, err := s.Store.KeepMentions(ctx)
		if err != nil {
			if ctx.Err() == nil {
				s.Log.Warn("searches by device and person stay slow: whom entries speak of is not kept", "error", err)
			}
			size, wait = math.MaxInt64, mentionsAgain // not before the pause is over
		}
		pause, end := context.WithTimeout(ctx, wait)
		s.Follow(pause, size-1)
		end()
	}
}

// Verified is what the newest verification found, or how far it is.
func (s *Service) Verified() *api.Verification { return s.verified.get() }
