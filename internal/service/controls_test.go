package service

import (
	"bytes"
	"compress/gzip"
	"context"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/account"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/controls"
	"ironledger.example/internal/notice"
	"ironledger.example/internal/state"
)

// controlled is the rulebook of acts, with controls that its rules serve.
func controlled(text string) string {
	return strings.NewReplacer("{id: disk,", "{id: disk, controls: [stored, all],", "{id: ours,",
		"{id: ours, controls: [all],", "{id: calm,", "{id: calm, controls: [calm, all],").Replace(text) + `
controls: {title: House, list: [{id: stored, title: Disks}, {id: calm, title: Threats}, {id: all, title: Everything}, {id: none, title: Nothing}]}
reports: [{id: daily, every: day, controls: [stored, calm]}]
`
}

// clock is one that tests move.
type clock struct{ micros atomic.Int64 }

func (c *clock) now() time.Time       { return value.Clock(c.micros.Load()) }
func (c *clock) add(by time.Duration) { c.micros.Add(by.Microseconds()) }

func openedAt(t *testing.T, dir string, c *clock) *Service {
	t.Helper()
	s, err := Open(context.Background(), Options{Dir: dir, AdminToken: "il_a_token_for_tests_only",
		Log: slog.New(slog.DiscardHandler), Now: c.now})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func publish(t *testing.T, s *Service, text string) {
	t.Helper()
	if _, _, err := s.Admin.Publish(context.Background(), "author", api.Draft{AcceptImpact: "a trial",
		Files: []rulebook.File{{Name: "r.yaml", Text: text}}}); err != nil {
		t.Fatal(err)
	}
}

// shown counts how the devices that are known stand to a control, by what readers see of the fleet.
func shown(snap *state.Snapshot, id string) (out account.Tally) {
	keys, rules := snap.Book.RuleKeys, map[int]bool{}
	served, _ := account.Served(snap.Book.Rulebook, keys)
	for i, r := range served {
		for _, c := range r.Controls {
			if c == id && !r.Shadow {
				rules[i] = true
			}
		}
	}
	snap.Fleet.All(func(d *state.Device) bool {
		if d.Outsider() {
			return true
		}
		has := map[posture.Verdict]bool{}
		for i := range rules {
			has[d.Result.Verdicts[i]] = true
		}
		switch {
		case has[posture.Fail], has[posture.Grace]:
			out.NotMet++
		case has[posture.Unknown]:
			out.Unknown++
		case has[posture.Waived]:
			out.Excepted++
		case has[posture.Pass]:
			out.Met++
		}
		return true
	})
	return out
}

// Whatever people, sources, time and restarts do, a report about now says what the fleet shows, and one of the past
// stays the same to the byte.
func TestAReportSaysWhatTheFleetShows(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), t.TempDir()
	c := &clock{}
	c.micros.Store(time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC).UnixMicro())
	s := openedAt(t, dir, c)
	publish(t, s, controlled(actors))
	r := rand.New(rand.NewPCG(11, 4))
	type kept struct {
		asked controls.Asked
		raw   []byte
	}
	var past []kept
	begun := c.now()
	for round := range 9 {
		a := newActs(s, r, "", true)
		delete(a.steps, "redact") // what is gone cannot be counted
		a.steps["publish"] = func(context.Context) error {
			_, _, err := s.Admin.Publish(ctx, "astrid", api.Draft{AcceptImpact: "a trial", Files: []rulebook.File{{Name: "r.yaml",
				Text: strings.Replace(controlled(actors), "threat.score <= 30", a.one("threat.score <= 30", "threat.score <= 20",
					"threat.score <= 20, controls: []"), 1)}}})
			return err
		}
		for range 40 {
			c.add(time.Duration(r.IntN(900)) * time.Second)
			a.do(ctx)
		}
		if round%3 == 2 { // closed for a while, in which readings go stale and waivers end
			if err := s.Close(); err != nil {
				t.Fatal(err)
			}
			c.add(time.Duration(r.IntN(60)) * time.Hour)
			s = openedAt(t, dir, c)
		}
		if err := s.Do(ctx, func(*state.Change) error { return nil }); err != nil { // what is due is done
			t.Fatal(err)
		}
		snap := s.Snapshot()
		c.add(time.Second)
		asked := controls.Asked{To: c.now().Format(time.RFC3339)}
		if round > 4 {
			asked.From = begun.Add(time.Duration(r.IntN(20)) * time.Hour).Format(time.RFC3339)
		}
		report, err := s.Controls.Make(ctx, &asked)
		if err != nil {
			t.Fatal(err)
		}
		for i := range report.Controls {
			if got := &report.Controls[i]; got.AtEnd != shown(snap, got.ID) {
				t.Fatalf("round %d: %s ends with %+v, and the fleet shows %+v", round, got.ID, got.AtEnd, shown(snap, got.ID))
			}
		}
		if report.Missing > 0 || len(report.Controls) != 4 || report.Controls[0].AtEnd.All() == 0 {
			t.Fatalf("round %d: %d are missing; %+v", round, report.Missing, report.Controls[0])
		}
		raw, err := controls.Write(report, controls.HTML, s.Key.Signer)
		if err != nil {
			t.Fatal(err)
		}
		past = append(past, kept{asked, raw})
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = openedAt(t, dir, c)
	defer s.Close()
	for _, p := range past {
		report, err := s.Controls.Make(ctx, &p.asked)
		if err != nil {
			t.Fatal(err)
		}
		if raw, err := controls.Write(report, controls.HTML, s.Key.Signer); err != nil || !bytes.Equal(raw, p.raw) {
			t.Errorf("the report %+v is another now: %v", p.asked, err)
		}
		verifyFromExport(t, s, p.raw)
	}
}

// archive moves what is before a moment into an archive.
func archive(t *testing.T, s *Service, before string) {
	t.Helper()
	if _, err := s.Audit.BeginArchive(context.Background(), "astrid", api.ArchiveDraft{Reason: "old",
		Before: before}); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the archive is made", func() bool {
		p := s.Audit.Archives().Progress
		return p != nil && p.State == "done"
	})
}

// What an archive holds is read from its file, and without it nothing is told.
func TestAReportReadsArchives(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), t.TempDir()
	c := &clock{}
	c.micros.Store(time.Date(2026, 7, 1, 8, 0, 0, 0, time.UTC).UnixMicro())
	s := openedAt(t, dir, c)
	publish(t, s, controlled(actors))
	a := newActs(s, rand.New(rand.NewPCG(5, 5)), "", false)
	for range 120 {
		c.add(10 * time.Minute)
		a.do(ctx)
	}
	asked := controls.Asked{From: "2026-07-01T09:00:00Z", To: "2026-07-01T20:00:00Z"}
	before, err := s.Controls.Make(ctx, &asked)
	if err != nil {
		t.Fatal(err)
	}
	c.add(200 * 24 * time.Hour)
	// It ends in the middle of the period.
	archive(t, s, "2026-07-01T15:00:00Z")
	if err := s.Close(); err != nil { // and what it had at hand is gone
		t.Fatal(err)
	}
	s = openedAt(t, dir, c)
	defer s.Close()
	after, err := s.Controls.Make(ctx, &asked)
	if err != nil || after.Digest() != before.Digest() {
		t.Errorf("with the archive it is another report: %v", err)
	}
	file := filepath.Join(audit.ArchiveFolder(dir), s.Audit.Archives().Items[0].File)
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	asked.To = "2026-07-01T19:00:00Z" // one that is not at hand
	bad := bytes.Clone(raw)
	bad[len(bad)/2] ^= 1
	if err := os.WriteFile(file, bad, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Controls.Make(ctx, &asked); err == nil {
		t.Error("an archive that was changed is read")
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Controls.Make(ctx, &asked); err == nil || !strings.Contains(err.Error(), "put the file back") {
		t.Errorf("without its archive: %v", err)
	}
}

// verifyFromExport makes a report again from an export of the ledger.
func verifyFromExport(t *testing.T, s *Service, raw []byte) {
	t.Helper()
	f, err := controls.Read(raw)
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Signed(s.Key.Verifier); err != nil {
		t.Error(err)
	}
	again, err := controls.NewAgain(f.Report)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Store.Lines(context.Background(), 1, 1<<40, func(l *ledger.Line) error { return again.Add(l) }); err != nil {
		t.Fatal(err)
	}
	if wrong, err := again.Differs(); err != nil || wrong != "" {
		t.Errorf("made again: %s %v", wrong, err)
	}
}

// What a verdict came to while the service was down is told when it is up again, though the level is the same.
func TestAVerdictThatChangedWhileTheServiceWasDownIsTold(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	c := &clock{}
	c.micros.Store(time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC).UnixMicro())
	s := openedAt(t, dir, c)
	publish(t, s, "rulebook: house\nbaselines: [{id: all, rules: [{id: disk, check: storage.encrypted, cap: limited, "+
		"unknown: limited}, {id: fresh, check: age(os.patched_at) < 3d, cap: limited, unknown: limited}]}]\n")
	if _, err := s.Intake.Ingest(ctx, "desk", "", strings.NewReader(`{"source":"desk","identity":{"id":"d1"},`+
		`"evidence":{"os.patched_at":"2026-11-02T07:00:00Z","storage.encrypted":false}}`), "ndjson"); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	c.add(30 * time.Hour) // both readings go stale; the level stays limited
	s = openedAt(t, dir, c)
	defer s.Close()
	var told []event.VerdictChange
	err := s.Store.Proven(ctx, 1, func(e ledger.Entry) error {
		if x, is := event.As[*event.StandingChanged](&e); is && x.Cause == event.ByRestart {
			told = append(told, x.Changed...)
		}
		return nil
	})
	if err != nil || len(told) != 2 || told[0].From != posture.Fail || told[0].To != posture.Unknown ||
		told[1].From != posture.Pass {
		t.Errorf("the restart tells %+v, %v", told, err)
	}
}

// What the rulebook asks for is made when its period has ended, once, and made up for when the service was down; who is
// to get it gets it.
func TestReportsAreMadeWhenTheirPeriodEnds(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), t.TempDir()
	c := &clock{}
	c.micros.Store(time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC).UnixMicro())
	s := openedAt(t, dir, c)
	text := strings.Replace(controlled(actors), "controls: [stored, calm]}", "controls: [stored, calm], "+
		"to: [{mail: audit@gullholm.example}]}, {id: weekly, every: week}", 1)
	publish(t, s, text)
	if _, err := s.Intake.Ingest(ctx, "desk", "", strings.NewReader(`{"source":"desk","identity":{"id":"d1"},`+
		`"evidence":{"form":"laptop","storage.encrypted":true,"threat.score":50}}`), "ndjson"); err != nil {
		t.Fatal(err)
	}
	post := &post{}
	begin := func() {
		s.Controls.Start(5 * time.Millisecond)
		s.Notices.Start(notice.Options{Base: "https://posture.gullholm.example", Mailer: post, Gather: time.Millisecond,
			Look: 5 * time.Millisecond})
	}
	kept := func(report string, n int) []string {
		t.Helper()
		var ids []string
		eventually(t, "a report is made, or sent", func() bool {
			ids = nil
			for _, r := range s.Controls.List(report).Items {
				ids = append(ids, r.ID)
			}
			return len(ids) >= n
		})
		return ids
	}
	begin()
	c.add(16*time.Hour + time.Second) // midnight
	if got := kept("daily", 1); len(got) != 1 || got[0] != "daily-2026-11-02" {
		t.Errorf("kept after a day: %v", got)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	c.add(3*24*time.Hour + time.Hour)
	s = openedAt(t, dir, c)
	begin()
	if got := kept("daily", 4); len(got) != 4 || got[0] != "daily-2026-11-05" {
		t.Errorf("kept after days without a service: %v", got)
	}
	c.add(4 * 24 * time.Hour)
	if got := kept("weekly", 1); len(got) != 1 || got[0] != "weekly-2026-11-02" {
		t.Errorf("kept after a week: %v", got)
	}
	kept("daily", 8)
	report, err := s.Controls.Opened("daily-2026-11-05")
	if err != nil || report == nil || len(report.Controls) != 2 || report.From != "2026-11-05T00:00:00Z" {
		t.Fatalf("kept: %+v, %v", report, err)
	}
	again, err := s.Controls.Make(ctx, &controls.Asked{From: report.From, To: report.To,
		Controls: []string{"calm", "stored"}})
	if err != nil || again.Digest() != report.Digest() {
		t.Errorf("made by hand it is another: %v", err)
	}
	trends, err := s.Controls.Trends("daily")
	if err != nil || len(trends.Periods) != 8 || trends.Controls[0].Control != "stored" ||
		trends.Periods[0].ID != "daily-2026-11-02" {
		t.Errorf("trends: %+v, %v", trends, err)
	}
	eventually(t, "a report is made, or sent", func() bool {
		c.add(time.Second) // what is to be sent waits for a moment
		return len(post.to("audit@gullholm.example")) > 0
	})
	if m := post.to("audit@gullholm.example")[0]; !strings.Contains(m.Text, "/reports/daily-2026-11-0") {
		t.Errorf("the mail says %s", m.Text)
	}
	made := map[string]int{}
	if err := s.Store.Proven(ctx, 1, func(e ledger.Entry) error {
		if x, is := event.As[*event.ReportMade](&e); is {
			made[x.ID]++
		}
		return nil
	}); err != nil || len(made) != 9 || made["daily-2026-11-03"] != 1 {
		t.Errorf("the ledger tells of %v, %v", made, err)
	}
	publish(t, s, actors)
	c.add(2 * 24 * time.Hour)
	time.Sleep(50 * time.Millisecond)
	if n := len(s.Controls.List("").Items); n != 9 {
		t.Errorf("%d reports after the rulebook asks for none", n)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
}

// What was redacted counts no more, at once, and is said to be missing.
func TestAReportAfterARedactionIsAnother(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c := &clock{}
	c.micros.Store(time.Date(2026, 7, 1, 8, 0, 0, 0, time.UTC).UnixMicro())
	s := openedAt(t, t.TempDir(), c)
	defer s.Close()
	publish(t, s, controlled(actors))
	a := newActs(s, rand.New(rand.NewPCG(5, 7)), "", false)
	for range 40 {
		c.add(10 * time.Minute)
		a.do(ctx)
	}
	c.add(time.Hour)
	asked := controls.Asked{From: "2026-07-01T08:30:00Z", To: "2026-07-01T14:00:00Z"}
	before, err := s.Controls.Make(ctx, &asked)
	if err != nil {
		t.Fatal(err)
	}
	var seq int64
	if err := s.Store.Proven(ctx, 1, func(e ledger.Entry) error {
		if e.Kind == ledger.StandingChanged && seq == 0 {
			seq = e.Seq
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Audit.Redact(ctx, "astrid", seq, "a name must go"); err != nil {
		t.Fatal(err)
	}
	after, err := s.Controls.Make(ctx, &asked)
	if err != nil || after.Missing != 1 || after.Digest() == before.Digest() {
		t.Fatalf("after the redaction %d entries are missing, %v", after.Missing, err)
	}
	if why := controls.Difference(before, after); !strings.Contains(why, "redacted since") {
		t.Errorf("the difference is %q", why)
	}
}

// An archive that does not prove itself is not believed, also where the period ends within it.
func TestAReportBelievesNoArchiveThatIsNotProved(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), t.TempDir()
	c := &clock{}
	c.micros.Store(time.Date(2026, 7, 1, 8, 0, 0, 0, time.UTC).UnixMicro())
	s := openedAt(t, dir, c)
	defer func() { s.Close() }()
	publish(t, s, controlled(actors))
	a := newActs(s, rand.New(rand.NewPCG(5, 6)), "", false)
	for range 60 {
		c.add(10 * time.Minute)
		a.do(ctx)
	}
	c.add(200 * 24 * time.Hour)
	archive(t, s, "2026-07-02T15:00:00Z")
	file := filepath.Join(audit.ArchiveFolder(dir), s.Audit.Archives().Items[0].File)
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	z, err := gzip.NewReader(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	for name, change := range map[string]func(string) string{
		"the last line is gone": func(s string) string { return s[:strings.LastIndex(strings.TrimSpace(s), "\n")+1] },
		"an entry is another":   func(s string) string { return strings.Replace(s, `"to":"sound"`, `"to":"strong"`, 1) },
	} {
		var out bytes.Buffer
		w := gzip.NewWriter(&out)
		if _, err := w.Write([]byte(change(string(text)))); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, out.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Controls.Make(ctx, &controls.Asked{From: "2026-07-01T08:30:00Z", To: "2026-07-01T10:00:00Z"}); err == nil {
			t.Errorf("%s, and the report is made", name)
		}
	}
}
