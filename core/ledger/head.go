package ledger

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// Head is the state of a ledger: how many entries it has, and the root of
// their tree. Origin names the ledger.
type Head struct {
	Origin string
	Size   int64
	Root   tlog.Hash
	// State is the hash of the state that the ledger led to: of whatever can change
	// an answer. The zero hash: the head does not tell.
	State tlog.Hash
}

// statePrefix begins the line of a checkpoint that tells the state: an extension
// line, which whoever checks the tree alone passes over.
const statePrefix = "state "

// text is a head as it is signed (C2SP tlog-checkpoint).
func (h *Head) text() string {
	text := h.Origin + "\n" + strconv.FormatInt(h.Size, 10) + "\n" +
		base64.StdEncoding.EncodeToString(h.Root[:]) + "\n"
	if h.State != (tlog.Hash{}) {
		text += statePrefix + base64.StdEncoding.EncodeToString(h.State[:]) + "\n"
	}
	return text
}

// Sign makes the checkpoint of a head.
func (h *Head) Sign(key note.Signer) ([]byte, error) {
	if key.Name() != h.Origin {
		return nil, fmt.Errorf("the key is of %s, not of %s", key.Name(), h.Origin)
	}
	return note.Sign(&note.Note{Text: h.text()}, key)
}

// ErrSignature says that a checkpoint is not signed by the key it should be.
var ErrSignature = errors.New("the checkpoint is not signed by the key of this ledger")

// OpenHead reads a checkpoint that the key must have signed.
func OpenHead(checkpoint []byte, key note.Verifier) (Head, error) {
	n, err := note.Open(checkpoint, note.VerifierList(key))
	if err != nil {
		return Head{}, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	h, err := parseHead(n.Text)
	if err == nil && h.Origin != key.Name() {
		err = fmt.Errorf("it is of %s, not of %s", h.Origin, key.Name())
	}
	if err != nil {
		return Head{}, fmt.Errorf("the checkpoint cannot be read: %w", err)
	}
	return h, nil
}

// ReadHead reads a checkpoint and takes nobody's word for it: its signature is not
// checked.
func ReadHead(checkpoint []byte) (Head, error) {
	text, _, ok := strings.Cut(string(checkpoint), "\n\n")
	if !ok {
		return Head{}, errors.New("the checkpoint has no signature")
	}
	return parseHead(text + "\n")
}

// parseHead reads the text of a checkpoint. Lines behind the third are extensions,
// of which the state alone has a meaning here.
func parseHead(text string) (h Head, err error) {
	lines := strings.Split(text, "\n")
	if len(lines) < 4 || lines[0] == "" {
		return h, errors.New("it has no origin, size and root")
	}
	h.Origin = lines[0]
	if h.Size, err = strconv.ParseInt(lines[1], 10, 64); err != nil || h.Size < 0 ||
		strconv.FormatInt(h.Size, 10) != lines[1] {
		return h, fmt.Errorf("%q is no size", lines[1])
	}
	if h.Root, err = tlog.ParseHash(lines[2]); err != nil {
		return h, err
	}
	for _, l := range lines[3:] {
		if state, ok := strings.CutPrefix(l, statePrefix); ok {
			if h.State, err = tlog.ParseHash(state); err != nil {
				return h, err
			}
		}
	}
	return h, nil
}

// NewKey makes the key of a ledger. name becomes the origin; "" makes one up,
// for no two ledgers may share it.
func NewKey(name string) (private, public string, err error) {
	if name == "" {
		var id [6]byte
		rand.Read(id[:])
		name = "ironledger/" + hex.EncodeToString(id[:])
	}
	if !utf8.ValidString(name) || strings.ContainsFunc(name,
		func(r rune) bool { return r == '+' || unicode.IsSpace(r) || unicode.IsControl(r) }) || len(name) > 200 {
		return "", "", fmt.Errorf("%q is no name for a ledger: at most 200 bytes, without spaces or plus "+
			"signs, as log.example.org", name)
	}
	return note.GenerateKey(rand.Reader, name)
}
