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
	"path/filepath"
	"slices"
	"strings"

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
	switch strings.ToLower(filepath.Ext(name)) {
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
// with an item whose Line is 0.
func (d *Dictionary) Read(in io.Reader, format Format, now int64) iter.Seq[Item] {
	return func(yield func(Item) bool) {
		switch format {
		case CSV:
			d.readCSV(in, now, yield)
		case JSON:
			d.readJSON(in, now, yield)
		default:
			d.readLines(in, now, yield)
		}
	}
}

func (d *Dictionary) readLines(in io.Reader, now int64, yield func(Item) bool) {
	br := bufio.NewReaderSize(in, 64<<10)
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
			item.Report, item.Err = d.ParseReport(raw, now)
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

func (d *Dictionary) readJSON(in io.Reader, now int64, yield func(Item) bool) {
	raw, err := io.ReadAll(in)
	if err != nil {
		yield(Item{Err: err})
		return
	}
	var list []json.RawMessage
	if trimmed := bytes.TrimSpace(raw); len(trimmed) == 0 || trimmed[0] != '[' {
		list = []json.RawMessage{raw}
	} else if err := json.Unmarshal(raw, &list); err != nil {
		yield(Item{Err: jsonError(err)})
		return
	}
	for i, one := range list {
		rep, err := d.ParseReport(one, now)
		if !yield(Item{Line: i + 1, Report: rep, Err: err}) {
			return
		}
	}
}

// identityColumns are the columns of a CSV that are not attributes.
var identityColumns = []string{"source", "external_id", "observed_at", "id"}

func (d *Dictionary) readCSV(in io.Reader, now int64, yield func(Item) bool) {
	cr := csv.NewReader(in)
	cr.ReuseRecord = true
	header, err := cr.Read()
	if err != nil {
		if err != io.EOF {
			yield(Item{Err: fmt.Errorf("the header: %w", err)})
		}
		return
	}
	header = slices.Clone(header)
	header[0] = strings.TrimPrefix(header[0], "\ufeff")
	for i, h := range header {
		if slices.Contains(header[:i], h) {
			yield(Item{Err: fmt.Errorf("the column %q stands twice in the header", h)})
			return
		}
	}
	for {
		row, err := cr.Read()
		if err == io.EOF {
			return
		}
		line, _ := cr.FieldPos(0)
		item := Item{Line: line, Err: err}
		var bad *csv.ParseError
		if errors.As(err, &bad) {
			item.Line = bad.StartLine
			item.Err = fmt.Errorf("not a CSV row: %w", bad.Err)
		} else if err != nil {
			yield(Item{Err: err})
			return
		} else {
			item.Report, item.Err = d.csvReport(header, row, now)
		}
		if !yield(item) {
			return
		}
	}
}

func (d *Dictionary) csvReport(header, row []string, now int64) (*Report, error) {
	get := func(name string) string {
		if i := slices.Index(header, name); i >= 0 {
			return row[i]
		}
		return ""
	}
	t := d.intake(&Report{})
	if err := t.r.identify(get("source"), get("external_id"), get("observed_at"), Identity{ID: get("id")}, now); err != nil {
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
