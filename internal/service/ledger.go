package service

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"sync"
	"time"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
)

// LedgerState is the ledger at a glance.
type LedgerState struct {
	Origin     string        `json:"origin"`
	Key        string        `json:"key"` // the public key, as verifiers take it
	Size       int64         `json:"size"`
	Root       string        `json:"root"`
	Checkpoint string        `json:"checkpoint"`
	Kinds      []ledger.Kind `json:"kinds"` // that there are
	// Trouble says why nothing can be recorded at present, "" when it can.
	Trouble string `json:"trouble,omitempty"`
	// ClockAhead is by how many seconds the ledger's time is before the
	// machine's clock, which was set back.
	ClockAhead   int64         `json:"clock_ahead,omitempty"`
	Verification *Verification `json:"verification"`
}

// Ledger tells the state of the ledger.
func (s *Service) Ledger() *LedgerState {
	head := s.store.Sealed()
	out := &LedgerState{Origin: head.Origin, Key: s.key.Public, Size: head.Size, Root: head.Root.String(),
		Checkpoint: string(head.Checkpoint), Kinds: ledger.Kinds, Verification: s.verified.get()}
	if t := s.store.Trouble(); t != nil {
		out.Trouble = t.Error()
	}
	if s.clock != nil {
		out.ClockAhead = int64(s.clock.ahead().Seconds())
	}
	return out
}

// Checkpoint is the newest signed head.
func (s *Service) Checkpoint() []byte { return s.store.Sealed().Checkpoint }

// LedgerLine is an entry as people see it.
type LedgerLine struct {
	Seq      int64           `json:"seq"`
	At       string          `json:"at"`
	Kind     ledger.Kind     `json:"kind"`
	Actor    string          `json:"actor"`
	About    string          `json:"about"`
	Gist     string          `json:"gist"` // what it says in a few words
	Leaf     string          `json:"leaf"` // base64
	Redacted bool            `json:"redacted,omitempty"`
	Body     json.RawMessage `json:"body,omitempty"`
}

func ledgerLine(l *ledger.Line) LedgerLine {
	return LedgerLine{l.Seq, string(ledger.AppendTime(nil, l.At)), l.Kind, l.Actor, l.About,
		event.Gist(&l.Entry), l.Leaf.String(), l.Body == nil, l.Body}
}

// LedgerQuery selects entries.
type LedgerQuery struct {
	Kind, Actor, About, Device, Person string
	Since, Until                       string // RFC 3339
	Before                             int64
	Limit                              int
}

// LedgerLines finds entries, newest first.
func (s *Service) LedgerLines(ctx context.Context, q LedgerQuery) ([]LedgerLine, error) {
	kept := store.LineQuery{Kind: q.Kind, Actor: q.Actor, About: q.About, Device: q.Device, Person: q.Person,
		Before: q.Before, Limit: q.Limit}
	if err := momentsOf(map[string]momentParam{"since": {q.Since, &kept.Since},
		"until": {q.Until, &kept.Until}}); err != nil {
		return nil, err
	}
	lines, err := s.store.Search(ctx, kept)
	out := make([]LedgerLine, len(lines))
	for i := range lines {
		out[i] = ledgerLine(&lines[i])
	}
	return out, err
}

// momentParam is a parameter that holds a moment, "" for none.
type momentParam struct {
	text string
	into *int64
}

func momentsOf(params map[string]momentParam) error {
	for name, p := range params {
		if p.text == "" {
			continue
		}
		v, err := value.ParseTime(p.text)
		if err != nil {
			return &QueryError{Param: name, Message: err.Error()}
		}
		*p.into = v.Num()
	}
	return nil
}

// ShownEntry is an entry with its place in the tree.
type ShownEntry struct {
	LedgerLine
	Canonical string        `json:"canonical,omitempty"` // what is hashed
	Proof     *ledger.Proof `json:"proof"`
	Path      []ledger.Step `json:"path"` // what the hashes of the proof stand for
	// RedactedBy is the entry that tells why the body is gone.
	RedactedBy int64 `json:"redacted_by,omitempty"`
}

// LedgerEntry shows an entry with the proof that it is in the ledger.
func (s *Service) LedgerEntry(ctx context.Context, seq int64) (*ShownEntry, error) {
	l, err := s.store.Line(ctx, seq)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &NotFoundError{"entry", fmt.Sprint(seq)}
	}
	if err != nil {
		return nil, err
	}
	out := &ShownEntry{LedgerLine: ledgerLine(&l)}
	var canonical []byte
	if l.Body != nil {
		canonical = l.Append(nil)
		out.Canonical = string(canonical)
	} else if out.RedactedBy, err = s.redactionOf(ctx, seq); err != nil {
		return nil, err
	}
	head := s.store.Sealed()
	if out.Proof, err = ledger.Prove(seq, canonical, l.Leaf, head.Size, head.Checkpoint,
		s.store.Tiles(ctx)); err == nil {
		out.Path = out.Proof.Path(head.Size)
	}
	return out, err
}

// Growth proves that the ledger of today goes on from one of an earlier size.
type Growth struct {
	From       int64    `json:"from"`
	To         int64    `json:"to"`
	Hashes     []string `json:"hashes"`
	Checkpoint string   `json:"checkpoint"`
}

// LedgerGrowth makes the proof that the ledger only grew since it had a size.
func (s *Service) LedgerGrowth(ctx context.Context, from int64) (*Growth, error) {
	head := s.store.Sealed()
	if from < 0 || from > head.Size {
		return nil, &QueryError{Param: "from", Message: fmt.Sprintf("the ledger has %d entries", head.Size)}
	}
	hashes, err := ledger.ProveGrowth(from, head.Size, s.store.Tiles(ctx))
	return &Growth{from, head.Size, hashes, string(head.Checkpoint)}, err
}

// LedgerTile reads a tile, or a bundle of entries (level -1). It is
// [store.ErrNotFound] when the ledger is not that long.
func (s *Service) LedgerTile(ctx context.Context, t tlog.Tile) ([]byte, error) {
	level := max(0, t.L)
	have := s.store.Sealed().Size >> (ledger.TileHeight * level)
	if t.L > 7 || t.N > have/ledger.TileWidth || t.N*ledger.TileWidth+int64(t.W) > have {
		return nil, store.ErrNotFound
	}
	if t.L >= 0 {
		return s.store.Tiles(ctx).Tile(t)
	}
	var out, canonical []byte
	err := s.store.Lines(ctx, t.N*ledger.TileWidth+1, t.N*ledger.TileWidth+int64(t.W), func(l *ledger.Line) error {
		canonical = l.Append(canonical[:0])
		out = ledger.AppendBundled(out, canonical)
		return nil
	})
	return out, err
}

// Follow waits until the ledger has an entry behind a sequence number, or ctx
// ends, and returns its size.
func (s *Service) Follow(ctx context.Context, after int64) int64 {
	for {
		grown := s.store.Grown()
		if size := s.store.Sealed().Size; size > after {
			return size
		}
		select {
		case <-grown:
		case <-ctx.Done():
			return s.store.Sealed().Size
		case <-s.quit:
			return s.store.Sealed().Size
		}
	}
}

// exportChunk is how many entries are read at a time for an export. Whoever
// takes them may be slow, and must not keep a transaction open.
const exportChunk = 256

// Export visits the entries from one on to another, 0 for the newest, and
// returns the signed head of the moment at which it began.
func (s *Service) Export(ctx context.Context, from, to int64,
	visit func(*ledger.Line) error) (checkpoint []byte, err error) {
	head := s.store.Sealed()
	if to == 0 || to > head.Size {
		to = head.Size
	}
	chunk := make([]ledger.Line, 0, exportChunk)
	for ; from <= to; from += exportChunk {
		chunk = chunk[:0]
		if err := s.store.Lines(ctx, from, min(from+exportChunk-1, to), func(l *ledger.Line) error {
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

// Standing is a device and the level it stands at.
type Standing struct {
	Device string `json:"device"`
	Level  string `json:"level"`
}

// Standings reads the level that is kept of every device, and the size of the
// ledger at the same moment.
func (s *Service) Standings(ctx context.Context) (all []Standing, size int64, err error) {
	v, err := s.store.View(ctx)
	if err != nil {
		return nil, 0, err
	}
	err = v.Levels(ctx, func(device, level string) { all = append(all, Standing{device, level}) })
	return all, v.Size, errors.Join(err, v.Close())
}

// Redact removes the body of an entry, because what it says must go. Its hash
// stays, so that every proof holds; the redaction is an entry itself.
func (s *Service) Redact(ctx context.Context, actor string, seq int64, reason string) (*LedgerLine, error) {
	if err := checkReason(&reason); err != nil {
		return nil, err
	}
	redact := func(c *change) error {
		l, err := s.store.Line(ctx, seq)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return &NotFoundError{"entry", fmt.Sprint(seq)}
		case err != nil:
			return err
		case l.Body == nil:
			return &InputError{"", fmt.Sprintf("entry %d is redacted already", seq)}
		case l.Kind == ledger.Redacted || l.Kind == ledger.KeyReplaced || l.Kind == ledger.ClockReset:
			return &InputError{"", fmt.Sprintf("entry %d is a %s: without its body the ledger could not be verified", seq, l.Kind)}
		}
		c.batch.Redact(seq)
		c.redacted = append(c.redacted, redaction{seq, l.About})
		c.record(actor, &event.Redacted{Redaction: ledger.Redaction{Entry: seq, Leaf: l.Leaf.String(),
			At:   string(ledger.AppendTime(nil, l.At)),
			Kind: l.Kind, Actor: l.Actor, About: l.About, Reason: reason}})
		return nil
	}
	if err := s.submit(&job{apply: redact, alone: true, landed: true}).wait(ctx); err != nil {
		return nil, err
	}
	if err := s.store.Scrub(ctx); err != nil {
		s.log.Warn("after a redaction", "error", err)
	}
	by, err := s.redactionOf(ctx, seq)
	if err != nil {
		return nil, err
	}
	l, err := s.store.Line(ctx, by)
	if err != nil {
		return nil, err
	}
	shown := ledgerLine(&l)
	return &shown, nil
}

// redaction is an entry whose body goes, and what it is about.
type redaction struct {
	seq   int64
	about string
}

// redactionOf finds the entry that tells of the redaction of another, 0 when
// there is none.
func (s *Service) redactionOf(ctx context.Context, seq int64) (int64, error) {
	about, err := s.store.About(ctx, fmt.Sprint(seq), 0, 10) // a rulebook's version may have the same number
	for _, e := range about {
		if e.Kind == ledger.Redacted {
			return e.Seq, nil
		}
	}
	return 0, err
}

// Verification is what checking the whole ledger came to.
type Verification struct {
	State    string           `json:"state"` // never, running, sound or broken
	At       string           `json:"at,omitempty"`
	Size     int64            `json:"size"` // entries checked
	Of       int64            `json:"of"`   // entries to check
	Redacted int              `json:"redacted"`
	Devices  int              `json:"devices"` // whose level follows from their entries
	Millis   int64            `json:"millis"`
	Problems []ledger.Problem `json:"problems"`
	More     int              `json:"more,omitempty"` // problems beyond those listed
}

// verification is the newest one, shared.
type verification struct {
	mu  sync.Mutex
	now Verification
}

func (v *verification) get() *Verification {
	v.mu.Lock()
	defer v.mu.Unlock()
	out := v.now
	out.State = cmp.Or(out.State, "never")
	if out.Problems == nil {
		out.Problems = []ledger.Problem{}
	}
	return &out
}

func (v *verification) set(now Verification) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.now = now
}

// BeginVerification has the ledger checked in the background, unless that is
// under way, and tells how it stands. Gently, it leaves most of the machine to
// others.
func (s *Service) BeginVerification(gentle bool) *Verification {
	s.verified.mu.Lock()
	begin := s.verified.now.State != "running"
	if begin {
		s.verified.now.State, s.verified.now.Size, s.verified.now.Of = "running", 0, s.store.Sealed().Size
	}
	s.verified.mu.Unlock()
	if begin {
		s.chores.Go(func() {
			ctx, cancel := s.untilQuit()
			defer cancel()
			out, err := VerifyRecords(ctx, s.store, s.key.Verifier,
				VerifyOptions{Gentle: gentle, Progress: func(done, of int64) {
					s.verified.mu.Lock()
					defer s.verified.mu.Unlock()
					s.verified.now.Size, s.verified.now.Of = done, of
				}})
			if err != nil {
				out = &Verification{State: "broken", Problems: []ledger.Problem{{Message: err.Error()}}}
				if ctx.Err() != nil {
					out = &Verification{}
				}
			}
			out.At = value.FormatTime(s.micros())
			if out.State == "broken" {
				s.log.Error("the ledger does not verify", "problems", out.Problems)
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
	// Gentle leaves most of the machine to others: it takes six times as long.
	Gentle   bool
	Progress func(done, of int64) // may be nil
}

// verifyChunk is how many entries are read at a time. No transaction lasts
// longer, so that the write-ahead log can be emptied meanwhile.
const verifyChunk = 4096

// VerifyRecords checks everything there is: every entry, the tree, the signed
// head, and that the level of each device follows from the entries.
func VerifyRecords(ctx context.Context, records *store.Store, key note.Verifier,
	how VerifyOptions) (*Verification, error) {
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
	for first := int64(1); first <= size; first += verifyChunk {
		chunk := time.Now()
		if err := records.Lines(ctx, first, min(first+verifyChunk-1, size), add); err != nil {
			return nil, err
		}
		if how.Progress != nil {
			how.Progress(min(first+verifyChunk-1, size), size)
		}
		if how.Gentle {
			select {
			case <-time.After(5 * time.Since(chunk)):
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
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
	out := &Verification{State: "sound", Size: w.Size(), Of: v.Size, Redacted: w.Redacted,
		Problems: w.Problems, More: w.More}
	if err := v.Levels(ctx, func(device, level string) {
		switch said := w.Level(device); {
		case said == level:
			out.Devices++
		case len(out.Problems) >= ledger.MaxProblems:
			out.More++
		case said == "":
			out.Problems = append(out.Problems,
				ledger.Problem{Message: fmt.Sprintf("device %s stands at %s, and no entry tells of it",
					device, level)})
		default:
			out.Problems = append(out.Problems,
				ledger.Problem{Message: fmt.Sprintf("device %s stands at %s, and the newest entry about it moved it to %s", device, level, said)})
		}
	}); err != nil {
		return nil, err
	}
	if _, err := v.State(ctx, head); err != nil {
		var tamper *store.TamperError
		if !errors.As(err, &tamper) {
			return nil, err
		}
		out.Problems = append(out.Problems, ledger.Problem{Message: tamper.Message})
	}
	if missing := w.Levels() - out.Devices; missing > 0 && len(out.Problems) == 0 {
		out.Problems = append(out.Problems,
			ledger.Problem{Message: fmt.Sprintf("%d devices that the entries tell of are gone", missing)})
	}
	if len(out.Problems) > 0 {
		out.State = "broken"
	}
	out.Millis = time.Since(begun).Milliseconds()
	return out, nil
}

// untilQuit is a context that ends with the service.
func (s *Service) untilQuit() (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		select {
		case <-s.quit:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}

// chorePause is how often the past that need not be kept is forgotten, and the
// whole ledger is verified.
const chorePause = 24 * time.Hour

// tidy forgets the past that need not be kept, and verifies the ledger, at the
// start and then each day.
func (s *Service) tidy() {
	timer := time.NewTimer(time.Minute)
	defer timer.Stop()
	for {
		select {
		case <-s.quit:
			return
		case <-timer.C:
		}
		ctx, cancel := s.untilQuit()
		if n, err := s.store.Forget(ctx, s.micros()-s.keepPast.Microseconds()); err != nil && ctx.Err() == nil {
			s.log.Error("the past that need not be kept stays", "error", err)
		} else if n > 0 {
			s.log.Info("past evidence forgotten", "steps", n)
		}
		cancel()
		s.BeginVerification(true)
		timer.Reset(chorePause)
	}
}
