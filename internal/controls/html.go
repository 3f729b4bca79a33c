package controls

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"strings"

	"ironledger.example/core/account"
)

//go:embed page.html
var pageText string

// page is the printed report; what is signed and the report itself are put into it afterwards.
var page = template.Must(template.New("report").Parse(pageText))

const (
	reportPlace = "@report@"
	reportOpens = `<script type="application/json" id="report">`
)

// bar is a row of parts, of which the widths are of a hundred.
type bar struct {
	Class, Label string
	Parts        []part
}

// part is a piece of a bar or of a course. Lengths are those of its picture.
type part struct {
	X, Y, Width, Height string
	Fill                string
}

// course is how many devices met a control over time, a column a point.
type course struct {
	Width       int
	Parts       []part
	First, Last string // the moments of the first and the last column
}

type row struct {
	C       *account.Told
	Said    string
	Bad     bool
	Bar     bar
	Share   string
	Served  string
	Last    string
	Course  *course
	Failing []failing
	More    int64
}

type failing struct{ Device, State, Since, Rules string }

type exceptionRow struct{ ID, Device, What, Until, Author, Reason, Revoked string }

type publicationRow struct {
	P  account.Publication
	At string
}

// fills are how the four ways in which a device stands to a control are drawn, in the order of a bar.
var fills = []struct{ label, fill string }{
	{"met", "#2d5b4a"}, {"excepted", "url(#p-exc)"}, {"not known", "url(#p-unk)"}, {"not met", "url(#p-not)"}}

func parts(t account.Tally) []int64 { return []int64{t.Met, t.Excepted, t.Unknown, t.NotMet} }

func barOf(t account.Tally, class, label string) bar {
	b := bar{Class: class, Label: label}
	all, x := t.All(), int64(0)
	for i, n := range parts(t) {
		if n > 0 {
			b.Parts = append(b.Parts, part{X: tenths(x, all, 100), Width: tenths(n, all, 100), Fill: fills[i].fill})
		}
		x += n
	}
	return b
}

// tenths is a part of all of a length, to a tenth.
func tenths(n, all int64, length int64) string {
	v := n * length * 10 / all
	return fmt.Sprintf("%d.%d", v/10, v%10)
}

func courseOf(points []account.Point) *course {
	most := int64(0)
	for _, p := range points {
		most = max(most, p.All())
	}
	if most == 0 || len(points) < 2 {
		return nil
	}
	const width, height = 20, 40
	c := &course{Width: width * len(points), First: clock(points[0].At), Last: clock(points[len(points)-1].At)}
	for i, p := range points {
		below := int64(0)
		for j, n := range parts(p.Tally) {
			if below += n; n > 0 {
				c.Parts = append(c.Parts, part{X: fmt.Sprint(i * width), Width: fmt.Sprint(width - 2),
					Y: tenths(most-below, most, height), Height: tenths(n, most, height), Fill: fills[j].fill})
			}
		}
	}
	return c
}

// clock is a moment as people read it.
func clock(at string) string {
	if len(at) < len("2006-01-02T15:04") {
		return at
	}
	return at[:10] + " " + at[11:16]
}

func rowOf(c *account.Told) row {
	t := c.AtEnd
	r := row{C: c, Said: c.State, Share: Share(c.Share), Served: served(c), Last: clock(c.Last), More: c.More,
		Course: courseOf(c.Course), Bar: barOf(t, "bar", fmt.Sprintf("%d of %d met", t.Met, t.All()))}
	if r.Bad = c.State == account.NotMet || c.State == account.NotServed; r.Share != "" {
		r.Share += " %"
	}
	for _, f := range c.Failing {
		r.Failing = append(r.Failing, failing{f.Device, strings.ReplaceAll(f.State, "_", " "), clock(f.Since),
			strings.Join(f.Rules, ", ")})
	}
	return r
}

func writeHTML(r *account.Report) (before, after []byte, err error) {
	data := map[string]any{"R": r, "Title": "Controls of " + r.Rulebook, "Span": "As of " + clock(r.To) + " UTC",
		"Bare": strings.Join(r.Nothing.Controls, ", "), "BareDevices": some(r.Nothing.Some, r.Nothing.Devices)}
	if r.From != "" {
		data["Span"] = "From " + clock(r.From) + " until " + clock(r.To) + " UTC"
	}
	var rows []row
	counts := map[string]int{}
	for i := range r.Controls {
		x := rowOf(&r.Controls[i])
		rows = append(rows, x)
		counts[x.Said]++
	}
	var said []string
	for _, word := range account.States {
		if n := counts[word]; n > 0 {
			said = append(said, fmt.Sprintf("%d %s", n, word))
		}
	}
	var legend []bar
	for _, f := range fills {
		legend = append(legend, bar{Label: f.label, Parts: []part{{X: "0", Width: "100", Fill: f.fill}}})
	}
	data["Rows"], data["Summary"], data["Legend"] = rows, strings.Join(said, ", "), legend
	data["Exceptions"], data["Publications"], data["Emergencies"] = exceptionRows(r), publicationRows(r), emergencyRows(r)
	var out bytes.Buffer
	if err := page.Execute(&out, data); err != nil {
		return nil, nil, err
	}
	// The last of each place is ours: what people wrote stands before it.
	html := out.Bytes()
	notes, reports := bytes.LastIndex(html, []byte(notePlace)), bytes.LastIndex(html, []byte(reportPlace))
	after = append(bytes.Clone(html[notes+len(notePlace):reports]), embedded(r)...)
	return html[:notes], append(after, html[reports+len(reportPlace):]...), nil
}

// embedded is the report as JSON that a script element can hold: encoding/json writes < as \u003c.
func embedded(r *account.Report) []byte {
	var out bytes.Buffer
	if err := json.Compact(&out, r.JSON()); err != nil {
		panic(err) // it was just written
	}
	return out.Bytes()
}

func some(ids []string, of int64) string {
	text := strings.Join(ids, ", ")
	if more := of - int64(len(ids)); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

func exceptionRows(r *account.Report) (out []exceptionRow) {
	for _, x := range r.Exceptions {
		e := exceptionRow{ID: x.ID, Device: x.Device, What: x.Rule, Until: clock(x.Until), Author: x.Author,
			Reason: x.Reason}
		if e.What == "" {
			e.What = "vouched for as genuine"
		}
		if x.ApprovedBy != "" {
			e.Author += ", approved by " + x.ApprovedBy
		}
		if x.RevokedAt != "" {
			e.Revoked = "Taken back at " + clock(x.RevokedAt) + " by " + x.RevokedBy + "."
		}
		out = append(out, e)
	}
	return out
}

func publicationRows(r *account.Report) (out []publicationRow) {
	for _, p := range r.Publications {
		out = append(out, publicationRow{p, clock(p.At)})
	}
	return out
}

func emergencyRows(r *account.Report) []account.Emergency {
	out := append([]account.Emergency{}, r.BreakGlass...)
	for i := range out {
		out[i].At = clock(out[i].At)
	}
	return out
}
