package bench

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/outbound"
	"ironledger.example/internal/stream"
)

// heardAt notes when events about devices first came to a receiver.
type heardAt struct {
	mu sync.Mutex
	at map[string]time.Time // by receiver, device and time of the event
	n  int
}

// BenchmarkSignals: from a report that takes a device across the line to the signed event
// at each of ten receivers on loopback, at a constant rate, against the p99 of such a
// report without any receiver in the same run. The aim is under 5 times that, and 50 ms.
func BenchmarkSignals(b *testing.B) {
	for _, rate := range []int{100, 300} { // reports a second: ten times as many events
		b.Run(fmt.Sprint(rate*10, "-events-a-second"), func(b *testing.B) { signals(b, rate) })
	}
}

func signals(b *testing.B, rate int) {
	const receivers, seconds, devices = 10, 5, 500
	r := start(b)
	defer r.stop()
	var book strings.Builder
	book.WriteString("rulebook: s\nsignals: {compliant_from: sound, receivers: [")
	for i := range receivers {
		fmt.Fprintf(&book, "{id: r%d, events: [device-compliance-change]},", i)
	}
	book.WriteString("]}\nbaselines: [{id: b, rules: [{id: disk, check: storage.encrypted, cap: limited}]}]\n")
	if _, _, err := r.service.Admin.Publish(context.Background(), "bench", api.Draft{
		Files: []rulebook.File{{Name: "r.yaml", Text: book.String()}}}); err != nil {
		b.Fatal(err)
	}
	send := func(i int) time.Duration {
		begin := time.Now()
		in, err := r.service.Intake.Ingest(context.Background(), "bench", "", strings.NewReader(fmt.Sprintf(
			`{"source":"agent","identity":{"id":"s-%d"},"evidence":{"storage.encrypted":%v}}`, i%devices,
			i/devices%2 == 0)), evidence.JSON)
		if err != nil || in.Rejected > 0 {
			b.Fatal(in, err)
		}
		return time.Since(begin)
	}
	n := 0
	pace := func(each func(i int)) { // an open loop: a stall counts against all that it delays
		total := rate * seconds
		begin := time.Now()
		var wg sync.WaitGroup
		for i := range total {
			time.Sleep(time.Until(begin.Add(time.Duration(i) * time.Second / time.Duration(rate))))
			at := n
			n++
			wg.Go(func() { each(at) })
		}
		wg.Wait()
	}
	for range devices {
		send(n)
		n++
	}
	alone := make([]time.Duration, 0, rate*seconds)
	var mu sync.Mutex
	pace(func(i int) {
		took := send(i)
		mu.Lock()
		defer mu.Unlock()
		alone = append(alone, took)
	})

	h := &heardAt{at: map[string]time.Time{}}
	r.service.Streams.Start(stream.Options{Issuer: r.url,
		Policy: outbound.Policy{Inside: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}})
	for i := range receivers {
		name := fmt.Sprint("r", i)
		url, stop := listen(b, http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
			raw, _ := io.ReadAll(req.Body)
			at := time.Now()
			w.WriteHeader(http.StatusAccepted)
			h.take(name, string(raw), at)
		}))
		defer stop()
		if _, err := r.service.Streams.Create(context.Background(), "bench",
			api.StreamDraft{Receiver: name, Endpoint: url}); err != nil {
			b.Fatal(err)
		}
	}
	sent := make(map[string]time.Time)
	toldAt := func(i int) string { return fmt.Sprint("s-", i%devices, " ", i/devices%2 == 0, " ", i/devices) }
	first := n
	pace(func(i int) {
		begin := time.Now()
		send(i)
		mu.Lock()
		defer mu.Unlock()
		sent[toldAt(i)] = begin
	})
	want := (n - first) * receivers
	for until := time.Now().Add(60 * time.Second); h.count() < want; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(until) {
			b.Fatalf("%d events came of %d", h.count(), want)
		}
	}
	var took []time.Duration
	for i := first; i < n; i++ {
		for j := range receivers {
			at, ok := h.when(fmt.Sprint("r", j), fmt.Sprint("s-", i%devices), (i-first)/devices)
			if !ok {
				b.Fatalf("r%d did not hear of %s", j, toldAt(i))
			}
			took = append(took, at.Sub(sent[toldAt(i)]))
		}
	}
	p99, report := percentile(took, 0.99), percentile(alone, 0.99)
	b.ReportMetric(float64(p99.Microseconds())/1000, "ms-p99")
	b.ReportMetric(float64(percentile(took, 0.5).Microseconds())/1000, "ms-p50")
	b.ReportMetric(float64(report.Microseconds())/1000, "ms-p99-of-a-report")
	b.ReportMetric(float64(p99)/float64(report), "times-p99-of-a-report")
	b.ReportMetric(0, "ns/op")
}

// take notes an event: the how-manieth of its device to the receiver it is.
func (h *heardAt) take(receiver, token string, at time.Time) {
	_, rest, _ := strings.Cut(token, ".")
	body, _, _ := strings.Cut(rest, ".")
	raw, err := base64.RawURLEncoding.DecodeString(body)
	if err != nil {
		return
	}
	var x struct {
		Subject struct {
			ID string `json:"id"`
		} `json:"sub_id"`
	}
	if json.Unmarshal(raw, &x) != nil {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for i := 0; ; i++ {
		key := fmt.Sprint(receiver, " ", x.Subject.ID, " ", i)
		if _, had := h.at[key]; !had {
			h.at[key] = at
			break
		}
	}
	h.n++
}

func (h *heardAt) count() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.n
}

func (h *heardAt) when(receiver, device string, nth int) (time.Time, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	at, ok := h.at[fmt.Sprint(receiver, " ", device, " ", nth)]
	return at, ok
}
