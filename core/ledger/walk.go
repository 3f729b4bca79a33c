package ledger

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/value"
)

// Line is an entry as it is kept or was exported.
type Line struct {
	Entry
	Leaf tlog.Hash // the hash kept beside it
	// Canonical is the form that was exported; nil to make it from the entry.
	Canonical []byte
}

// Redaction is the body of a ledger.redacted entry: what is left to say of the
// entry whose body is gone.
type Redaction struct {
	Entry  int64  `json:"entry"`
	Leaf   string `json:"leaf"`
	At     string `json:"at"`
	Kind   Kind   `json:"kind"`
	Actor  string `json:"actor"`
	About  string `json:"about"`
	Reason string `json:"reason"`
}

// Problem is something wrong with a ledger.
type Problem struct {
	Seq     int64  `json:"seq"` // of the entry it was found at; 0 for none
	Message string `json:"message"`
}

func (p Problem) String() string {
	if p.Seq == 0 {
		return p.Message
	}
	return fmt.Sprintf("entry %d: %s", p.Seq, p.Message)
}

// MaxProblems bounds how many problems a walk lists.
const MaxProblems = 100

// Verifier checks a ledger from its first entry on. Its memory grows with the
// number of devices and of redactions, not with that of entries.
type Verifier struct {
	// Standings makes the walk keep the level that each device was last moved to.
	Standings bool
	// Tile gives the hash that is kept at a level of tiles above the leaves, to
	// find where a leaf was changed together with its entry. It may be nil.
	Tile func(level int, n int64) (h tlog.Hash, known bool)

	Problems []Problem
	More     int // problems beyond MaxProblems
	Redacted int // entries whose body was removed, as they should be
	Archived int // entries whose body is in an archive that an entry tells of

	tree     CompactRange
	last     Entry
	scratch  []byte
	open     map[int64]Line // redacted entries of which no redaction has been seen
	away     map[string]*archived
	levels   map[string]string
	mislead  bool // the sequence is broken, and the tree with it
	seen     Head
	haveSeen bool
}

// Expect makes the walk compare the tree with a head that was seen before.
func (w *Verifier) Expect(seen Head) { w.seen, w.haveSeen = seen, seen.Size > 0 }

// Size is the number of entries so far.
func (w *Verifier) Size() int64 { return w.tree.Size() }

// Level is the level that a device was last moved to, "" for none.
func (w *Verifier) Level(device string) string { return w.levels[device] }

// Levels is how many devices have been moved to a level.
func (w *Verifier) Levels() int { return len(w.levels) }

func (w *Verifier) problem(seq int64, format string, args ...any) {
	if len(w.Problems) == MaxProblems {
		w.More++
		return
	}
	w.Problems = append(w.Problems, Problem{seq, fmt.Sprintf(format, args...)})
}

// Add checks the next entry. l may be used again afterwards.
func (w *Verifier) Add(l *Line) {
	e := &l.Entry
	switch want := w.last.Seq + 1; {
	case e.Seq == want:
	case e.Seq == want+1:
		w.problem(want, "it is missing")
		w.mislead = true
	case e.Seq > want:
		w.problem(want, "it and those up to entry %d are missing", e.Seq-1)
		w.mislead = true
	default:
		w.problem(e.Seq, "it stands behind entry %d: it was added or moved", w.last.Seq)
		w.mislead = true
	}
	if e.At < w.last.At && e.Kind != ClockReset {
		w.problem(e.Seq, "it is of %s, %s before the entry in front of it", AppendTime(nil, e.At),
			time.Duration(w.last.At-e.At)*time.Microsecond)
	}
	switch {
	case e.Body == nil && e.Archive != "":
		w.absent(e)
	case e.Body == nil:
		if w.open == nil {
			w.open = map[int64]Line{}
		}
		w.open[e.Seq] = Line{Entry: *e, Leaf: l.Leaf}
	default:
		canonical := l.Canonical
		if canonical == nil {
			w.scratch = e.Append(w.scratch[:0])
			canonical = w.scratch
		}
		if got := Leaf(canonical); got != l.Leaf {
			w.problem(e.Seq, "it was changed: its hash is %s, and %s is kept beside it", got, l.Leaf)
		}
	}
	w.tree.Add(l.Leaf, w.tile)
	w.last = Entry{Seq: e.Seq, At: e.At}
	switch e.Kind {
	case Redacted:
		w.redacted(e)
	case Archived:
		w.archived(e)
	case StandingChanged:
		if w.Standings && e.Body != nil {
			w.moved(e)
		}
	}
	if w.haveSeen && w.tree.Size() == w.seen.Size && w.tree.Root() != w.seen.Root {
		w.problem(0, "history was rewritten: the first %d entries are not those that were seen before", w.seen.Size)
	}
}

// tile compares a hash above the leaves with the one that is kept.
func (w *Verifier) tile(level int, n int64, h tlog.Hash) {
	if w.Tile == nil || w.mislead {
		return
	}
	width := int64(1) << (TileHeight * level)
	if slices.ContainsFunc(w.Problems, func(p Problem) bool { return p.Seq > n*width && p.Seq <= (n+1)*width }) {
		return // it is named already
	}
	if kept, known := w.Tile(level, n); known && kept != h {
		w.problem(n*width+1, "it or one of those up to entry %d was changed together with its hash: their tree "+
			"has the root %s, and %s is kept", (n+1)*width, h, kept)
	}
}

var toKey = []byte("to")

// moved notes the level that a device was moved to. A map of the whole body
// would cost more than all else that is done with it.
func (w *Verifier) moved(e *Entry) {
	if w.levels == nil {
		w.levels = map[string]string{}
	}
	value.Walk(e.Body, 0, func(key []byte, at int) (int, bool) {
		end := value.Skip(e.Body, at)
		if !bytes.Equal(key, toKey) {
			return end, end > at
		}
		if level := e.Body[min(at+1, end) : max(at+1, end)-1]; w.levels[e.About] != string(level) {
			w.levels[e.About] = string(level)
		}
		return end, false
	})
}

// redacted matches a redaction with the entry whose body is gone.
func (w *Verifier) redacted(e *Entry) {
	var r Redaction
	if e.Body == nil || json.Unmarshal(e.Body, &r) != nil {
		w.problem(e.Seq, "it tells of a redaction and cannot be read")
		return
	}
	was, gone := w.open[r.Entry]
	if !gone {
		return // the body is still there: the entry was restored from elsewhere, and its hash is right
	}
	delete(w.open, r.Entry)
	if r.Leaf != was.Leaf.String() || r.At != string(AppendTime(nil, was.At)) || r.Kind != was.Kind ||
		r.Actor != was.Actor || r.About != was.About {
		w.problem(r.Entry, "it was redacted, and is not what entry %d says was redacted", e.Seq)
		return
	}
	w.Redacted++
}

// archived is what a walk has seen of one archive: entries that are said to be in it, and
// which it is said to have.
type archived struct {
	entries     int
	first, last int64
	told        *Archival
}

// of makes room for an archive.
func (w *Verifier) of(archive string) *archived {
	if w.away == nil {
		w.away = map[string]*archived{}
	}
	if w.away[archive] == nil {
		w.away[archive] = &archived{}
	}
	return w.away[archive]
}

// absent notes an entry whose body is said to be in an archive.
func (w *Verifier) absent(e *Entry) {
	a := w.of(e.Archive)
	if a.entries++; a.first == 0 {
		a.first = e.Seq
	}
	a.last = e.Seq
}

// archived notes what an entry tells of an archive.
func (w *Verifier) archived(e *Entry) {
	var told Archival
	if e.Body == nil || json.Unmarshal(e.Body, &told) != nil || told.Archive != e.About || told.To >= e.Seq {
		w.problem(e.Seq, "it tells of an archive and cannot be read")
		return
	}
	w.of(told.Archive).told = &told
}

// endArchives compares what was seen of archives with what entries tell of them.
func (w *Verifier) endArchives() {
	for _, id := range slices.Sorted(maps.Keys(w.away)) {
		switch a := w.away[id]; {
		case a.entries == 0:
		case a.told == nil:
			w.problem(a.first, "its body, and those of %d others, are said to be in the archive %s, of which no "+
				"entry tells", a.entries-1, id)
		case a.first < a.told.From || a.last > a.told.To || a.entries > a.told.Entries:
			w.problem(a.first, "from it to entry %d, %d bodies are said to be in the archive %s, which has %d of "+
				"the entries from %d to %d", a.last, a.entries, id, a.told.Entries, a.told.From, a.told.To)
		default:
			w.Archived += a.entries
		}
	}
}

// End ends the walk: what is left must agree with the head, unless it is nil.
func (w *Verifier) End(head *Head) {
	for _, seq := range slices.Sorted(maps.Keys(w.open)) {
		w.problem(seq, "its body is gone, and no entry tells of a redaction")
	}
	w.endArchives()
	if head != nil {
		switch size := w.tree.Size(); {
		case size < head.Size && !w.mislead:
			w.problem(size+1, "the ledger was cut here: the checkpoint is of %d entries", head.Size)
		case size > head.Size && !w.mislead:
			w.problem(head.Size+1, "it and those behind it are not in the checkpoint, which is of %d entries",
				head.Size)
		case w.tree.Root() != head.Root && len(w.Problems) == 0:
			w.problem(0, "the %d entries have the root %s, and the checkpoint is of %s: an entry was changed "+
				"together with its hash", size, w.tree.Root(), head.Root)
		}
	}
	if w.haveSeen && w.tree.Size() < w.seen.Size {
		w.problem(0, "the ledger was cut: it has %d entries, and had %d when it was last seen", w.tree.Size(),
			w.seen.Size)
	}
	slices.SortStableFunc(w.Problems, func(a, b Problem) int { return cmp.Compare(a.Seq, b.Seq) })
}
