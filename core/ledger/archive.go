package ledger

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// archiveID is what the id of an archive looks like.
var archiveID = regexp.MustCompile(`^ar-[0-9A-Za-z]{1,40}$`)

// Archival is the body of a ledger.archived entry: which entries' bodies a file holds.
type Archival struct {
	Archive string `json:"archive"` // its id
	From    int64  `json:"from"`    // the first and the last entry that the file has
	To      int64  `json:"to"`
	Entries int    `json:"entries"` // of how many of them the body is in the file alone
	Before  string `json:"before"`  // the moment before which they are
	File    string `json:"file"`    // its name
	SHA256  string `json:"sha256"`  // of the file, in hex
	Bytes   int64  `json:"bytes"`
	Reason  string `json:"reason"`
}

// ArchiveHead is the first line of an archive.
type ArchiveHead struct {
	Archive string `json:"archive"`
	Origin  string `json:"origin"` // the name of the ledger
	From    int64  `json:"from"`
	To      int64  `json:"to"`
	// Left are the roots of the complete subtrees of the entries before From, the largest
	// first, in base64 (RFC 6962, section 2.1): with them and the leaves of the file the tree
	// of the first To entries is made.
	Left []string `json:"left"`
}

// archiveEnd is the last line of an archive.
type archiveEnd struct {
	Checkpoint  string   `json:"checkpoint"`
	Consistency []string `json:"consistency"` // of the first To entries with the checkpoint (RFC 6962, section 2.1.2)
}

// RootsOf are the roots that a compact range holds, as archives have them.
func (r *CompactRange) RootsOf() []string { return encodeHashes(r.roots) }

// WriteArchive writes an archive: entries From to To, one a line as exports have them, behind
// a line that says what they are, and before one that proves them: a signed checkpoint, and
// the proof that the tree of the first To entries is the beginning of its tree. each gives
// the entries.
func WriteArchive(w io.Writer, h *ArchiveHead, checkpoint []byte, consistency []string,
	each func(visit func(*Line) error) error) error {
	out := bufio.NewWriterSize(w, 1<<16)
	line := func(v any) error {
		raw, err := json.Marshal(v)
		if err == nil {
			_, err = out.Write(append(raw, '\n'))
		}
		return err
	}
	if err := line(h); err != nil {
		return err
	}
	var buf []byte
	if err := each(func(l *Line) error {
		buf = AppendLine(buf[:0], l)
		_, err := out.Write(buf)
		return err
	}); err != nil {
		return err
	}
	if err := line(archiveEnd{string(checkpoint), append([]string{}, consistency...)}); err != nil {
		return err
	}
	return out.Flush()
}

// ErrArchive says that a file is no archive, or not one of what was signed.
var ErrArchive = errors.New("the archive does not hold")

// ReadArchive reads an archive and proves it: every entry has the hash beside it, the tree
// that they make is the beginning of the one whose head is signed by key. visit, if it is
// not nil, is called with each entry, before the whole is proved: what it did counts when
// there is no error. Of an entry that was redacted before, the file proves the number and the hash alone.
func ReadArchive(r io.Reader, key note.Verifier, visit func(*Line) error) (*ArchiveHead, Head, error) {
	bad := func(format string, args ...any) (*ArchiveHead, Head, error) {
		return nil, Head{}, fmt.Errorf("%w: "+format, append([]any{ErrArchive}, args...)...)
	}
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 0, 1<<16), 4*MaxEntry)
	if !lines.Scan() {
		return bad("there is no first line (%v)", lines.Err())
	}
	var h ArchiveHead
	if err := strictly(lines.Bytes(), &h); err != nil || !archiveID.MatchString(h.Archive) || h.From < 1 ||
		h.To < h.From {
		return bad("its first line does not say which entries it has")
	}
	left, err := decodeHashes(h.Left)
	if err != nil {
		return bad("its first line: %s", err)
	}
	tree, ok := rangeOf(h.From-1, left)
	if !ok {
		return bad("%d hashes do not make the tree of the %d entries before it", len(left), h.From-1)
	}
	visited, err := h.read(lines, &tree, visit)
	if !visited && err != nil {
		return bad("%s", err)
	}
	if err != nil {
		return nil, Head{}, err
	}
	var end archiveEnd
	if !lines.Scan() || strictly(lines.Bytes(), &end) != nil {
		return bad("the line that proves it is missing")
	}
	if lines.Scan() || lines.Err() != nil {
		return bad("there is more behind its last line")
	}
	head, err := OpenHead([]byte(end.Checkpoint), key)
	if err != nil {
		return bad("its checkpoint: %s", err)
	}
	if head.Origin != h.Origin {
		return bad("it says that it is of %s, and its checkpoint is of %s", h.Origin, head.Origin)
	}
	if err := CheckConsistency(Head{Origin: head.Origin, Size: h.To, Root: tree.Root()}, head,
		end.Consistency); err != nil {
		return bad("its entries are not those that were signed: %s", err)
	}
	return &h, head, nil
}

// read reads the entries of an archive and adds their hashes to the tree. An error that is
// visited is what visit returned; others are what is wrong with the archive.
func (h *ArchiveHead) read(lines *bufio.Scanner, tree *CompactRange, visit func(*Line) error) (visited bool,
	err error) {
	var l Line
	for next := h.From; next <= h.To; next++ {
		if !lines.Scan() {
			return false, fmt.Errorf("it was cut before entry %d (%v)", next, lines.Err())
		}
		last, err := ParseLine(lines.Bytes(), &l)
		switch {
		case err != nil:
			return false, fmt.Errorf("entry %d: %s", next, err)
		case last != nil || l.Seq != next:
			return false, fmt.Errorf("entry %d is missing", next)
		case l.Archive != "":
			return false, fmt.Errorf("the body of entry %d is said to be in another", next)
		case l.Body != nil && Leaf(l.Canonical) != l.Leaf:
			return false, fmt.Errorf("entry %d was changed", next)
		}
		tree.Add(l.Leaf, nil)
		if visit != nil {
			if err := visit(&l); err != nil {
				return true, err
			}
		}
	}
	return false, nil
}

// strictly reads a JSON object that is written exactly as v is.
func strictly(raw []byte, v any) error {
	if err := json.Unmarshal(raw, v); err != nil {
		return err
	}
	again, err := json.Marshal(v)
	if err == nil && !bytes.Equal(again, raw) {
		err = errors.New("it is not written as it should be")
	}
	return err
}

// rangeOf makes the range of a tree of a size from the roots of its complete subtrees.
func rangeOf(size int64, roots []tlog.Hash) (CompactRange, bool) {
	n := 0
	for s := size; s > 0; s &= s - 1 {
		n++
	}
	return CompactRange{size: size, roots: roots}, n == len(roots)
}
