package service_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/service"
	"ironledger.example/internal/view"
	"ironledger.example/internal/view/find"
)

// search lists the ids of the devices that a search finds.
func search(t *testing.T, s *service.Service, q find.Query) (ids []string, page *api.DevicePage) {
	t.Helper()
	q.Limit = 100
	page, err := s.View.Devices(ctx, q)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range page.Items {
		ids = append(ids, d.ID)
	}
	return ids, page
}

// Who is out of service is in no number and on no list unless somebody asks, and a search tells how many it left out.
func TestRetiredDevicesLeaveTheNumbers(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	for _, id := range []string{"d1", "d2", "d3"} {
		report(t, s, id, good+`,"platform":"windows"`)
	}
	report(t, s, "d4", `"form":"laptop","platform":"windows"`)
	if _, err := s.Admin.Retire(ctx, "it", []string{"d1", "d2", "d1"}, "sold"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Admin.Retire(ctx, "it", []string{"d3", "d2"}, "sold"); err == nil ||
		s.Snapshot().Fleet.Get("d3").Retired != nil {
		t.Errorf("of two devices of which one is retired already, the other was taken: %v", err)
	}
	for name, c := range map[string]struct {
		q                  find.Query
		want               string
		retired, undecided int
	}{
		"all":         {find.Query{}, "d3 d4", 2, 0},
		"with":        {find.Query{Retired: "with"}, "d1 d2 d3 d4", 0, 0},
		"only":        {find.Query{Retired: "only"}, "d1 d2", 0, 0},
		"asked for":   {find.Query{Where: "retired"}, "d1 d2", 0, 0},
		"denied":      {find.Query{Where: "not retired"}, "d3 d4", 0, 0},
		"not known":   {find.Query{Where: "not storage.encrypted"}, "", 0, 1},
		"whose not":   {find.Query{Where: "not storage.encrypted", Undecided: true}, "d4", 0, 0},
		"fails":       {find.Query{Rule: "laptop/disk", Verdict: "unknown"}, "d4", 0, 0},
		"passes":      {find.Query{Rule: "laptop/disk", Verdict: "pass"}, "d3", 2, 0},
		"passes, all": {find.Query{Rule: "laptop/disk", Verdict: "pass", Retired: "with"}, "d1 d2 d3", 0, 0},
		"rule":        {find.Query{Rule: "laptop/disk", Text: "d4"}, "d4", 0, 0},
		"where or rule": {find.Query{Rule: "laptop/disk", Where: "threat.score > 1", Retired: "only"},
			"d1 d2", 0, 0},
	} {
		ids, page := search(t, s, c.q)
		if got := strings.Join(ids, " "); got != c.want || page.Retired != c.retired || page.Undecided != c.undecided {
			t.Errorf("%s: found %s, %d retired and %d undecided left out; want %s, %d, %d", name, got, page.Retired,
				page.Undecided, c.want, c.retired, c.undecided)
		}
	}
	for _, q := range []find.Query{{Verdict: "fail"}, {Rule: "laptop/disc"},
		{Rule: "laptop/disk", Verdict: "bad"},
		{Retired: "no"}} {
		if _, err := s.View.Devices(ctx, q); err == nil {
			t.Errorf("%+v is a search", q)
		}
	}
	o, err := s.View.Overview(ctx, 1, 3600_000_000)
	if err != nil || o.Devices != 2 || o.Retired != 2 {
		t.Errorf("the overview counts %d, and %d retired: %v", o.Devices, o.Retired, err)
	}
	sum := 0
	for _, n := range o.Course[len(o.Course)-1].Levels {
		sum += n
	}
	if sum != 2 {
		t.Errorf("the course ends with %d devices", sum)
	}
	if shift, err := s.Admin.Rehearse(ctx, s.Snapshot().Book.Info.Files); err != nil || shift.Devices != 2 {
		t.Errorf("a rehearsal counts %d: %v", shift.Devices, err)
	}
}

// A rule says what of whom, by platform, and what it said before.
func TestARuleTellsOfItsDevices(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := open(t, t.TempDir())
		defer shut(t, s)
		publish(t, s, house)
		open := strings.Replace(good, "true", "false", 1)
		report(t, s, "d1", good+`,"platform":"windows"`)
		report(t, s, "d2", open+`,"platform":"windows"`)
		time.Sleep(2 * time.Hour)
		report(t, s, "d1", open)
		report(t, s, "d3", good+`,"platform":"macos"`)
		time.Sleep(2 * time.Hour)
		report(t, s, "d2", good)
		if _, err := s.Admin.Waive(ctx, &bearer.Token{Name: "desk", Role: bearer.Helpdesk},
			api.ExceptionsDraft{Devices: []string{"d1"}, Rule: "laptop/disk", Reason: "on its way", For: "1d"}); err != nil {
			t.Fatal(err)
		}
		r, err := s.View.Rule(ctx, "laptop/disk", 6*3600_000_000)
		if err != nil {
			t.Fatal(err)
		}
		if r.Counts != (api.VerdictCounts{Pass: 2, Waived: 1}) || len(r.Platforms) != 2 || len(r.Waivers) != 1 ||
			r.Checks[""] != "storage.encrypted" || r.Applies != "form == laptop" {
			t.Errorf("the rule tells %+v", r)
		}
		at := func(back time.Duration) api.VerdictCounts {
			moment := s.Now().UTC().Add(-back).Format(time.RFC3339)
			var last api.VerdictCounts
			for _, p := range r.Course {
				if p.At <= moment {
					last = p.Counts
				}
			}
			return last
		}
		for back, want := range map[time.Duration]api.VerdictCounts{
			time.Hour:                   {Pass: 1, Fail: 2},
			3 * time.Hour:               {Pass: 1, Fail: 1},
			5*time.Hour + 1*time.Minute: {},
		} {
			if got := at(back); got != want {
				t.Errorf("%s ago it said %+v, want %+v", back, got, want)
			}
		}
		rules := s.View.Rules()
		if len(rules) != 3 || rules[0].Rule != "laptop/disk" || rules[0].Counts != r.Counts || rules[0].Cap != "limited" {
			t.Errorf("the rules are %+v", rules)
		}
		if _, err := s.View.Rule(ctx, "laptop/disc", 1); err == nil || !strings.Contains(err.Error(), "laptop/disk") {
			t.Errorf("of no rule: %v", err)
		}
	})
}

// The help desk's waivers end sooner, those of grave rules count only once a second person has approved them, and a
// rulebook that asks for it later holds for those that live.
func TestWaiversAreBoundAndApproved(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := open(t, dir)
	with := func(waivers string) string { return strings.Replace(house, "gates:", waivers+"\ngates:", 1) }
	publish(t, s, with("waivers: {max: 30d, helpdesk: 2d, approve: [barred]}"))
	report(t, s, "d1", strings.Replace(strings.Replace(good, "true", "false", 1), ":3", ":90", 1))
	desk, boss := &bearer.Token{Name: "desk", Role: bearer.Helpdesk}, &bearer.Token{Name: "boss", Role: bearer.Admin}
	ask := func(by *bearer.Token, rule, span string) (*api.Exception, error) {
		list, err := s.Admin.Waive(ctx, by, api.ExceptionsDraft{Devices: []string{"d1"}, Rule: rule, Reason: "x",
			For: span})
		if err != nil {
			return nil, err
		}
		return &list[0], nil
	}
	if _, err := ask(desk, "laptop/disk", "3d"); err == nil || !strings.Contains(err.Error(), "2d") {
		t.Errorf("the help desk grants three days: %v", err)
	}
	disk, err := ask(boss, "laptop/disk", "3d")
	if err != nil || disk.State != "live" {
		t.Fatalf("an administrator does not: %+v, %v", disk, err)
	}
	threat, err := ask(desk, "laptop/threat", "1d")
	if err != nil || threat.State != "asked" || level(s, "d1") != "barred" {
		t.Fatalf("a waiver that waits is %+v (%v), and the device stands at %s", threat, err, level(s, "d1"))
	}
	if _, err := s.Admin.Approve(ctx, desk, threat.ID, "it is fine"); err == nil {
		t.Error("whoever granted it approves it")
	}
	if _, err := s.Admin.Approve(ctx, boss, threat.ID, " "); err == nil {
		t.Error("it is approved without a reason")
	}
	shut(t, s)
	s = open(t, dir)
	defer func() { shut(t, s) }()
	if level(s, "d1") != "barred" {
		t.Error("a restart approves it")
	}
	if got, err := s.Admin.Approve(ctx, boss, threat.ID, "seen"); err != nil || got.State != "live" ||
		got.ApprovedBy != "boss" ||
		level(s, "d1") != "strong" {
		t.Errorf("approved it is %+v (%v), and the device stands at %s", got, err, level(s, "d1"))
	}
	if _, err := s.Admin.Approve(ctx, &bearer.Token{Name: "third"}, threat.ID, "again"); err == nil {
		t.Error("it is approved twice")
	}
	if _, err := s.Admin.Approve(ctx, boss, disk.ID, "again"); err == nil {
		t.Error("one that lives is approved")
	}
	publish(t, s, with("waivers: {max: 30d, approve: [limited]}"))
	if level(s, "d1") != "limited" {
		t.Errorf("a rulebook that has a waiver approved leaves one that nobody approved: %s", level(s, "d1"))
	}
	if list, err := s.View.Waivers(view.ExceptionQuery{State: "asked"}); err != nil || len(list) != 1 ||
		list[0].ID != disk.ID {
		t.Errorf("there wait %+v, %v", list, err)
	}
	if _, err := s.Admin.Revoke(ctx, "boss", disk.ID, "no"); err != nil {
		t.Errorf("one that waits cannot be revoked: %v", err)
	}
	if _, err := s.Admin.Approve(ctx, desk, disk.ID, "late"); err == nil || level(s, "d1") != "limited" {
		t.Errorf("one that was revoked is approved: %v", err)
	}
}

// A waiver that changes nothing is granted all the same, with a word of it.
func TestAWaiverThatChangesNothingIsTold(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	report(t, s, "d1", good)
	report(t, s, "d2", `"form":"phone"`)
	report(t, s, "d3", strings.Replace(good, "true", "false", 1))
	report(t, s, "d4", good)
	if _, err := s.Admin.Retire(ctx, "it", []string{"d4"}, "sold"); err != nil {
		t.Fatal(err)
	}
	list, err := s.Admin.Waive(ctx, &bearer.Token{Name: "desk"}, api.ExceptionsDraft{Rule: "laptop/disk", Reason: "x",
		For: "1d", Devices: []string{"d1", "d2", "d3", "d4", "d3"}})
	if err != nil || len(list) != 4 {
		t.Fatal(list, err)
	}
	for i, want := range []string{"passes", "is not for", "", "is retired"} {
		if got := list[i].Warning; !strings.Contains(got, want) || (got == "") != (want == "") {
			t.Errorf("of %s it says %q, want %q", list[i].Device, got, want)
		}
	}
	if _, err := s.Admin.Waive(ctx, &bearer.Token{Name: "desk"}, api.ExceptionsDraft{Rule: "laptop/os", Reason: "x",
		For: "1d", Devices: []string{"d3", "nobody"}}); err == nil || len(s.Snapshot().Fleet.Get("d3").Waivers) != 1 {
		t.Errorf("of two devices of which one is not known, the other was excepted: %v", err)
	}
}

// The whole of what a source knows also says what is gone: but not when it was cut, or cannot be read, and what others
// said stays. It counts again once the source lists the device again.
func TestAWholeInventorySaysWhatIsGone(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	bring := func(n int, accept string, more ...string) *api.IngestResult {
		t.Helper()
		lines := slices.Clone(more)
		for i := range n {
			lines = append(lines, fmt.Sprintf(`{"identity":{"id":"d%02d"},"evidence":{%s}}`, i, good))
		}
		out, err := s.Intake.IngestWhole(ctx, "admin", strings.NewReader(strings.Join(lines, "\n")), evidence.NDJSON,
			intake.Whole{Source: "mdm", Accept: accept})
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	encrypted := func(id string) bool {
		d := s.Snapshot().Fleet.Get(id)
		return d.View.Get(s.Snapshot().Book.Rulebook.Dict.Slot("storage.encrypted"), s.Micros()).IsTrue()
	}
	bring(10, "")
	report(t, s, "d09", `"name":"the last"`)
	if out := bring(7, ""); out.Gone.Devices != 3 || out.Gone.Held == "" || !encrypted("d09") || out.Accepted != 7 {
		t.Errorf("three of ten that are gone: %+v", out.Gone)
	}
	if out := bring(8, "", `{"identity":{}}`); out.Gone.Held == "" || !encrypted("d09") {
		t.Errorf("with a report that cannot be read: %+v", out.Gone)
	}
	if out := bring(8, ""); out.Gone.Devices != 2 || out.Gone.Held != "" || encrypted("d09") || !encrypted("d07") {
		t.Errorf("two of ten that are gone: %+v", out.Gone)
	}
	if name := s.View.Device("d09").Name; name != "the last" {
		t.Errorf("what another source said is gone: %q", name)
	}
	if out := bring(0, ""); out.Gone.Held == "" || !encrypted("d00") {
		t.Errorf("an empty one: %+v", out.Gone)
	}
	if out := bring(10, ""); out.Gone.Devices != 0 || !encrypted("d09") {
		t.Errorf("all are listed again: %+v", out.Gone)
	}
	if out := bring(2, "we closed the islands"); out.Gone.Held != "" || encrypted("d05") || !encrypted("d01") {
		t.Errorf("accepted: %+v", out.Gone)
	}
	told := 0
	if err := s.Store.Since(ctx, ledger.EvidenceGone, 0,
		func(ledger.Entry) error { told++; return nil }); err != nil || told != 5 {
		t.Errorf("%d entries tell of it, want 5: %v", told, err)
	}
}

// A trial tells what reports would become, and takes nothing, whatever it says.
func TestATrialTakesNothing(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	before := s.Snapshot()
	lines := `{"identity":{"id":"d1"},"evidence":{` + good + `,"os.build":7}}
{"identity":{"id":"d1"},"evidence":{"storage.encrypted":false}}
{"identity":{},"evidence":{}}
{"identity":{"id":"d2"},"evidence":{"os.build":8}}`
	out, err := s.Intake.Try(ctx, "admin", "mdm", strings.NewReader(lines), evidence.NDJSON)
	if err != nil || !out.Dry || out.Accepted != 2 || out.Rejected != 2 || out.Results[0].Level != "strong" ||
		out.Results[1].Level != "limited" || out.Results[1].New || out.Readings != 6 {
		t.Errorf("the trial tells %+v, %v", out, err)
	}
	if i := slices.IndexFunc(out.Reasons, func(r api.EvidenceReason) bool { return r.What == "os.build" }); i < 0 ||
		out.Reasons[i].Count != 2 || out.Reasons[i].Line != 1 {
		t.Errorf("the reasons are %+v", out.Reasons)
	}
	if s.Snapshot() != before {
		t.Error("a trial changed the state")
	}
}

// What is known of a retired device goes for good, from the disk too, and with its entries redacted from the ledger; it
// stays retired over a restart, however it is reported again. The rulebook may have it done by itself.
func TestAPurgedDeviceLeavesNothing(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := open(t, dir)
		publish(t, s, strings.Replace(house, "gates:", "retention: {retired: 30d}\ngates:", 1))
		const secret = "what-nobody-may-find-again"
		for i := range 5 {
			report(t, s, "d1", strings.Replace(good, "maren", fmt.Sprint(secret, i), 1)+`,"serial":"GF-1","name":"`+secret+`"`)
			time.Sleep(time.Minute)
		}
		report(t, s, "d2", good)
		if _, err := s.Admin.Tag(ctx, "desk", api.TagsDraft{Devices: []string{"d1"}, Note: new(secret)}); err != nil {
			t.Fatal(err)
		}
		if _, err := service.WaiveOne(ctx, s, "desk", api.ExceptionDraft{Device: "d1", Rule: "laptop/disk", Reason: secret,
			For: "9d"}); err != nil {
			t.Fatal(err)
		}
		before := s.Micros()
		time.Sleep(time.Minute)
		if _, err := s.Admin.Purge(ctx, "it", []string{"d1"}, "asked for"); err == nil {
			t.Error("a device in service is purged")
		}
		if _, err := s.Admin.Retire(ctx, "it", []string{"d1", "d2"}, "sold"); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Admin.Purge(ctx, "it", []string{"GF-1"}, " "); err == nil {
			t.Error("without a reason")
		}
		list, err := s.Admin.Purge(ctx, "it", []string{"GF-1"}, "asked for")
		if err != nil || len(list) != 1 || list[0].Readings != 7 {
			t.Fatal(list, err)
		}
		if n, err := s.Audit.RedactAbout(ctx, "it", "d1", "asked for"); err != nil || n < 5 {
			t.Fatal(n, err)
		}
		gone := func() {
			t.Helper()
			d := s.View.Device("d1")
			if d.Retired != "sold" || d.Purged == "" || len(d.Readings) != 0 || len(d.Waivers) != 0 || d.Tags.Note != "" ||
				d.Level != "unproven" || d.Name != "" {
				t.Errorf("of the purged device there is %+v", d)
			}
			if _, err := s.View.DeviceAt(ctx, "d1", before); err == nil {
				t.Error("its past is told")
			}
		}
		gone()
		shut(t, s)
		s = open(t, dir)
		defer func() { shut(t, s) }()
		gone()
		for _, name := range []string{"ironledger.db", "ironledger.db-wal"} {
			raw, err := os.ReadFile(filepath.Join(dir, name))
			if err == nil && bytes.Contains(raw, []byte(secret)) {
				t.Errorf("%s still has what was purged", name)
			}
		}
		v, err := audit.VerifyRecords(ctx, s.Store, s.Key.Verifier, audit.VerifyOptions{File: true, Searches: true})
		if err != nil || v.State != "sound" {
			t.Errorf("the records verify as %+v, %v", v, err)
		}
		take := func(line string) api.ReportResult {
			t.Helper()
			in, err := s.Intake.Ingest(ctx, "agent", "", strings.NewReader(line), evidence.NDJSON)
			if err != nil || len(in.Results) != 1 {
				t.Fatal(in, err)
			}
			return in.Results[0]
		}
		if r := take(`{"source":"mdm","identity":{"serial":"gf-1"},"evidence":{` + good +
			`}}`); r.Device != "d1" || r.Level != "unproven" || r.New {
			t.Errorf("reported again it is %+v", r)
		}
		if ask(t, s, "d1") != "deny" {
			t.Error("a purged device is let in")
		}
		time.Sleep(31 * 24 * time.Hour)
		synctest.Wait()
		if d := s.View.Device("d2"); d.Purged == "" || len(d.Readings) != 0 {
			t.Errorf("a month after d2 was retired there is %+v", d)
		}
	})
}
