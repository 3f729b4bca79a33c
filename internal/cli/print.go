package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"ironledger.example/core/value"
	"ironledger.example/internal/client"
)

var formats = []string{"table", "json", "ndjson", "yaml", "csv"}

// listing is something to print: rows for people and CSV, the data as it came
// for machines.
type listing struct {
	head  []string
	rows  [][]string
	raw   any               // for json and yaml
	items []json.RawMessage // for ndjson; nil: raw is one line
	foot  string            // a line under the table
}

// print prints a listing as the user asked.
func (a *app) print(l listing) error {
	switch a.format {
	case "json":
		raw, err := indented(l.raw)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintln(a.out, string(raw))
		return err
	case "ndjson":
		return a.ndjson(l)
	case "yaml":
		raw, err := json.Marshal(l.raw)
		if err == nil {
			raw, err = yaml.JSONToYAML(raw)
		}
		if err != nil {
			return err
		}
		_, err = a.out.Write(raw)
		return err
	case "csv":
		w := csv.NewWriter(a.out)
		for _, row := range append([][]string{l.head}, l.rows...) {
			plain := make([]string, len(row))
			for i, cell := range row {
				plain[i] = stripMark(cell)
			}
			if err := w.Write(plain); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	}
	if len(l.rows) == 0 {
		_, err := fmt.Fprintln(a.out, "Nothing to show.")
		return err
	}
	a.table(l.head, l.rows)
	if l.foot != "" {
		fmt.Fprintln(a.out, a.dim(l.foot))
	}
	return nil
}

func indented(v any) ([]byte, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = json.Indent(&b, raw, "", "  ")
	return b.Bytes(), err
}

func (a *app) ndjson(l listing) error {
	items := l.items
	if items == nil {
		raw, err := json.Marshal(l.raw)
		if err != nil {
			return err
		}
		items = []json.RawMessage{raw}
	}
	for _, it := range items {
		var b bytes.Buffer
		if err := json.Compact(&b, it); err != nil {
			return err
		}
		if _, err := fmt.Fprintln(a.out, b.String()); err != nil {
			return err
		}
	}
	return nil
}

// itemsOf returns the members of {"items": […]} as they came.
func itemsOf(raw json.RawMessage) []json.RawMessage {
	var list struct {
		Items []json.RawMessage `json:"items"`
	}
	if json.Unmarshal(raw, &list) != nil || list.Items == nil {
		return []json.RawMessage{}
	}
	return list.Items
}

// show prints a list that a service gave: a row a member.
func show[T any](a *app, got *client.Reply[client.List[T]], head []string, row func(T) []string) error {
	l := listing{head: head, items: itemsOf(got.Raw)}
	l.raw = l.items
	for _, x := range got.Value.Items {
		l.rows = append(l.rows, row(x))
	}
	return a.print(l)
}

// when says when something is, for tables, as near as people need it: in how
// long, or how long ago.
func when(rfc3339 string) string {
	t, err := time.Parse(time.RFC3339, rfc3339)
	if err != nil {
		return rfc3339
	}
	if d := time.Until(t); d > 0 {
		return "in " + value.FormatAge(d.Microseconds())
	}
	return ago(rfc3339)
}

// clip shortens a text to n letters.
func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

// ledgerStyle is a ruled page: a line under the head and between nothing else.
var ledgerStyle = table.Style{
	Name: "ledger",
	Box: table.BoxStyle{MiddleHorizontal: "─", MiddleSeparator: "─", PaddingLeft: "", PaddingRight: "  ",
		MiddleVertical: ""},
	Format:  table.FormatOptions{Header: text.FormatDefault},
	Options: table.Options{SeparateHeader: true},
}

func (a *app) table(head []string, rows [][]string) {
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	t.SetStyle(ledgerStyle)
	row := func(cells []string) table.Row {
		r := make(table.Row, len(cells))
		for i, c := range cells {
			r[i] = c
		}
		return r
	}
	if head != nil {
		bold := make([]string, len(head))
		for i, h := range head {
			bold[i] = a.bold(h)
		}
		t.AppendHeader(row(bold))
	}
	for _, r := range rows {
		t.AppendRow(row(r))
	}
	if w := a.width(); w > 0 {
		t.SetAllowedRowLength(w)
	}
	t.Render()
}

// width is that of the terminal, 0 when the output is none.
func (a *app) width() int {
	f, ok := a.out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	w, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return w
}

func (a *app) tty() bool { return a.width() > 0 && os.Getenv("NO_COLOR") == "" }

func (a *app) paint(code, s string) string {
	if !a.tty() {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

func (a *app) bold(s string) string { return a.paint("1", s) }
func (a *app) dim(s string) string  { return a.paint("2", s) }
func (a *app) rust(s string) string { return a.paint("38;5;130", s) } // the accent

// The level mark: as many filled bars as the level's place on the ladder.
const barFull, barEmpty = "▮", "▯"

// mark draws a level: its bars and its word.
func (a *app) mark(level string, rank, top int) string {
	bars := strings.Repeat(barFull, rank) + strings.Repeat(barEmpty, max(0, top-rank))
	if rank == 0 {
		return a.rust(bars) + " " + level
	}
	return bars + " " + level
}

func stripMark(s string) string {
	if strings.HasPrefix(s, barFull) || strings.HasPrefix(s, barEmpty) {
		_, word, _ := strings.Cut(s, " ")
		return word
	}
	return s
}

// brief names the first of a list and counts the rest.
func brief(list []string) string {
	if len(list) < 2 {
		return joined(list)
	}
	return fmt.Sprintf("%s +%d", list[0], len(list)-1)
}

// ago says how long a time lies back, for tables.
func ago(rfc3339 string) string {
	t, err := time.Parse(time.RFC3339, rfc3339)
	if err != nil {
		return rfc3339
	}
	return value.FormatAge(time.Since(t).Microseconds()) + " ago"
}

func joined(list []string) string { return strings.Join(list, ", ") }

func shortTime(rfc3339 string) string {
	return strings.Replace(rfc3339, "T", " ", 1)
}

func line(w io.Writer, format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }
