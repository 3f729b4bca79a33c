package ledger

import (
	"errors"
	"fmt"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// Proof shows that an entry is in the ledger that a checkpoint is of
// (RFC 6962, section 2.1.1). It can be checked with the ledger's public key
// alone.
type Proof struct {
	Seq        int64    `json:"seq"`
	Entry      string   `json:"entry"` // the canonical form; "" when the body was redacted
	Leaf       string   `json:"leaf"`  // its hash, base64
	Hashes     []string `json:"hashes"`
	Checkpoint string   `json:"checkpoint"`
}

// Prove makes the proof of an entry: canonical is its form, nil if it was
// redacted.
func Prove(seq int64, canonical []byte, leaf tlog.Hash, size int64, checkpoint []byte,
	tiles TileReader) (*Proof, error) {
	path, err := tlog.ProveRecord(size, seq-1, tiles)
	if err != nil {
		return nil, fmt.Errorf("prove entry %d: %w", seq, err)
	}
	return &Proof{seq, string(canonical), leaf.String(), encodeHashes(path), string(checkpoint)}, nil
}

// ProveConsistency shows that a ledger of one size is the beginning of one of a
// larger size (RFC 6962, section 2.1.2).
func ProveConsistency(from, to int64, tiles TileReader) ([]string, error) {
	if from == 0 || from == to {
		return []string{}, nil
	}
	path, err := tlog.ProveTree(to, from, tiles)
	if err != nil {
		return nil, fmt.Errorf("prove that %d entries begin %d: %w", from, to, err)
	}
	return encodeHashes(path), nil
}

func encodeHashes(hashes []tlog.Hash) []string {
	out := make([]string, len(hashes))
	for i, h := range hashes {
		out[i] = h.String()
	}
	return out
}

func decodeHashes(texts []string) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(texts))
	for i, text := range texts {
		h, err := tlog.ParseHash(text)
		if err != nil {
			return nil, fmt.Errorf("hash %d of the proof: %w", i+1, err)
		}
		out[i] = h
	}
	return out, nil
}

// ErrProof says that a proof does not show what it claims.
var ErrProof = errors.New("the proof does not hold")

// Check checks a proof with the ledger's key and returns the head that it was
// made for. It asks nobody.
func (p *Proof) Check(key note.Verifier) (Head, error) {
	head, err := OpenHead([]byte(p.Checkpoint), key)
	if err != nil {
		return head, err
	}
	leaf, err := tlog.ParseHash(p.Leaf)
	if err != nil {
		return head, fmt.Errorf("%w: the leaf: %w", ErrProof, err)
	}
	if p.Entry != "" {
		if got := Leaf([]byte(p.Entry)); got != leaf {
			return head, fmt.Errorf("%w: the entry was changed: its hash is %s, not %s", ErrProof, got, leaf)
		}
		var e Entry
		if err := e.Parse([]byte(p.Entry)); err != nil {
			return head, fmt.Errorf("%w: %w", ErrProof, err)
		}
		if e.Seq != p.Seq {
			return head, fmt.Errorf("%w: it is for entry %d and holds entry %d", ErrProof, p.Seq, e.Seq)
		}
	}
	path, err := decodeHashes(p.Hashes)
	if err != nil {
		return head, fmt.Errorf("%w: %w", ErrProof, err)
	}
	if p.Seq < 1 || p.Seq > head.Size {
		return head, fmt.Errorf("%w: the checkpoint is of %d entries, not of %d", ErrProof, head.Size, p.Seq)
	}
	if err := tlog.CheckRecord(path, head.Size, head.Root, p.Seq-1, leaf); err != nil {
		return head, fmt.Errorf("%w: entry %d is not in the tree that is signed", ErrProof, p.Seq)
	}
	return head, nil
}

// Shows checks that a proof is of an entry as somebody tells it. Of one whose body was
// redacted the number is all that a proof shows.
func (p *Proof) Shows(told *Entry) error {
	switch {
	case told.Seq != p.Seq:
		return fmt.Errorf("%w: it is for entry %d, and entry %d is told", ErrProof, p.Seq, told.Seq)
	case p.Entry == "" && told.Body == nil:
		return nil
	case p.Entry != string(told.Append(nil)):
		return fmt.Errorf("%w: what is told of entry %d is not what it holds", ErrProof, p.Seq)
	}
	return nil
}

// CheckConsistency checks that a ledger as it was seen is the beginning of what it
// is now.
func CheckConsistency(seen, now Head, proof []string) error {
	switch {
	case seen.Origin != now.Origin:
		return fmt.Errorf("this is the ledger %s; the one seen before was %s", now.Origin, seen.Origin)
	case now.Size < seen.Size:
		return fmt.Errorf("the ledger was cut: it has %d entries, and had %d when it was last seen", now.Size,
			seen.Size)
	case seen.Size == 0:
		return nil
	case now.Size == seen.Size:
		if now.Root != seen.Root {
			return fmt.Errorf("history was rewritten: the %d entries are not those that were seen before", now.Size)
		}
		return nil
	}
	path, err := decodeHashes(proof)
	if err == nil {
		err = tlog.CheckTree(path, now.Size, now.Root, seen.Size, seen.Root)
	}
	if err != nil {
		return fmt.Errorf("history was rewritten: the first %d entries are not those that were seen before "+
			"(%w)", seen.Size, err)
	}
	return nil
}

// Step is a step on the way from a leaf to the root: the tree of the entries so
// far is joined with the one beside it.
type Step struct {
	// First and Last are the entries under the joined tree; BesideFirst and
	// BesideLast those of them under the hash beside.
	First       int64  `json:"first"`
	Last        int64  `json:"last"`
	BesideFirst int64  `json:"beside_first"`
	BesideLast  int64  `json:"beside_last"`
	Hash        string `json:"hash"`
}

// Path tells what the hashes of a proof stand for, from the leaf upwards
// (RFC 6962, section 2.1.1).
func (p *Proof) Path(size int64) []Step {
	out := []Step{}
	var climb func(low, high int64)
	climb = func(low, high int64) { // leaves from low up to high, which is not one of them
		if high-low < 2 {
			return
		}
		half := int64(1)
		for 2*half < high-low {
			half *= 2
		}
		step := Step{First: low + 1, Last: high}
		if middle := low + half; p.Seq <= middle {
			climb(low, middle)
			step.BesideFirst, step.BesideLast = middle+1, high
		} else {
			climb(middle, high)
			step.BesideFirst, step.BesideLast = low+1, middle
		}
		if len(out) < len(p.Hashes) {
			step.Hash = p.Hashes[len(out)]
		}
		out = append(out, step)
	}
	if p.Seq >= 1 && p.Seq <= size {
		climb(0, size)
	}
	return out
}
