package bench

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"os"
	"runtime"
	"runtime/metrics"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"ironledger.example/api"
	core "ironledger.example/core/feed"
	"ironledger.example/internal/feed"
	"ironledger.example/internal/outbound"
)

// machines is a partner's inventory of n devices, in words of its own, in pages with a cursor.
func machines(n, size int) http.Handler {
	now := time.Now().Unix()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at, _ := strconv.Atoi(r.FormValue("after"))
		var page strings.Builder
		page.WriteString(`{"machines":[`)
		for i := at; i < min(at+size, n); i++ {
			if i > at {
				page.WriteByte(',')
			}
			fmt.Fprintf(&page, `{"ref":"m-%d","hardware":{"serial":"S-%d"},"os":{"family":"Win","version":"10.0.22631.%d"},"disk":"sealed",`+
				`"lock":300,"seen":%d,"owner":"p%d@gullholm.example"}`, i, i, i%5000, now, i%1000)
		}
		next := ""
		if at+size < n {
			next = strconv.Itoa(at + size)
		}
		fmt.Fprintf(&page, `],"after":%q}`, next)
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(page.String()))
	})
}

// reports are the same as reports of ours.
func reports(n int) string {
	now := time.Now().UTC().Format(time.RFC3339)
	var out strings.Builder
	for i := range n {
		fmt.Fprintf(&out, `{"source":"mdm","external_id":"m-%d","observed_at":%q,"identity":{"serial":"S-%d"},"evidence":{"platform":"windows",`+
			`"os.version":"10.0.22631.%d","storage.encrypted":true,"screen_lock.after":"5m","owner":"p%d@gullholm.example"}}`+"\n", i, now, i, i%5000, i%1000)
	}
	return out.String()
}

const feedMap = `{"items":"/machines","observed_at":{"from":"/seen","form":"unix"},"identity":{"external_id":"/ref","serial":"/hardware/serial"},
 "evidence":{"platform":{"from":"/os/family","words":{"Win":"windows"}},"os.version":"/os/version","owner":"/owner",
  "storage.encrypted":{"from":"/disk","words":{"sealed":true,"open":false}},"screen_lock.after":{"from":"/lock","unit":"s"}}}`

// live is the memory that was in use when garbage was collected last, in bytes. It is exact
// only if nothing is allocated meanwhile, which counts as in use.
func live() uint64 {
	s := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(s)
	return s[0].Value.Uint64()
}

// mostBeside is how much more memory is in use while something goes on than before, in MB.
func mostBeside(f func()) float64 {
	runtime.GC()
	before, most := live(), uint64(0)
	done := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			select {
			case <-done:
				return
			case <-time.After(20 * time.Millisecond):
				runtime.GC()
				most = max(most, live())
			}
		}
	})
	f()
	close(done)
	wg.Wait()
	return float64(most-min(most, before)) / 1e6
}

// fed is a service and a partner with n devices, in pages of size.
type fed struct {
	*running
	n int
}

func feeding(b *testing.B, n, size int) *fed {
	f := &fed{start(b), n}
	b.Cleanup(f.stop)
	partner, stop := listen(b, machines(n, size))
	b.Cleanup(stop)
	f.service.Feeds.Start(feed.Options{Policy: outbound.Policy{Inside: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}})
	if _, err := f.service.Feeds.Add(context.Background(), "bench",
		api.FeedDraft{Feed: core.Settings{ID: "f", Source: "mdm", URL: partner,
			Every: "1d", Whole: true, Mapping: json.RawMessage(feedMap),
			Pages: core.Pages{By: core.ByText, At: "/after", Parameter: "after"}}}); err != nil {
		b.Fatal(err)
	}
	return f
}

// await waits for a run to have taken all devices, and says how long it did.
func (f *fed) await(b *testing.B, number int) time.Duration {
	begin := time.Now()
	for {
		x, err := f.service.Feeds.Show("f")
		if err != nil {
			b.Fatal(err)
		}
		if len(x.Runs) > 0 && x.Runs[0].Number == number {
			if x.Runs[0].Accepted != f.n {
				b.Fatalf("%+v", x.Runs[0])
			}
			return time.Since(begin)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// BenchmarkFeed fetches a partner's inventory of 100,000 devices in pages of 500, against the import of the same as
// reports of ours.
func BenchmarkFeed(b *testing.B) {
	const n = 100_000
	r := start(b)
	imported := reports(n)
	begin := time.Now()
	r.post(b, "/api/v1/evidence", "application/x-ndjson", imported)
	importing := time.Since(begin).Seconds()
	r.stop()
	fetching := feeding(b, n, 500).await(b, 1).Seconds()
	b.ReportMetric(n/fetching, "devices/s")
	b.ReportMetric(n/importing, "import/s")
	b.ReportMetric(importing/fetching, "of-import")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkMemoryOfAFeed tells how much memory a run of that needs beside the devices themselves, against an import
// of the same. Memory is counted while everything stands still, which the runtime does if it is told so.
func BenchmarkMemoryOfAFeed(b *testing.B) {
	const n = 100_000
	if !strings.Contains(os.Getenv("GODEBUG"), "gcstoptheworld=1") {
		b.Skip("runs under GODEBUG=gcstoptheworld=1, as make bench does")
	}
	r := start(b)
	imported := reports(n)
	r.post(b, "/api/v1/evidence", "application/x-ndjson", imported)
	importing := mostBeside(func() { r.post(b, "/api/v1/evidence", "application/x-ndjson", imported) })
	r.stop()
	f := feeding(b, n, 500)
	f.await(b, 1)
	runtime.GC()
	all := live()
	fetching := mostBeside(func() {
		if _, err := f.service.Feeds.Run(context.Background(), "bench", "f", api.FeedRunDraft{}); err != nil {
			b.Fatal(err)
		}
		f.await(b, 2)
	})
	b.ReportMetric(fetching, "MB-beside-devices")
	b.ReportMetric(importing, "MB-beside-devices-of-import")
	b.ReportMetric(float64(all)/1e6, "MB-in-all")
	b.ReportMetric(0, "ns/op")
}
