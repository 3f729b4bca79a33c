package service_test

import (
	"archive/tar"
	"compress/gzip"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/keyfile"
	"ironledger.example/internal/service"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
	"ironledger.example/internal/view"
)

// unpacked unpacks records that were made by an earlier version, from the demo.
func unpacked(t *testing.T, name string) string {
	t.Helper()
	f, err := os.Open(filepath.Join("testdata", name))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	dir, files := t.TempDir(), tar.NewReader(z)
	for {
		h, err := files.Next()
		if errors.Is(err, io.EOF) {
			return dir
		}
		if err != nil {
			t.Fatal(err)
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		out, err := os.OpenFile(filepath.Join(dir, filepath.Base(h.Name)), os.O_CREATE|os.O_WRONLY, 0o600)
		if err == nil {
			_, err = io.Copy(out, files)
			err = errors.Join(err, out.Close())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// Records of the version before open, stand as they stood, verify, can be computed
// again, and every entry in them is an event that can be read.
func TestRecordsOfTheVersionBefore(t *testing.T) {
	t.Parallel()
	dir := unpacked(t, "records-7.tgz")
	levels, newest := map[string]string{}, int64(0)
	db, err := sql.Open("sqlite", "file:"+engine.DatabasePath(dir)+"?mode=ro")
	if err != nil {
		t.Fatal(err)
	}
	rows, err := db.Query("SELECT id, level FROM devices")
	if err != nil {
		t.Fatal(err)
	}
	for rows.Next() {
		var id, level string
		if err := rows.Scan(&id, &level); err != nil {
			t.Fatal(err)
		}
		levels[id] = level
	}
	if err := errors.Join(rows.Err(), db.QueryRow("SELECT max(at) FROM entries").Scan(&newest),
		db.Close()); err != nil {
		t.Fatal(err)
	}
	moment := time.UnixMicro(newest + 1000)
	s, err := service.Open(ctx, service.Options{Dir: dir, Log: slog.New(slog.DiscardHandler),
		Now: func() time.Time { return moment }})
	if err != nil {
		t.Fatal(err)
	}
	for id, want := range levels {
		if got := level(s, id); got != want {
			t.Errorf("%s stands at %s, and stood at %s", id, got, want)
		}
	}
	snap := s.Snapshot()
	if snap.Fleet.Len() != 71 || len(levels) != 71 || snap.People.Len() != 44 ||
		len(s.View.RosterList("", false)) != 37 || snap.Book.Info.Version != 2 || len(s.Admin.Tokens()) != 4 {
		t.Errorf("there are %d devices, %d people, %d of the roster, version %d and %d tokens",
			snap.Fleet.Len(), snap.People.Len(), len(s.View.RosterList("", false)), snap.Book.Info.Version,
			len(s.Admin.Tokens()))
	}
	if w, err := s.View.Waivers(view.ExceptionQuery{}); err != nil || len(w) != 5 {
		t.Errorf("%d waivers (%v)", len(w), err)
	}
	if u, err := s.View.Enrolments(state.Held); err != nil || len(u) != 2 {
		t.Errorf("%d enrolments wait (%v)", len(u), err)
	}
	page, err := s.Decisions.Decisions(ctx, decision.Query{Limit: 200})
	if err != nil || len(page) != 190 {
		t.Fatalf("%d decisions (%v)", len(page), err)
	}
	for i, d := range page {
		if i%19 != 0 {
			continue
		}
		if again, err := s.Decisions.ReproduceDecision(ctx, d.ID); err != nil || !again.Same {
			t.Errorf("%s computed again: %+v (%v)", d.ID, again, err)
		}
	}
	shut(t, s)

	key, err := keyfile.Read(engine.KeyPath(dir))
	if err != nil {
		t.Fatal(err)
	}
	kept, err := store.Open(ctx, engine.DatabasePath(dir),
		store.Options{Key: key, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	defer kept.Close()
	if v, err := audit.VerifyRecords(ctx, kept, key.Verifier,
		audit.VerifyOptions{File: true}); err != nil || v.State != "sound" || v.Size < 488 || v.Devices != 71 {
		t.Errorf("they verify as %+v (%v)", v, err)
	}
	kinds := map[ledger.Kind]int{}
	err = kept.Proven(ctx, 1, func(e ledger.Entry) error {
		kinds[e.Kind]++
		x, err := event.Read(&e)
		if err == nil && (x.Kind() != e.Kind || x.About() != e.About) {
			err = fmt.Errorf("entry %d is read as a %s about %s", e.Seq, x.Kind(), x.About())
		}
		if err == nil && string(event.Entry(e.At, e.Actor, x).Body) != string(e.Body) {
			err = fmt.Errorf("entry %d is %s, and would now be written %s", e.Seq, e.Body,
				event.Entry(e.At, e.Actor, x).Body)
		}
		return err
	})
	if err != nil || len(kinds) < 12 {
		t.Errorf("entries of %d kinds (%v)", len(kinds), err)
	}
}
