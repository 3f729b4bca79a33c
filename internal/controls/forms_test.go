package controls

import (
	"bytes"
	"crypto/rand"
	"encoding/csv"
	"encoding/json"
	"regexp"
	"strings"
	"testing"

	"golang.org/x/mod/sumdb/note"

	"ironledger.example/core/account"
	"ironledger.example/core/ledger"
)

// odd is a text that people may write, and that means something in every form.
const odd = `=1+1</script><b>"note": "x"@note@@report@` + "\nproof,\"z\"\n"

func sample() *account.Report {
	share := 0.8765
	tally := account.Tally{Met: 7, NotMet: 1, Unknown: 1, Excepted: 1}
	return &account.Report{Format: account.Format, Rulebook: "house", Version: 4, Catalogue: odd, Edition: "1",
		From: "2026-11-01T00:00:00Z", To: "2026-11-03T00:00:00Z", Devices: 11,
		Ledger: account.Head{Origin: "ledger.example", Size: 99, Root: "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA="},
		Controls: []account.Told{
			{ID: "gf-1", State: account.NotMet, Title: odd, Group: "=cmd", AtEnd: tally, Seconds: &account.Tally{Met: 8765, NotMet: 1235}, Share: &share,
				Serving: []account.Serving{{Kind: "rule", ID: "a/disk", Since: "x"}, {Kind: "rule", ID: "a/b", Shadow: true}},
				Course:  []account.Point{{At: "2026-11-02T00:00:00Z", Tally: tally}, {At: "2026-11-03T00:00:00Z", Tally: tally}},
				Asked:   &account.Outcomes{Allow: 3}, Changes: 2, Last: "2026-11-02T08:00:00.000000Z",
				Failing:  []account.Failing{{Device: "@d1", State: "not_met", Since: "2026-11-02T08:00:00Z", Rules: []string{"a/disk"}}},
				Excepted: []string{"w-1"}},
			{ID: "gf-2", State: account.NotServed, Title: "Nobody", Serving: []account.Serving{}, Seconds: &account.Tally{},
				Failing: []account.Failing{}, Excepted: []string{}}},
		Nothing: account.Bare{Controls: []string{"gf-2"}, Devices: 1, Some: []string{"d9"}},
		Exceptions: []account.Exception{{ID: "w-1", Kind: "waiver", Device: "d1", Rule: "a/disk", Controls: []string{"gf-1"},
			Reason: odd, Author: "bo", At: "a", Until: "b"}},
		Publications: []account.Publication{{Entry: 1, Version: 4, At: "a", Author: "astrid", Message: odd, Digest: "d"}},
		BreakGlass:   []account.Emergency{{Entry: 7, Decision: "x", At: "a", Person: "master", Resource: "vault"}},
		Refusals:     []account.Refusal{{Resource: "payroll", Outcome: "deny", Times: 3}}}
}

func keys(t *testing.T, name string) (note.Signer, note.Verifier) {
	t.Helper()
	private, public, err := note.GenerateKey(rand.Reader, name)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := note.NewSigner(private)
	if err != nil {
		t.Fatal(err)
	}
	verifier, err := note.NewVerifier(public)
	if err != nil {
		t.Fatal(err)
	}
	return signer, verifier
}

// Whatever is changed in a report that was handed out shows: in the file, or in its signature.
func TestAReportThatWasChangedIsFound(t *testing.T) {
	signer, verifier := keys(t, "ledger.example")
	_, stranger := keys(t, "ledger.example")
	for _, form := range Forms {
		raw, err := Write(sample(), form, signer)
		if err != nil {
			t.Fatal(err)
		}
		again, err := Write(sample(), form, signer)
		if err != nil || !bytes.Equal(raw, again) {
			t.Errorf("%s: the same report is not the same file", form)
		}
		f, err := Read(raw)
		if err != nil {
			t.Errorf("%s: %v", form, err)
			continue
		}
		if err := f.Signed(verifier); err != nil || f.Form != form || f.Stated.Size != 99 {
			t.Errorf("%s: %v, %+v", form, err, f.Stated)
		}
		if f.Signed(stranger) == nil {
			t.Errorf("%s: another key of the same name passes", form)
		}
		if whole := form != CSV; whole != (f.Report != nil) || whole && f.Report.Digest() != sample().Digest() {
			t.Errorf("%s: the report within is %v", form, f.Report)
		}
		step := 1 + len(raw)/1500
		for i := 0; i < len(raw); i += step {
			bad := bytes.Clone(raw)
			if bad[i] ^= 1; bad[i] == '\r' {
				continue
			}
			if f, err := Read(bad); err == nil && f.Signed(verifier) == nil {
				t.Fatalf("%s: byte %d (%q) can be changed", form, i, raw[max(0, i-20):min(len(raw), i+20)])
			}
		}
		for _, cut := range [][]byte{raw[:len(raw)-2], append(bytes.Clone(raw), "x"...), raw[1:]} {
			if _, err := Read(cut); err == nil {
				t.Errorf("%s: a file that was cut or added to passes", form)
			}
		}
	}
	for _, text := range []string{"", "{}", `{"report":{},"note":"x"}`, "line,id\nproof,\"x\"", `<pre id="proof">x</pre>`} {
		if _, err := Read([]byte(text)); err == nil {
			t.Errorf("%q passes for a report", text)
		}
	}
}

// A note about a report must not pass for the head of the ledger, which would tell of no state.
func TestTheNoteOfAReportIsNoCheckpoint(t *testing.T) {
	signer, verifier := keys(t, "ledger.example")
	signed, err := sign(sample(), JSON, [32]byte{}, signer)
	if err != nil {
		t.Fatal(err)
	}
	if h, err := ledger.OpenHead([]byte(signed), verifier); err == nil {
		t.Errorf("it passes for the head %+v", h)
	}
	head := ledger.Head{Origin: "ledger.example", Size: 99}
	checkpoint, err := head.Sign(signer)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := parseStatement(strings.SplitAfter(string(checkpoint), "\n\n")[0]); err == nil {
		t.Error("a checkpoint passes for the note of a report")
	}
	other, _ := keys(t, "other.example")
	if _, err := Write(sample(), JSON, other); err == nil {
		t.Error("the key of another ledger signs")
	}
}

func TestCSVHasNoFormulasAndOneWidth(t *testing.T) {
	signer, _ := keys(t, "ledger.example")
	raw, err := Write(sample(), CSV, signer)
	if err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(bytes.NewReader(raw)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]int{}
	for _, row := range rows[1:] {
		kinds[row[0]]++
		for i, cell := range row {
			if cell != "" && strings.ContainsRune("=+-@", rune(cell[0])) {
				t.Errorf("%s is a formula: %q", rows[0][i], cell)
			}
		}
	}
	for kind, n := range map[string]int{"report": 1, "control": 2, "device": 1, "waiver": 1, "publication": 1,
		"break-glass": 1, "refusals": 1, "proof": 1} {
		if kinds[kind] != n {
			t.Errorf("%d lines of %s, want %d: %v", kinds[kind], kind, n, kinds)
		}
	}
	if got := rows[2]; got[4] != "not met" || got[9] != "87.65" || got[10] != "2.43" || got[11] != "2.77" {
		t.Errorf("the first control is %q", got)
	}
}

func TestHTMLRunsNothing(t *testing.T) {
	signer, _ := keys(t, "ledger.example")
	raw, err := Write(sample(), HTML, signer)
	if err != nil {
		t.Fatal(err)
	}
	text := string(raw)
	if n := strings.Count(text, "</script>"); n != 1 {
		t.Errorf("%d scripts end", n)
	}
	if strings.Contains(text, "<b>") || regexp.MustCompile(`(src|href)=`).MatchString(text) {
		t.Error("what people wrote is HTML, or something is fetched")
	}
}

// The members that NIST's schema of assessment results demands (OSCAL 1.1.2).
func TestOSCALHasWhatItsSchemaDemands(t *testing.T) {
	signer, _ := keys(t, "ledger.example")
	raw, err := Write(sample(), OSCAL, signer)
	if err != nil {
		t.Fatal(err)
	}
	var doc map[string]any
	if err := json.Unmarshal(raw, &doc); err != nil || len(doc) != 1 {
		t.Fatal(err, len(doc))
	}
	ids := map[string]bool{}
	uuid := regexp.MustCompile(`^[0-9a-f]{8}-[0-9a-f]{4}-5[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$`)
	demand := func(what string, x any, names ...string) map[string]any {
		t.Helper()
		m, _ := x.(map[string]any)
		for _, n := range names {
			if m[n] == nil || m[n] == "" {
				t.Errorf("%s has no %s", what, n)
			}
		}
		if id, is := m["uuid"].(string); is && (!uuid.MatchString(id) || ids[id]) {
			t.Errorf("%s: %s is no uuid, or one of another", what, id)
		} else if is {
			ids[id] = true
		}
		return m
	}
	each := func(x any, f func(any)) {
		list, _ := x.([]any)
		if len(list) == 0 {
			t.Error("a list is empty")
		}
		for _, e := range list {
			f(e)
		}
	}
	top := demand("the document", doc["assessment-results"], "uuid", "metadata", "import-ap", "results")
	demand("metadata", top["metadata"], "title", "last-modified", "version", "oscal-version")
	plan := demand("import-ap", top["import-ap"], "href")["href"].(string)
	each(top["results"], func(x any) {
		result := demand("a result", x, "uuid", "title", "description", "start", "reviewed-controls")
		each(demand("reviewed", result["reviewed-controls"], "control-selections")["control-selections"], func(x any) {
			each(demand("a selection", x, "include-controls")["include-controls"],
				func(x any) { demand("a control", x, "control-id") })
		})
		each(result["observations"], func(x any) {
			o := demand("an observation", x, "uuid", "description", "methods", "collected")
			each(o["props"], func(x any) { demand("a property", x, "name", "value", "ns") })
		})
		var states []any
		each(result["findings"], func(x any) {
			f := demand("a finding", x, "uuid", "title", "description", "target")
			target := demand("a target", f["target"], "type", "target-id", "status")
			states = append(states, demand("a status", target["status"], "state")["state"])
			each(f["related-observations"], func(x any) {
				if id := demand("related", x, "observation-uuid")["observation-uuid"].(string); !ids[id] {
					t.Errorf("nobody observed %s", id)
				}
			})
		})
		if states[0] != "not-satisfied" || states[1] != "not-satisfied" {
			t.Errorf("what is not met, or not served, is %v", states)
		}
	})
	each(demand("back-matter", top["back-matter"], "resources")["resources"],
		func(x any) { demand("a resource", x, "uuid", "title") })
	if !ids[strings.TrimPrefix(plan, "#")] {
		t.Errorf("%s leads nowhere", plan)
	}
}
