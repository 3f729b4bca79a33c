package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"testing"

	"ironledger.example/core/ledger"
)

func openStore(t *testing.T, path string) *Store {
	t.Helper()
	s, err := Open(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func entry(about string) ledger.Entry {
	return ledger.Entry{At: 1, Kind: ledger.DecisionMade, Actor: "a", About: about, Body: json.RawMessage(`{"n":1}`)}
}

func TestConcurrentBatchesAreAllOrNothing(t *testing.T) {
	path := filepath.Join(t.TempDir(), "odd name%20.db")
	s := openStore(t, path)
	bad := errors.New("this batch cannot be written")
	var wg sync.WaitGroup
	for i := range 200 {
		wg.Go(func() {
			b := &Batch{Entries: []ledger.Entry{entry(fmt.Sprint("x", i)), entry(fmt.Sprint("y", i))}}
			if i%10 == 0 {
				b.Exec = append(b.Exec, func(*sql.Tx) error { return bad })
			}
			if err := s.Commit(b); (i%10 == 0) != errors.Is(err, bad) {
				t.Errorf("batch %d: %v", i, err)
			}
		})
	}
	wg.Wait()
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = openStore(t, path)
	defer s.Close()
	all, err := s.Decisions(context.Background(), DecisionQuery{Limit: 1000})
	if err != nil || len(all) != 360 {
		t.Fatalf("%d entries are kept (%v), want 360", len(all), err)
	}
	seen := map[int64]bool{}
	for i, e := range all {
		if seen[e.Seq] = true; i > 0 && e.About >= all[i-1].About {
			t.Fatalf("%s follows %s", e.About, all[i-1].About)
		}
	}
	for seq := range int64(360) {
		if !seen[seq+1] {
			t.Fatalf("no entry has the number %d: numbers leave no gap", seq+1)
		}
	}
	if n, err := s.DecisionCount(context.Background()); err != nil || n != 360 {
		t.Errorf("%d decisions are counted (%v)", n, err)
	}
	if err := s.Commit(&Batch{Entries: []ledger.Entry{entry("next")}}); err != nil {
		t.Fatal(err)
	}
	if e, err := s.Decision(context.Background(), "next"); err != nil || e.Seq != 361 {
		t.Errorf("after reopening the next entry is %+v (%v)", e, err)
	}
	if _, err := s.Decision(context.Background(), "none"); !errors.Is(err, ErrNotFound) {
		t.Errorf("a decision that is not there: %v", err)
	}
}

func TestRowsOfEverySizeAreInserted(t *testing.T) {
	s := openStore(t, filepath.Join(t.TempDir(), "s.db"))
	defer s.Close()
	want := 0
	for _, n := range []int{1, 7, 8, 9, 63, 64, 65, 200} {
		b := &Batch{}
		for i := range n {
			b.Devices = append(b.Devices, DeviceRow{ID: fmt.Sprintf("d%d-%d", n, i), Keys: "[]", Evidence: "{}", Failing: "{}"})
		}
		if err := s.Commit(b); err != nil {
			t.Fatal(err)
		}
		want += n
	}
	got := 0
	if err := s.Devices(context.Background(), func(DeviceRow) error { got++; return nil }); err != nil || got != want {
		t.Errorf("%d devices are kept (%v), want %d", got, err, want)
	}
}
