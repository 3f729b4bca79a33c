package demo

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/revision"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

func load(t *testing.T, files []rulebook.File) *rulebook.Rulebook {
	t.Helper()
	rb, err := rulebook.Load(files)
	if err != nil {
		t.Fatal(err)
	}
	return rb
}

func TestTheHouseRulesAreInOrder(t *testing.T) {
	rb := load(t, Rulebook())
	for _, o := range rehearsal.Examples(rb, value.Micros(Moment)) {
		if !o.Passed {
			t.Errorf("%s: want %s, got %s", o.Title, o.Want, o.Got)
		}
	}
	earlier := load(t, Earlier())
	if diff := revision.Compare(earlier, rb); len(diff) != 3 {
		t.Errorf("between the two versions lie %v", diff)
	}
	if again, err := rulebook.Format(Rulebook()); err != nil {
		t.Error(err)
	} else {
		for i, f := range Rulebook() {
			if again[i].Text != f.Text {
				t.Errorf("%s is not in the canonical form: run ironledger rulebook fmt -w demo/rulebook", f.Name)
			}
		}
	}
}

// The files of the authority in the rulebook must be those of its key.
func TestTheAuthorityIsTheOneInTheRulebook(t *testing.T) {
	certificate, _ := Authority()
	rb := load(t, Rulebook())
	is := rb.Policy.Issuers[0]
	if text(is.Certificates[0]) != certificate {
		t.Error("device-ca.pem is not the demo's authority")
	}
	if !strings.Contains(is.CRL.Issuer.CommonName, "Gullholm Device Root") ||
		len(is.CRL.RevokedCertificateEntries) != 1 ||
		is.CRL.RevokedCertificateEntries[0].SerialNumber.Cmp(serialOf("device GF-L-1049")) != 0 {
		t.Errorf("the revocation list is %+v", is.CRL.RevokedCertificateEntries)
	}
}

// reports reads reports at a moment; none may be refused, not even in part.
func reports(t *testing.T, rb *rulebook.Rulebook, ndjson string, at time.Time) (devices map[string]bool) {
	t.Helper()
	devices = map[string]bool{}
	resolver := evidence.NewResolver(rb.Dict, rb.Policy)
	for it := range rb.Dict.Read(strings.NewReader(ndjson), evidence.NDJSON, "", value.Micros(at)) {
		if it.Err != nil {
			t.Fatalf("line %d: %v", it.Line, it.Err)
		}
		if refused := append(it.Report.Refused, resolver.RefuseUnprovided(it.Report)...); len(refused) > 0 {
			t.Errorf("line %d: %v", it.Line, refused)
		}
		if it.Report.At > value.Micros(at) {
			t.Errorf("line %d was observed after %s", it.Line, at)
		}
		devices[it.Report.Identity.ID] = true
	}
	return devices
}

func TestTheWeekBeforeIsReadable(t *testing.T) {
	now := time.Date(2027, 2, 3, 10, 30, 0, 0, time.UTC)
	rb := load(t, Rulebook())
	if n := len(reports(t, rb, Devices(now), now)); n != 71 {
		t.Errorf("%d devices report today", n)
	}
	if n := len(reports(t, rb, read("devices.ndjson"), Moment)); n != 71 {
		t.Errorf("%d devices stand in the file", n)
	}
	earlier := load(t, Earlier())
	steps := Past(now)
	first, last := 0, 0
	for i, s := range steps {
		n := len(reports(t, earlier, s.Reports, s.At))
		if i == 0 {
			first = n
		}
		last = n
		if i > 0 && s.At.Sub(steps[i-1].At) != stride {
			t.Errorf("step %d is %s after the one before", i, s.At.Sub(steps[i-1].At))
		}
	}
	if first >= last || last != 71 || !steps[len(steps)-1].At.Before(now) {
		t.Errorf("%d devices begin the week and %d end it", first, last)
	}
	for _, p := range pasts {
		if !strings.Contains(Devices(now), `"id":"`+p.device+`"`) && p.attribute != "" {
			t.Errorf("there is no device %s", p.device)
		}
	}
	for _, a := range Acts() {
		if a.Rule != "" && !strings.Contains(ruleKeys(rb), " "+a.Rule+" ") {
			t.Errorf("there is no rule %s", a.Rule)
		}
	}
}

func ruleKeys(rb *rulebook.Rulebook) string {
	keys := " "
	for _, b := range rb.Baselines {
		for _, r := range b.Rules {
			keys += b.ID + "/" + r.ID + " "
		}
	}
	return keys
}

func TestRosterPeopleAndRequestsAreReadable(t *testing.T) {
	if hardware, refused, err := directory.ReadRoster(strings.NewReader(Roster())); err != nil ||
		len(refused) > 0 || len(hardware) != 37 {
		t.Errorf("the roster has %d entries, %v (%v)", len(hardware), refused, err)
	}
	if people, refused, err := directory.Read(People()); err != nil || len(refused) > 0 || len(people) != 44 {
		t.Errorf("there are %d people, %v (%v)", len(people), refused, err)
	}
	for line := range strings.Lines(Requests()) {
		if !json.Valid([]byte(line)) {
			t.Errorf("%s is no request", line)
		}
	}
	// The strays are there to be refused, in part or whole.
	rb, stray := load(t, Rulebook()), 0
	resolver := evidence.NewResolver(rb.Dict, rb.Policy)
	for it := range rb.Dict.Read(strings.NewReader(Stray(Moment)), evidence.NDJSON, "", value.Micros(Moment)) {
		if it.Err == nil && len(append(it.Report.Refused, resolver.RefuseUnprovided(it.Report)...)) > 0 {
			stray++
		}
	}
	if stray != 2 {
		t.Errorf("of %d strays a part is refused, want 2", stray)
	}
}
