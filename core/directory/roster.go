package directory

import (
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

// Hardware is a piece of hardware on the roster: registered in advance as the
// organisation's own, and known by its serial, its hardware id, or both.
type Hardware struct{ Serial, HardwareID, Note string }

// ID is what an entry of the roster is called: the serial, else the hardware
// id, case folded.
func (h *Hardware) ID() string { return strings.ToLower(cmp.Or(h.Serial, h.HardwareID)) }

// ReadRoster reads a roster from CSV with the columns serial, hardware_id and
// note, in any order. A bad line is refused and the rest is read.
func ReadRoster(in io.Reader) ([]Hardware, []Refusal, error) {
	r := csv.NewReader(in)
	r.FieldsPerRecord, r.TrimLeadingSpace = -1, true
	head, err := r.Read()
	if err != nil {
		return nil, nil, fmt.Errorf("the roster has no header; serial,hardware_id,note was expected: %w", err)
	}
	columns := map[string]int{}
	for i, name := range head {
		name = strings.ToLower(strings.Trim(name, "\ufeff \t"))
		if !slices.Contains([]string{"serial", "hardware_id", "note"}, name) {
			return nil, nil, fmt.Errorf("%q is not a column of a roster; there are serial, hardware_id and note", name)
		}
		columns[name] = i
	}
	var out []Hardware
	refused := []Refusal{}
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, refused, nil
		}
		if err != nil {
			return nil, nil, fmt.Errorf("not readable as CSV: %w", err)
		}
		line, _ := r.FieldPos(0)
		cell := func(name string) string {
			if i, ok := columns[name]; ok && i < len(row) {
				return strings.TrimSpace(row[i])
			}
			return ""
		}
		e := Hardware{Serial: cell("serial"), HardwareID: cell("hardware_id"), Note: cell("note")}
		switch {
		case e.ID() == "":
			refused = append(refused, Refusal{line, "the line has neither a serial nor a hardware_id"})
		case len(row) > len(head):
			refused = append(refused, Refusal{line,
				fmt.Sprintf("the line has %d cells under %d columns", len(row), len(head))})
		case !utf8.ValidString(e.Serial) || !utf8.ValidString(e.HardwareID) || !utf8.ValidString(e.Note):
			refused = append(refused, Refusal{line, "a cell is not UTF-8"})
		case len(e.Serial) > 200 || len(e.HardwareID) > 200 || len(e.Note) > 1000:
			refused = append(refused, Refusal{line, "a cell is too long"})
		default:
			out = append(out, e)
		}
	}
}
