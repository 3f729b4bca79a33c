package demo

import (
	"encoding/json"
	"strings"
	"time"
)

// Step is a moment of the week before the demo begins.
type Step struct {
	At      time.Time
	Reports string // one a line
}

// past is how a device was before: until so many hours ago an attribute had
// another value, or (with no attribute) the device was not there yet.
type past struct {
	device, attribute string
	value             any
	until             float64
}

var pasts = []past{
	{"GF-L-1048", "os.version", "14.6.1", 40}, {"GF-L-1052", "os.version", "10.0.22631.4317", 64},
	{"GF-L-1043", "os.version", "14.5", 62}, {"GF-L-1045", "antimalware.on", true, 51},
	{"GF-L-1050", "storage.encrypted", true, 29.5},
	{"GF-L-1051", "threat.score", 4, 5}, {"GF-P-4106", "threat.score", 11, 9},
	{"GF-T-2112", "threat.score", 9, 20}, {"GF-K-3103", "custom.till_sealed", true, 33},
	{"GF-L-1046", "firewall.on", false, 100}, {"GF-T-2101", "custom.chart_pack", "2026.9", 130},
	{"GF-T-2102", "custom.chart_pack", "2026.9", 77},
	{"GF-L-1042", "screen_lock.after", "30m", 120}, {"GF-P-4108", "os.version", "17.4", 90},
	{"GF-P-4115", "", nil, 55}, {"GF-P-4116", "", nil, 43}, {"GF-P-4117", "", nil, 38},
	{"GF-L-1064", "", nil, 31}, {"GF-L-1063", "", nil, 26},
}

// stride is how far the steps of the past lie apart: less than the shortest
// freshness, so that nothing goes stale in between that would not have.
const stride = 3 * time.Hour

// Past is the week before now, in steps, oldest first.
func Past(now time.Time) []Step {
	var out []Step
	for back := 7 * 24 * time.Hour; back > 0; back -= stride {
		at := now.Add(-back)
		out = append(out, Step{at, before(devices(at, now), back.Hours())})
	}
	return out
}

// before changes reports to what they were so many hours ago.
func before(reports string, hours float64) string {
	var out strings.Builder
	for line := range strings.Lines(reports) {
		var r struct {
			Source     string            `json:"source"`
			ObservedAt string            `json:"observed_at,omitempty"`
			ExternalID string            `json:"external_id,omitempty"`
			Identity   map[string]string `json:"identity"`
			Evidence   map[string]any    `json:"evidence"`
		}
		if err := json.Unmarshal([]byte(line), &r); err != nil {
			panic(err) // a line of our own
		}
		gone := false
		for _, p := range pasts {
			if p.device != r.Identity["id"] || hours < p.until {
				continue
			}
			if gone = gone || p.attribute == ""; p.attribute == "threat.score" {
				delete(r.Evidence, "threats")
			}
			if _, told := r.Evidence[p.attribute]; told {
				r.Evidence[p.attribute] = p.value
			}
		}
		if gone {
			continue
		}
		raw, err := json.Marshal(r)
		if err != nil {
			panic(err) // as it was read
		}
		out.Write(append(raw, '\n'))
	}
	return out.String()
}

// busy is how many requests are made in each stretch of a day.
var busy = []int{1, 0, 1, 4, 6, 5, 4, 2}

// Asked are the requests that were made in a step of the week, one a line.
func Asked(step int) []string {
	var usual []string
	for line := range strings.Lines(Requests()) {
		if !strings.Contains(line, "harbourmaster@") && !strings.Contains(line, "stranger@") { // not every day
			usual = append(usual, line)
		}
	}
	var out []string
	for i := range busy[step%len(busy)] {
		out = append(out, usual[(step*7+i*5)%len(usual)])
	}
	return out
}

// Published is how long before the demo its rulebook was published.
const Published = 30 * time.Hour

// Act is a waiver, or without a rule a vouch, that the help desk gave.
type Act struct {
	Back                      time.Duration // how long before the demo
	Device, Rule, Reason, For string
	Revoked                   string // why it was revoked at once; "" if it was not
}

// Acts are what the help desk did in the week before, oldest first.
func Acts() []Act {
	return []Act{
		{160 * time.Hour, "GF-L-1057", "laptop/locks-itself",
			"Shows the departures in the waiting hall, ticket 4312", "6d", ""},
		{120 * time.Hour, "GF-L-1054", "laptop/firewall",
			"Measures the engine over the service port until the dock, ticket 4390", "9d", ""},
		{96 * time.Hour, "GF-P-4103", "phone/company-owned",
			"Loan while the company phone is repaired, ticket 4401", "4d", "The phone came back"},
		{60 * time.Hour, "GF-K-3104", "till/sealed",
			"Seal is on order, the lock was checked by hand, ticket 4417", "12d", ""},
		{30 * time.Hour, "GF-L-1064", "", "Papers checked at the desk; bought without an order", "14d", ""},
		// Its rule bars: it waits for a second person.
		{26 * time.Hour, "GF-P-4107", "phone/passcode",
			"The screen is cracked, a new phone comes on Monday, ticket 4421", "10d", ""},
		{20 * time.Hour, "GF-L-1050", "laptop/disk-encrypted",
			"Is being encrypted, runs over the weekend, ticket 4430", "36h", ""},
	}
}

// Mark is a word that the help desk put on devices, or something noted of them.
type Mark struct {
	Devices   []string
	Tag, Note string
}

// Marks are those at the demo's beginning.
func Marks() []Mark {
	return []Mark{
		{[]string{"GF-T-2101", "GF-T-2102", "GF-T-2103"}, "pilot", ""},
		{[]string{"GF-L-1057"}, "lent", "Shows the departures in the waiting hall until May"},
	}
}

// Worn is a report of a machine that went out of service, and Given is why.
const (
	Worn = `{"source":"mdm","identity":{"id":"GF-K-0917","serial":"GF-K-0917-S"},"evidence":{"platform":"linux",` +
		`"form":"kiosk","name":"Old ticket kiosk, north pier","ownership":"company","os.version":"10.2"}}`
	Given = "Given to the boat museum, ticket 4388"
)

// Applicant is a device that asked to be taken in and waits for a person.
type Applicant struct{ Serial, Platform, Form, Name, Ownership, Owner string }

// Applicants are those that wait at the demo's beginning.
func Applicants() []Applicant {
	return []Applicant{
		{"TB-55-0193", "android", "tablet", "Tuva's tablet", "personal", "tuva.kvist@gullholm.example"},
		{"GF-L-1071-S", "windows", "laptop", "Replacement for the dock office", "company",
			"signe.mark@gullholm.example"},
	}
}

// Search is a search of devices that the house keeps.
type Search struct {
	Name, Where string
	Columns     []string
}

// Searches are those of the help desk.
func Searches() []Search {
	return []Search{
		{"Tablets behind with their charts", "form == tablet and custom.chart_pack < 2026.10",
			[]string{"custom.chart_pack", "os.version"}},
		{"Company machines not seen for a day", "ownership == company and age(seen_at) > 1d", nil},
		{"Anything with an active threat", "any t in threats (t.active)", []string{"threat.score", "threats"}},
	}
}
