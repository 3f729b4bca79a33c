package mapping

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"ironledger.example/core/evidence"
	"ironledger.example/core/textfile"
)

// MaxItem bounds an item, in bytes.
const MaxItem = 1 << 20

// Items visits the items of a document, one after another, without holding all of it:
// of JSON the list at the mapping's items, or the document itself; of NDJSON each line; of
// CSV each row, as an object of texts by column. n counts them from 1. The error is what
// visit returned, or says what is wrong with the document, and where.
func (m *Mapping) Items(in io.Reader, format evidence.Format, visit func(n int, item []byte) error) error {
	text := textfile.Open(in)
	in = text
	switch format {
	case evidence.CSV:
		return rows(text, visit)
	case evidence.NDJSON:
		return lines(in, visit)
	}
	allowed := allowance(in)
	d := jsontext.NewDecoder(allowed)
	for _, token := range m.items {
		if err := descend(d, token); err != nil {
			return fmt.Errorf("items: there is nothing at %s: %w", m.items, err)
		}
	}
	if d.PeekKind() == '{' && len(m.items) == 0 { // one item
		return one(d, 1, visit)
	}
	if t, err := d.ReadToken(); err != nil {
		return broken(d, err)
	} else if t.Kind() != '[' {
		return fmt.Errorf("items: no list stands at %s; say where it is, as items: /value", orDocument(m.items))
	}
	for n := 1; ; n++ {
		allowed.Left = 2 * MaxItem
		if d.PeekKind() == ']' {
			return nil
		}
		if err := one(d, n, visit); err != nil {
			return err
		}
	}
}

// allowance is for one item, and what the reader takes ahead of it.
func allowance(in io.Reader) *evidence.Allowance {
	return &evidence.Allowance{In: in, Left: 2 * MaxItem, TooMuch: errLargeItem}
}

var errLargeItem = fmt.Errorf("an item is larger than %d bytes", MaxItem)

func orDocument(p pointer) string {
	if len(p) == 0 {
		return "the top of the document"
	}
	return p.String()
}

func broken(d *jsontext.Decoder, err error) error {
	if errors.Is(err, errLargeItem) {
		return errLargeItem
	}
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return fmt.Errorf("the document is not JSON at byte %d: %w", d.InputOffset(), err)
}

func one(d *jsontext.Decoder, n int, visit func(int, []byte) error) error {
	raw, err := d.ReadValue()
	if err != nil {
		return broken(d, err)
	}
	if len(raw) > MaxItem {
		return fmt.Errorf("item %d is larger than %d bytes", n, MaxItem)
	}
	return visit(n, raw)
}

// descend goes into the member of an object.
func descend(d *jsontext.Decoder, name string) error {
	t, err := d.ReadToken()
	if err != nil {
		return broken(d, err)
	}
	if t.Kind() != '{' {
		return fmt.Errorf("no object stands above %q", name)
	}
	for d.PeekKind() != '}' {
		t, err := d.ReadToken()
		if err != nil {
			return broken(d, err)
		}
		if t.String() == name {
			return nil
		}
		if err := d.SkipValue(); err != nil {
			return broken(d, err)
		}
	}
	return fmt.Errorf("%w %q", errNoMember, name)
}

var errNoMember = errors.New("there is no member")

func lines(in io.Reader, visit func(int, []byte) error) error {
	s := bufio.NewScanner(in)
	s.Buffer(make([]byte, 0, 64<<10), MaxItem)
	for n := 1; s.Scan(); {
		if strings.TrimSpace(s.Text()) == "" {
			continue
		}
		if err := visit(n, s.Bytes()); err != nil {
			return err
		}
		n++
	}
	return s.Err()
}

func rows(in *bufio.Reader, visit func(int, []byte) error) error {
	allowed := allowance(in)
	r := csv.NewReader(allowed)
	r.Comma = textfile.Separator(in)
	header, err := r.Read()
	if err != nil {
		return fmt.Errorf("the header cannot be read: %w", err)
	}
	seen := map[string]bool{}
	for i, h := range header {
		if header[i] = strings.TrimSpace(h); seen[header[i]] {
			return fmt.Errorf("the column %q stands twice", header[i])
		}
		seen[header[i]] = true
	}
	for n := 1; ; n++ {
		allowed.Left = 2 * MaxItem
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		item := make(map[string]string, len(header))
		for i, h := range header {
			item[h] = row[i]
		}
		raw, err := json.Marshal(item)
		if err != nil {
			return err
		}
		if err := visit(n, raw); err != nil {
			return err
		}
	}
}
