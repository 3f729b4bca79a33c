package bench

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"fmt"
	"log/slog"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/keyfile"
	"ironledger.example/internal/store"
)

// entryBody is a body as a decision with its reasons has: of that size, and in
// canonical form.
func entryBody(i int) json.RawMessage {
	return fmt.Appendf(nil, `{"asked":{"action":{"name":"open"},"context":{"device":{"id":"d-%06d"},"ip":"10.20.3.%d"},"resource":{"id":"payroll","type":"app"},"subject":{"id":"p%d@gullholm.example","type":"user"}},"at":"2026-11-20T08:00:00Z","device":"d-%06d","gates":[{"gate":"payroll-strong","need":"level >= sound","number":10,"verdict":"met","why":[{"condition":"level >= sound","holds":"true","observed":"strong","path":"level","required":">= sound","source":"standing"}]}],"id":"06h0fkcqq400%08d","known_device":true,"known_person":true,"level":"strong","outcome":"allow","reason_admin":{"en":"Allowed: gate 10 is met."},"reason_user":{"en":"You may continue."},"rulebook":2,"valid_until":"2026-11-20T08:05:00Z"}`,
		i%100_000, i%250, i%400, i%100_000, i)
}

func openStore(b *testing.B, path string) *store.Store {
	b.Helper()
	key, err := keyfile.Make(path+".key", "log.gullholm.example")
	if err != nil {
		b.Fatal(err)
	}
	s, err := store.Open(context.Background(), path, store.Options{Key: key, Log: slog.New(slog.DiscardHandler)})
	if err == nil {
		err = s.AdoptAll(context.Background())
	}
	if err != nil {
		b.Fatal(err)
	}
	return s
}

// writers is how many write at the same time.
const writers = 64

// BenchmarkEntries: durable entries by 64 concurrent writers, each waiting for
// its own, hashed into the tree and signed, against inserting the same bytes
// into raw SQLite, 64 to a durable transaction, by a loop that waits for
// nobody. The aim is at least half of its rate.
func BenchmarkEntries(b *testing.B) {
	const n = 40_000
	bodies := make([]json.RawMessage, n)
	for i := range bodies {
		bodies[i] = entryBody(i)
	}
	var ours, raw, ratio []float64
	for range 5 {
		bare := rawEntries(b, bodies)
		s := openStore(b, filepath.Join(b.TempDir(), "e.db"))
		runtime.GC()
		begin := time.Now()
		var wg sync.WaitGroup
		for w := range writers {
			wg.Go(func() {
				for i := w; i < n; i += writers {
					if err := s.Commit(&store.Batch{Entries: []ledger.Entry{{At: time.Now().UnixMicro(),
						Kind: ledger.DecisionMade, Actor: "edge", About: fmt.Sprintf("06h0fkcqq400%08d", i),
						Body: bodies[i]}}}); err != nil {
						b.Error(err)
						return
					}
				}
			})
		}
		wg.Wait()
		took := time.Since(begin)
		if err := s.Close(); err != nil {
			b.Fatal(err)
		}
		ours, raw, ratio = append(ours, n/took.Seconds()), append(raw, n/bare.Seconds()),
			append(ratio, bare.Seconds()/took.Seconds())
	}
	b.ReportMetric(median(ours), "entries/s")
	b.ReportMetric(median(raw), "raw-sqlite/s")
	b.ReportMetric(median(ratio), "of-raw-sqlite")
	b.ReportMetric(0, "ns/op")
}

func rawEntries(b *testing.B, bodies []json.RawMessage) time.Duration {
	b.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(b.TempDir(), "raw.db")+
		"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec("CREATE TABLE entries (seq INTEGER PRIMARY KEY, at INTEGER NOT NULL, kind TEXT NOT NULL, actor TEXT NOT NULL, about TEXT NOT NULL, body TEXT NOT NULL)"); err != nil {
		b.Fatal(err)
	}
	stmt, err := db.Prepare("INSERT INTO entries (at, kind, actor, about, body) VALUES (?,?,?,?,?)")
	if err != nil {
		b.Fatal(err)
	}
	runtime.GC()
	begin, i := time.Now(), 0
	for batch := range slices.Chunk(bodies, writers) {
		tx, err := db.Begin()
		if err != nil {
			b.Fatal(err)
		}
		s := tx.Stmt(stmt)
		for _, body := range batch {
			if _, err := s.Exec(i, string(ledger.DecisionMade), "edge", fmt.Sprintf("06h0fkcqq400%08d", i),
				string(body)); err != nil {
				b.Fatal(err)
			}
			i++
		}
		if err := tx.Commit(); err != nil {
			b.Fatal(err)
		}
	}
	return time.Since(begin)
}

// decided records n decisions, and keeps for searches whom they speak of.
func decided(b *testing.B, s *store.Store, n int) {
	b.Helper()
	for first := 0; first < n; first += 5000 {
		batch := &store.Batch{}
		for i := range 5000 {
			batch.Entries = append(batch.Entries,
				ledger.Entry{At: int64(first + i), Kind: ledger.DecisionMade, Actor: "edge",
					About: fmt.Sprintf("06h0fkcqq400%08d", first+i), Body: entryBody(first + i)})
		}
		if err := s.Commit(batch); err != nil {
			b.Fatal(err)
		}
	}
	if _, err := s.KeepMentions(context.Background()); err != nil {
		b.Fatal(err)
	}
}

// BenchmarkSearch: the newest 50 decisions of a person, and of one who never asked for anything, among 200,000,
// against a statement over the same table of raw SQLite that reads the bodies. The aim is 50 ms for either, among ten
// million.
func BenchmarkSearch(b *testing.B) {
	const n, entered = 200_000, 50
	ctx := context.Background()
	path := filepath.Join(b.TempDir(), "q.db")
	s := openStore(b, path)
	defer s.Close()
	decided(b, s, n)
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=query_only(ON)")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	for _, x := range []struct {
		who  string
		want int
	}{{"p7@gullholm.example", entered}, {"nobody@gullholm.example", 0}} {
		var ours, raw []float64
		for range 5 {
			begin := time.Now()
			found, err := s.Decisions(ctx, store.DecisionQuery{Person: x.who, Limit: entered})
			ours = append(ours, time.Since(begin).Seconds())
			if err != nil || len(found) > x.want {
				b.Fatal(len(found), err)
			}
		}
		begin := time.Now()
		var count int
		if err := db.QueryRowContext(ctx, "SELECT count(*) FROM (SELECT 1 FROM entries WHERE "+
			"json_extract(body, '$.asked.subject.id') = ? LIMIT ?)", x.who, entered).Scan(&count); err != nil {
			b.Fatal(err)
		}
		raw = append(raw, time.Since(begin).Seconds())
		name, _, _ := strings.Cut(x.who, "@")
		b.ReportMetric(1000*median(ours), name+"-ms")
		b.ReportMetric(median(raw)/median(ours), name+"-of-reading-all")
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkVerification: checking 1,000,000 entries, their tree and their
// signed head, against reading the same entries and hashing their bytes with
// SHA-256. The aim is at least half of its rate, in memory that stays flat.
func BenchmarkVerification(b *testing.B) {
	const n = 1_000_000
	defer debug.SetGCPercent(debug.SetGCPercent(100)) // what a service lets lie is not what verifying takes
	path := filepath.Join(b.TempDir(), "v.db")
	s := openStore(b, path)
	defer s.Close()
	decided(b, s, n)
	key, err := keyfile.Read(path + ".key")
	if err != nil {
		b.Fatal(err)
	}
	var ours, raw, ratio, grown []float64
	for range 3 {
		bare := readAndHash(b, path)
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		peak := uint64(0)
		begin := time.Now()
		v, err := audit.VerifyRecords(context.Background(), s, key.Verifier,
			audit.VerifyOptions{Progress: func(int64, int64) {
				runtime.ReadMemStats(&after)
				peak = max(peak, after.HeapInuse)
			}})
		took := time.Since(begin)
		if err != nil || v.State != "sound" || v.Size != n {
			b.Fatalf("%+v (%v)", v, err)
		}
		ours, raw, ratio = append(ours, n/took.Seconds()), append(raw, n/bare.Seconds()),
			append(ratio, bare.Seconds()/took.Seconds())
		grown = append(grown, (float64(peak)-float64(before.HeapInuse))/(1<<20))
	}
	b.ReportMetric(median(ours), "entries/s")
	b.ReportMetric(median(raw), "read+sha256/s")
	b.ReportMetric(median(ratio), "of-read+sha256")
	b.ReportMetric(median(grown), "MiB-more-heap")
	b.ReportMetric(0, "ns/op")
}

func readAndHash(b *testing.B, path string) time.Duration {
	b.Helper()
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=query_only(ON)")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	begin := time.Now()
	rows, err := db.Query("SELECT seq, at, kind, actor, about, body, leaf FROM entries ORDER BY seq")
	if err != nil {
		b.Fatal(err)
	}
	defer rows.Close()
	var seq, at int64
	var kind, actor, about, body, leaf sql.RawBytes
	var sum [sha256.Size]byte
	var line []byte
	for rows.Next() {
		if err := rows.Scan(&seq, &at, &kind, &actor, &about, &body, &leaf); err != nil {
			b.Fatal(err)
		}
		line = append(append(append(append(line[:0], kind...), actor...), about...), body...)
		sum = sha256.Sum256(line)
	}
	if err := rows.Err(); err != nil || sum == [sha256.Size]byte{} {
		b.Fatal(err)
	}
	return time.Since(begin)
}
