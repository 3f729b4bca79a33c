package shell

import (
	"bytes"
	"context"
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
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ironledger.example/api"
	"ironledger.example/core/value"
	"ironledger.example/internal/client"
)

// Formats are what --output may be.
var Formats = []string{"table", "json", "ndjson", "yaml", "csv"}

// Listing is something to print: rows for people and CSV, the data as it came
// for machines.
type Listing struct {
	Head  []string
	Rows  [][]string
	Raw   any               // for json and yaml
	Items []json.RawMessage // for ndjson; nil: raw is one line
	Foot  string            // a line under the table
	More  bool              // there are more than these
}

// Print prints a listing as the user asked, and says on the error stream when there
// are more members than were asked for: no list ends in silence.
func (a *App) Print(l Listing) error {
	if err := a.print(l); err != nil {
		return err
	}
	a.SayMore(&l)
	return nil
}

// SayMore says that a listing goes on, when it does.
func (a *App) SayMore(l *Listing) {
	if l.More {
		Line(a.Err, "The first %d; there are more: --limit 0 shows all.", len(l.Rows))
	}
}

func (a *App) print(l Listing) error {
	switch a.Format {
	case "json":
		raw, err := Indented(l.Raw)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintln(a.Out, string(raw))
		return err
	case "ndjson":
		return a.ndjson(l)
	case "yaml":
		raw, err := json.Marshal(l.Raw)
		if err == nil {
			raw, err = yaml.JSONToYAML(raw)
		}
		if err != nil {
			return err
		}
		_, err = a.Out.Write(raw)
		return err
	case "csv":
		w := csv.NewWriter(a.Out)
		for _, row := range append([][]string{l.Head}, l.Rows...) {
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
	if len(l.Rows) == 0 {
		_, err := fmt.Fprintln(a.Out, "Nothing to show.")
		return err
	}
	a.Table(l.Head, l.Rows)
	if l.Foot != "" {
		fmt.Fprintln(a.Out, a.Dim(l.Foot))
	}
	return nil
}

// Indented is JSON for people.
func Indented(v any) ([]byte, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = json.Indent(&b, raw, "", "  ")
	return b.Bytes(), err
}

func (a *App) ndjson(l Listing) error {
	items := l.Items
	if items == nil {
		raw, err := json.Marshal(l.Raw)
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
		if _, err := fmt.Fprintln(a.Out, b.String()); err != nil {
			return err
		}
	}
	return nil
}

// ItemsOf returns the members of {"items": […]} as they came.
func ItemsOf(raw json.RawMessage) []json.RawMessage {
	var list struct {
		Items []json.RawMessage `json:"items"`
	}
	if json.Unmarshal(raw, &list) != nil || list.Items == nil {
		return []json.RawMessage{}
	}
	return list.Items
}

// lister is a list, or a page of one.
type lister[T any] interface{ List() api.List[T] }

// Show prints a list that a service gave: a row a member.
func Show[T any, P lister[T]](a *App, got *client.Reply[P], head []string, row func(T) []string) error {
	l := Listing{Head: head, Items: []json.RawMessage{}}
	fill(&l, got, row)
	return a.Print(l)
}

// Lists makes what a command does that shows a list.
func Lists[T any, P lister[T]](a *App, get func(*client.Client, context.Context) (*client.Reply[P], error),
	head []string, row func(T) []string) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, _ []string) error {
		cl, err := a.Client()
		if err != nil {
			return err
		}
		got, err := get(cl, cmd.Context())
		if err != nil {
			return err
		}
		return Show(a, got, head, row)
	}
}

// maxPage is how many members are asked for at a time.
const maxPage = 500

// Pages collects a list that a service gives by the page, at most limit members of it
// (0: all). total is how many there are, where the service says.
func Pages[T any, P lister[T]](limit int, page func(limit int, cursor string) (*client.Reply[P], error),
	head []string, row func(T) []string) (l Listing, total int, err error) {
	if limit < 0 {
		return l, 0, Usagef("--limit is at least 0")
	}
	l = Listing{Head: head, Items: []json.RawMessage{}}
	for cursor := ""; limit == 0 || len(l.Rows) < limit; {
		size := maxPage
		if limit > 0 {
			size = min(size, limit-len(l.Rows))
		}
		got, err := page(size, cursor)
		if err != nil {
			return l, 0, err
		}
		fill(&l, got, row)
		list := got.Value.List()
		total = list.Total
		if cursor = list.Next; cursor == "" {
			return l, total, nil
		}
	}
	l.More = true
	return l, total, nil
}

func fill[T any, P lister[T]](l *Listing, got *client.Reply[P], row func(T) []string) {
	for _, x := range got.Value.List().Items {
		l.Rows = append(l.Rows, row(x))
	}
	l.Items = append(l.Items, ItemsOf(got.Raw)...)
	l.Raw = l.Items
}

// When says when something is, for tables, as near as people need it: in how
// long, or how long ago.
func When(rfc3339 string) string {
	t, err := time.Parse(time.RFC3339, rfc3339)
	if err != nil {
		return rfc3339
	}
	if d := time.Until(t); d > 0 {
		return "in " + value.FormatAge(d.Microseconds())
	}
	return Ago(rfc3339)
}

// Clip shortens a text to n letters.
func Clip(s string, n int) string {
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

// Table prints a table, as wide as the terminal is.
func (a *App) Table(head []string, rows [][]string) {
	t := table.NewWriter()
	t.SetOutputMirror(a.Out)
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
			bold[i] = a.Bold(h)
		}
		t.AppendHeader(row(bold))
	}
	for _, r := range rows {
		t.AppendRow(row(r))
	}
	if w := a.Width(); w > 0 {
		t.SetAllowedRowLength(w)
	}
	t.Render()
}

// Width is that of the terminal, 0 when the output is none.
func (a *App) Width() int {
	f, ok := a.Out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	w, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return w
}

// Tty reports whether output goes to a terminal.
func (a *App) Tty() bool { return a.Width() > 0 && os.Getenv("NO_COLOR") == "" }

func (a *App) paint(code, s string) string {
	if !a.Tty() {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

// Bold, Dim and Rust paint a text where output goes to a terminal.
func (a *App) Bold(s string) string { return a.paint("1", s) }

func (a *App) Dim(s string) string { return a.paint("2", s) }

func (a *App) Rust(s string) string { return a.paint("38;5;130", s) } // the accent

// The level mark: as many filled bars as the level's place on the ladder.
const barFull, barEmpty = "▮", "▯"

// Mark draws a level: its bars and its word.
func (a *App) Mark(level string, rank, top int) string {
	bars := strings.Repeat(barFull, rank) + strings.Repeat(barEmpty, max(0, top-rank))
	if rank == 0 {
		return a.Rust(bars) + " " + level
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

// Brief names the first of a list and counts the rest.
func Brief(list []string) string {
	if len(list) < 2 {
		return Joined(list)
	}
	return fmt.Sprintf("%s +%d", list[0], len(list)-1)
}

// Ago says how long a time lies back, for tables.
func Ago(rfc3339 string) string {
	t, err := time.Parse(time.RFC3339, rfc3339)
	if err != nil {
		return rfc3339
	}
	return value.FormatAge(time.Since(t).Microseconds()) + " ago"
}

// Joined is a list in words, a dash for none.
func Joined(list []string) string { return strings.Join(list, ", ") }

// ShortTime tells a moment to the minute.
func ShortTime(rfc3339 string) string {
	return strings.Replace(rfc3339, "T", " ", 1)
}

// Line prints a line.
func Line(w io.Writer, format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }

// Bytes writes a number of bytes for people.
func Bytes(n int64) string {
	switch {
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	case n >= 1<<10:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%d B", n)
}
