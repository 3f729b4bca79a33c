package service

import (
	"context"
	"fmt"
	"log/slog"
	"runtime"
	"strings"
	"testing"
	"weak"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/state"
)

// Whoever still holds the snapshot of before an import must be told of a device
// by the directory in it, though the import has replaced the device: a decision
// names the directory it was made from.
func TestASnapshotJudgesByItsOwnDirectory(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s, err := Open(ctx, Options{Dir: t.TempDir(), AdminToken: "il_a_token_for_tests_only",
		Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	book := "rulebook: r\nbaselines: [{id: a, rules: [{id: staff, check: '\"staff\" in owner.groups', cap: limited}]}]\n"
	if _, _, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: book}}}); err != nil {
		t.Fatal(err)
	}
	enlist := func(groups ...string) {
		t.Helper()
		if _, err := s.Admin.ImportPeople(ctx, "admin",
			[]directory.Person{{ID: "maren", Name: "Maren", Groups: groups}}, admin.ListImport{}); err != nil {
			t.Fatal(err)
		}
	}
	at := func(snap *state.Snapshot) string {
		d := snap.At(snap.Fleet.Get("d"), s.Micros())
		return snap.Book.Rulebook.LevelName(d.Result.Level)
	}
	enlist("staff")
	if _, err := s.Intake.Ingest(ctx, "agent", "",
		strings.NewReader(`{"identity":{"id":"d"},"evidence":{"owner":"maren"}}`), evidence.JSON); err != nil {
		t.Fatal(err)
	}
	before := s.Snapshot()
	enlist("visitors")
	between := s.Snapshot()
	enlist("staff", "visitors")
	for _, c := range []struct {
		when string
		snap *state.Snapshot
		want string
	}{{"of before", before, "strong"}, {"between the two", between, "limited"},
		{"of now", s.Snapshot(), "strong"}} {
		if got := at(c.snap); got != c.want {
			t.Errorf("under the directory %s the device stands at %s, want %s", c.when, got, c.want)
		}
	}
}

// Nothing holds a device as it was once nobody looks at that snapshot any more: of each
// device there would be two for good.
func TestWhatADeviceWasIsLetGo(t *testing.T) {
	t.Parallel()
	a := &acts{s: opened(t, t.TempDir(), nil)}
	defer a.s.Close()
	report := func(id string, score int) {
		t.Helper()
		if err := a.take(context.Background(), fmt.Sprintf(`{"source":"desk","external_id":"x-%s","identity":{"serial":"S-%s"},`+
			`"evidence":{"threat.score":%d,"owner":"maren"}}`, id, id, score)); err != nil {
			t.Fatal(err)
		}
	}
	report("d", 1)
	id, _ := a.s.Snapshot().Fleet.Find(evidence.Key{Kind: evidence.BySerial, Text: "s-d"})
	if id == "" {
		t.Fatal("the device is not found")
	}
	was := weak.Make(a.s.Snapshot().Fleet.Get(id))
	report("d", 2)
	report("e", 1) // the writer may hold the state before the last change
	report("e", 2)
	eventually(t, "the device as it was is let go", func() bool {
		runtime.GC()
		return was.Value() == nil
	})
}
