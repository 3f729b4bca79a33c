package ledger

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"
	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/value"
)

// Parse reads the canonical form of an entry, or that of one without its body,
// and nothing else: no other members, no other order. e.Body is a part of
// canonical.
func (e *Entry) Parse(canonical []byte) error {
	if !json.Valid(canonical) {
		return errors.New("it is no JSON")
	}
	*e = Entry{}
	rest, bad := canonical, false
	take := func(name string) []byte {
		if bad = bad || !bytes.HasPrefix(rest, []byte(name)); bad {
			return nil
		}
		rest = rest[len(name):]
		end := value.Skip(rest, 0)
		got := rest[:end]
		rest = rest[end:]
		return got
	}
	text := func(name string) string {
		raw := take(name)
		if bad {
			return ""
		}
		s, err := jsontext.AppendUnquote(nil, raw)
		bad = err != nil
		return string(s)
	}
	e.About = text(`{"about":`)
	e.Actor = text(`,"actor":`)
	at := text(`,"at":`)
	if !bad && bytes.HasPrefix(rest, []byte(`,"body":`)) {
		e.Body = take(`,"body":`)
	}
	e.Kind = Kind(text(`,"kind":`))
	seq := take(`,"seq":`)
	if bad || string(rest) != "}" {
		return errors.New("it is no entry: about, actor, at, body, kind and seq are needed, in this order")
	}
	var err error
	if e.At, err = ParseTime(at); err != nil {
		return fmt.Errorf("it is no entry: at: %w", err)
	}
	if e.Seq, err = strconv.ParseInt(string(seq), 10, 64); err != nil || e.Seq < 1 {
		return fmt.Errorf("it is no entry: seq: %q is no number from 1 on", seq)
	}
	if !bytes.Equal(e.Append(make([]byte, 0, len(canonical))), canonical) {
		return errors.New("it is not in its canonical form")
	}
	return nil
}

// AppendLine appends an entry as exports have it: {"entry": the canonical form,
// "leaf": its hash in base64}, with the archive that holds its body if one does, and a
// newline.
func AppendLine(b []byte, l *Line) []byte {
	b = l.Append(append(b, `{"entry":`...))
	b = append(b, `,"leaf":"`...)
	b = append(b, l.Leaf.String()...)
	if l.Archive != "" {
		b = append(append(b, `","archive":"`...), l.Archive...) // an id, which needs no escapes
	}
	return append(b, "\"}\n"...)
}

// AppendLastLine appends the checkpoint that ends an export.
func AppendLastLine(b, checkpoint []byte) []byte {
	b = append(b, `{"checkpoint":`...)
	b, _ = jsontext.AppendQuote(b, checkpoint)
	return append(b, "}\n"...)
}

// ParseLine reads a line of an export: an entry into l, or the checkpoint that
// ends it. l speaks of a part of line.
func ParseLine(line []byte, l *Line) (checkpoint []byte, err error) {
	line = bytes.TrimSpace(line)
	if !json.Valid(line) {
		return nil, errors.New("it is no JSON")
	}
	if rest, is := bytes.CutPrefix(line, []byte(`{"checkpoint":`)); is {
		if checkpoint, err = jsontext.AppendUnquote(nil, bytes.TrimSuffix(rest, []byte("}"))); err != nil {
			return nil, fmt.Errorf("the checkpoint is no text: %w", err)
		}
		return checkpoint, nil
	}
	rest, is := bytes.CutPrefix(line, []byte(`{"entry":`))
	if !is {
		return nil, errors.New(`it is neither {"entry": …, "leaf": …} nor {"checkpoint": …}`)
	}
	end := value.Skip(rest, 0)
	leaf, hasLeaf := bytes.CutPrefix(rest[end:], []byte(`,"leaf":"`))
	leaf, closed := bytes.CutSuffix(leaf, []byte(`"}`))
	leaf, archive, isArchived := bytes.Cut(leaf, []byte(`","archive":"`))
	if !hasLeaf || !closed || isArchived && !archiveID.Match(archive) {
		return nil, errors.New(`it is neither {"entry": …, "leaf": …} nor {"checkpoint": …}`)
	}
	l.Canonical = rest[:end]
	if l.Leaf, err = tlog.ParseHash(string(leaf)); err != nil {
		return nil, fmt.Errorf("the leaf is no hash: %w", err)
	}
	if err := l.Entry.Parse(l.Canonical); err != nil {
		return nil, err
	}
	if l.Archive = string(archive); isArchived && l.Body != nil {
		return nil, errors.New("it is said to be archived, and its body is here")
	}
	return nil, nil
}
