package engine

import (
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"testing"

	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"

	_ "modernc.org/sqlite" // the records are made to fail with it
)

// watch is a companion that keeps what it was shown.
type watch struct {
	shown  int
	failed []error
	again  bool
}

func (w *watch) Before(*state.Change, *state.Snapshot) Part { w.shown++; return w }
func (w *watch) Done(err error) bool {
	if err != nil {
		w.failed = append(w.failed, err)
	}
	again := w.again
	w.again = false
	return again
}

func openEngine(t *testing.T, dir string, w *watch) *Engine {
	t.Helper()
	e, err := Open(t.Context(), Options{Dir: dir, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	e.Start(w)
	return e
}

// keep is an act that keeps a search.
func keep(name string) func(*state.Change) error {
	return func(c *state.Change) error {
		return state.Put(c, state.SearchKind, name, &kept.Search{Name: name})
	}
}

func searches(e *Engine) (names []string) {
	for _, s := range e.Snapshot().Searches.List() {
		names = append(names, s.Name)
	}
	return names
}

// A change that cannot be written has no effect, nor has one that was made on top of
// it; afterwards the writer goes on.
func TestAChangeThatCannotBeWritten(t *testing.T) {
	dir := t.TempDir()
	w := &watch{}
	e := openEngine(t, dir, w)
	defer e.Close()
	if err := e.Do(t.Context(), keep("before")); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", "file:"+DatabasePath(dir))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	const full = "CREATE TRIGGER full BEFORE INSERT ON documents BEGIN SELECT raise(ABORT, 'database or disk is full'); END"
	if _, err := db.Exec(full); err != nil {
		t.Fatal(err)
	}
	first := e.Submit(keep("one"))
	second := e.Submit(func(c *state.Change) error { return keep("two")(c) })
	for name, j := range map[string]*Job{"one": first, "two": second} {
		if err := j.Wait(t.Context()); err == nil {
			t.Errorf("%s is said to be kept", name)
		}
	}
	if got := searches(e); fmt.Sprint(got) != "[before]" {
		t.Errorf("%v are shown", got)
	}
	if len(w.failed) == 0 {
		t.Error("nobody tells who takes part in changes that one failed")
	}
	if _, err := db.Exec("DROP TRIGGER full"); err != nil {
		t.Fatal(err)
	}
	for i := 0; ; i++ { // the store tries by itself
		if err = e.Do(t.Context(), keep("after")); err == nil || i == 200 {
			break
		}
	}
	if got := searches(e); err != nil || fmt.Sprint(got) != "[after before]" {
		t.Errorf("%v are shown (%v)", got, err)
	}
}

// Whoever weighed another state weighs again; what is tried leaves nothing.
func TestWhatIsWeighedIsWhatIsChanged(t *testing.T) {
	e := openEngine(t, t.TempDir(), &watch{})
	defer e.Close()
	roster := func(serial string) func(*state.Change) error {
		return func(c *state.Change) error {
			return c.ReplaceRoster(map[string]*state.RosterEntry{serial: {ID: serial, Serial: serial}},
				state.Cause{Kind: event.ByRoster, Actor: "astrid"})
		}
	}
	weighed := 0
	err := e.Weighed(t.Context(), func(*state.Snapshot) error {
		if weighed++; weighed == 1 {
			return e.Do(t.Context(), roster("gf-1"))
		}
		return nil
	}, roster("gf-2"))
	if err != nil || weighed != 2 {
		t.Errorf("weighed %d times (%v)", weighed, err)
	}
	no := errors.New("no")
	if err := e.Weighed(t.Context(), func(*state.Snapshot) error { return no }, roster("gf-3")); !errors.Is(err, no) {
		t.Errorf("what was refused is carried out (%v)", err)
	}
	if err := e.Try(t.Context(), roster("gf-4")); err != nil {
		t.Error(err)
	}
	for serial, want := range map[string]bool{"gf-1": true, "gf-2": true, "gf-3": false, "gf-4": false} {
		k := evidence.Folded(evidence.BySerial, serial)
		if got := e.Snapshot().Roster.Has([]evidence.Key{k}); got != want {
			t.Errorf("%s is on the roster: %v", serial, got)
		}
	}
}

// Who takes part in changes may ask for another.
func TestACompanionAsksForMore(t *testing.T) {
	w := &watch{again: true}
	e := openEngine(t, t.TempDir(), w)
	if err := e.Do(t.Context(), keep("x")); err != nil {
		t.Fatal(err)
	}
	for range 3 { // the other comes by itself, and these behind it
		if err := e.Do(t.Context(), func(*state.Change) error { return nil }); err != nil {
			t.Fatal(err)
		}
	}
	if err := e.Close(); err != nil {
		t.Fatal(err)
	}
	if w.shown < 4 {
		t.Errorf("it was shown %d changes", w.shown)
	}
	if err := e.Do(t.Context(), keep("y")); !errors.Is(err, ErrClosed) {
		t.Errorf("after the end: %v", err)
	}
}

// Two services do not run on the same records.
func TestRecordsAreOfOneService(t *testing.T) {
	dir := t.TempDir()
	e := openEngine(t, dir, &watch{})
	if other, err := Open(t.Context(), Options{Dir: dir, Log: slog.New(slog.DiscardHandler)}); err == nil {
		t.Error("a second service runs on them")
		_ = other.Close()
	}
	if err := e.Close(); err != nil {
		t.Fatal(err)
	}
	again := openEngine(t, dir, &watch{})
	if err := again.Close(); err != nil {
		t.Error(err)
	}
}
