// Package demo holds the data of Gullholm Ferries, an invented company that
// runs ferries between islands.
package demo

import (
	"embed"
	"io/fs"
	"regexp"
	"time"

	"ironledger.example/core/rulebook"
)

//go:embed rulebook/*.yaml people.csv devices.ndjson requests.ndjson
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

// People is the directory, as CSV.
func People() string { return read("people.csv") }

// Requests are AuthZEN requests, one a line.
func Requests() string { return read("requests.ndjson") }

var stamp = regexp.MustCompile(`"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ"`)

// Devices are the reports of the fleet, one a line, moved in time as if they
// had been gathered at now.
func Devices(now time.Time) string {
	shift := now.Sub(Moment).Truncate(time.Second)
	return stamp.ReplaceAllStringFunc(read("devices.ndjson"), func(s string) string {
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
