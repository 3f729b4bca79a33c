package controls

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/mod/sumdb/note"

	"ironledger.example/core/account"
)

// noteTitle begins what is signed. It stands where a checkpoint has the name of its ledger, so that no signature of a
// report can pass for one of a checkpoint, which would tell of no state.
const noteTitle = "Iron Ledger report on controls"

// Statement is what is signed of a report: under which ledger it was made, its hash, and that of the form it has.
type Statement struct {
	Origin string
	Size   int64
	Root   string // base64
	Report string // SHA-256 of [account.Report.JSON], in hex
	Form   Form
	Sum    string // SHA-256 of the form without the note, in hex
}

func (s *Statement) text() string {
	return fmt.Sprintf("%s\n%s\n%d\n%s\nreport %s\n%s %s\n", noteTitle, s.Origin, s.Size, s.Root, s.Report, s.Form, s.Sum)
}

// parseStatement reads what was signed, and nothing else.
func parseStatement(text string) (*Statement, error) {
	lines := strings.Split(text, "\n")
	if len(lines) != 7 || lines[0] != noteTitle || lines[6] != "" {
		return nil, errors.New("the note is not about a report on controls")
	}
	s := &Statement{Origin: lines[1], Root: lines[3], Report: strings.TrimPrefix(lines[4], "report ")}
	form, sum, _ := strings.Cut(lines[5], " ")
	s.Form, s.Sum = Form(form), sum
	var err error
	if s.Size, err = strconv.ParseInt(lines[2], 10, 64); err != nil || s.text() != text {
		return nil, errors.New("the note of the report cannot be read")
	}
	return s, nil
}

// Sign makes the signed note (C2SP signed-note) of a report in a form, of which sum is the SHA-256.
func sign(r *account.Report, form Form, sum [sha256.Size]byte, key note.Signer) (string, error) {
	s := Statement{Origin: r.Ledger.Origin, Size: r.Ledger.Size, Root: r.Ledger.Root, Report: r.Digest(), Form: form,
		Sum: hex.EncodeToString(sum[:])}
	if key.Name() != s.Origin {
		return "", fmt.Errorf("the report is of the ledger %s, and the key of %s", s.Origin, key.Name())
	}
	out, err := note.Sign(&note.Note{Text: s.text()}, key)
	return string(out), err
}

// Write writes a report in a form, with the note signed by the key of the ledger.
func Write(r *account.Report, form Form, key note.Signer) ([]byte, error) {
	f, is := forms[form]
	if !is {
		return nil, fmt.Errorf("%q is no form of a report", form)
	}
	before, after, err := f.write(r)
	if err != nil {
		return nil, err
	}
	h := sha256.New()
	h.Write(before)
	h.Write(after)
	signed, err := sign(r, form, [sha256.Size]byte(h.Sum(nil)), key)
	if err != nil {
		return nil, err
	}
	return bytes.Join([][]byte{before, f.enclose(signed), after}, nil), nil
}

// File is a report as it was handed out.
type File struct {
	Form   Form
	Stated *Statement      // what was signed
	Report *account.Report // nil when the form does not hold all of it
	note   string
}

// Read reads a report in any of its forms, and checks that the file is the one that its note is about. Whose signature
// the note bears [File.Signed] tells. The error says in a sentence what is wrong.
func Read(raw []byte) (*File, error) {
	for _, form := range Forms {
		f := forms[form]
		at := bytes.LastIndex(raw, []byte(f.opens))
		if at < 0 {
			continue
		}
		at += len(f.opens)
		length := bytes.Index(raw[at:], []byte(f.closes))
		if length < 0 {
			continue
		}
		text, err := f.disclose(raw[at : at+length])
		if err != nil {
			continue
		}
		return open(form, text, raw[:at], raw[at+length:])
	}
	return nil, errors.New("this is no report on controls, or its note is gone")
}

func open(form Form, signed string, before, after []byte) (*File, error) {
	text, _, ok := strings.Cut(signed, "\n\n")
	if !ok {
		return nil, errors.New("the note of the report has no signature")
	}
	s, err := parseStatement(text + "\n")
	if err != nil {
		return nil, err
	}
	h := sha256.New()
	h.Write(before)
	h.Write(after)
	if s.Form != form || s.Sum != hex.EncodeToString(h.Sum(nil)) {
		return nil, errors.New("the file was changed: it is not the one that its note is about")
	}
	out := &File{Form: form, Stated: s, note: signed}
	body, err := forms[form].body(before, after)
	if err != nil || body == nil {
		return out, err
	}
	out.Report = &account.Report{}
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.DisallowUnknownFields()
	if err := dec.Decode(out.Report); err != nil {
		return nil, fmt.Errorf("the report cannot be read: %w", err)
	}
	l := out.Report.Ledger
	if out.Report.Digest() != s.Report || l.Origin != s.Origin || l.Size != s.Size || l.Root != s.Root {
		return nil, errors.New("the report in the file is not the one that its note is about")
	}
	return out, nil
}

// Signed checks that the key of a ledger signed the note.
func (f *File) Signed(key note.Verifier) error {
	n, err := note.Open([]byte(f.note), note.VerifierList(key))
	if err != nil {
		return fmt.Errorf("the report is not signed by the key %s: %w", key.Name(), err)
	}
	for _, s := range n.Sigs { // one way of writing it is enough
		if _, err := base64.StdEncoding.Strict().DecodeString(s.Base64); err != nil {
			return fmt.Errorf("the signature of the report is not written as it was made: %w", err)
		}
	}
	if key.Name() != f.Stated.Origin {
		return fmt.Errorf("the report is of the ledger %s, and the key of %s", f.Stated.Origin, key.Name())
	}
	return nil
}
