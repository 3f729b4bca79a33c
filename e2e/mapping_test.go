package e2e

import (
	"os"
	"path/filepath"
	"testing"
)

// A partner's inventory goes in by a mapping, in JSON and as a table; what it cannot read
// is told of, and the rest goes in.
func TestAPartnersInventoryIsImported(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.run(t, "rulebook: r\nbaselines: [{id: b, rules: [{id: disk, check: storage.encrypted, cap: limited}]}]\n", "rulebook",
		"publish", "-", "--accept-impact", "a trial").want(t, 0)
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	by := write("partner.yaml", `items: /value
source: mdm
identity: {external_id: /uuid, serial: /serial}
evidence:
  platform: {from: /os, words: {Win: windows}}
  storage.encrypted: {from: /disk, words: {Encrypted: true, Plain: false}}
`)
	page := write("page.json", `{"count":4,"value":[{"uuid":"a","serial":"GF-1","os":"Win","disk":"Encrypted"},{"os":"Win"},
		{"uuid":"c","serial":"GF-3","os":"BeOS","disk":"Plain"}]}`)
	s.run(t, "", "device", "import", page, "--map", by, "--try", "2").want(t, 3, "storage.encrypted",
		"no report", "no key")
	s.run(t, "", "device", "list").want(t, 0).not(t, "GF-1")
	s.run(t, "", "device", "import", page, "--map", by).want(t, 1, "2 reports taken", "item 2: the item has no key",
		`item 3: platform: the partner says "BeOS"`, "of 1 items no report could be made")
	s.run(t, "", "device", "show", "GF-3", "-o", "json").want(t, 0, "for which the mapping has no word", "limited")
	table := write("table.yaml", `source: desk
identity: {serial: Serial no.}
evidence: {storage.encrypted: Disk, name: Label}
`)
	s.run(t, "Serial no.,Disk,Label\nGF-3,true,the third\n", "device", "import", "-", "--map", table).want(t,
		0, "1 reports taken")
	s.run(t, "", "device", "show", "GF-3").want(t, 0, "the third", "strong")
	s.run(t, "", "device", "import", page, "--map",
		write("bad.yaml", "identity: {id: /n}\nevidence: {os.versoin: /v}\n")).
		want(t, 1, "bad.yaml", "did you mean os.version?")
	s.run(t, "", "device", "import", page, "--try", "2").want(t, 2, "--map")
	s.run(t, "", "device", "import", write("cut.json", `{"value":[{"uuid":"z"},`), "--map", by).want(t, 1,
		"not JSON at byte")
}
