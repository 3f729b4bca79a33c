package service_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/service"
	"ironledger.example/internal/view"
	"ironledger.example/internal/view/find"
)

// strict is a rulebook with a rule that only the house itself can meet.
var strict = strings.Replace(house, "gates:", `  - id: ours
    applies: form == laptop
    rules: [{id: known, check: on_roster or vouched, cap: limited}]
waivers: {max: 30d}
gates:`, 1)

func waive(t *testing.T, s *service.Service, rule, span string) *event.Exception {
	t.Helper()
	g, err := service.WaiveOne(ctx, s, "desk", api.ExceptionDraft{Device: "d1", Rule: rule, Reason: "ticket 7",
		For: span})
	if err != nil {
		t.Fatal(err)
	}
	return g
}

func TestWaiversLiveTheirTime(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := open(t, dir)
		publish(t, s, house)
		report(t, s, "d1", strings.Replace(good, "true", "false", 1))
		if level(s, "d1") != "limited" {
			t.Fatalf("without a disk it stands at %s", level(s, "d1"))
		}
		w := waive(t, s, "laptop/disk", "30m")
		if level(s, "d1") != "strong" || w.State != "live" {
			t.Fatalf("waived it stands at %s, the waiver is %s", level(s, "d1"), w.State)
		}
		time.Sleep(20 * time.Minute)
		shut(t, s)
		s = open(t, dir) // it is kept over a restart
		defer func() { shut(t, s) }()
		synctest.Wait()
		if level(s, "d1") != "strong" {
			t.Errorf("after a restart it stands at %s", level(s, "d1"))
		}
		time.Sleep(10*time.Minute - time.Second)
		synctest.Wait()
		if level(s, "d1") != "strong" {
			t.Errorf("a second before its end it stands at %s", level(s, "d1"))
		}
		time.Sleep(2 * time.Second)
		synctest.Wait()
		if level(s, "d1") != "limited" {
			t.Errorf("after its end it stands at %s", level(s, "d1"))
		}
		w = waive(t, s, "laptop/disk", "14d")
		if _, err := s.Admin.Revoke(ctx, "boss", w.ID, " "); err == nil {
			t.Error("it is revoked without a reason")
		}
		if r, err := s.Admin.Revoke(ctx, "boss", w.ID, "encrypted now"); err != nil || r.State != "revoked" ||
			level(s, "d1") != "limited" {
			t.Errorf("revoked it is %+v (%v), the device %s", r, err, level(s, "d1"))
		}
		if _, err := s.Admin.Revoke(ctx, "boss", w.ID, "again"); err == nil {
			t.Error("it is revoked twice")
		}
		for state, n := range map[string]int{"": 2, "live": 0, "ended": 1, "revoked": 1} {
			if list, err := s.View.Waivers(view.ExceptionQuery{State: state}); err != nil || len(list) != n {
				t.Errorf("%q lists %d waivers (%v), want %d", state, len(list), err, n)
			}
		}
		waive(t, s, "laptop/os", "3d")
		waive(t, s, "laptop/threat", "8d")
		if soon, err := s.View.Waivers(view.ExceptionQuery{Within: "7d"}); err != nil || len(soon) != 1 ||
			soon[0].Rule != "laptop/os" || soon[0].Verdict != "pass" {
			t.Errorf("within a week end %+v (%v)", soon, err)
		}
		events, err := s.View.DeviceHistory(ctx, "d1", 0, 100)
		if err != nil {
			t.Fatal(err)
		}
		var kinds []string
		for _, e := range events {
			kinds = append(kinds, string(e.Kind))
		}
		if !slices.Contains(kinds, string(ledger.WaiverGranted)) ||
			!slices.Contains(kinds, string(ledger.WaiverRevoked)) {
			t.Errorf("the history tells %v", kinds)
		}
	})
}

func TestWaiversThatAreRefused(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, strict)
	report(t, s, "d1", good)
	for name, c := range map[string]struct {
		ask  api.ExceptionDraft
		want string
	}{
		"no reason": {api.ExceptionDraft{Device: "d1", Rule: "laptop/disk", For: "1d"},
			"a reason is needed"},
		"a reason too long": {api.ExceptionDraft{Device: "d1", Rule: "laptop/disk", For: "1d",
			Reason: strings.Repeat("x", 2000)}, "longer than"},
		"no end": {api.ExceptionDraft{Device: "d1", Rule: "laptop/disk", Reason: "x"},
			"say when it ends"},
		"two ends": {api.ExceptionDraft{Device: "d1", Rule: "laptop/disk", Reason: "x",
			For: "1d", Until: "2099-01-01"}, "say when it ends"},
		"no duration": {api.ExceptionDraft{Device: "d1", Rule: "laptop/disk", Reason: "x",
			For: "soon"}, "is not a duration"},
		"a negative time": {api.ExceptionDraft{Device: "d1", Rule: "laptop/disk", Reason: "x",
			For: "-1d"}, "duration"},
		"in the past": {api.ExceptionDraft{Device: "d1", Rule: "laptop/disk", Reason: "x",
			Until: "2001-01-01"}, "not lie in the future"},
		"longer than may be": {api.ExceptionDraft{Device: "d1", Rule: "laptop/disk", Reason: "x",
			For: "31d"}, "the rulebook allows 30d"},
		"in the year 9999": {api.ExceptionDraft{Device: "d1", Rule: "laptop/disk", Reason: "x",
			Until: "9999-12-31"}, "the rulebook allows 30d"},
		"an unknown rule": {api.ExceptionDraft{Device: "d1", Rule: "laptop/dsk", Reason: "x",
			For: "1d"}, "did you mean laptop/disk?"},
		"an unknown device": {api.ExceptionDraft{Device: "d9", Rule: "laptop/disk", Reason: "x",
			For: "1d"}, "there is no device d9"},
		"no device": {api.ExceptionDraft{Rule: "laptop/disk", Reason: "x", For: "1d"},
			"say which device"},
	} {
		if g, err := service.WaiveOne(ctx, s, "desk", c.ask); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s gives %+v and %v, want %q", name, g, err, c.want)
		}
	}
	if list, _ := s.View.Waivers(view.ExceptionQuery{}); len(list) != 0 {
		t.Errorf("refused waivers are listed: %v", list)
	}
	if _, err := service.VouchOne(ctx, s, "desk", api.ExceptionDraft{Device: "d1", Rule: "laptop/disk", Reason: "x",
		For: "1d"}); err == nil {
		t.Error("a vouch is taken for a rule")
	}
	var missing *fault.NotFoundError
	if _, err := s.Admin.Revoke(ctx, "desk", "w-none", "x"); !errors.As(err, &missing) {
		t.Errorf("revoking nothing gives %v", err)
	}
	for _, q := range []view.ExceptionQuery{{State: "dead"}, {Within: "week"}} {
		if _, err := s.View.Waivers(q); err == nil {
			t.Errorf("%+v is taken", q)
		}
	}
}

func TestVouchesAndTheRoster(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := open(t, dir)
		publish(t, s, strict)
		report(t, s, "d1", good+`,"serial":"GF-77"`)
		stands := func(want, when string) {
			t.Helper()
			synctest.Wait()
			if got := level(s, "d1"); got != want {
				t.Errorf("%s it stands at %s, want %s", when, got, want)
			}
		}
		stands("limited", "known to nobody")
		g, err := service.VouchOne(ctx, s, "desk", api.ExceptionDraft{Device: "gf-77", Reason: "seen at the desk",
			For: "40m"})
		if err != nil || g.Device != "d1" {
			t.Fatal(g, err)
		}
		stands("strong", "vouched for")
		time.Sleep(39 * time.Minute)
		stands("strong", "a minute before the vouch ends")
		time.Sleep(time.Minute)
		stands("limited", "after the vouch has ended")
		if in, err := s.Admin.ImportRoster(ctx, "admin",
			[]directory.Hardware{{Serial: "gf-77", Note: "ours"}, {HardwareID: "HW-1"}},
			admin.ListImport{}); err != nil || in.Added != 2 || in.Changed != 0 {
			t.Fatal(in, err)
		}
		stands("strong", "on the roster")
		if in, err := s.Admin.ImportRoster(ctx, "admin", []directory.Hardware{{Serial: "GF-77", Note: "ours, new"}},
			admin.ListImport{}); err != nil || in.Added != 0 || in.Changed != 1 {
			t.Error(in, err)
		}
		shut(t, s)
		s = open(t, dir)
		defer func() { shut(t, s) }()
		stands("strong", "on the roster after a restart")
		list := s.View.RosterList("77", false)
		if len(list) != 1 || list[0].Device != "d1" || list[0].Note != "ours, new" {
			t.Errorf("the roster lists %+v", list)
		}
		if _, err := s.Admin.RemoveRoster(ctx, "admin", "GF-77", api.Removal{Reason: "sold"}); err != nil {
			t.Fatal(err)
		}
		stands("limited", "off the roster")
		if _, err := s.Admin.RemoveRoster(ctx, "admin", "gf-77", api.Removal{Reason: "again"}); err == nil {
			t.Error("it is removed twice")
		}
		if list, err := s.View.Vouches(view.ExceptionQuery{State: "ended"}); err != nil || len(list) != 1 ||
			list[0].Author != "desk" {
			t.Errorf("the vouches are %+v (%v)", list, err)
		}
	})
}

func TestUnmatchedReportsWaitForAPerson(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := open(t, dir)
	defer func() { shut(t, s) }()
	publish(t, s, house)
	report(t, s, "d1", good+`,"serial":"A-1"`)
	report(t, s, "d2", strings.Replace(good, "true", "false", 1)+`,"serial":"B-2"`)
	stray := fmt.Sprintf(`{"source":"agent","observed_at":%q,"identity":{"id":"d2","serial":"A-1"},"evidence":{"storage.encrypted":true}}`, time.Now().UTC().Format(time.RFC3339))
	got := take(t, s, "", stray, stray)
	if got[0].Unmatched == "" || got[0].Unmatched != got[1].Unmatched ||
		!strings.Contains(got[0].Error, "different devices") {
		t.Fatalf("a report of two devices comes to %+v", got)
	}
	if level(s, "d2") != "limited" {
		t.Error("it was taken all the same")
	}
	shut(t, s)
	s = open(t, dir)
	list, err := s.View.Unmatched(false)
	if err != nil || len(list) != 1 || list[0].Times != 2 && list[0].Times != 1 || len(list[0].Keys) != 2 ||
		list[0].Keys[1].Device != "d1" {
		t.Fatalf("kept aside are %+v (%v)", list, err)
	}
	id := list[0].ID
	for _, how := range []api.Settlement{{Device: "d2"}, {Reason: "x"},
		{Device: "d2", Discard: true, Reason: "x"}, {Device: "d9", Reason: "x"}} {
		if _, err := s.Admin.Settle(ctx, "desk", id, how); err == nil {
			t.Errorf("%+v settles it", how)
		}
	}
	done, err := s.Admin.Settle(ctx, "desk", id, api.Settlement{Device: "d2", Reason: "the board was replaced"})
	if err != nil || done.Device != "d2" || done.Level != "strong" || level(s, "d2") != "strong" {
		t.Fatalf("settled it comes to %+v (%v)", done, err)
	}
	if id, _ := s.Snapshot().Fleet.Find(evidence.Folded(evidence.BySerial, "a-1")); id != "d2" {
		t.Errorf("the serial points at %s", id)
	}
	if _, err := s.Admin.Settle(ctx, "desk", id, api.Settlement{Discard: true, Reason: "x"}); err == nil {
		t.Error("it is settled twice")
	}
	if again := take(t, s, "", stray); again[0].Device != "d2" {
		t.Errorf("the next one like it comes to %+v", again)
	}
	if all, _ := s.View.Unmatched(true); len(all) != 1 || all[0].State != "joined" || all[0].Reason == "" {
		t.Errorf("of the past it tells %+v", all)
	}
	other := take(t, s, "", strings.NewReplacer(`"d2"`, `"d1"`, "A-1", "B-2").Replace(stray))
	if _, err := s.Admin.Settle(ctx, "desk", other[0].Unmatched,
		api.Settlement{Discard: true, Reason: "a test"}); err != nil {
		t.Fatal(err)
	}
	if open, _ := s.View.Unmatched(false); len(open) != 0 {
		t.Errorf("still open: %+v", open)
	}
}

func TestHistoryTellsWhatMadeTheChange(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	report(t, s, "d1", good)
	report(t, s, "d1", `"os.version":"14.1","storage.encrypted":false`)
	report(t, s, "d1", `"os.version":"14.1","storage.encrypted":false`) // nothing changes
	publish(t, s, strings.Replace(house, "{id: disk, check: storage.encrypted, cap: limited}",
		"{id: disk, check: storage.encrypted, cap: sound}", 1))
	events, err := s.View.DeviceHistory(ctx, "d1", 0, 10)
	if err != nil || len(events) != 3 {
		t.Fatalf("%d events (%v), want 3", len(events), err)
	}
	for i, want := range []string{
		`{"binding":["laptop/disk"],"cause":"rulebook","device":"d1","from":"limited","rulebook":2,"to":"sound"}`,
		`{"binding":["laptop/disk"],"cause":"evidence","changed":[{"from":"pass","rule":"laptop/disk","to":"fail","why":"storage.encrypted is false, needs to be true"}],"device":"d1","evidence":[{"attribute":"storage.encrypted","from":"true","source":"agent","to":"false"}],"from":"strong","rulebook":1,"to":"limited"}`,
		`{"binding":[],"cause":"evidence","device":"d1","rulebook":1,"to":"strong","verdicts":"ppp"}`,
	} {
		if !strings.Contains(string(events[i].Body), want) {
			t.Errorf("event %d is\n%s\nwant %s", i, events[i].Body, want)
		}
	}
	page, err := s.View.DeviceHistory(ctx, "d1", events[0].Seq, 1)
	if err != nil || len(page) != 1 || page[0].Seq != events[1].Seq {
		t.Errorf("the next page is %+v (%v)", page, err)
	}
	if _, err := s.View.DeviceHistory(ctx, "d9", 0, 1); err == nil {
		t.Error("a device that is not there has a history")
	}
}

func TestRehearsalChangesNothing(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	for i := range 10 {
		report(t, s, fmt.Sprint("d", i), strings.Replace(good, "14.1", fmt.Sprint(10+i), 1))
	}
	before := s.Snapshot()
	stands := map[string]string{}
	for i := range 10 {
		stands[fmt.Sprint("d", i)] = level(s, fmt.Sprint("d", i))
	}
	candidate := []rulebook.File{{Name: "r.yaml",
		Text: strings.Replace(house, "os.version >= 14, cap: limited, grace: 3h",
			"os.version >= 17, cap: barred", 1)}}
	shift, err := s.Admin.Rehearse(ctx, candidate)
	if err != nil || shift.Devices != 10 || shift.Falls != 7 || shift.Rises != 0 || len(shift.Moves) != 7 ||
		shift.Moves[0].Rules[0] != "laptop/os" {
		t.Fatalf("the shift is %+v (%v)", shift, err)
	}
	d, err := s.View.RehearseDevice(candidate, "d1")
	if err != nil || d.Level != "barred" || d.Standing.Binding[0] != "laptop/os" {
		t.Errorf("under the candidate it is %+v (%v)", d, err)
	}
	if s.Snapshot() != before {
		t.Error("the snapshot was replaced")
	}
	for id, was := range stands {
		if level(s, id) != was {
			t.Errorf("%s stands at %s, was %s", id, level(s, id), was)
		}
	}
	// What was rehearsed is what a publication does.
	if moved := publish(t, s, candidate[0].Text); moved != shift.Falls+shift.Rises {
		t.Errorf("publishing moves %d devices, the rehearsal said %d", moved, shift.Falls)
	}
	if _, err := s.Admin.Rehearse(ctx, []rulebook.File{{Name: "r.yaml",
		Text: "rulebook: x\nbaselins: []"}}); err == nil {
		t.Error("a broken rulebook is rehearsed")
	}
	if _, err := s.View.RehearseDevice(candidate, "d99"); err == nil {
		t.Error("a device that is not there is rehearsed")
	}
}

func TestOverviewAndSources(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := open(t, t.TempDir())
		defer shut(t, s)
		publish(t, s, strings.Replace(house, "resources:",
			"sources: [{id: agent, provides: [\"*\"]}, {id: buoy, provides: [os], quiet_after: 2h}]\nresources:", 1))
		report(t, s, "d1", good)
		report(t, s, "d2", good+`,"os.version":"x"`)
		time.Sleep(30 * time.Minute)
		report(t, s, "d1", strings.Replace(good, "14.1", "12.0", 1)) // grace
		report(t, s, "d2", strings.Replace(good, "true", "false", 1)+`,"colour":"blue"`)
		o, err := s.View.Overview(ctx, 24*3600*1_000_000, 3600*1_000_000)
		if err != nil {
			t.Fatal(err)
		}
		if o.Devices != 2 || len(o.Dropped) != 1 || o.Dropped[0].Device != "d2" ||
			o.Dropped[0].Held[0] != "laptop/disk" {
			t.Errorf("fallen are %+v", o.Dropped)
		}
		if len(o.Ending) != 1 || o.Ending[0].Kind != "grace" || o.Ending[0].Device != "d1" {
			t.Errorf("ending are %+v", o.Ending)
		}
		if o.Rules[0].Rule != "laptop/disk" || o.Rules[0].Binding != 1 || len(o.Quiet) != 1 ||
			o.Quiet[0].ID != "buoy" {
			t.Errorf("held by %+v, quiet %+v", o.Rules, o.Quiet)
		}
		first, last := o.Course[0].Levels, o.Course[len(o.Course)-1].Levels
		if fmt.Sprint(first, last) != "[0 0 0 0 0] [0 0 1 0 1]" &&
			fmt.Sprint(first, last) != "[0 0 0 0 2] [0 0 1 0 1]" {
			t.Errorf("the course runs from %v to %v", first, last)
		}
		sources := s.View.Sources()
		i := slices.IndexFunc(sources, func(x api.Source) bool { return x.ID == "agent" })
		if a := sources[i]; a.Devices != 2 || len(a.Refused) != 1 || a.Refused[0].Attribute != "colour" ||
			a.Refused[0].Device != "d2" {
			t.Errorf("the agent is %+v", a)
		}
		if d := s.View.Device("d2"); len(d.Refused) != 1 || d.Refused[0].Source != "agent" {
			t.Errorf("refused of d2: %+v", d.Refused)
		}
		report(t, s, "d2", good)
		if d := s.View.Device("d2"); len(d.Refused) != 0 {
			t.Errorf("still refused of d2: %+v", d.Refused)
		}
	})
}

func TestSearchesAreKept(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	report(t, s, "d1", good)
	for _, bad := range []kept.Search{{}, {Name: "x", Where: "levl == strong"},
		{Name: "x", Columns: []string{"colour"}}} {
		if _, err := s.Admin.KeepSearch(ctx, "a", bad, s.View.CheckSearch); err == nil {
			t.Errorf("%+v is kept", bad)
		}
	}
	q := kept.Search{Name: "strong ones", Where: "level == strong", Columns: []string{"os.version", "owner"}}
	if _, err := s.Admin.KeepSearch(ctx, "a", q, s.View.CheckSearch); err != nil {
		t.Fatal(err)
	}
	if all := s.View.Searches(); len(all) != 1 || all[0].By != "a" {
		t.Errorf("kept are %+v", all)
	}
	page, err := s.View.Devices(ctx, find.Query{Where: q.Where, Columns: q.Columns, Limit: 5})
	if err != nil || page.Items[0].Values["os.version"] != "14.1" {
		t.Errorf("the columns are %+v (%v)", page, err)
	}
	if err := s.Admin.DropSearch(ctx, q.Name); err != nil {
		t.Error(err)
	}
	if err := s.Admin.DropSearch(ctx, q.Name); err == nil {
		t.Error("it is dropped twice")
	}
}
