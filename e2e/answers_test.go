package e2e

import (
	"bytes"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/demo"
)

// harbour is a small rulebook of the tests' own.
const harbour = `rulebook: harbour
places: {quay: {networks: [10.9.0.0/16]}, sweden: {countries: [SE]}}
resources: [{id: till, url: https://till.quay.example}, {id: board, url: https://board.quay.example/public}]
break_glass: [master]
guard: {max_newly_denied: 20%, administrators: {groups: [it]}}
enrolment: {allow: on_roster, otherwise: hold}
issuers: [{id: ca, file: ca.pem, crl: ca.crl, binds: serial}]
baselines:
  - id: laptop
    applies: form == laptop
    rules:
      - {id: disk, check: storage.encrypted, cap: limited}
      - {id: threat, check: threat.score <= 30, unknown: sound, remedy: {en: {title: Leave the network, steps: "Call [the desk](https://help.quay.example)"}}}
gates:
  - {id: till, number: 10, who: {groups: [crew, it]}, what: {resources: [till]}, need: level >= sound, valid_for: 8h}
  - {id: board, number: 20, who: {everyone: true}, what: {resources: [board]}, need: level >= unproven}
`

const fit = `"form":"laptop","platform":"linux","storage.encrypted":true,"threat.score":3`

// openHouse starts a service with the rulebook, with some sections added, and people.
func openHouse(t *testing.T, sections string) *server {
	t.Helper()
	s := start(t, "serve", t.TempDir())
	s.publish(t, harbour+sections)
	s.run(t, "id,name,groups\nmaren,Maren,crew\nbirk,Birk,crew\nida,Ida,it\n", "person", "import",
		"-").want(t, 0, "3 people added")
	return s
}

// publish puts a rulebook in force, with the demo's authority beside it.
func (s *server) publish(t *testing.T, text string, flags ...string) {
	t.Helper()
	s.run(t, "", append([]string{"rulebook", "publish", bookFolder(t, text)}, flags...)...).want(t, 0,
		"is in force")
}

func bookFolder(t *testing.T, text string) string {
	t.Helper()
	dir := t.TempDir()
	certificate, list := demo.Authority()
	for name, text := range map[string]string{"harbour.yaml": text, "ca.pem": certificate, "ca.crl": list} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// token makes a token and returns its secret.
func (s *server) token(t *testing.T, name, role string) string {
	t.Helper()
	return strings.TrimSpace(s.run(t, "", "token", "create", name, "--role", role).want(t, 0).out)
}

// report sends one report with a token and returns what became of it.
func (s *server) report(t *testing.T, token, about, evidence string) api.ReportResult {
	t.Helper()
	var in api.IngestResult
	s.call(t, "POST", "/api/v1/evidence", token, "application/x-ndjson",
		`{`+about+`,"evidence":{`+evidence+`}}`).into(t, 200, &in)
	if len(in.Results) != 1 {
		t.Fatalf("%s becomes %+v", about, in)
	}
	return in.Results[0]
}

// forward asks as a proxy does; headers come in pairs.
func (s *server) forward(t *testing.T, token, person string, headers ...string) int {
	t.Helper()
	req := s.request(t, "GET", "/forward-auth", token)
	req.Header.Set("X-Forwarded-User", person)
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Add(headers[i], headers[i+1])
	}
	return s.send(t, req).status
}

// decided asks for a decision and tells it in a line.
func (s *server) decided(t *testing.T, person, resource, device string) string {
	t.Helper()
	body := fmt.Sprintf(`{"subject":{"type":"user","id":%q},"action":{"name":"open"},"resource":{"type":"app","id":%q},"context":{"device":{%s}}}`, person, resource, device)
	var got struct {
		Context struct {
			Outcome, Level, Device string
			Known                  bool              `json:"known_device"`
			Reason                 map[string]string `json:"reason_admin"`
		}
	}
	s.call(t, "POST", "/access/v1/evaluation", adminToken, "application/json", body).into(t, 200, &got)
	c := got.Context
	return fmt.Sprintf("%s %s %s known:%t %s", c.Outcome, c.Level, c.Device, c.Known, c.Reason["en"])
}

func says(t *testing.T, got string, want ...string) {
	t.Helper()
	for _, w := range want {
		if !strings.Contains(got, w) {
			t.Errorf("%q is not in: %s", w, got)
		}
	}
}

// header writes a certificate as RFC 9440 has it.
func header(t *testing.T, certificate string) string {
	t.Helper()
	block, _ := pem.Decode([]byte(certificate))
	if block == nil {
		t.Fatal("no certificate")
	}
	raw, err := json.Marshal(block.Bytes) // base64 in quotes
	if err != nil {
		t.Fatal(err)
	}
	return ":" + strings.Trim(string(raw), `"`) + ":"
}

func shows(certificate string) string { return fmt.Sprintf(`"certs":[{"pem":%q}]`, certificate) }

func restarted(t *testing.T, s *server) *server {
	t.Helper()
	dir := s.data
	s.stop(t)
	return start(t, "serve", dir)
}

// An allow that ended does not come back with a restart, nor does one whose place
// it took; and whoever took its ground is on record.
func TestAllowsThatEndedStayEnded(t *testing.T) {
	t.Parallel()
	s := openHouse(t, "")
	edge, sensor := s.token(t, "edge", "enforcer"), s.token(t, "sensor", "source")
	card := demo.NewCard("GF-1", time.Now())
	s.report(t, adminToken, `"identity":{"id":"d1","serial":"GF-1"}`, fit+","+shows(card))
	ask := func() int {
		t.Helper()
		return s.forward(t, edge, "maren", "Ironledger-Resource", "till", "Client-Cert", header(t, card))
	}
	question := fmt.Sprintf(`{"subject":{"type":"user","id":"maren"},"action":{"name":"open"},"resource":{"type":"resource","id":"till"},"context":{"device":{"certificate_sha256":%q}}}`, s.print(t, "d1"))
	if got := ask(); got != 204 {
		t.Fatalf("a good device is answered %d", got)
	}
	for range 3 { // the same question again takes the place of the allow
		s.call(t, "POST", "/access/v1/evaluation", edge, "application/json", question)
	}
	s.report(t, sensor, `"identity":{"id":"d1"}`, `"threat.score":95`)
	s = restarted(t, s)
	if got := ask(); got != 403 {
		t.Errorf("after a threat and a restart the device is answered %d", got)
	}
	if r := s.run(t, "", "session", "list").want(t, 0); strings.Contains(r.out, "maren") {
		t.Errorf("a session is back:\n%s", r.out)
	}
	var ended []struct {
		Actor string
		Body  struct{ By string }
	}
	out := s.run(t, "", "ledger", "list", "--kind", "session.ended", "-o", "json").want(t, 0).out
	if err := json.Unmarshal([]byte(out), &ended); err != nil || len(ended) != 4 {
		t.Fatalf("%d allows ended (%v): %s", len(ended), err, out)
	}
	for _, e := range ended {
		if e.Actor != "sensor" {
			t.Errorf("an allow ended by %s", e.Actor)
		}
	}
}

// print is the fingerprint of the certificate that a device shows.
func (s *server) print(t *testing.T, device string) string {
	t.Helper()
	var d struct{ Certificates []struct{ SHA256 string } }
	s.call(t, "GET", "/api/v1/devices/"+device, adminToken, "", "").into(t, 200, &d)
	if len(d.Certificates) == 0 {
		t.Fatal("no certificates")
	}
	return d.Certificates[0].SHA256
}

// What identifies a device behind a proxy is a certificate that is trusted at that
// moment.
func TestCertificatesThatIdentify(t *testing.T) {
	t.Parallel()
	s := openHouse(t, "")
	edge, now := s.token(t, "edge", "enforcer"), time.Now()
	ask := func(certificate string) int {
		t.Helper()
		return s.forward(t, edge, "maren", "Ironledger-Resource", "till", "Client-Cert", header(t, certificate))
	}
	good, old, revoked, stranger := demo.NewCard("GF-1", now),
		demo.NewCard("GF-2", now.Add(-20*24*time.Hour)), demo.NewCard("GF-L-1049", now), demo.Card("GF-L-1050", now)
	for serial, certificate := range map[string]string{"GF-1": good, "GF-2": old, "GF-L-1049": revoked,
		"GF-L-1050-S": stranger} {
		s.report(t, adminToken, fmt.Sprintf(`"identity":{"serial":%q}`, serial), fit+","+shows(certificate))
	}
	for _, c := range []struct {
		name, certificate string
		want              int
	}{{"a good one", good, 204}, {"an expired one", old, 403}, {"a revoked one", revoked, 403},
		{"one that nobody issued", stranger, 403}} {
		if got := ask(c.certificate); got != c.want {
			t.Errorf("%s is answered %d, want %d", c.name, got, c.want)
		}
	}
	renewed := demo.NewCard("GF-1", now.Add(time.Second))
	s.report(t, adminToken, `"identity":{"serial":"GF-1"}`, shows(renewed))
	if ask(good) != 403 || ask(renewed) != 204 {
		t.Error("a certificate that was replaced still identifies")
	}
	says(t, s.run(t, "", "decision", "list", "--outcome", "deny", "-o", "json").want(t, 0).out,
		"identifies no device", "expired on", "no one device is known by certificate_sha256")
	says(t, s.run(t, "", "device", "history", "GF-1").want(t, 0).out, "device.keyed", "lost certificate_sha256")
}

// Keys are evidence: who may say which device is which, and what becomes of keys.
func TestWhoIsWho(t *testing.T) {
	t.Parallel()
	whole := t // a service outlives the part that starts it again
	s := openHouse(t, `sources:
  - {id: agent, provides: ["*"]}
  - {id: mdm, provides: [os, storage, form, platform, threat], identifies: true}
  - {id: locks, provides: [custom.usb_lock, threat]}
attributes: {custom.usb_lock: {type: bool}}
ignore_keys: [GF-DUMMY]
`)
	locks, mdm, agent := s.token(t, "locks", "source"), s.token(t, "mdm", "source"), s.token(t, "agent", "source")
	t.Run("an external id is its source's own", func(t *testing.T) {
		s.report(t, mdm, `"external_id":"7","identity":{"serial":"A-1"}`, fit)
		s.report(t, agent, `"external_id":"7","identity":{"serial":"A-2"}`, fit)
		if got := s.report(t, mdm, `"external_id":"7"`, `"threat.score":95`); got.Device != "A-1" {
			t.Errorf("the report joins %+v", got)
		}
		says(t, s.decided(t, "maren", "till", `"serial":"A-2"`), "allow")
		if got := s.report(t, mdm, `"source":"agent","external_id":"7"`, fit); !strings.Contains(got.Error,
			"may only report as mdm") {
			t.Errorf("it speaks for another: %+v", got)
		}
	})
	t.Run("a source that does not identify only uses keys", func(t *testing.T) {
		if got := s.report(t, locks, `"identity":{"serial":"A-2","hardware_id":"thief-01"}`,
			`"custom.usb_lock":true`); got.Device != "A-2" {
			t.Errorf("it joins %+v", got)
		}
		says(t, s.decided(t, "maren", "till", `"hardware_id":"thief-01"`), "deny", "known:false",
			"no one device is known by hardware_id thief-01")
	})
	t.Run("what it says of an unknown device waits, and joins by itself", func(t *testing.T) {
		got := s.report(t, locks, `"identity":{"serial":"B-1"}`, `"threat.score":95`)
		if got.Waiting == "" || got.Device != "" {
			t.Fatalf("it becomes %+v", got)
		}
		says(t, s.run(t, "", "unmatched", "list", "--all").want(t, 0).out, "waiting", "serial b-1: no device")
		s = restarted(whole, s)
		s.report(t, mdm, `"identity":{"serial":"B-1"}`,
			`"form":"laptop","platform":"linux","storage.encrypted":true`)
		says(t, s.run(t, "", "device", "show", "B-1").want(t, 0).out, "barred", "laptop/threat")
		if r := s.run(t, "", "unmatched", "list", "--all").want(t, 0); strings.Contains(r.out, "b-1") {
			t.Errorf("it waits still:\n%s", r.out)
		}
	})
	t.Run("placeholders are no keys", func(t *testing.T) {
		for _, serial := range []string{"Default string", "0", "00000000", "gf-dummy", "To be filled by O.E.M."} {
			if got := s.report(t, agent, fmt.Sprintf(`"identity":{"serial":%q}`, serial),
				fit); !strings.Contains(got.Error, "placeholder") {
				t.Errorf("%s makes %+v", serial, got)
			}
		}
		one := s.report(t, agent, `"identity":{"id":"p1","serial":"Default string"}`, fit)
		two := s.report(t, agent, `"identity":{"id":"p2","serial":"Default string"}`, fit)
		if one.Device != "p1" || two.Device != "p2" {
			t.Errorf("two machines become %s and %s", one.Device, two.Device)
		}
		says(t, s.decided(t, "maren", "till", `"serial":"default string"`), "deny", "known:false")
	})
	t.Run("two machines with one serial are kept apart", func(t *testing.T) {
		s.report(t, mdm, `"external_id":"51","identity":{"serial":"TWIN-1"}`, fit)
		got := s.report(t, mdm, `"external_id":"52","identity":{"serial":"TWIN-1"}`, fit)
		if got.Unmatched == "" || !strings.Contains(got.Error, "two machines seem to share a serial") {
			t.Fatalf("the second becomes %+v", got)
		}
		s.run(t, "", "unmatched", "settle", got.Unmatched, "--device", "A-2", "--dry-run").want(t, 0,
			"serial twin-1, until now that of TWIN-1, points at A-2", "dry run")
		says(t, s.decided(t, "maren", "till", `"serial":"TWIN-1"`), "TWIN-1")
		before := time.Now().UTC().Format(time.RFC3339Nano)
		s.run(t, "", "unmatched", "settle", got.Unmatched, "--device", "A-2", "--reason",
			"the label was wrong").want(t, 0, "points at A-2")
		says(t, s.decided(t, "maren", "till", `"serial":"TWIN-1"`), "A-2")
		says(t, s.run(t, "", "device", "history", "TWIN-1").want(t, 0).out, "device.keyed",
			"lost serial twin-1", "the label was wrong")
		// The past of the device that lost the key can still be told.
		s.run(t, "", "device", "show", "TWIN-1", "--at", before).want(t, 0, "TWIN-1")
		var list []struct{ ID string }
		out := s.run(t, "", "decision", "list", "--device", "TWIN-1", "-o", "json").want(t, 0).out
		if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) == 0 {
			t.Fatal(out, err)
		}
		s.run(t, "", "decision", "show", list[0].ID, "--replay").want(t, 0)
	})
	t.Run("a machine that was set up again takes its key along", func(t *testing.T) {
		at := func(back time.Duration) string {
			return fmt.Sprintf(`"observed_at":%q,`, time.Now().Add(-back).UTC().Format(time.RFC3339))
		}
		s.report(t, mdm, at(30*time.Hour)+`"external_id":"61","identity":{"serial":"AGAIN-1"}`, fit)
		if got := s.report(t, mdm, at(0)+`"external_id":"62","identity":{"serial":"AGAIN-1"}`,
			fit); got.Device != "AGAIN-1" || len(got.Moved) != 1 {
			t.Errorf("it becomes %+v", got)
		}
		says(t, s.run(t, "", "device", "history", "AGAIN-1").want(t, 0).out,
			"gained external_id mdm:62, lost external_id mdm:61")
	})
	t.Run("offline, whatever the order of the lines", func(t *testing.T) {
		lines := []string{`{"source":"locks","identity":{"serial":"O-1"},"evidence":{"threat.score":95}}`,
			`{"source":"mdm","identity":{"serial":"O-1"},"evidence":{"form":"laptop","platform":"linux","storage.encrypted":true}}`,
			`{"source":"locks","identity":{"serial":"O-2"},"evidence":{"threat.score":95}}`}
		book := bookFolder(t, harbour+
			"sources: [{id: mdm, provides: [storage, form, platform], identifies: true}, {id: locks, provides: [threat]}]\n")
		for _, in := range []string{lines[0] + "\n" + lines[1] + "\n" + lines[2],
			lines[2] + "\n" + lines[1] + "\n" + lines[0]} {
			r := offline(t, in, "appraise", "--rulebook", book, "--evidence", "-", "-o", "ndjson").want(t, 0,
				`"device":"O-1"`, `"level":"barred"`, "nobody makes known")
			if strings.Contains(r.out, "O-2") {
				t.Errorf("an unknown device is appraised: %s", r.out)
			}
		}
	})
}

// A device that is held, refused or retired is not known, whatever is reported of it.
func TestDevicesThatAreNotAdmitted(t *testing.T) {
	t.Parallel()
	s := openHouse(t, "")
	state := func(serial string) (id string) {
		t.Helper()
		var e struct{ ID, State string }
		r := s.run(t, "", "device", "enrol", "--serial", serial, "-o", "json")
		if err := json.Unmarshal([]byte(r.out), &e); err != nil {
			t.Fatal(r.out, r.err)
		}
		return e.ID
	}
	held, refused := state("H-1"), state("R-1")
	s.run(t, "", "device", "enrol", "refuse", refused, "--reason", "not ours").want(t, 0)
	for _, serial := range []string{"H-1", "R-1", "X-1"} {
		s.report(t, adminToken, fmt.Sprintf(`"identity":{"serial":%q}`, serial), fit)
	}
	s.run(t, "", "device", "retire", "X-1", "--reason", "sold").want(t, 0)
	s.report(t, adminToken, `"identity":{"serial":"X-1"}`, `"threat.score":1`)
	check := func() {
		t.Helper()
		for serial, why := range map[string]string{"H-1": "waits to be enrolled",
			"R-1": "was refused at enrolment", "X-1": "is retired: sold"} {
			says(t, s.decided(t, "maren", "till", fmt.Sprintf(`"serial":%q`, serial)),
				"deny unproven "+serial+" known:false", why)
			s.run(t, "", "device", "show", serial).want(t, 0, "unproven")
		}
	}
	check()
	s = restarted(t, s)
	check()
	s.run(t, "", "device", "enrol", "admit", held, "--reason", "seen").want(t, 0)
	says(t, s.decided(t, "maren", "till", `"serial":"H-1"`), "allow strong H-1 known:true")

	t.Run("one is admitted or refused, once", func(t *testing.T) {
		for round := range 10 {
			id, codes := state(fmt.Sprint("RACE-", round)), make([]int, 2)
			var wg sync.WaitGroup
			for i, admit := range []bool{true, false} {
				wg.Go(func() {
					codes[i] = s.call(t, "POST", "/api/v1/enrolments/"+id+"/decide", adminToken,
						"application/json", fmt.Sprintf(`{"admit":%t,"reason":"race"}`, admit)).status
				})
			}
			wg.Wait()
			if (codes[0] == 200) == (codes[1] == 200) {
				t.Errorf("admitting and refusing are answered %v", codes)
			}
		}
		var wg sync.WaitGroup
		for range 8 {
			wg.Go(func() {
				s.call(t, "POST", "/api/v1/enrolments", adminToken, "application/json", `{"serial":"EIGHT-1"}`)
			})
		}
		wg.Wait()
		if n := strings.Count(s.run(t, "", "device", "enrol", "list", "--state", "held").want(t, 0).out,
			"EIGHT-1"); n != 1 {
			t.Errorf("%d requests for one device wait", n)
		}
	})
}

// People whom the directory does not know, and a directory that would shut people out.
func TestADirectoryIsGuarded(t *testing.T) {
	t.Parallel()
	s := openHouse(t, "")
	says(t, s.decided(t, "leaver", "board", ""), "deny", "the directory does not know leaver")
	says(t, s.decided(t, "master", "board", ""), "allow")
	for person, device := range map[string]string{"maren": "d1", "birk": "d2", "ida": "d3"} {
		s.report(t, adminToken, fmt.Sprintf(`"identity":{"id":%q}`, device), fit+fmt.Sprintf(`,"owner":%q`, person))
	}
	shouted := "id,name,groups\nmaren,Maren,CREW\nbirk,Birk,CREW\nida,Ida,IT\n"
	s.run(t, shouted, "person", "import", "-", "--dry-run").want(t, 3, "Nothing is changed",
		"maren loses till", "Held back")
	s.run(t, shouted, "person", "import", "-").want(t, 1, "would lock people out", "3 of the 3 people",
		"--accept-impact")
	says(t, s.decided(t, "maren", "till", `"id":"d1"`), "allow")
	s.run(t, "", "person", "remove", "ida", "--dry-run").want(t, 3, "ida loses")
	s.run(t, "", "person", "remove", "ida", "--reason", "left").want(t, 1, "would lock people out",
		"would be shut out: ida")
	s.run(t, shouted, "person", "import", "-", "--accept-impact", "a drill").want(t, 0, "3 changed")
	says(t, s.decided(t, "maren", "till", `"id":"d1"`), "deny")
	s.publish(t, harbour+"unknown_people: gates\n", "--accept-impact", "a drill")
	says(t, s.decided(t, "leaver", "board", ""), "allow", "Note: the directory does not know leaver")
}

// One administrator who was denied anyway does not disarm the guard.
func TestALoneAdministratorHoldsAPublicationBack(t *testing.T) {
	t.Parallel()
	s := openHouse(t, "")
	s.run(t, "id,name,groups\nedda,Edda,it\n", "person", "import", "-").want(t, 0)
	for _, empty := range []string{"", "id,name,groups\n"} {
		s.run(t, empty, "person", "import", "-").want(t, 1, "there is no line in it")
	}
	s.report(t, adminToken, `"identity":{"id":"d3"}`, fit+`,"owner":"ida"`)
	says(t, s.decided(t, "ida", "till", `"id":"d3"`), "allow")
	says(t, s.decided(t, "edda", "till", ""), "deny")
	stricter := bookFolder(t, strings.ReplaceAll(strings.Replace(harbour, "max_newly_denied: 20%",
		"max_newly_denied: 100%", 1), "groups: [crew, it]", "groups: [crew]"))
	s.run(t, "", "rulebook", "publish", stricter).want(t, 1, "every administrator would be denied everything",
		"ida")
}

// The address that is judged is the one that is served.
func TestAmbiguousAddressesAreRefused(t *testing.T) {
	t.Parallel()
	s := openHouse(t, "")
	edge := s.token(t, "edge", "enforcer")
	ask := func(uri string, more ...string) int {
		t.Helper()
		return s.forward(t, edge, "master",
			append([]string{"X-Forwarded-Proto", "https", "X-Forwarded-Host", "board.quay.example",
				"X-Forwarded-Uri", uri}, more...)...)
	}
	for uri, want := range map[string]int{
		"/public": 204, "/public/": 204, "/public/a%20b?x=../..//%2e": 204, "/public/%C3%A5": 204,
		"/publics": 403, "/": 403,
		"/public/../till": 403, "/public/./x": 403, "/public/..": 403, "/public//x": 403, "//public": 403,
		"/public/%2e%2e/x": 403, "/public/%2E/x": 403,
		"/public/a%2fb": 403, "/public/a%5cb": 403, "/public/a\\b": 403, "/public/;x": 403,
		"/public;x=1/y": 403, "/%70ublic": 403, "/public/%": 403,
		"/public/%zz": 403, "/public/%00": 403, "/public/%252e": 403, "/public/a b": 403, "public": 403,
		"https://board.quay.example/public": 403, "/public/#x": 403,
	} {
		if got := ask(uri); got != want {
			t.Errorf("%s is answered %d, want %d", uri, got, want)
		}
	}
	for name, more := range map[string][]string{
		"a country twice":  {"Ironledger-Country", "SE", "Ironledger-Country", "NO"},
		"a person twice":   {"X-Forwarded-User", "ida"},
		"an address twice": {"X-Forwarded-For", "10.9.0.1", "X-Forwarded-For", "192.0.2.1"},
		"a factor twice":   {"Ironledger-Mfa", "true", "Ironledger-Mfa", "false"},
		"a host twice":     {"X-Forwarded-Host", "till.quay.example"},
	} {
		if got := ask("/public", more...); got != 403 {
			t.Errorf("%s is answered %d", name, got)
		}
	}
	for host, want := range map[string]int{"BOARD.quay.example": 204, "board.quay.example:443": 204,
		"board.quay.example.": 403, "x@board.quay.example": 403, "board.quay.example:8443": 403} {
		if got := s.forward(t, edge, "master", "X-Forwarded-Proto", "https", "X-Forwarded-Host", host,
			"X-Forwarded-Uri", "/public"); got != want {
			t.Errorf("%s is answered %d, want %d", host, got, want)
		}
	}
}

// A ticket decides no more in the name of an enforcer whose token is gone.
func TestATicketOutlivesNoEnforcer(t *testing.T) {
	t.Parallel()
	s := openHouse(t, "")
	edge := s.token(t, "edge", "enforcer")
	req := s.request(t, "GET", "/forward-auth", edge)
	req.Header.Set("X-Forwarded-User", "maren")
	req.Header.Set("Ironledger-Resource", "till")
	page := s.send(t, req).header.Get("Ironledger-Page")
	again := func() int {
		return s.call(t, "POST", page+"/again", "", "application/x-www-form-urlencoded", "").status
	}
	before := s.entries(t)
	if got := again(); got != 200 || s.entries(t) != before+1 { // after the redirect
		t.Fatalf("checking again is answered %d, %d entries more", got, s.entries(t)-before)
	}
	if got := s.call(t, "POST", page+"/again", "", "multipart/form-data; boundary=x", "--x--").status; got != 415 {
		t.Errorf("another kind of form is answered %d", got)
	}
	s.run(t, "", "token", "revoke", "edge").want(t, 0)
	before = s.entries(t)
	if got := again(); got != 404 || s.entries(t) != before {
		t.Errorf("after its token is revoked: %d, %d entries more", got, s.entries(t)-before)
	}
}

// One caller cannot use up the service.
func TestBudgets(t *testing.T) {
	t.Parallel()
	s := openHouse(t, "")
	t.Run("a flood of nothing", func(t *testing.T) {
		var in api.IngestResult
		before := s.entries(t)
		s.call(t, "POST", "/api/v1/evidence", adminToken, "application/json",
			"["+strings.Repeat("{},", 200_000)+"{}]").into(t, 200, &in)
		if in.Rejected > 20_000 || len(in.Results) > 1_100 ||
			!strings.Contains(in.Results[len(in.Results)-1].Error, "one request may bring") {
			t.Errorf("%d refused, %d told of", in.Rejected, len(in.Results))
		}
		if n := s.entries(t) - before; n != 1 {
			t.Errorf("it makes %d entries", n)
		}
	})
	t.Run("nested quantifiers", func(t *testing.T) {
		var volumes []string
		for i := range 20 {
			volumes = append(volumes, fmt.Sprintf(`{"name":"v%d","encrypted":true}`, i))
		}
		for i := range 10 {
			s.report(t, adminToken, fmt.Sprintf(`"identity":{"id":"n%d"}`, i),
				fit+`,"volumes":[`+strings.Join(volumes, ",")+`]`)
		}
		nested := `any a in volumes (any b in volumes (any c in volumes (any d in volumes (any e in volumes (any f in volumes (a.name == "x" and f.name == b.name and c.name == d.name and e.name == "y"))))))`
		begun := time.Now()
		s.run(t, "", "device", "list", "--where", nested).want(t, 0, "Nothing to show")
		if took := time.Since(begun); took > 10*time.Second {
			t.Errorf("a nested search takes %s", took)
		}
		book := bookFolder(t, harbour+"examples:\n"+
			strings.Repeat("  - {device: {form: laptop, volumes: [{name: a}]}, level: unproven}\n", 3))
		offline(t, "", "rulebook", "check", book).want(t, 0)
	})
	t.Run("bodies that hardly come", func(t *testing.T) {
		var wg sync.WaitGroup
		for i := range 40 {
			path := []string{"/access/v1/evaluation", "/api/v1/evidence"}[i%2]
			wg.Go(func() {
				begun := time.Now()
				c, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
				if err != nil {
					t.Error(err)
					return
				}
				defer c.Close()
				fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: application/x-ndjson\r\nContent-Length: 100000\r\n\r\n", path, adminToken)
				gone := make(chan struct{})
				go func() {
					_, _ = io.Copy(io.Discard, c) // until the service hangs up
					close(gone)
				}()
				for tick := time.Tick(time.Second); ; {
					select {
					case <-gone:
						return
					case <-tick:
						_, _ = c.Write([]byte(" ")) // it may have hung up
					}
					if time.Since(begun) > time.Minute {
						t.Errorf("%s waits for its body after a minute", path)
						return
					}
				}
			})
		}
		says(t, s.decided(t, "master", "board", ""), "allow") // meanwhile
		wg.Wait()
	})
	t.Run("guesses of tokens", func(t *testing.T) {
		seen := map[int]int{}
		for range 400 {
			seen[s.call(t, "GET", "/api/v1/status", "il_wrong_wrong_wrong_wrong", "", "").status]++
		}
		if seen[401] == 0 || seen[429] == 0 || s.call(t, "GET", "/api/v1/status", adminToken, "",
			"").status != 200 {
			t.Errorf("guesses are answered %v", seen)
		}
	})
}

// Smaller things.
func TestEdges(t *testing.T) {
	t.Parallel()
	s := openHouse(t, "")
	t.Run("an id may have a slash in it", func(t *testing.T) {
		s.report(t, adminToken, `"identity":{"id":"dock/7 ?#%"}`, fit)
		s.run(t, "", "device", "show", "dock/7 ?#%").want(t, 0, "dock/7 ?#%", "strong")
		s.run(t, "", "device", "history", "dock/7 ?#%").want(t, 0, "first seen")
		s.run(t, "id,name,groups\na/b,Slash,crew\n", "person", "import", "-").want(t, 0)
		s.run(t, "", "person", "show", "a/b").want(t, 0, "Slash")
	})
	t.Run("a byte order mark", func(t *testing.T) {
		s.run(t, "\ufeff"+`{"identity":{"id":"bom"},"evidence":{`+fit+`}}`+"\n", "device", "import",
			"-").want(t, 0, "1 reports taken, with 4 values; 0 refused")
	})
	t.Run("broken tables", func(t *testing.T) {
		s.run(t, "id,form\n\"open,laptop\n", "device", "import", "-", "--format", "csv").want(t, 1, "not a CSV row")
		offline(t, "id,form\n\"open,laptop\n", "appraise", "--rulebook", bookFolder(t, harbour), "--evidence",
			"-").want(t, 1, "not a CSV row")
		s.run(t, "!x {}", "person", "import", "-").want(t, 1)
	})
	t.Run("paths of no page", func(t *testing.T) {
		for path, want := range map[string]int{"/nothing": 404, "/devices/x": 200, "/.env": 404,
			"/index.php": 404, "/wp-login": 404, "/sign-in": 200, "/": 200} {
			req := s.request(t, "GET", path, "")
			req.Header.Set("Accept", "text/html")
			if got := s.send(t, req).status; got != want {
				t.Errorf("%s is answered %d, want %d", path, got, want)
			}
		}
		req := s.request(t, "GET", "/devices/x", "")
		req.Header.Set("Accept", "application/json")
		if got := s.send(t, req).status; got != 404 {
			t.Errorf("a page asked for as JSON is answered %d", got)
		}
	})
	t.Run("metadata names the service, not what the caller called it", func(t *testing.T) {
		req := s.request(t, "GET", "/.well-known/authzen-configuration", "")
		req.Host = "evil.example"
		if r := s.send(t, req); bytes.Contains(r.body, []byte("evil")) || !bytes.Contains(r.body, []byte(s.url)) {
			t.Errorf("it says %s", r.body)
		}
	})
	t.Run("a rule that nobody may except a device from", func(t *testing.T) {
		s.publish(t, strings.Replace(harbour, "cap: limited}", "cap: limited, waivable: false}", 1))
		s.run(t, "", "waiver", "grant", "bom", "laptop/disk", "--for", "1d", "--reason", "x").want(t, 1,
			"waivable: false")
	})
	t.Run("links of remedies, and whole times", func(t *testing.T) {
		s.report(t, adminToken, `"identity":{"id":"bad"}`, fit+`,"owner":"maren"`)
		s.report(t, adminToken, `"identity":{"id":"bad"}`, `"threat.score":90`)
		r := s.run(t, "", "ask", "maren", "till", "--device", "bad").want(t, 3,
			"the desk (https://help.quay.example)")
		if strings.Contains(r.out, "](") {
			t.Errorf("a link is printed raw:\n%s", r.out)
		}
		s.run(t, "", "settings", "path", "-o", "json").want(t, 0, `"path"`)
	})
	t.Run("the records are their owner's alone", func(t *testing.T) {
		for _, name := range []string{"ironledger.db", "ironledger.db-wal", "ironledger.db-shm"} {
			info, err := os.Stat(filepath.Join(s.data, name))
			if err != nil || info.Mode().Perm() != 0o600 {
				t.Errorf("%s: %v %v", name, info.Mode(), err)
			}
		}
	})
	t.Run("the environment makes no administrator later", func(t *testing.T) {
		dir := s.data
		s.run(t, "", "token", "create", "other-admin", "--role", "admin").want(t, 0)
		s.run(t, "", "token", "revoke", "first-admin").want(t, 0)
		s.stop(t)
		s = start(t, "serve", dir) // the revoked one is in the environment
		if got := s.call(t, "GET", "/api/v1/status", adminToken, "", "").status; got != 401 {
			t.Errorf("a revoked token is answered %d", got)
		}
		s.stop(t)
		s = start(t, "serve", dir, "--new-admin-token", "all were lost")
		if got := s.call(t, "GET", "/api/v1/status", adminToken, "", "").status; got != 401 {
			t.Errorf("the token of the environment is answered %d", got)
		}
		s.stop(t)
		kept, err := os.ReadFile(filepath.Join(dir, "new-admin.token"))
		if made := regexp.MustCompile(`il_[\w-]{20,}`); err != nil || made.MatchString(s.log.String()) {
			t.Fatalf("the token is in the log, or not in its file: %v", err)
		}
		made := strings.TrimSpace(string(kept))
		s = start(t, "serve", dir)
		if r := s.call(t, "GET", "/api/v1/ledger/entries?kind=token.created", made, "",
			""); r.status != 200 || !bytes.Contains(r.body, []byte("all were lost")) {
			t.Errorf("with the token that was made: %d %s", r.status, r.body)
		}
	})
}
