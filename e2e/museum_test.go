package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"
)

// museum is a small group of museums: 40 devices of which three sources tell in forms of their own, 30 people, two houses.
type museum struct {
	dir string
	t   *testing.T
}

func (m museum) write(name, text string) string {
	m.t.Helper()
	path := filepath.Join(m.dir, name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		m.t.Fatal(err)
	}
	return path
}

// inventory is what the office writes down of so many devices: a spreadsheet in UTF-16 with semicolons.
func (m museum) inventory(devices int) string {
	m.t.Helper()
	var b strings.Builder
	b.WriteString("Asset;Serial No;Kind;System;OS Version;Encrypted;Locks after;Assigned to;Remarks\r\n")
	for i := range devices {
		system, version := "macos", "14.7"
		if i%2 == 1 {
			system, version = "windows", "10.0.22631"
		}
		encrypted := "Enabled"
		if i == 5 {
			encrypted = "Disabled"
		}
		fmt.Fprintf(&b, "M-%02d;MU%04d;Laptop;%s;%s;%s;600;person%02d@museum.example;\"in the\nold house\"\r\n",
			i, i, system, version,
			encrypted, i%30)
	}
	raw := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(b.String())) {
		raw = append(raw, byte(u), byte(u>>8))
	}
	return m.write("inventory.csv", string(raw))
}

// sensed is what the threat sensor says, nested JSON, of some devices.
func (m museum) sensed(score int, devices ...int) string {
	m.t.Helper()
	type machine struct {
		Serial string `json:"sn"`
		Risk   struct {
			Score int `json:"score"`
		} `json:"risk"`
	}
	var doc struct {
		Machines []machine `json:"machines"`
	}
	for _, i := range devices {
		x := machine{Serial: fmt.Sprintf("MU%04d", i)}
		x.Risk.Score = score
		doc.Machines = append(doc.Machines, x)
	}
	raw, err := json.Marshal(doc)
	if err != nil {
		m.t.Fatal(err)
	}
	return m.write("sensor.json", string(raw))
}

const inventoryMap = `source: office
identity: {external_id: "Asset", serial: "Serial No"}
evidence:
  form: {from: Kind, words: {Laptop: laptop, Tablet: tablet}}
  platform: "System"
  os.version: "OS Version"
  storage.encrypted: {from: Encrypted, words: {Enabled: true, Disabled: false}}
  screen_lock.after: {from: "Locks after", unit: s}
  owner: "Assigned to"
`

const sensorMap = `source: sensor
items: /machines
identity: {serial: /sn}
evidence: {threat.score: /risk/score}
`

// A museum group walks from an empty folder to a protected application, a fall, a cure, a purge and an archive, with
// nothing but the documented commands.
func TestAMuseumSetsItUp(t *testing.T) {
	t.Parallel()
	m := museum{t.TempDir(), t}
	dir := t.TempDir()

	// Four months ago somebody tried the service out.
	trial := startOf(t, aged, "serve", dir)
	for i := range 5 {
		trial.run(t, "", "token", "create", fmt.Sprint("a-trial-", i), "--role", "reader", "--for", "1d").want(t, 0)
	}
	trial.stop(t)
	s := start(t, "serve", dir)

	// The rulebook begins with a starter; who works with what matters most is the registry.
	book := filepath.Join(m.dir, "museum.yaml")
	offline(t, "", "rulebook", "init", book, "--name", "museum", "--platforms", "macos,windows", "--groups", "registry").
		want(t, 0, "is written")
	offline(t, "", "rulebook", "init", book).want(t, 1, "stays as it is")
	offline(t, "", "rulebook", "check", book).want(t, 0, "is right")
	offline(t, "", "rulebook", "fmt", "--check", book).want(t, 0)
	s.run(t, "", "rulebook", "diff", "current", book).want(t, 1, "no rulebook has been published yet")
	s.run(t, "", "rulebook", "publish", book, "-m", "A beginning").want(t, 0, "Version 1 is in force")
	s.run(t, "", "rulebook", "publish", book, "-m", "Again").want(t, 0, "has the same files")
	s.run(t, "", "rulebook", "publish", book, "-m", " ").want(t, 2, "is empty")
	out := filepath.Join(m.dir, "published")
	s.run(t, "", "rulebook", "show", "--out", out).want(t, 0)
	a, errA := os.ReadFile(book)
	b, errB := os.ReadFile(filepath.Join(out, "museum.yaml"))
	if errA != nil || errB != nil || string(a) != string(b) {
		t.Errorf("what was published comes back otherwise: %v, %v", errA, errB)
	}

	// People, and what three sources know of the devices.
	people := "id,name,groups\n"
	for i := range 30 {
		people += fmt.Sprintf("person%02d@museum.example,Person %d,%s\n", i, i, []string{"registry", "guides"}[min(i%3, 1)])
	}
	s.run(t, "", "person", "import", m.write("people.csv", people), "--whole").want(t, 0, "30 people added")
	inventory, office := m.inventory(40), m.write("office.yaml", inventoryMap)
	s.run(t, "", "device", "import", inventory).want(t, 1, `"Serial No" may be serial`)
	s.run(t, "", "device", "import", inventory, "--map", office, "--source", "office", "--dry-run").
		want(t, 0, "Nothing is taken", "40 reports taken")
	var none struct{ Total int }
	s.call(t, http.MethodGet, "/api/v1/devices", adminToken, "", "").into(t, 200, &none)
	if none.Total != 0 {
		t.Errorf("a dry run made %d devices", none.Total)
	}
	s.run(t, "", "device", "import", inventory, "--map", office, "--source", "office", "--whole").want(t, 0,
		"40 reports taken")
	all := make([]int, 40)
	for i := range all {
		all[i] = i
	}
	sensor := m.write("sensor.yaml", sensorMap)
	s.run(t, "", "device", "import", m.sensed(3, all...), "--map", sensor).want(t, 0, "40 reports taken")
	agent := `{"source":"agent","identity":{"serial":"MU0007"},"evidence":{"name":"the curator's","firewall.on":true}}`
	s.run(t, agent, "device", "import", "-").want(t, 0)
	s.run(t, "", "device", "list", "--rule", "computer/disk-encrypted", "--verdict", "fail").want(t, 0,
		"MU0005", "1 of 1")
	s.run(t, "", "rule", "show", "computer/disk-encrypted").want(t, 0, "macos", "windows", "storage.encrypted")
	s.run(t, "", "appraise", "--rulebook", book, "--evidence", inventory, "--evidence", m.sensed(3, all...), "--map",
		inventory+"="+office, "--map", filepath.Join(m.dir, "sensor.json")+"="+sensor, "-o", "json").want(t, 0, `"strong"`)

	// A cut inventory takes nothing back, a truthful one does.
	s.run(t, "", "device", "import", m.inventory(20), "--map", office, "--source", "office", "--whole").
		want(t, 3, "Held back", "20 devices no longer listed")
	s.run(t, "", "device", "import", m.inventory(38), "--map", office, "--source", "office", "--whole").
		want(t, 0, "2 devices no longer listed")
	s.run(t, "", "device", "list", "--where", "level == strong").want(t, 0, "37 of 37")

	// The accounts are protected by whoever asks; from a good device with a second factor they open.
	var gate struct{ Secret string }
	s.run(t, "", "token", "create", "the-proxy", "--role", "enforcer", "--for", "90d", "-o", "json").into(t, &gate)
	question := func(device string) bool {
		t.Helper()
		body := fmt.Sprintf(`{"subject":{"type":"user","id":"person06@museum.example"},"action":{"name":"open"},`+
			`"resource":{"type":"app","id":"accounts"},"context":{"device":{"serial":%q},"auth":{"mfa":true}}}`, device)
		var answer struct{ Decision bool }
		s.call(t, http.MethodPost, "/access/v1/evaluation", gate.Secret, "application/json", body).into(t, 200, &answer)
		return answer.Decision
	}
	if !question("MU0006") || question("MU0005") {
		t.Error("a good device is refused, or one without an encrypted disk let in")
	}
	s.run(t, "", "ask", "person06@museum.example", "account", "--device", "MU006").
		want(t, 3, "resource account is known to nobody; did you mean accounts?", "device MU006 is known to nobody")

	// A threat cuts it at once, nobody may except it, and the cure restores it.
	s.run(t, "", "device", "import", m.sensed(95, 6), "--map", sensor).want(t, 0)
	if question("MU0006") {
		t.Error("a device with a threat is let in")
	}
	s.run(t, "", "waiver", "grant", "MU0006", "computer/no-threat", "--for", "1d", "--reason", "a try").
		want(t, 1, "waivable: false")
	s.run(t, "", "device", "import", m.sensed(2, 6), "--map", sensor).want(t, 0)
	if !question("MU0006") {
		t.Error("the cure does not restore it")
	}

	// Exceptions of many at once, with their limits.
	s.run(t, "", "waiver", "grant", "computer/disk-encrypted", "--where", "not storage.encrypted", "--for",
		"20d", "--reason",
		"A disk is on order, ticket 12").want(t, 2, "1 device would be excepted", "say --yes")
	s.run(t, "", "waiver", "grant", "computer/disk-encrypted", "--where", "not storage.encrypted", "--for",
		"20d", "--reason",
		"A disk is on order, ticket 12", "--yes").want(t, 0, "strong")
	s.run(t, "", "waiver", "grant", "MU0006", "computer/disk-encrypted", "--for", "1d", "--reason", "for nothing").
		want(t, 0, "Warning: it changes nothing now")
	var desk struct{ Secret string }
	s.run(t, "", "token", "create", "the-desk", "--role", "helpdesk", "-o", "json").into(t, &desk)
	s.run(t, "", "--token", desk.Secret, "waiver", "grant", "MU0008", "computer/os-current", "--for", "5d",
		"--reason", "x").
		want(t, 1, "the rulebook allows 2d")
	s.run(t, "MU0010\nMU0011\n", "device", "tag", "-", "--add", "pilot").want(t, 0, "pilot")
	s.run(t, "", "device", "list", "--where", `tags contains "pilot"`).want(t, 0, "2 of 2")

	// What a change would do, and that the guard would refuse it.
	text := strings.Replace(string(a), "need: level == strong and auth.mfa", "need: level > strong and auth.mfa", 1)
	text = strings.Replace(text, "need: level == strong and auth.mfa", "need: false", 1)
	worse := m.write("worse.yaml", strings.Replace(text, "level > strong and auth.mfa", "level == barred", 1))
	s.run(t, "", "rulebook", "rehearse", worse).want(t, 3, "The guard would refuse it")
	s.run(t, "", "rulebook", "rehearse", worse, "-o", "csv").want(t, 3, "PERSON,ACTION,RESOURCE,TIMES",
		"person06@museum.example")

	// A laptop is sold: it leaves the numbers, and what is known of it goes for good.
	s.run(t, "", "device", "purge", "MU0006", "--reason", "sold").want(t, 1, "is in service: retire it first")
	s.run(t, "", "device", "retire", "MU0006", "--reason", "sold").want(t, 0, "is retired")
	if question("MU0006") {
		t.Error("a retired device is let in")
	}
	s.run(t, "", "overview").want(t, 0, "39 devices", "1 retired")
	s.run(t, "", "device", "purge", "MU0006", "--reason", "sold", "--redact").want(t, 0,
		"readings are removed", "entries")
	s.run(t, "", "device", "show", "MU0006", "--readings").want(t, 0, "Purged:").not(t, "person06@museum.example")
	if question("MU0006") {
		t.Error("a purged device is let in")
	}
	s.run(t, "", "device", "import", m.sensed(1, 6), "--map", sensor).want(t, 0)
	s.run(t, "", "device", "show", "MU0006").want(t, 0, "Retired:")
	s.run(t, "", "token", "rotate", "the-proxy", "--overlap", "1h").want(t, 0)
	if !question("MU0012") || question("MU0006") {
		t.Error("the old secret is no good in its overlap, or a purged device is let in")
	}
	s.run(t, "", "ledger", "verify").want(t, 0)

	// What that trial left goes into a file, which proves itself.
	s.run(t, "", "ledger", "archive", "make", "--before", "100d", "--reason", "only a trial").want(t, 0, "entries 1 to 6")
	files, err := filepath.Glob(filepath.Join(dir, "archives", "*.ndjson.gz"))
	if err != nil || len(files) != 1 {
		t.Fatal(files, err)
	}
	s.run(t, "", "ledger", "archive", "verify", files[0]).want(t, 0, "Sound:")
	s.run(t, "", "ledger", "archive", "show", files[0], "--entry", "2").want(t, 0, "a-trial-0")
	s.run(t, "", "ledger", "verify").want(t, 0, "6 bodies are in archives")
	s.run(t, "", "device", "retire", "MU0012", "--reason", "sold too").want(t, 0)
	s.run(t, "", "device", "purge", "MU0012", "--reason", "sold too", "--redact").want(t, 0, "What archives say of them is not reached",
		filepath.Base(files[0]))
}
