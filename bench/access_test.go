package bench

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/demo"
	"ironledger.example/internal/standin"
)

// wideBook is a rulebook of n gates over 500 resources for 300 groups. However
// many there are, a person in three groups meets the same few at a resource.
func wideBook(n int) string {
	var b strings.Builder
	b.WriteString("rulebook: wide\nplaces: {office: {networks: [10.20.0.0/16]}}\nbreak_glass: [keeper]\nresources:\n")
	for i := range 500 {
		fmt.Fprintf(&b, "  - {id: r%d, tags: [t%d]}\n", i, i%20)
	}
	b.WriteString("gates:\n  - {id: all, number: 1, who: {everyone: true}, what: {everything: true}, need: level > barred}\n")
	for i := 1; i < n; i++ {
		group := fmt.Sprintf("g%d", i%300)
		if i >= 200 { // more gates, for groups that the person is not in
			group = fmt.Sprintf("h%d", i%300)
		}
		fmt.Fprintf(&b, "  - {id: x%d, number: %d, who: {groups: [%s]}, what: {resources: [r%d, r%d]}, need: 'level >= sound and (auth.mfa or \"office\" in request.places)', otherwise: step-up}\n", i, i+1, group, i%500, (i*7)%500)
	}
	return b.String()
}

// BenchmarkGates: one decision in the core with 200 gates, and with ten times as
// many of which no more can match, against asking every gate in a loop. The aim
// is under 2 µs, and no more than twice the time for ten times the gates.
func BenchmarkGates(b *testing.B) {
	yes := true
	measure := func(n int) (try, decide, loop float64) {
		rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: wideBook(n)}})
		if err != nil {
			b.Fatal(err)
		}
		p := access.Compile(rb)
		now := time.Now().UnixMicro()
		rep, err := rb.Dict.ParseReport([]byte(`{"identity":{"id":"d"},"evidence":{"form":"laptop","storage.encrypted":true}}`), now)
		if err != nil {
			b.Fatal(err)
		}
		var rec *evidence.Record
		view := evidence.NewResolver(rb.Dict, rb.Policy).Resolve(rec.With(rep), evidence.Facts{}, now)
		q := &access.Request{Known: true, User: "p", Groups: []string{"g1", "g2", "g3"}, Action: "open",
			MFA: &yes, Device: access.Device{ID: "d", Known: true, Level: 4, View: view,
				Next: func() int64 { return now + 1 }}}
		trial := p.Evaluator()
		const rounds = 100_000
		each := func(f func()) float64 {
			return best(5, func() {
				for i := range rounds {
					q.Resource = fmt.Sprintf("r%d", i%4)
					f()
				}
			}).Seconds() * 1e9 / rounds
		}
		naming := each(func() {})
		try = each(func() {
			if trial.Evaluate(q, now).Outcome != access.Allow {
				b.Fatal(q.Resource)
			}
		}) - naming
		decide = each(func() { p.Decide(q, now) }) - naming
		loop = each(func() { askAll(rb, q) }) - naming
		return try, decide, loop
	}
	try, decide, loop := measure(200)
	tryTen, _, loopTen := measure(2000)
	b.ReportMetric(try, "ns")
	b.ReportMetric(tryTen/try, "times-with-ten-times-the-gates")
	b.ReportMetric(decide, "ns-with-reasons")
	b.ReportMetric(try/loop, "times-a-loop")
	b.ReportMetric(tryTen/loopTen, "times-a-loop-ten-times-the-gates")
	b.ReportMetric(0, "ns/op")
}

// askAll asks every gate in a loop, as somebody would write it first.
func askAll(rb *rulebook.Rulebook, q *access.Request) (allowed bool) {
	matched := false
	has := func(list []string, s string) bool {
		for _, x := range list {
			if x == s {
				return true
			}
		}
		return false
	}
	for i := range rb.Gates {
		g := &rb.Gates[i]
		who := g.Who.Everyone
		for _, x := range q.Groups {
			who = who || has(g.Who.Groups, x)
		}
		if !who || !g.What.Everything && !has(g.What.Resources, q.Resource) {
			continue
		}
		matched = true
		if g.StepUp && (q.Device.Level < 3 || !*q.MFA) || q.Device.Level < 1 {
			return false
		}
	}
	return matched
}

// BenchmarkReplay: 100,000 recorded requests from 100,000 devices answered again
// under a candidate. The aim is under 2 s.
func BenchmarkReplay(b *testing.B) {
	const n = 100_000
	s := filled(b, b.TempDir(), n)
	defer s.Close()
	var wg sync.WaitGroup
	for c := range clients {
		wg.Go(func() {
			for i := c; i < n; i += clients {
				e, err := access.ParseEvaluation([]byte(fmt.Sprintf(`{"subject":{"type":"user","id":"p%d@gullholm.example"},"action":{"name":"open"},"resource":{"type":"app","id":"app%d"},"context":{"device":{"id":"d-%06d"},"auth":{"mfa":true}}}`, i%400, i%10, i)))
				if err == nil {
					_, err = s.Decisions.Decide("bench", e)
				}
				if err != nil {
					b.Error(err)
					return
				}
			}
		})
	}
	wg.Wait()
	files := book()
	files[0].Text = strings.ReplaceAll(files[0].Text, "need: 'level >= sound", "need: 'level >= strong")
	runtime.GC()
	begin := time.Now()
	shift, err := s.Decisions.Replay(context.Background(), files, 7)
	took := time.Since(begin)
	if err != nil || shift.Requests != n {
		b.Fatal(err, shift)
	}
	b.ReportMetric(took.Seconds(), "s/100000-requests")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkProxy: requests through nginx that asks forward-auth about each,
// against the same nginx asking a bare handler that always says 204. The aim is
// at least 0.6 of its throughput.
func BenchmarkProxy(b *testing.B) {
	if _, err := standin.Find(); err != nil {
		b.Skip(err)
	}
	r := start(b)
	defer r.stop()
	now := time.Now()
	bare, stop := listen(b, http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		w.WriteHeader(http.StatusNoContent)
	}))
	defer stop()
	// Everybody may open app0: what is measured is asking, not refusing.
	authority, _ := demo.Authority()
	files := []rulebook.File{{Name: "ca.pem", Text: authority}, {Name: "r.yaml",
		Text: "rulebook: open\nunknown_people: gates\nbreak_glass: [keeper]\nissuers: [{id: ca, file: ca.pem}]\n" +
			"resources: [{id: app0}]\ngates: [{id: g, who: {everyone: true}, what: {resources: [app0]}, " +
			"need: known_device, valid_for: 1h}]\n"}}
	if _, _, err := r.service.Admin.Publish(context.Background(), "bench", api.Draft{Files: files}); err != nil {
		b.Fatal(err)
	}
	report := fmt.Sprintf(`{"source":"agent","observed_at":%q,"identity":{"id":"GF-L-1042","serial":"GF-L-1042-S"},"evidence":{"platform":"windows","form":"laptop","certs":[{"pem":%q}]}}`, now.UTC().Format(time.RFC3339), demo.Card("GF-L-1042", now))
	r.post(b, "/api/v1/evidence", "application/json", report)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	signIn := standin.NewSignIn([]standin.Person{{ID: "maren", Name: "Maren"}})
	pair, err := tls.X509KeyPair([]byte(demo.Card("GF-L-1042", now)), []byte(demo.Key("GF-L-1042")))
	if err != nil {
		b.Fatal(err)
	}
	front := func(url string) func() float64 {
		p := &standin.Proxy{Service: url, Token: token, Names: [][2]string{{"app0", "App"}}, Dir: b.TempDir()}
		p.Cert, p.Key = demo.Server(now)
		for into, h := range map[*string]http.Handler{&p.SignIn: signIn, &p.Apps: standin.App(p.Names)} {
			if *into, err = standin.Serve(ctx, h); err != nil {
				b.Fatal(err)
			}
		}
		free, done := listen(b, http.NotFoundHandler())
		done()
		p.Listen = strings.TrimPrefix(free, "http://")
		ready, failed := make(chan struct{}), make(chan error, 1)
		go func() { failed <- p.Run(ctx, func() { close(ready) }) }()
		select {
		case <-ready:
		case err := <-failed:
			b.Fatal(err)
		}
		return func() float64 { return through(b, p.Listen, pair, signIn.Cookie("maren", true, now)) }
	}
	ours, base := front(r.url), front(bare)
	var rates, baseRates, ratios []float64
	for range 5 {
		a, z := base(), ours()
		baseRates, rates, ratios = append(baseRates, a), append(rates, z), append(ratios, z/a)
	}
	b.ReportMetric(median(rates), "requests/s")
	b.ReportMetric(median(baseRates), "bare-204/s")
	b.ReportMetric(median(ratios), "of-bare-204")
	b.ReportMetric(0, "ns/op")
}

// through opens a page behind the proxy again and again, and returns how often
// a second.
func through(b *testing.B, at string, pair tls.Certificate, cookie *http.Cookie) float64 {
	b.Helper()
	const rounds, visitors = 4000, 32
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: visitors,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true, Certificates: []tls.Certificate{pair}}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	defer client.CloseIdleConnections()
	var wg sync.WaitGroup
	begin := time.Now()
	for c := range visitors {
		wg.Go(func() {
			for i := c; i < rounds; i += visitors {
				req, err := http.NewRequest("GET", "https://"+at+"/app0/", nil)
				if err != nil {
					b.Error(err)
					return
				}
				req.AddCookie(cookie)
				r, err := client.Do(req)
				if err != nil {
					b.Error(err)
					return
				}
				if _, err := io.Copy(io.Discard, r.Body); err != nil { // or the connection is not used again
					b.Error(err)
				}
				r.Body.Close()
				if r.StatusCode != http.StatusOK {
					b.Errorf("answered %s, to %s", r.Status, r.Header.Get("Location"))
					return
				}
			}
		})
	}
	wg.Wait()
	return rounds / time.Since(begin).Seconds()
}
