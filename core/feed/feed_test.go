package feed

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
)

const good = `id: fleet-desk
source: mdm
url: https://desk.example/v1/machines
sign_in: {by: oauth2, client_id: us, token_url: https://desk.example/token, scopes: [read]}
pages: {by: cursor, at: /next, parameter: after, size_parameter: limit, size: 500}
since: {parameter: changed}
mapping: {identity: {serial: /s}, evidence: {storage.encrypted: {from: /d, words: {yes: true, 1: false}}}}
`

func read(t *testing.T, text string) *Settings {
	t.Helper()
	s, err := Read(text)
	if err != nil {
		t.Fatal(err)
	}
	return &s
}

// A feed is read from YAML, what it leaves out is filled in, and what is wrong is said with its place.
func TestSettings(t *testing.T) {
	s := read(t, good)
	if err := s.Check(); err != nil || s.Kind != Devices || s.Every != DefaultEvery ||
		s.Since.Form != "rfc3339" || s.Since.FullEvery != DefaultFull {
		t.Fatalf("%+v %v", s, err)
	}
	if _, err := s.Map(evidence.NewDictionary()); err != nil {
		t.Error(err)
	}
	for _, c := range []struct{ old, new, pointer string }{
		{"id: fleet-desk", "id: Fleet desk", "/id"}, {"source: mdm", "kind: people\nsource: mdm", "/source"},
		{"source: mdm\n", "", "/source"},
		{"url: https://desk.example/v1/machines\n", "", "/url"}, {"url:", "folder: /srv\nurl:", "/url"},
		{"url: https://desk.example/v1/machines", "folder: srv", "/folder"},
		{"url: https://desk.example/v1/machines", "folder: /srv", "/folder"},
		{"source: mdm", "source: mdm\nformat: xml", "/format"}, {"source: mdm", "source: mdm\nkind: signals", "/mapping"},
		{"by: oauth2", "by: bearer", "/sign_in"}, {"client_id: us, ", "", "/sign_in/client_id"},
		{"scopes: [read]", "user: ann", "/sign_in/user"},
		{"by: oauth2", "by: magic", "/sign_in/by"}, {"at: /next", "at: next", "/pages/at"},
		{"by: cursor", "by: link", "/pages/at"},
		{"by: cursor, at: /next, parameter: after", "by: offset", "/pages/parameter"},
		{", size: 500", "", "/pages/size_parameter"},
		{"size: 500", "size: 50000", "/pages/size"}, {"by: cursor", "by: hand", "/pages/by"},
		{"since:", "every: 20s\nsince:", "/every"}, {"since:", "every: 2h\nsince:", ""},
		{"since:", "every: 30d\nsince:", "/every"},
		{"parameter: changed", "parameter: changed, form: roman", "/since/form"},
		{"parameter: changed", "parameter: changed, full_every: 1m", "/since/full_every"},
		{"{parameter: changed}", "{full_every: 24h}", "/since/parameter"},
	} {
		if !strings.Contains(good, c.old) {
			t.Fatalf("%q is not in the feed", c.old)
		}
		err := read(t, strings.Replace(good, c.old, c.new, 1)).Check()
		var wrong *Error
		if (err == nil) != (c.pointer == "") || err != nil &&
			(!errors.As(err, &wrong) || !strings.HasPrefix(wrong.Pointer, c.pointer)) {
			t.Errorf("%q for %q: %v, want %s", c.new, c.old, err, c.pointer)
		}
	}
	for _, text := range []string{"id: [", "colour: blue", "[1]", strings.Repeat("[", 500), "id: 7"} {
		if _, err := Read(text); err == nil {
			t.Errorf("%.20q is read", text)
		}
	}
	for mapping, want := range map[string]string{`{"person":{"id":"x"}}`: "a mapping of them",
		`{"identity":{"id":"x"},"source":"other"}`: "speaks as mdm",
		`{"identity":{"colour":"x"}}`:              "not a key"} {
		o := *s
		o.Mapping = json.RawMessage(mapping)
		if _, err := o.Map(evidence.NewDictionary()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", mapping, err, want)
		}
	}
}

// A secret goes along with what does not change where it goes, and with nothing else.
func TestWhereASecretGoes(t *testing.T) {
	for _, c := range []struct {
		old, new string
		sends    bool
	}{{"v1/machines", "v2/machines", false}, {"//desk.example/v1", "//dusk.example/v1", true},
		{"client_id: us", "client_id: them", true},
		{"desk.example/token", "desk.example/tokens", true}, {"at: /next", "at: /more", false}} {
		if s := read(t, strings.Replace(good, c.old, c.new, 1)); s.Sends(read(t, good)) != c.sends {
			t.Errorf("with %s it sends the secret elsewhere: %v", c.new, !c.sends)
		}
	}
	for b, same := range map[string]bool{"https://DESK.example/x": true, "http://desk.example/": false,
		"https://desk.example:8443/":         false,
		"https://desk.example.evil.example/": false, "//desk.example/": false, "%zz": false} {
		if SameOrigin("https://desk.example/v1", b) != same {
			t.Errorf("%s: %v", b, !same)
		}
	}
}

// Failures are tried again after longer and longer, no later than the schedule has it, but when the partner asks for
// more time; a run that is done forgets them.
func TestWhenARunIsDue(t *testing.T) {
	s := read(t, good)
	s.Every = "1h"
	if err := s.Check(); err != nil {
		t.Fatal(err)
	}
	now, p := 100*value.Day, Place{}
	about := func(what string, got, want int64) {
		t.Helper()
		if got < want-want/10 || got > want+want/10 {
			t.Errorf("%s: after %s, want about %s", what, value.FormatAge(got), value.FormatAge(want))
		}
	}
	for i, want := range []int64{1, 2, 4, 8, 16, 32, 60, 60} {
		p.Ended(s, &Run{Number: i + 1, Outcome: Failed}, now, now, 0)
		about(fmt.Sprint("failure ", i+1), p.NextAt-now, want*value.Minute)
	}
	if p.Failures != 8 || p.FailingSince != now || p.Since != 0 || len(p.Runs) != 8 || p.Runs[0].Number != 8 {
		t.Errorf("%+v", p)
	}
	p.Ended(s, &Run{Outcome: Failed}, now, now, 3*60*value.Minute)
	about("asked for three hours", p.NextAt-now, 3*60*value.Minute)
	p.Ended(s, &Run{Outcome: Done, Full: true}, now, now+value.Minute, 0)
	about("done", p.NextAt-now, 60*value.Minute)
	if p.Failures != 0 || p.FailingSince != 0 || p.Since != now || p.FullAt != now {
		t.Errorf("%+v", p)
	}
	if p.Full(s, 0, now+value.Minute) || !p.Full(s, 0, now+2*value.Day) || !p.Full(s, 1, now+value.Minute) ||
		!(&Place{}).Full(s, 0, now) {
		t.Error("when everything is asked for")
	}
	if got := p.Moment(s); got != "1970-04-10T23:55:00Z" {
		t.Errorf("it asks since %s", got)
	}
	for range 50 {
		p.Ended(s, &Run{Outcome: Done}, now, now, 0)
	}
	if len(p.Runs) != keepRuns {
		t.Errorf("%d runs are kept", len(p.Runs))
	}
}

// Reasons are counted, and bounded.
func TestReasonsAreCounted(t *testing.T) {
	var r Run
	for i := range 500 {
		r.Say("os.version", "it is none", i)
		r.Say("item", fmt.Sprint("of its own ", i), i)
	}
	total := 0
	for _, x := range r.Reasons {
		total += x.Count
	}
	if len(r.Reasons) != maxReasons || total != 1000 || r.Reasons[0].Count != 500 || r.Reasons[0].Example != "item 0" ||
		r.Reasons[maxReasons-1].Message != others {
		t.Errorf("%d of %d: %+v", total, len(r.Reasons), r.Reasons[maxReasons-1])
	}
}

// An inventory that shrinks by a tenth and more is held back, and one that is empty.
func TestTheGuardOfAnInventory(t *testing.T) {
	for _, c := range []struct {
		gone, listed int
		held         bool
	}{{0, 0, false}, {1, 0, true}, {5, 1, false}, {6, 60, false}, {6, 53, true}, {6, 54, false},
		{1000, 9000, false}, {1001, 9000, true}} {
		if held := Guard(c.gone, c.listed) != ""; held != c.held {
			t.Errorf("%d gone, %d listed: held %v", c.gone, c.listed, held)
		}
	}
}
