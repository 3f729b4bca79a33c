package bench

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"ironledger.example/core/access"
)

const (
	clients = 64
	rounds  = 20_000
)

func question(i int) string {
	return fmt.Sprintf(`{"subject":{"type":"user","id":"p%d@gullholm.example"},"action":{"name":"open"},"resource":{"type":"app","id":"app%d"},"context":{"device":{"id":"d-%06d"},"ip":"10.20.3.%d","auth":{"mfa":true}}}`, i%400, i%10, i%10_000, i%250)
}

// BenchmarkDecision: decisions over HTTP with 10,000 devices and 40 gates,
// recorded durably before each answer, against a bare Gin handler that decodes
// and encodes the same JSON. The aim is at least half its throughput.
func BenchmarkDecision(b *testing.B) {
	r := start(b)
	r.post(b, "/api/v1/evidence", "application/x-ndjson", stream(10_000))
	var same access.Response
	if err := json.Unmarshal(r.post(b, "/access/v1/evaluation", "application/json", question(0)), &same); err != nil || !same.Decision {
		b.Fatalf("the decision is %+v (%v)", same, err)
	}
	gin.SetMode(gin.ReleaseMode)
	bare := gin.New()
	bare.POST("/access/v1/evaluation", func(c *gin.Context) {
		var e access.Evaluation
		if err := c.ShouldBindJSON(&e); err != nil {
			c.Status(http.StatusBadRequest)
			return
		}
		c.JSON(http.StatusOK, &same)
	})
	bareURL := listen(b, bare)
	var ours, base load
	for range 3 { // in turns, so that both see the same machine
		base.better(drive(b, bareURL))
		ours.better(drive(b, r.url))
	}
	b.ReportMetric(ours.rate, "decisions/s")
	b.ReportMetric(base.rate, "bare-gin/s")
	b.ReportMetric(ours.rate/base.rate, "of-bare-gin")
	b.ReportMetric(ours.p99.Seconds()*1000, "p99-ms")
	b.ReportMetric(base.p99.Seconds()*1000, "bare-p99-ms")
	b.ReportMetric(0, "ns/op")
}

// load is how a server did: requests a second and the 99th percentile.
type load struct {
	rate float64
	p99  time.Duration
}

func (l *load) better(m load) {
	if m.rate > l.rate {
		*l = m
	}
}

// drive asks a server from concurrent clients.
func drive(b *testing.B, url string) load {
	b.Helper()
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: clients}}
	defer client.CloseIdleConnections()
	took := make([]time.Duration, rounds)
	var wg sync.WaitGroup
	begin := time.Now()
	for c := range clients {
		wg.Go(func() {
			for i := c; i < rounds; i += clients {
				at := time.Now()
				status, body, err := post(client, url+"/access/v1/evaluation", "application/json", question(i))
				if err != nil || status != http.StatusOK {
					b.Errorf("request %d: %d %v %s", i, status, err, body)
					return
				}
				took[i] = time.Since(at)
			}
		})
	}
	wg.Wait()
	rate := rounds / time.Since(begin).Seconds()
	slices.Sort(took)
	return load{rate, took[rounds*99/100]}
}

// BenchmarkImport: 10,000 reports over HTTP, each appraised and answered,
// against inserting the same bytes into raw SQLite in batches. The aim is at
// least a quarter of its rate.
func BenchmarkImport(b *testing.B) {
	const n = 10_000
	reports := stream(n)
	raw, ours := 1e18, 1e18
	for range 3 {
		raw = min(raw, rawInsert(b, strings.Split(strings.TrimSpace(reports), "\n")).Seconds())
		r := start(b)
		begin := time.Now()
		answer := r.post(b, "/api/v1/evidence", "application/x-ndjson", reports)
		ours = min(ours, time.Since(begin).Seconds())
		if !strings.Contains(string(answer[:60]), `"accepted":10000`) {
			b.Fatalf("not all reports were taken: %.200s", answer)
		}
	}
	b.ReportMetric(n/ours, "reports/s")
	b.ReportMetric(n/raw, "raw-sqlite/s")
	b.ReportMetric(raw/ours, "of-raw-sqlite")
	b.ReportMetric(0, "ns/op")
}

func rawInsert(b *testing.B, lines []string) time.Duration {
	b.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(b.TempDir(), "raw.db")+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE reports (id INTEGER PRIMARY KEY, body TEXT NOT NULL)"); err != nil {
		b.Fatal(err)
	}
	begin := time.Now()
	for batch := range slices.Chunk(lines, 500) {
		tx, err := db.Begin()
		if err != nil {
			b.Fatal(err)
		}
		stmt, err := tx.Prepare("INSERT INTO reports (body) VALUES (?)")
		if err != nil {
			b.Fatal(err)
		}
		for _, l := range batch {
			if _, err := stmt.Exec(l); err != nil {
				b.Fatal(err)
			}
		}
		if err := tx.Commit(); err != nil {
			b.Fatal(err)
		}
	}
	return time.Since(begin)
}
