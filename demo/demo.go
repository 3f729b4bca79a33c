// Package demo holds the data of Gullholm Ferries, an invented company that
// runs ferries between islands.
package demo

import (
	"embed"
	"io/fs"
	"regexp"
	"strings"
	"time"

	"ironledger.example/core/rulebook"
)

//go:embed rulebook/* people.csv devices.ndjson requests.ndjson stray.ndjson roster.csv feeds/*
var files embed.FS

// Moment is when the evidence of the demo was gathered.
var Moment = time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)

// Rulebook is the rulebook of the house.
func Rulebook() []rulebook.File {
	entries, err := fs.ReadDir(files, "rulebook")
	if err != nil {
		panic(err) // the folder is part of the binary
	}
	var out []rulebook.File
	for _, e := range entries {
		out = append(out, rulebook.File{Name: e.Name(), Text: read("rulebook/" + e.Name())})
	}
	return out
}

// Earlier is the rulebook of the house a week ago: tablets needed less, and
// nobody tried patching yet.
func Earlier() []rulebook.File {
	files := Rulebook()
	for i := range files {
		text := strings.Replace(files[i].Text, "ipados: os.version >= 17.5", "ipados: os.version >= 16", 1)
		if at := strings.Index(text, "  - id: laptop-patching"); at >= 0 {
			text = strings.TrimRight(text[:at], "\n ") + "\n"
		}
		files[i].Text = text
	}
	return files
}

// People is the directory, as CSV.
func People() string { return read("people.csv") }

// Feed is the feed of a partner that manages phones and tablets, but for where it is.
func Feed() string { return read("feeds/phone-desk.yaml") }

// Requests are AuthZEN requests, one a line.
func Requests() string { return read("requests.ndjson") }

var stamp = regexp.MustCompile(`"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ"`)

// Devices are the reports of the fleet, one a line, moved in time as if they
// had been gathered at now.
func Devices(now time.Time) string { return devices(now, now) }

// devices are the reports as they were gathered at a moment, of a fleet whose
// certificates were issued so that they are at now what the demo tells of.
func devices(at, now time.Time) string {
	var reports strings.Builder
	for line := range strings.Lines(read("devices.ndjson")) {
		if !strings.Contains(line, `"certs"`) { // they are signed anew: see Certificates
			reports.WriteString(line)
		}
	}
	return moved(reports.String(), at) + certificates(at, now)
}

// Stray are reports of which some or all is refused or kept aside.
func Stray(now time.Time) string { return moved(read("stray.ndjson"), now) }

// Roster is the hardware registered in advance, as CSV.
func Roster() string { return read("roster.csv") }

// moved shifts the times in a text as if it were written at now.
func moved(text string, now time.Time) string {
	shift := now.Sub(Moment).Truncate(time.Second)
	return stamp.ReplaceAllStringFunc(text, func(s string) string {
		t, err := time.Parse(`"`+time.RFC3339+`"`, s)
		if err != nil {
			return s
		}
		return t.Add(shift).UTC().Format(`"` + time.RFC3339 + `"`)
	})
}

func read(name string) string {
	raw, err := files.ReadFile(name)
	if err != nil {
		panic(err) // the file is part of the binary
	}
	return string(raw)
}
