package bench

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"database/sql"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ocsp"

	"ironledger.example/api"
	core "ironledger.example/core/authority"
	"ironledger.example/core/certificate"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/authority"
	"ironledger.example/internal/httpapi"
)

const grants = `rulebook: grants
break_glass: [master]
authority: {name: gullholm.example, profiles: [{id: any, lifetime: 7d, holds: 10}]}
resources: [{id: desk}]
baselines:
  - id: b
    rules:
      - {id: form, title: Form, check: form == laptop, cap: limited}
      - {id: disk, title: Disk, check: storage.encrypted, cap: limited}
      - {id: wall, title: Firewall, check: firewall.on, cap: limited}
      - {id: lock, title: Lock, check: screen_lock.after <= 15m, cap: sound}
      - {id: threat, title: Threat, check: threat.score <= 100, cap: barred}
gates: [{id: desk, who: {everyone: true}, what: {resources: [desk]}, need: level >= limited}]
`

// issuing is a service with an authority and n devices.
func issuing(b *testing.B, n int) *running {
	r := start(b)
	if _, _, err := r.service.Admin.Publish(context.Background(), "bench",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: grants}}}); err != nil {
		b.Fatal(err)
	}
	r.service.Authority.Start("http://127.0.0.1:1")
	var all bytes.Buffer
	for i := range n {
		fmt.Fprintf(&all, `{"source":"mdm","identity":{"id":"d%d"},"evidence":{"form":"laptop","storage.encrypted":true,"firewall.on":true,"screen_lock.after":"10m","threat.score":1}}`+"\n", i)
	}
	r.post(b, "/api/v1/evidence", "application/x-ndjson", all.String())
	return r
}

func request(b *testing.B, name string) ([]byte, crypto.Signer) {
	key, err := core.P256.Make(rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	der, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: name}}, key)
	if err != nil {
		b.Fatal(err)
	}
	return der, key
}

// at has some callers do something n times, and says how many a second.
func at(callers, n int, do func(i int)) float64 {
	begin := time.Now()
	var wg sync.WaitGroup
	next := make(chan int, n)
	for i := range n {
		next <- i
	}
	close(next)
	for range callers {
		wg.Go(func() {
			for i := range next {
				do(i)
			}
		})
	}
	wg.Wait()
	return float64(n) / time.Since(begin).Seconds()
}

// BenchmarkIdentityEnrolment gives devices certificates by 32 callers at once, against signing the same in a loop
// and committing each 32 of them, the same bytes, durably.
func BenchmarkIdentityEnrolment(b *testing.B) {
	const n = 4000
	r := issuing(b, n)
	defer r.stop()
	codes, requests := make([]string, n), make([][]byte, n)
	at(32, n, func(i int) {
		in, err := r.service.Authority.Invite(context.Background(), "bench", fmt.Sprintf("d%d", i), "", "", 0)
		if err != nil {
			b.Error(err)
			return
		}
		codes[i] = in.Code
		requests[i], _ = request(b, fmt.Sprintf("d%d", i))
	})
	ours := at(32, n, func(i int) {
		if _, err := r.service.Authority.Enrol(context.Background(),
			authority.Asking{Name: fmt.Sprintf("d%d", i), Code: codes[i], Request: requests[i]}); err != nil {
			b.Error(err)
		}
	})
	key, err := core.P256.Make(rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	serial, _ := core.Serial(rand.Reader)
	root, err := core.Root(key.Public(), "gullholm.example", "Bench", serial, time.Now(), 365*value.Day)
	if err != nil {
		b.Fatal(err)
	}
	der, err := x509.CreateCertificate(rand.Reader, root, root, key.Public(), key)
	if err != nil {
		b.Fatal(err)
	}
	ca, _ := x509.ParseCertificate(der)
	db, err := sql.Open("sqlite", filepath.Join(b.TempDir(),
		"base.db")+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE issued (id INTEGER PRIMARY KEY, body BLOB)"); err != nil {
		b.Fatal(err)
	}
	begin := time.Now()
	for i := 0; i < n; i += 32 {
		tx, err := db.Begin()
		if err != nil {
			b.Fatal(err)
		}
		for j := i; j < min(i+32, n); j++ {
			req, err := x509.ParseCertificateRequest(requests[j])
			if err != nil || req.CheckSignature() != nil {
				b.Fatal(err)
			}
			t, err := core.Device(req.PublicKey, "gullholm.example", certificate.Device{ID: fmt.Sprintf("d%d",
				j)}, serial,
				time.Now(), 7*value.Day, ca, core.Places{})
			if err != nil {
				b.Fatal(err)
			}
			der, err := x509.CreateCertificate(rand.Reader, t, ca, req.PublicKey, key)
			if err != nil {
				b.Fatal(err)
			}
			if _, err := tx.Exec("INSERT INTO issued (body) VALUES (?)", der); err != nil {
				b.Fatal(err)
			}
		}
		if err := tx.Commit(); err != nil {
			b.Fatal(err)
		}
	}
	base := n / time.Since(begin).Seconds()
	b.ReportMetric(ours, "enrolments/s")
	b.ReportMetric(base, "loop/s")
	b.ReportMetric(ours/base, "of-loop")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkIdentityOCSP asks after a certificate over HTTP by 16 callers, against a bare handler that gives the
// same bytes.
func BenchmarkIdentityOCSP(b *testing.B) {
	const n = 20_000
	r := issuing(b, 1)
	defer r.stop()
	in, err := r.service.Authority.Invite(context.Background(), "bench", "d0", "", "", 0)
	if err != nil {
		b.Fatal(err)
	}
	der, _ := request(b, "d0")
	g, err := r.service.Authority.Enrol(context.Background(), authority.Asking{Name: "d0", Code: in.Code,
		Request: der})
	if err != nil {
		b.Fatal(err)
	}
	question, err := ocsp.CreateRequest(g.Certificate, g.Chain[0], nil)
	if err != nil {
		b.Fatal(err)
	}
	answer := r.service.Authority.OCSP(question, func() bool { return true })
	bare, stop := listen(b, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/ocsp-response")
		_, _ = w.Write(answer)
	}))
	defer stop()
	c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 32}}
	ask := func(url string) func(int) {
		return func(int) {
			res, err := c.Post(url, "application/ocsp-request", bytes.NewReader(question))
			if err != nil {
				b.Error(err)
				return
			}
			var got bytes.Buffer
			_, _ = got.ReadFrom(res.Body)
			res.Body.Close()
			if !bytes.Equal(got.Bytes(), answer) {
				b.Errorf("%s says otherwise: %d", url, res.StatusCode)
			}
		}
	}
	base := at(16, n, ask(bare))
	ours := at(16, n, ask(r.url+"/authority/ocsp"))
	b.ReportMetric(ours, "answers/s")
	b.ReportMetric(base, "bare/s")
	b.ReportMetric(ours/base, "of-bare")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkIdentityReport reports over mutual TLS on kept connections by 4 callers, against the same over TLS with
// a token.
func BenchmarkIdentityReport(b *testing.B) {
	const n, callers = 6000, 4
	r := issuing(b, callers)
	defer r.stop()
	server, err := r.service.Authority.ServerCertificate(context.Background(), []string{"127.0.0.1"}, time.Hour)
	if err != nil {
		b.Fatal(err)
	}
	pool := x509.NewCertPool()
	for _, c := range r.service.Authority.Trusted() {
		pool.AddCert(c)
	}
	serve := func(h http.Handler, ask tls.ClientAuthType) string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			b.Fatal(err)
		}
		s := &http.Server{Handler: h, TLSConfig: &tls.Config{Certificates: []tls.Certificate{*server},
			ClientAuth: ask,
			MinVersion: tls.VersionTLS12}}
		go func() { _ = s.ServeTLS(l, "", "") }()
		b.Cleanup(func() { _ = s.Close() })
		return "https://" + l.Addr().String()
	}
	o := httpapi.Options{Service: r.service, TLS: true}
	own, plain := serve(httpapi.ForDevices(o), tls.RequestClientCert), serve(httpapi.Handler(o), tls.NoClientCert)
	clients := make(chan func(string, bool), callers)
	for i := range callers {
		name := fmt.Sprintf("d%d", i)
		in, err := r.service.Authority.Invite(context.Background(), "bench", name, "", "", 0)
		if err != nil {
			b.Fatal(err)
		}
		der, key := request(b, name)
		g, err := r.service.Authority.Enrol(context.Background(), authority.Asking{Name: name, Code: in.Code,
			Request: der})
		if err != nil {
			b.Fatal(err)
		}
		c := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool,
			Certificates: []tls.Certificate{{Certificate: [][]byte{g.Certificate.Raw}, PrivateKey: key}}}}}
		score := 0
		clients <- func(url string, bearer bool) {
			score++
			body := fmt.Sprintf(`{"source":"agent","identity":{"id":%q},"evidence":{"threat.score":%d}}`, name,
				score%100)
			q, _ := http.NewRequest(http.MethodPost, url+"/api/v1/evidence", bytes.NewReader([]byte(body)))
			q.Header.Set("Content-Type", "application/json")
			if bearer {
				q.Header.Set("Authorization", "Bearer "+token)
			}
			res, err := c.Do(q)
			if err != nil {
				b.Error(err)
				return
			}
			var got bytes.Buffer
			_, _ = got.ReadFrom(res.Body)
			res.Body.Close()
			if res.StatusCode != http.StatusOK {
				b.Errorf("%s: %d %s", url, res.StatusCode, got.String())
			}
		}
	}
	run := func(url string, bearer bool) float64 {
		return at(callers, n, func(int) {
			do := <-clients
			do(url, bearer)
			clients <- do
		})
	}
	run(own, false)
	base := run(plain, true)
	ours := run(own, false)
	b.ReportMetric(ours, "reports/s")
	b.ReportMetric(base, "with-token/s")
	b.ReportMetric(ours/base, "of-token")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkIdentityRenewals asks for decisions at a constant rate while devices renew their certificates as 100,000
// do within an hour, 28 a second, against the same with nobody renewing. The aim is a p99 of under twice.
func BenchmarkIdentityRenewals(b *testing.B) {
	const devices, renewing, rate, lasts = 100_000, 600, 500, 15 * time.Second
	r := issuing(b, devices)
	defer r.stop()
	shown := make([]*x509.Certificate, renewing)
	at(16, renewing, func(i int) {
		name := fmt.Sprintf("d%d", i)
		in, err := r.service.Authority.Invite(context.Background(), "bench", name, "", "", 0)
		if err != nil {
			b.Error(err)
			return
		}
		der, _ := request(b, name)
		g, err := r.service.Authority.Enrol(context.Background(), authority.Asking{Name: name, Code: in.Code,
			Request: der})
		if err != nil {
			b.Error(err)
			return
		}
		shown[i] = g.Certificate
	})
	c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	// The time of an answer counts from when it was due: who waits for a stall is not left out.
	load := func() []time.Duration {
		var mu sync.Mutex
		var took []time.Duration
		var wg sync.WaitGroup
		begin := time.Now()
		for i := 0; time.Since(begin) < lasts; i++ {
			due := begin.Add(time.Duration(i) * time.Second / rate)
			time.Sleep(time.Until(due))
			wg.Go(func() {
				body := fmt.Sprintf(`{"subject":{"type":"device","id":"d%d"},"action":{"name":"open"},"resource":{"type":"resource","id":"desk"}}`, (i*7919)%devices)
				q, _ := http.NewRequest(http.MethodPost, r.url+"/access/v1/evaluation", bytes.NewReader([]byte(body)))
				q.Header.Set("Content-Type", "application/json")
				q.Header.Set("Authorization", "Bearer "+token)
				res, err := c.Do(q)
				if err != nil {
					b.Error(err)
					return
				}
				var got bytes.Buffer
				_, _ = got.ReadFrom(res.Body)
				res.Body.Close()
				if !bytes.Contains(got.Bytes(), []byte(`"decision":true`)) {
					b.Errorf("%d %s", res.StatusCode, got.String())
				}
				mu.Lock()
				took = append(took, time.Since(due))
				mu.Unlock()
			})
		}
		wg.Wait()
		return took
	}
	load() // warm
	alone := percentile(load(), 0.99)
	stop, renewed := make(chan struct{}), 0
	var wg sync.WaitGroup
	wg.Go(func() {
		tick := time.NewTicker(time.Hour / devices)
		defer tick.Stop()
		for i := range renewing {
			select {
			case <-stop:
				return
			case <-tick.C:
			}
			der, _ := request(b, fmt.Sprintf("d%d", i))
			if _, err := r.service.Authority.Enrol(context.Background(), authority.Asking{By: shown[i],
				Request: der}); err != nil {
				b.Error(err)
			}
			renewed++
		}
	})
	beside := percentile(load(), 0.99)
	close(stop)
	wg.Wait()
	b.ReportMetric(float64(renewed)/lasts.Seconds(), "renewals/s")
	b.ReportMetric(beside.Seconds()*1000, "ms-p99")
	b.ReportMetric(alone.Seconds()*1000, "alone-ms-p99")
	b.ReportMetric(beside.Seconds()/alone.Seconds(), "times-alone")
	b.ReportMetric(0, "ns/op")
}
