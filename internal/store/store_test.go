package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/keyfile"
)

func openStore(t *testing.T, path string) *Store {
	t.Helper()
	key, err := keyfile.Read(path + ".key")
	if errors.Is(err, keyfile.ErrNone) {
		key, err = keyfile.Make(path+".key", "log.gullholm.example")
	}
	if err != nil {
		t.Fatal(err)
	}
	s, err := Open(context.Background(), path, Options{Key: key})
	if err == nil {
		err = s.AdoptAll(context.Background())
	}
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func entry(about string) ledger.Entry {
	return ledger.Entry{At: 1, Kind: ledger.DecisionMade, Actor: "a", About: about,
		Body: json.RawMessage(`{"n":1}`)}
}

func TestConcurrentBatchesAreAllOrNothing(t *testing.T) {
	path := filepath.Join(t.TempDir(), "odd name%20.db")
	s := openStore(t, path)
	var wg sync.WaitGroup
	for i := range 200 {
		wg.Go(func() {
			b := &Batch{Entries: []ledger.Entry{entry(fmt.Sprint("x", i)), entry(fmt.Sprint("y", i))}}
			if i%10 == 0 {
				b.Redact(1_000_000) // which there is not
			}
			if err := s.Commit(b); (i%10 == 0) != errors.Is(err, ErrNotFound) {
				t.Errorf("batch %d: %v", i, err)
			}
		})
	}
	wg.Wait()
	if w := verify(t, s); len(w.Problems) > 0 || w.Size() != 360 {
		t.Errorf("of %d entries: %v", w.Size(), w.Problems)
	}
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
			b.Devices = append(b.Devices, DeviceRow{ID: fmt.Sprintf("d%d-%d", n, i), Keys: "[]",
				Evidence: "{}", Failing: "{}"})
		}
		if err := s.Commit(b); err != nil {
			t.Fatal(err)
		}
		want += n
	}
	got := 0
	if err := s.Devices(context.Background(), func(DeviceRow) error { got++; return nil }); err != nil ||
		got != want {
		t.Errorf("%d devices are kept (%v), want %d", got, err, want)
	}
}

func TestHistoryComesFromEntries(t *testing.T) {
	s := openStore(t, filepath.Join(t.TempDir(), "h.db"))
	defer s.Close()
	ctx := context.Background()
	const hour = int64(3600 * 1_000_000)
	add := func(at int64, kind ledger.Kind, about, body string) {
		t.Helper()
		if err := s.Commit(&Batch{Entries: []ledger.Entry{{At: at, Kind: kind, Actor: "a", About: about,
			Body: json.RawMessage(body)}}}); err != nil {
			t.Fatal(err)
		}
	}
	for i := range 40 {
		add(int64(i)*hour, ledger.StandingChanged, fmt.Sprint("d", i%4),
			fmt.Sprintf(`{"from":"%s","to":"%s"}`, []string{"", "strong"}[min(i/4, 1)],
				[]string{"strong", "limited"}[i%2]))
		add(int64(i)*hour, ledger.DecisionMade, fmt.Sprint("d", i%4, i), `{}`)
		add(int64(i)*hour, ledger.EvidenceRefused, "d0", `{}`)
	}
	add(40*hour, ledger.WaiverGranted, "d0", `{"rule":"a/b"}`)
	all, err := s.About(ctx, "d0", 0, 100)
	if err != nil || len(all) != 11 || all[0].Kind != ledger.WaiverGranted {
		t.Fatalf("of d0 it tells %d entries (%v)", len(all), err)
	}
	page, err := s.About(ctx, "d0", all[2].Seq, 3)
	if err != nil || len(page) != 3 || page[0].Seq != all[3].Seq {
		t.Errorf("the page before entry %d is %v (%v)", all[2].Seq, page, err)
	}
}

func TestDocumentsAreKeptByKind(t *testing.T) {
	type note struct{ Text string }
	path := filepath.Join(t.TempDir(), "d.db")
	s := openStore(t, path)
	put := func(change func(b *Batch) error) {
		t.Helper()
		b := &Batch{}
		if err := change(b); err != nil {
			t.Fatal(err)
		}
		if err := s.Commit(b); err != nil {
			t.Fatal(err)
		}
	}
	put(func(b *Batch) error { return b.PutDocument("a", "1", note{"one"}) })
	put(func(b *Batch) error { return b.PutDocument("a", "2", note{"two"}) })
	put(func(b *Batch) error { return b.PutDocument("b", "1", note{"other"}) })
	put(func(b *Batch) error { return b.PutDocument("a", "1", note{"new"}) })
	put(func(b *Batch) error { b.DropDocument("a", "2"); b.DropDocument("a", "none"); return nil })
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = openStore(t, path)
	defer s.Close()
	got, err := Documents[note](context.Background(), s, "a")
	if err != nil || len(got) != 1 || got["1"].Text != "new" {
		t.Errorf("kept are %v (%v)", got, err)
	}
	if err := (&Batch{}).PutDocument("a", "3", make(chan int)); err == nil {
		t.Error("a channel is kept")
	}
	put(func(b *Batch) error { return b.PutDocument("c", "1", "text") })
	if _, err := Documents[note](context.Background(), s, "c"); err == nil {
		t.Error("a document of another form is read")
	}
}

// When a group need not wait for more.
func TestWhenAGroupIsReady(t *testing.T) {
	slowly, quickly := 20*quick, quick/20
	for name, c := range map[string]struct {
		n, company, stood int
		each              time.Duration // that one took to come
		want              bool
	}{
		"a lone writer":                       {1, 1, 0, slowly, true},
		"two of three":                        {2, fewest - 1, 0, slowly, true},
		"two of ten":                          {2, 10, 0, slowly, false},
		"all ten":                             {10, 10, 0, slowly, true},
		"more than were expected":             {12, 10, 0, quickly, true},
		"not quite enough":                    {enough - 1, 64, 0, slowly, false},
		"enough, and the others come slowly":  {enough, 64, 0, slowly, true},
		"enough, and the others come quickly": {enough, 64, 0, quickly, false},
		"enough stood there, as slow as ever": {enough, 64, enough, slowly, true},
		"enough stood there, as quick":        {enough, 64, enough, quickly, false},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := &Store{company: c.company, stood: c.stood, gap: c.each, landed: time.Now()}
			time.Sleep(c.each * time.Duration(c.n-c.stood))
			if got := s.ready(c.n); got != c.want {
				t.Errorf("%s: ready %t", name, got)
			}
		})
	}
}

// What the ledger says about something is found without going through it.
func TestEntriesAboutSomethingAreFoundByIndexes(t *testing.T) {
	s := openStore(t, filepath.Join(t.TempDir(), "a.db"))
	defer s.Close()
	rows, err := s.read.Query("EXPLAIN QUERY PLAN SELECT "+lineColumns+" FROM entries WHERE 1 AND seq IN ("+
		about+") ORDER BY seq DESC LIMIT 5", "d", "d", "d")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var plan []string
	for rows.Next() {
		var id, parent, unused int
		var step string
		if err := rows.Scan(&id, &parent, &unused, &step); err != nil {
			t.Fatal(err)
		}
		plan = append(plan, step)
	}
	got := strings.Join(plan, "\n")
	for _, index := range []string{"entries_decision", "entries_refused", "entries_about",
		"INTEGER PRIMARY KEY (rowid=?)"} {
		if !strings.Contains(got, index) {
			t.Errorf("the plan does not use %s:\n%s", index, got)
		}
	}
	if strings.Contains(got, "SCAN entries") {
		t.Errorf("the plan goes through the ledger:\n%s", got)
	}
}
