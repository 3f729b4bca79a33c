package value

import (
	"bytes"
	"encoding/json"
	"testing"

	"github.com/go-json-experiment/json/jsontext"
)

// aReport is one line of a stream of evidence, as most are.
var aReport = []byte(`{"source":"mdm","external_id":"77-ab","observed_at":"2026-11-20T08:15:00Z",` +
	`"identity":{"id":"d-0412","serial":"GF-3391-K"},"evidence":{"platform":"windows","form":"laptop",` +
	`"os.version":"10.0.22631.4460","storage.encrypted":true,"managed":true,"ownership":"company",` +
	`"passcode.set":true,"passcode.length":8,"firewall.on":true,"owner":"maren.holt@gullholm.example"}}`)

// BenchmarkMembers goes through the members of a report and of its evidence: by hand,
// over text that was checked, which counts, and with a decoder that checks as it goes.
func BenchmarkMembers(b *testing.B) {
	b.Run("by-hand", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			n := 0
			if !json.Valid(aReport) {
				b.Fatal("it is no JSON")
			}
			for _, raw := range Members(aReport) {
				if raw[0] == '{' {
					for range Members(raw) {
						n++
					}
				}
			}
			if n != 12 {
				b.Fatal(n)
			}
		}
	})
	b.Run("jsontext", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			d, n := jsontext.NewDecoder(bytes.NewReader(aReport)), 0
			_, _ = d.ReadToken()
			for d.PeekKind() != '}' {
				_, _ = d.ReadToken() // the name
				if d.PeekKind() != '{' {
					_, _ = d.ReadValue()
					continue
				}
				_, _ = d.ReadToken()
				for d.PeekKind() != '}' {
					_, _ = d.ReadToken()
					_, _ = d.ReadValue()
					n++
				}
				_, _ = d.ReadToken()
			}
			if n != 12 {
				b.Fatal(n)
			}
		}
	})
}
