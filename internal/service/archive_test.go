package service_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/service"
	"ironledger.example/internal/state"
)

// aged is a service whose clock a test moves on.
type aged struct {
	*service.Service
	t   *testing.T
	dir string
	by  atomic.Int64 // how far its clock is before the machine's
}

func (a *aged) open() {
	a.t.Helper()
	if err := a.tryOpen(); err != nil {
		a.t.Fatal(err)
	}
}

func (a *aged) tryOpen() (err error) {
	a.Service, err = service.Open(ctx, service.Options{Dir: a.dir, AdminToken: "il_a_token_for_tests_only",
		Log: slog.New(slog.DiscardHandler),
		Now: func() time.Time { return time.Now().Add(time.Duration(a.by.Load())) }})
	return err
}

// grown is a service of which four devices have a past of a hundred days, with decisions of the first of them.
func grown(t *testing.T) *aged {
	t.Helper()
	a := &aged{t: t, dir: t.TempDir()}
	a.open()
	publish(t, a.Service, house)
	if _, err := a.Admin.ImportPeople(ctx, "astrid", []directory.Person{{ID: "maren", Name: "Maren", Groups: []string{"finance"}}},
		admin.ListImport{AcceptImpact: "a trial"}); err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		for _, id := range []string{"d1", "d2", "d3"} {
			report(t, a.Service, id, strings.Replace(good, `encrypted":true`, fmt.Sprintf(`encrypted":%v`, i%2 == 0), 1))
			decide(t, a.Service, "maren", id)
		}
	}
	a.by.Add(int64(100 * 24 * time.Hour))
	report(t, a.Service, "d1", good)
	report(t, a.Service, "d4", good)
	decide(t, a.Service, "maren", "d4")
	eventuallyHere(t, "what the others said is stale", func() bool {
		return level(a.Service, "d2") == "unproven" && level(a.Service, "d3") == "unproven"
	})
	return a
}

// archived makes an archive of what is older than 95 days, and waits for it.
func (a *aged) archived() api.Archive {
	a.t.Helper()
	if _, err := a.Audit.BeginArchive(ctx, "astrid", api.ArchiveDraft{Reason: "old",
		Before: a.Now().UTC().Add(-95 * 24 * time.Hour).Format(time.RFC3339)}); err != nil {
		a.t.Fatal(err)
	}
	eventuallyHere(a.t, "the archive is made", func() bool {
		p := a.Audit.Archives().Progress
		if p != nil && p.State == "failed" {
			a.t.Fatal(p.Problem)
		}
		return p != nil && p.State == "done"
	})
	return a.Audit.Archives().Items[0]
}

func eventuallyHere(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for range 3000 {
		if holds() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatalf("%s, in vain", what)
}

// sound verifies the records, on which somebody else may work.
func (a *aged) sound(when string, archived int) {
	a.t.Helper()
	v, err := audit.VerifyRecords(ctx, a.Store, a.Key.Verifier, audit.VerifyOptions{})
	if err != nil || v.State != "sound" || v.Archived != archived {
		a.t.Errorf("%s the records are %+v, %v; %d archived entries were expected", when, v, err, archived)
	}
}

// What old entries say leaves for a file that proves itself; numbers, hashes and proofs stay, and whoever asks for one
// is told where it is.
func TestArchive(t *testing.T) {
	t.Parallel()
	a := grown(t)
	stands := level(a.Service, "d2")
	lines, err := a.Audit.LedgerLines(ctx, audit.Query{Limit: 200})
	if err != nil {
		t.Fatal(err)
	}
	before := map[int64]api.Entry{}
	for _, l := range lines {
		before[l.Seq] = l
	}
	x := a.archived()
	if !x.Done || !x.Here || x.From != 1 || x.To < 15 || x.Entries < 10 || x.Entries >= int(x.To) {
		t.Fatalf("the archive is %+v", x)
	}
	a.sound("with an archive", x.Entries)

	// The file has all of them, and proves it with the key alone.
	raw, err := os.ReadFile(filepath.Join(audit.ArchiveFolder(a.dir), x.File))
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(filepath.Join(audit.ArchiveFolder(a.dir), x.File)); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("others may read the file: %v, %v", info.Mode(), err)
	}
	got := map[int64]string{}
	z, err := gzip.NewReader(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	if _, head, err := ledger.ReadArchive(z, a.Key.Verifier, func(l *ledger.Line) error {
		got[l.Seq] = string(l.Body)
		return nil
	}); err != nil || head.Size <= x.To {
		t.Fatalf("it does not prove itself: %+v, %v", head, err)
	}
	var decided api.Entry
	gone := 0
	for seq := int64(1); seq <= x.To; seq++ {
		if got[seq] != string(before[seq].Body) {
			t.Errorf("entry %d is %s in the file; it was %s", seq, got[seq], before[seq].Body)
		}
		e, err := a.Audit.LedgerEntry(ctx, seq)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := e.Proof.Check(a.Key.Verifier); err != nil || e.Leaf != before[seq].Leaf {
			t.Errorf("entry %d is not proved any more: %v", seq, err)
		}
		if e.Archive == "" {
			continue
		}
		gone++
		if e.Archive != x.ID || e.Redacted || e.Body != nil || !strings.Contains(e.Where, x.File) ||
			!strings.Contains(e.Gist, x.ID) {
			t.Errorf("entry %d is shown as %+v", seq, e)
		}
		if e.Kind == ledger.DecisionMade {
			decided = e.Entry
		}
	}
	if gone != x.Entries {
		t.Errorf("%d bodies are gone; %d were told", gone, x.Entries)
	}

	// A decision of then is found by its id, and says where it is; it is not made again.
	r, err := a.Decisions.Decision(ctx, decided.About)
	if err != nil || r.Archive != x.ID || r.Redacted || !strings.Contains(r.Where, x.File) {
		t.Errorf("the decision is %+v, %v", r, err)
	}
	if _, err := a.Decisions.ReproduceDecision(ctx, decided.About); err == nil || !strings.Contains(err.Error(), x.File) {
		t.Errorf("it is made again: %v", err)
	}
	_, err = a.Audit.Redact(ctx, "astrid", decided.Seq, "asked for")
	refusedAs[*fault.InputError](t, "what is not here", err, "")

	// Newer ones stay, devices stand where they stood, and all of it is so after a restart.
	if after, err := a.Decisions.Decisions(ctx, decision.Query{Device: "d4", Limit: 5}); err != nil || len(after) != 1 {
		t.Errorf("a decision of now is %+v, %v", after, err)
	}
	if _, err := a.Audit.PlaceArchive(ctx, x.ID, "the safe"); err != nil {
		t.Error(err)
	}
	_, err = a.Audit.BeginArchive(ctx, "astrid", api.ArchiveDraft{Reason: "again",
		Before: a.Now().UTC().Add(-95 * 24 * time.Hour).Format(time.RFC3339)})
	refusedAs[*fault.InputError](t, "nothing more", err, "nothing to archive")
	shut(t, a.Service)
	a.open()
	a.sound("after a restart", x.Entries)
	if e, err := a.Audit.LedgerEntry(ctx, decided.Seq); err != nil || !strings.Contains(e.Where, "the safe") {
		t.Errorf("after a restart it is %+v, %v", e, err)
	}
	if now := level(a.Service, "d2"); now != stands {
		t.Errorf("d2 stands at %s, and stood at %s", now, stands)
	}

	// The next archive goes on behind it.
	a.by.Add(int64(100 * 24 * time.Hour))
	report(t, a.Service, "d4", good)
	if y := a.archived(); y.From != x.To+1 || y.To <= y.From {
		t.Errorf("the next is %+v", y)
	} else {
		a.sound("with two", x.Entries+y.Entries)
	}
	shut(t, a.Service)
}

// Young entries stay, as do those that a stream has not passed on; a draft without a reason is none.
func TestWhatIsNotArchived(t *testing.T) {
	t.Parallel()
	if decision.MaxReplayDays*24*time.Hour > audit.LeastAge {
		t.Error("what may be archived is still replayed")
	}
	a := grown(t)
	begin := func(before time.Duration, reason string) error {
		_, err := a.Audit.BeginArchive(ctx, "astrid", api.ArchiveDraft{Reason: reason,
			Before: a.Now().UTC().Add(-before).Format(time.RFC3339)})
		return err
	}
	refusedAs[*fault.InputError](t, "young ones", begin(80*24*time.Hour, "x"), "stay here")
	refusedAs[*fault.InputError](t, "no reason", begin(95*24*time.Hour, " "), "")
	refusedAs[*fault.InputError](t, "older than any", begin(500*24*time.Hour, "x"), "nothing to archive")
	if _, err := a.Audit.BeginArchive(ctx, "astrid", api.ArchiveDraft{Reason: "x", Before: "soon"}); err == nil {
		t.Error("soon is a moment")
	}
	if _, err := a.Audit.PlaceArchive(ctx, "ar-none", "x"); err == nil {
		t.Error("an archive that there is not has a place")
	}
	if n := len(a.Audit.Archives().Items); n != 0 {
		t.Errorf("%d archives were made", n)
	}
	a.sound("without an archive", 0)
	shut(t, a.Service)
}

// The service ends while bodies give way: what is left goes at the next start, and meanwhile the records are sound.
func TestAnArchiveThatIsBrokenOff(t *testing.T) {
	t.Parallel()
	a := grown(t)
	x := a.archived()
	// As if it had ended after the entry was written: half of the bodies are back.
	z, err := os.Open(filepath.Join(audit.ArchiveFolder(a.dir), x.File))
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	unpacked, err := gzip.NewReader(z)
	if err != nil {
		t.Fatal(err)
	}
	bodies := map[int64]string{}
	if _, _, err := ledger.ReadArchive(unpacked, a.Key.Verifier, func(l *ledger.Line) error {
		bodies[l.Seq] = string(l.Body)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	half := x.From + (x.To-x.From)/2
	file := filepath.Join(audit.ArchiveFolder(a.dir), x.File)
	if err := a.Do(ctx, func(c *state.Change) error {
		doc := *state.Get(c, state.ArchiveKind, x.ID)
		doc.Away = half - 1
		return state.Put(c, state.ArchiveKind, x.ID, &doc)
	}); err != nil {
		t.Fatal(err)
	}
	shut(t, a.Service)
	back := 0
	db := database(t, a.dir)
	for seq := half; seq <= x.To; seq++ {
		if done, err := db.Exec("UPDATE entries SET body = ? WHERE seq = ? AND body LIKE '\"%'", bodies[seq], seq); err != nil {
			t.Fatal(err)
		} else if n, _ := done.RowsAffected(); n == 1 {
			back++
		}
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	if back == 0 {
		t.Fatal("nothing came back")
	}
	// Without the file as it was made no body goes.
	if err := os.Rename(file, file+".away"); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte("another"), 0o600); err != nil {
		t.Fatal(err)
	}
	a.open()
	a.sound("with half of the bodies", x.Entries-back)
	time.Sleep(100 * time.Millisecond)
	a.sound("without the file", x.Entries-back)
	shut(t, a.Service)
	if err := os.Rename(file+".away", file); err != nil {
		t.Fatal(err)
	}
	a.open()
	eventuallyHere(t, "the rest goes", func() bool { return a.Audit.Archive(x.ID).Done })
	a.sound("in the end", x.Entries)
	shut(t, a.Service)
}

// Whoever alters the records cannot use an archive to hide what an entry says: an entry that no archive has, an archive
// that there is not, or a body in the file that is another.
func TestArchivesHideNothing(t *testing.T) {
	t.Parallel()
	for name, alter := range map[string]string{
		"an entry that it has not": "UPDATE entries SET body = '\"ID\"' WHERE seq = (SELECT max(seq) - 1 FROM entries)",
		"another archive":          "UPDATE entries SET body = '\"ar-other\"' WHERE body = '\"ID\"' AND seq = (SELECT min(seq) FROM entries WHERE body = '\"ID\"')",
		"no body at all":           "UPDATE entries SET body = 'null' WHERE body = '\"ID\"' AND seq = (SELECT max(seq) FROM entries WHERE body = '\"ID\"')",
		"its own entry":            "UPDATE entries SET body = '\"ID\"' WHERE kind = 'ledger.archived'",
		"what stayed of d2":        "UPDATE entries SET body = '\"ID\"' WHERE kind = 'standing.changed' AND about = 'd2'",
	} {
		a := grown(t)
		x := a.archived()
		shut(t, a.Service)
		db := database(t, a.dir)
		if _, err := db.Exec(strings.ReplaceAll(alter, "ID", x.ID)); err != nil {
			t.Fatal(err)
		}
		if err := db.Close(); err != nil {
			t.Fatal(err)
		}
		if err := a.tryOpen(); err != nil {
			if !strings.Contains(err.Error(), "tampered with") {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		v, err := audit.VerifyRecords(ctx, a.Store, a.Key.Verifier, audit.VerifyOptions{})
		if err == nil && v.State == "sound" {
			t.Errorf("%s: the records are sound", name)
		}
		if name == "an entry that it has not" || name == "another archive" {
			if err := a.Store.Proven(ctx, 1, func(ledger.Entry) error { return nil }); err == nil {
				t.Errorf("%s: its entries are proved", name)
			}
		}
		shut(t, a.Service)
	}
}

// A file that was altered, cut or lengthened, or is of another key, is no archive.
func TestAlteredArchives(t *testing.T) {
	t.Parallel()
	a := grown(t)
	x := a.archived()
	f, err := os.Open(filepath.Join(audit.ArchiveFolder(a.dir), x.File))
	if err != nil {
		t.Fatal(err)
	}
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := io.ReadAll(z)
	if err := errors.Join(err, f.Close()); err != nil {
		t.Fatal(err)
	}
	lines := strings.SplitAfter(strings.TrimSuffix(string(raw), "\n"), "\n")
	n := len(lines)
	swap := func(i, j int) string {
		l := append([]string{}, lines...)
		l[i], l[j] = l[j], l[i]
		return strings.Join(l, "")
	}
	for name, text := range map[string]string{
		"cut":                  strings.Join(lines[:n-3], ""),
		"without its proof":    strings.Join(lines[:n-1], ""),
		"without its head":     strings.Join(lines[1:], ""),
		"an entry too few":     strings.Join(append(append([]string{}, lines[:4]...), lines[5:]...), ""),
		"two in another order": swap(3, 4),
		"another word":         strings.Replace(string(raw), `"maren"`, `"marek"`, 1),
		"another end":          strings.Replace(string(raw), fmt.Sprintf(`"to":%d`, x.To), fmt.Sprintf(`"to":%d`, x.To-1), 1),
		"another beginning":    strings.Replace(string(raw), `"from":1`, `"from":2`, 1),
		"more behind it":       string(raw) + "\n{}\n",
		"a member more":        strings.Replace(string(raw), `"from":1`, `"extra":1,"from":1`, 1),
		"nothing":              "",
		"another ledger":       strings.Replace(string(raw), `"origin":"`, `"origin":"x`, 1),
	} {
		if text == string(raw) {
			t.Errorf("%s: nothing was altered", name)
		}
		if _, _, err := ledger.ReadArchive(strings.NewReader(text), a.Key.Verifier, nil); !errors.Is(err, ledger.ErrArchive) {
			t.Errorf("%s: it is taken with %v", name, err)
		}
	}
	other := grown(t)
	if _, _, err := ledger.ReadArchive(bytes.NewReader(raw), other.Key.Verifier, nil); !errors.Is(err, ledger.ErrArchive) {
		t.Errorf("under another key it is taken with %v", err)
	}
	shut(t, a.Service)
	shut(t, other.Service)
}

// database opens the records behind the service's back.
func database(t *testing.T, dir string) *sql.DB {
	t.Helper()
	db, err := sql.Open("sqlite", engine.DatabasePath(dir))
	if err != nil {
		t.Fatal(err)
	}
	return db
}

// What is counted and drawn leaves out what a redaction took away.
func TestCountsWithoutBodies(t *testing.T) {
	t.Parallel()
	a := grown(t)
	for range 2 {
		decide(t, a.Service, "maren", "d4")
	}
	counted := func() (decisions, rulings int) {
		counts, err := a.Decisions.DecisionCounts(ctx, 7)
		gates, failed := a.Decisions.Gates(ctx)
		for _, c := range counts {
			decisions += c.Count
		}
		for _, g := range gates {
			rulings += g.Week.Met + g.Week.Denied + g.Week.SteppedUp
		}
		if err = errors.Join(err, failed); err != nil {
			t.Fatal(err)
		}
		return decisions, rulings
	}
	before, ruled := counted()
	gone, leave := context.WithCancel(ctx)
	leave()
	if _, err := a.Decisions.DecisionCounts(gone, 90); err == nil { // more than was read: and nothing comes of it
		t.Error("decisions are counted for who left")
	}
	if n, r := counted(); n != before || r != ruled {
		t.Errorf("after somebody left %d are counted, of which gates said %d of %d", n, r, ruled)
	}
	lines, err := a.Audit.LedgerLines(ctx, audit.Query{Limit: 20})
	if err != nil {
		t.Fatal(err)
	}
	done := map[ledger.Kind]bool{}
	for _, l := range lines {
		if (l.Kind == ledger.DecisionMade || l.Kind == ledger.StandingChanged) && !done[l.Kind] {
			done[l.Kind] = true
			if _, err := a.Audit.Redact(ctx, "astrid", l.Seq, "asked for"); err != nil {
				t.Fatal(err)
			}
		}
	}
	if n, r := counted(); before != 3 || n != 2 || ruled == 0 || 2*ruled != 3*r {
		t.Errorf("of three decisions, one redacted, %d are counted, of which gates said %d of %d", n, r, ruled)
	}
	decide(t, a.Service, "maren", "d4")
	if n, r := counted(); n != 3 || r != ruled {
		t.Errorf("with another decision %d are counted, of which gates said %d of %d", n, r, ruled)
	}
	if o, err := a.View.Overview(ctx, 0, 7*24*3600*1_000_000); err != nil || len(o.Course) == 0 || len(done) != 2 {
		t.Errorf("the course of levels is told as %v, %v", o, err)
	}
	shut(t, a.Service)
}
