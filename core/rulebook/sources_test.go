package rulebook

import (
	"strings"
	"testing"
)

const heardBook = `rulebook: x
attributes: {custom.partner_ok: {type: bool}, custom.word: {type: text}}
sources:
  - id: sensor
    provides: [threat, custom]
    vouches: {for: 24h}
    signals:
      issuer: https://sensor.example
      jwks: https://sensor.example/jwks.json
      audience: https://ledger.example
      device: serial
      map:
        risk-level-change: threat.level
        device-compliance-change: {sets: custom.partner_ok}
`

// What a source's events set is read, with the words of CAEP 1.0 or others; what could
// not be meant is refused where it stands.
func TestSignalsOfASourceAreRead(t *testing.T) {
	rb := mustLoad(t, []File{{"r.yaml", heardBook}})
	h := rb.HeardBy("sensor")
	if h == nil || rb.HeardFrom("https://sensor.example") != h || h.Device != "serial" || len(h.Map) != 2 ||
		rb.HeardBy("other") != nil || rb.Policy.Sources[0].Vouches != 24*3600*1_000_000 {
		t.Fatalf("%+v", h)
	}
	if got := h.Map[0].Words["HIGH"].String(); got != "high" {
		t.Errorf("HIGH is %s", got)
	}
	if got := h.Map[1].Words["not-compliant"].String(); got != "false" {
		t.Errorf("not-compliant is %s", got)
	}
	for _, c := range []struct{ old, new, want string }{
		{"risk-level-change: threat.level", "risk-level-change: {sets: threat.score}", "LOW is no word for threat.score"},
		{"risk-level-change: threat.level", "risk-level-change: {sets: threat.score, words: {LOW: 5, MEDIUM: 50, HIGH: 95}}", ""},
		{"risk-level-change: threat.level", "risk-level-change: {sets: threat.level, words: {SEVERE: high}}",
			"SEVERE is not a word"},
		{"risk-level-change: threat.level", "risk-level-change: storage.encrypted", "does not provide storage.encrypted"},
		{"risk-level-change: threat.level", "risk-level-change: threat.levl", "not an attribute"},
		{"risk-level-change: threat.level", "session-revoked: threat.level", "sets no attribute"},
		{"{sets: custom.partner_ok}", "vouched", ""},
		{"    vouches: {for: 24h}\n", "    vouches: {for: 0s}\n", "for how long"},
		{"{sets: custom.partner_ok}", "on_roster", "only the service itself"},
		{"      audience: https://ledger.example\n", "", "need issuer, jwks and audience"},
		{"jwks: https://sensor.example/jwks.json", "jwks: sensor.pem", "not where a JWK set is"},
		{"device: serial", "device: colour", "colour"},
	} {
		if !strings.Contains(heardBook, c.old) {
			t.Fatalf("%q is not in the book", c.old)
		}
		_, err := Load([]File{{"r.yaml", strings.Replace(heardBook, c.old, c.new, 1)}})
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", c.new, err, c.want)
		}
	}
	twice := strings.Replace(heardBook, "sources:\n",
		"sources:\n"+strings.Replace(strings.SplitAfter(heardBook, "sources:\n")[1],
			"id: sensor", "id: again", 1), 1)
	if _, err := Load([]File{{"r.yaml", twice}}); err == nil || !strings.Contains(err.Error(), "already") {
		t.Errorf("one issuer is taken for two sources: %v", err)
	}
	alone := strings.Replace(strings.Replace(heardBook, "    vouches: {for: 24h}\n", "", 1),
		"{sets: custom.partner_ok}", "vouched", 1)
	if _, err := Load([]File{{"r.yaml", alone}}); err == nil || !strings.Contains(err.Error(), "vouches for no device") {
		t.Errorf("a source vouches that may not: %v", err)
	}
}
