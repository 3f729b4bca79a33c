package bench

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"path/filepath"
	"runtime"
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
	rounds  = 5_000 // of a turn: short, so that the machine is the same to both
	turns   = 17
)

func question(i int) string {
	return fmt.Sprintf(`{"subject":{"type":"user","id":"p%d@gullholm.example"},"action":{"name":"open"},"resource":{"type":"app","id":"app%d"},"context":{"device":{"id":"d-%06d"},"ip":"10.20.3.%d","auth":{"mfa":true}}}`, i%400, i%10, (i*7)%100_000, i%250)
}

// BenchmarkDecision: decisions over HTTP with 100,000 devices and 40 gates,
// recorded durably before each answer, against a bare Gin handler that decodes
// and encodes the same JSON. The aim is at least 0.6 of its throughput.
func BenchmarkDecision(b *testing.B) {
	r := start(b)
	defer r.stop()
	r.post(b, "/api/v1/evidence", "application/x-ndjson", fleetOf(100_000))
	var same access.Response
	if err := json.Unmarshal(r.post(b, "/access/v1/evaluation", "application/json", question(0)),
		&same); err != nil || !same.Decision {
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
	bareURL, stop := listen(b, bare)
	defer stop()
	var ours, base, ratio []float64
	var took, baseTook []time.Duration
	for range turns {
		bareLoad, ourLoad := drive(b, bareURL), drive(b, r.url)
		base, ours, ratio = append(base, bareLoad.rate), append(ours, ourLoad.rate),
			append(ratio, ourLoad.rate/bareLoad.rate)
		baseTook, took = append(baseTook, bareLoad.took...), append(took, ourLoad.took...)
	}
	p99, baseP99 := percentile(took, 0.99), percentile(baseTook, 0.99)
	b.ReportMetric(median(ours), "decisions/s")
	b.ReportMetric(median(base), "bare-gin/s")
	b.ReportMetric(median(ratio), "of-bare-gin")
	b.ReportMetric(p99.Seconds()*1000, "ms-p99")
	b.ReportMetric(p99.Seconds()/baseP99.Seconds(), "times-bare-p99")
	b.ReportMetric(0, "ns/op")
}

func median(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}

// load is how a server did: requests a second and how long each took.
type load struct {
	rate float64
	took []time.Duration
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
	return load{rounds / time.Since(begin).Seconds(), took}
}

// BenchmarkImport: 10,000 reports over HTTP, each appraised and answered,
// against inserting the same bytes into raw SQLite in batches. The aim is at
// least a quarter of its rate.
func BenchmarkImport(b *testing.B) {
	const n = 10_000
	reports := fleetOf(n)
	var raw, ours, ratio []float64
	for range 7 {
		bare := rawInsert(b, strings.Split(strings.TrimSpace(reports), "\n")).Seconds()
		r := start(b)
		runtime.GC()
		begin := time.Now()
		answer := r.post(b, "/api/v1/evidence", "application/x-ndjson", reports)
		took := time.Since(begin).Seconds()
		r.stop()
		raw, ours, ratio = append(raw, n/bare), append(ours, n/took), append(ratio, bare/took)
		if !strings.Contains(string(answer[:60]), `"accepted":10000`) {
			b.Fatalf("not all reports were taken: %.200s", answer)
		}
	}
	b.ReportMetric(median(ours), "reports/s")
	b.ReportMetric(median(raw), "raw-sqlite/s")
	b.ReportMetric(median(ratio), "of-raw-sqlite")
	b.ReportMetric(0, "ns/op")
}

func rawInsert(b *testing.B, lines []string) time.Duration {
	b.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(b.TempDir(), "raw.db")+
		"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
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
