package controls

import (
	"bytes"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html"
	"strconv"
	"strings"

	"ironledger.example/core/account"
	"ironledger.example/core/value"
)

// Form is how a report is written.
type Form string

// The forms of a report.
const (
	JSON  Form = "json"  // all of it
	HTML  Form = "html"  // to be read and printed; all of it is in it
	CSV   Form = "csv"   // RFC 4180: a line each
	OSCAL Form = "oscal" // assessment results (NIST OSCAL 1.1.2) in JSON; all of it is in it
)

// Forms are all of them.
var Forms = []Form{JSON, HTML, CSV, OSCAL}

// Type is the media type of a form.
func (f Form) Type() string {
	return map[Form]string{JSON: "application/json", HTML: "text/html; charset=utf-8", CSV: "text/csv; charset=utf-8",
		OSCAL: "application/oscal+json"}[f]
}

// File is the end of a file's name.
func (f Form) File() string {
	return map[Form]string{JSON: ".json", HTML: ".html", CSV: ".csv", OSCAL: ".oscal.json"}[f]
}

// writing is how a form is written around the note, which stands between two texts.
type writing struct {
	opens, closes string
	write         func(*account.Report) (before, after []byte, err error)
	enclose       func(note string) []byte
	disclose      func([]byte) (note string, err error)
	body          func(before, after []byte) ([]byte, error) // the report within it; nil for one that has not all
}

var forms map[Form]writing

func init() {
	forms = map[Form]writing{
		JSON: {opens: `"note":`, closes: "}", write: writeJSON,
			enclose: func(note string) []byte { return value.JSON(note) },
			disclose: func(raw []byte) (note string, err error) {
				err = json.Unmarshal(raw, &note)
				return note, err
			},
			body: func(before, _ []byte) ([]byte, error) {
				return between(before, `{"report":`, `,"note":`)
			}},
		HTML: {opens: `<pre id="proof">`, closes: "</pre>", write: writeHTML,
			enclose:  func(note string) []byte { return []byte(html.EscapeString(note)) },
			disclose: func(raw []byte) (string, error) { return html.UnescapeString(string(raw)), nil },
			body: func(before, after []byte) ([]byte, error) {
				return between(after, reportOpens, `</script>`)
			}},
		CSV: {opens: "\nproof,\"", closes: "\"", write: writeCSV,
			enclose:  func(note string) []byte { return []byte(note) }, // which has no quotes
			disclose: func(raw []byte) (string, error) { return string(raw), nil },
			body:     func(_, _ []byte) ([]byte, error) { return nil, nil }},
		OSCAL: {opens: `"filename":"note.txt","media-type":"text/plain","value":"`, closes: `"`, write: writeOSCAL,
			enclose: func(note string) []byte { return []byte(base64.StdEncoding.EncodeToString([]byte(note))) },
			disclose: func(raw []byte) (string, error) {
				out, err := base64.StdEncoding.Strict().DecodeString(string(raw))
				return string(out), err
			},
			body: func(before, after []byte) ([]byte, error) {
				raw, err := between(before, oscalReport, `"`)
				if err != nil {
					return nil, err
				}
				return base64.StdEncoding.Strict().DecodeString(string(raw))
			}},
	}
}

// between is what stands between two texts, the last of the first and the next of the second.
func between(raw []byte, opens, closes string) ([]byte, error) {
	at := bytes.LastIndex(raw, []byte(opens))
	if at < 0 {
		return nil, fmt.Errorf("the report is not in the file")
	}
	rest := raw[at+len(opens):]
	end := bytes.LastIndex(rest, []byte(closes))
	if closes == `"` || closes == `</script>` {
		end = bytes.Index(rest, []byte(closes))
	}
	if end < 0 {
		return nil, fmt.Errorf("the report in the file has no end")
	}
	return rest[:end], nil
}

func writeJSON(r *account.Report) (before, after []byte, err error) {
	before = append([]byte(`{"report":`), bytes.TrimSpace(r.JSON())...)
	return append(before, `,"note":`...), []byte("}\n"), nil
}

// csvHead are the columns. What a line does not have is empty.
var csvHead = []string{"line", "id", "title", "group", "state", "met", "not_met", "unknown", "excepted", "share",
	"device_hours_met", "device_hours", "changes", "at", "until", "who", "text"}

func writeCSV(r *account.Report) (before, after []byte, err error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	line := func(cells map[string]string) {
		row := make([]string, len(csvHead))
		for i, name := range csvHead {
			row[i] = value.Cell(cells[name])
		}
		_ = w.Write(row) // into memory; Error tells
	}
	_ = w.Write(csvHead)
	state := "all"
	if r.Only {
		state = "some" // of the controls
	}
	line(map[string]string{"line": "report", "id": r.Rulebook, "title": r.Catalogue, "group": r.Edition, "at": r.From,
		"state": state, "until": r.To, "text": fmt.Sprintf("%d known devices; made from %d entries of %s", r.Devices, r.Ledger.Size,
			r.Ledger.Origin)})
	for i := range r.Controls {
		c := &r.Controls[i]
		cells := map[string]string{"line": "control", "id": c.ID, "title": c.Title, "group": c.Group, "state": c.State,
			"changes": fmt.Sprint(c.Changes), "at": c.Last, "text": served(c), "share": Share(c.Share)}
		tallied(cells, c.AtEnd)
		if c.Seconds != nil {
			cells["device_hours_met"], cells["device_hours"] = hours(c.Seconds.Met), hours(c.Seconds.All())
		}
		line(cells)
		for _, f := range c.Failing {
			line(map[string]string{"line": "device", "id": f.Device, "title": c.ID, "state": f.State, "at": f.Since,
				"text": strings.Join(f.Rules, " ")})
		}
	}
	for _, x := range r.Exceptions {
		line(map[string]string{"line": x.Kind, "id": x.ID, "title": x.Device, "group": strings.Join(x.Controls, " "),
			"at": x.At, "until": x.Until, "who": x.Author, "text": strings.TrimSpace(x.Rule + " " + x.Reason)})
	}
	for _, p := range r.Publications {
		line(map[string]string{"line": "publication", "id": fmt.Sprint(p.Version), "title": p.Message, "at": p.At,
			"who": p.Author, "text": p.AcceptedWhy})
	}
	for _, e := range r.BreakGlass {
		line(map[string]string{"line": "break-glass", "id": e.Decision, "title": e.Resource, "at": e.At, "who": e.Person,
			"text": e.Device})
	}
	for _, x := range r.Refusals {
		line(map[string]string{"line": "refusals", "id": x.Gate, "title": x.Resource, "state": x.Outcome,
			"changes": fmt.Sprint(x.Times)})
	}
	w.Flush()
	out.WriteString(`proof,"`)
	rest := strings.Repeat(",", len(csvHead)-2)
	return out.Bytes(), []byte("\"" + rest + "\n"), w.Error()
}

func tallied(cells map[string]string, t account.Tally) {
	for name, n := range map[string]int64{"met": t.Met, "not_met": t.NotMet, "unknown": t.Unknown, "excepted": t.Excepted} {
		cells[name] = strconv.FormatInt(n, 10)
	}
}

// hours are seconds as hours, cut to a hundredth.
func hours(seconds int64) string {
	return fmt.Sprintf("%d.%02d", seconds/3600, seconds%3600/36)
}

// Share is a share in percent, "" for none.
func Share(s *float64) string {
	if s == nil {
		return ""
	}
	return strconv.FormatFloat(*s*100, 'f', 2, 64)
}

// served lists what serves a control.
func served(c *account.Told) string {
	var out []string
	for _, s := range c.Serving {
		text := s.Kind + " " + s.ID
		if s.Shadow {
			text += " (shadow)"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}
