package evidence

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"ironledger.example/core/textfile"
	"ironledger.example/core/value"
)

// Format is how a stream of reports is written.
type Format string

// The formats of a stream of reports.
const (
	NDJSON Format = "ndjson" // one JSON object a line
	JSON   Format = "json"   // one object, or a list of them
	CSV    Format = "csv"    // a header of attribute names, one device a row
)

// Detect guesses the format from a file name and the first bytes.
func Detect(name string, head []byte) Format {
	head = bytes.TrimPrefix(head, textfile.Mark)
	switch strings.ToLower(path.Ext(name)) {
	case ".csv":
		return CSV
	case ".ndjson", ".jsonl":
		return NDJSON
	}
	head = bytes.TrimSpace(head)
	if len(head) == 0 || head[0] == '{' {
		line, _, more := bytes.Cut(head, []byte("\n"))
		if !more || json.Valid(line) {
			return NDJSON
		}
		return JSON
	}
	if head[0] == '[' {
		return JSON
	}
	return CSV
}

// Item is one report of a stream, or what was wrong with it.
type Item struct {
	Line   int // 1-based; of a JSON list, the place in the list
	Report *Report
	Err    error
}

// Read yields the reports of a stream one by one. A bad one is an item with an
// error and the rest goes on; only a stream that cannot be read further ends
// with an item whose Line is 0. When speaker is not "", every report is from that
// source, and one that says otherwise is refused.
func (d *Dictionary) Read(in io.Reader, format Format, speaker string, now int64) iter.Seq[Item] {
	return func(yield func(Item) bool) {
		from, br := speaking{d, speaker, now}, textfile.Open(in)
		switch format {
		case CSV:
			from.readCSV(br, yield)
		case JSON:
			from.readJSON(br, yield)
		default:
			from.readLines(br, yield)
		}
	}
}

// speaking is a dictionary that reads what one source says.
type speaking struct {
	*Dictionary
	speaker string // "" for whoever a report says
	now     int64
}

func (d speaking) parse(raw []byte) (*Report, error) {
	return d.parseReport(raw, d.speaker, d.now, nil)
}

func (d speaking) readLines(br *bufio.Reader, yield func(Item) bool) {
	var buf []byte // one for all lines: what is kept of a report is copied
	for line := 1; ; line++ {
		raw, tooLong, err := readLine(br, buf[:0])
		buf = raw
		if err != nil && err != io.EOF {
			yield(Item{Err: err})
			return
		}
		item := Item{Line: line}
		if tooLong {
			item.Err = fmt.Errorf("the report is larger than %d bytes", MaxReport)
		} else if raw = bytes.TrimSpace(raw); len(raw) > 0 {
			item.Report, item.Err = d.parse(raw)
		}
		if (item.Report != nil || item.Err != nil) && !yield(item) || err == io.EOF {
			return
		}
	}
}

// readLine reads a line of up to MaxReport bytes; of a longer one it skips the rest.
func readLine(br *bufio.Reader, line []byte) (_ []byte, tooLong bool, err error) {
	for {
		part, err := br.ReadSlice('\n')
		if len(line)+len(part) > MaxReport {
			tooLong = true
		} else if !tooLong {
			line = append(line, part...)
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return line, tooLong, err
		}
	}
}

// readJSON reads one report, or a list of them one after the other: no more than
// one is in memory.
func (d speaking) readJSON(br *bufio.Reader, yield func(Item) bool) {
	in := &Allowance{br, 2 * MaxReport, errTooLarge}
	dec := jsontext.NewDecoder(in, jsontext.AllowDuplicateNames(true),
		jsontext.AllowInvalidUTF8(true)) // each report is looked at by itself
	list := dec.PeekKind() == '['
	if list {
		if _, err := dec.ReadToken(); err != nil {
			yield(Item{Err: streamError(err)})
			return
		}
	}
	for line := 1; ; line++ {
		in.Left = 2 * MaxReport
		if list && dec.PeekKind() == ']' {
			break
		}
		raw, err := dec.ReadValue()
		if err != nil {
			yield(Item{Err: streamError(err)})
			return
		}
		rep, err := d.parse(raw)
		if !yield(Item{Line: line, Report: rep, Err: err}) {
			return
		}
		if !list {
			break
		}
	}
	if list {
		if _, err := dec.ReadToken(); err != nil {
			yield(Item{Err: streamError(err)})
			return
		}
	}
	if _, err := dec.ReadToken(); err != io.EOF {
		yield(Item{Err: errors.New("not valid JSON: something follows behind the end")})
	}
}

// Allowance reads no more than is left, so that one value cannot fill the memory.
type Allowance struct {
	In      io.Reader
	Left    int
	TooMuch error // when more is asked for
}

var errTooLarge = fmt.Errorf("a report is larger than %d bytes", MaxReport)

// Read reads from what is allowed.
func (a *Allowance) Read(p []byte) (int, error) {
	if a.Left <= 0 {
		return 0, a.TooMuch
	}
	n, err := a.In.Read(p[:min(len(p), a.Left)])
	a.Left -= n
	return n, err
}

func streamError(err error) error {
	var syntax *jsontext.SyntacticError
	switch {
	case errors.Is(err, errTooLarge):
		return errTooLarge
	case errors.Is(err, io.ErrUnexpectedEOF), err == io.EOF:
		return errors.New("not valid JSON: it breaks off")
	case errors.As(err, &syntax):
		return fmt.Errorf("not valid JSON at byte %d: %w", syntax.ByteOffset, syntax.Err)
	}
	return err
}

// identityColumns are the columns of a CSV that are not attributes.
var identityColumns = []string{"source", "external_id", "observed_at", "id"}

func (d speaking) readCSV(br *bufio.Reader, yield func(Item) bool) {
	in := &Allowance{br, 2 * MaxReport, errTooLarge}
	cr := csv.NewReader(in)
	cr.ReuseRecord, cr.Comma = true, textfile.Separator(br)
	header, err := cr.Read()
	if err != nil {
		if err != io.EOF {
			yield(Item{Err: fmt.Errorf("the header: %w", err)})
		}
		return
	}
	header = slices.Clone(header)
	for i, h := range header {
		if slices.Contains(header[:i], h) {
			yield(Item{Err: fmt.Errorf("the column %q stands twice in the header", h)})
			return
		}
	}
	if err := d.foreign(header); err != nil {
		yield(Item{Err: err})
		return
	}
	for {
		in.Left = 2 * MaxReport
		row, err := cr.Read()
		var item Item
		var bad *csv.ParseError
		switch {
		case err == io.EOF:
			return
		case errors.As(err, &bad):
			item = Item{Line: bad.StartLine, Err: fmt.Errorf("not a CSV row: %w", bad.Err)}
		case err != nil:
			yield(Item{Err: err})
			return
		default:
			item.Line, _ = cr.FieldPos(0) // there is a row, so there is a first field
			item.Report, item.Err = d.csvReport(header, row)
		}
		if !yield(item) {
			return
		}
	}
}

func (d speaking) csvReport(header, row []string) (*Report, error) {
	// What is kept is written as UTF-8: a text that is not would be another one after a restart.
	if i := slices.IndexFunc(row, func(cell string) bool { return !utf8.ValidString(cell) }); i >= 0 {
		return nil, fmt.Errorf("%s is not UTF-8", header[i])
	}
	get := func(name string) string {
		if i := slices.Index(header, name); i >= 0 {
			return row[i]
		}
		return ""
	}
	t := d.build(&Report{})
	defer t.free()
	if err := t.r.identify(d.speaker, get("source"), get("external_id"), get("observed_at"),
		Identity{ID: get("id")}, d.now); err != nil {
		return nil, err
	}
	for i, name := range header {
		cell := strings.TrimSpace(row[i])
		if cell == "" || slices.Contains(identityColumns, name) {
			continue
		}
		t.take([]byte(name), d.cellJSON(name, cell))
	}
	return t.r, t.finish()
}

// cellJSON writes a CSV cell as the JSON that the attribute expects. A cell
// "unavailable: why" says that the value is unavailable.
func (d *Dictionary) cellJSON(name, cell string) json.RawMessage {
	if why, ok := strings.CutPrefix(cell, "unavailable:"); ok {
		return fmt.Appendf(nil, `{"unavailable":%s}`, value.OfText(strings.TrimSpace(why)).AppendJSON(nil))
	}
	if slot := d.Slot(name); slot >= 0 {
		if k := d.list[slot].Type.Kind; k == value.Bool || k == value.Int {
			if v, err := value.Parse(d.list[slot].Type, cell); err == nil {
				return v.AppendJSON(nil)
			}
		}
	}
	return value.OfText(cell).AppendJSON(nil)
}
