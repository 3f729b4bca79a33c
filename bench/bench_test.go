// Package bench measures the product against baselines in the same run and
// reports ratios: run it with "make bench".
package bench

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/httpapi"
	"ironledger.example/internal/service"
)

const token = "il_benchmark_administrator"

// rules are 24 checks over 30 attributes, and the Go that a programmer would
// write for each by hand.
var rules = []struct {
	check string
	hand  func(d *device, now int64) condition.Tri
}{
	{"os.version >= 10.0.22631", func(d *device,
		now int64) condition.Tri {
		return d.osVersion.atLeast(now, [4]int{10, 0, 22631})
	}},
	{"storage.encrypted", func(d *device, now int64) condition.Tri { return d.encrypted.is(now) }},
	{"firewall.on", func(d *device, now int64) condition.Tri { return d.firewall.is(now) }},
	{"antimalware.on and age(antimalware.updated_at) <= 7d", func(d *device, now int64) condition.Tri {
		return min(d.antimalware.is(now), d.updatedAt.cmp(now, func(at int64) bool { return now-at <= 7*day }))
	}},
	{"screen_lock.after <= 15m", func(d *device, now int64) condition.Tri {
		return d.lock.cmp(now, func(v int64) bool { return v <= 15*60_000_000 })
	}},
	{"threat.score <= 30", func(d *device, now int64) condition.Tri {
		return d.score.cmp(now, func(v int64) bool { return v <= 30 })
	}},
	{"threat.level <= low", func(d *device, now int64) condition.Tri {
		return d.level.cmp(now, func(v int64) bool { return v <= 1 })
	}},
	{"passcode.set and passcode.length >= 6", func(d *device, now int64) condition.Tri {
		return min(d.passcode.is(now), d.length.cmp(now, func(v int64) bool { return v >= 6 }))
	}},
	{"not integrity.tampered", func(d *device, now int64) condition.Tri { return -d.tampered.is(now) }},
	{"secure_boot or tpm.present",
		func(d *device, now int64) condition.Tri { return max(d.secureBoot.is(now), d.tpm.is(now)) }},
	{"ownership == company", func(d *device, now int64) condition.Tri {
		return d.ownership.cmp(now, func(v string) bool { return v == "company" })
	}},
	{"managed", func(d *device, now int64) condition.Tri { return d.managed.is(now) }},
	{"age(os.patched_at) <= 30d", func(d *device, now int64) condition.Tri {
		return d.patchedAt.cmp(now, func(at int64) bool { return now-at <= 30*day })
	}},
	{"platform in [windows, macos]", func(d *device, now int64) condition.Tri {
		return d.platform.cmp(now, func(v string) bool { return v == "windows" || v == "macos" })
	}},
	{"directory.joined >= none or managed", nil},
	{`vendor == "Skerry"`, func(d *device, now int64) condition.Tri {
		return d.vendor.cmp(now, func(v string) bool { return v == "Skerry" })
	}},
	{`model starts with "Skerry"`, func(d *device, now int64) condition.Tri {
		return d.model.cmp(now, func(v string) bool { return strings.HasPrefix(v, "Skerry") })
	}},
	{"form == laptop or form == desktop", func(d *device, now int64) condition.Tri {
		return max(d.form.cmp(now, func(v string) bool { return v == "laptop" }),
			d.form.cmp(now, func(v string) bool { return v == "desktop" }))
	}},
	{"passcode.biometric or passcode.length >= 8", func(d *device, now int64) condition.Tri {
		return max(d.biometric.is(now), d.length.cmp(now, func(v int64) bool { return v >= 8 }))
	}},
	{"known(owner)", func(d *device, now int64) condition.Tri { return tri(d.owner.until >= now) }},
	{"threat.score <= 70 or not managed", func(d *device, now int64) condition.Tri {
		return max(d.score.cmp(now, func(v int64) bool { return v <= 70 }), -d.managed.is(now))
	}},
	{"os.version < 20", func(d *device, now int64) condition.Tri { return -d.osVersion.atLeast(now, [4]int{20}) }},
	{"custom.chart_pack >= 2026.10",
		func(d *device, now int64) condition.Tri { return d.chart.atLeast(now, [4]int{2026, 10}) }},
	{"screen_lock.after <= 1h and storage.encrypted", func(d *device, now int64) condition.Tri {
		return min(d.lock.cmp(now, func(v int64) bool { return v <= 3600_000_000 }), d.encrypted.is(now))
	}},
}

const day = int64(86_400_000_000)

// reworded has for each rule another check that takes the same work and gives
// the same verdict.
var reworded = [...]string{"os.version >= 10.0.22630", "storage.encrypted == true", "firewall.on == true",
	"antimalware.on and age(antimalware.updated_at) <= 8d", "screen_lock.after <= 16m",
	"threat.score <= 31", "threat.level < medium", "passcode.set and passcode.length >= 7",
	"not integrity.tampered == true", "tpm.present or secure_boot", "ownership in [company]", "managed == true",
	"age(os.patched_at) <= 31d", "platform in [macos, windows]",
	"directory.joined in [joined, registered] or managed", `vendor != "Other"`, `model starts with "Skerry "`,
	"form == laptop or form == tablet",
	"passcode.biometric or passcode.length >= 7", "known(owner.groups)", "threat.score <= 71 or not managed",
	"os.version < 21", "custom.chart_pack >= 2026.9", "screen_lock.after <= 2h and storage.encrypted"}

func init() {
	rules[14].check = `directory.joined in [registered, joined] or managed`
	rules[14].hand = func(d *device, now int64) condition.Tri {
		return max(d.joined.cmp(now, func(v string) bool { return v == "registered" || v == "joined" }),
			d.managed.is(now))
	}
}

// device is the evidence as a programmer would keep it for hand-written rules.
type device struct {
	osVersion, chart                                                                          reading[[4]int]
	encrypted, firewall, antimalware, passcode, biometric, tampered, secureBoot, tpm, managed reading[bool]
	updatedAt, patchedAt, lock, score, level, length                                          reading[int64]
	platform, form, vendor, model, ownership, joined, owner                                   reading[string]
}

// reading is a value and the last moment at which it is fresh; 0 without one.
type reading[T any] struct {
	v     T
	until int64
}

func tri(b bool) condition.Tri {
	if b {
		return condition.True
	}
	return condition.False
}

func (r *reading[T]) cmp(now int64, test func(T) bool) condition.Tri {
	if r.until < now {
		return condition.Unknown
	}
	return tri(test(r.v))
}

func (r *reading[T]) is(now int64) condition.Tri {
	if r.until < now {
		return condition.Unknown
	}
	return tri(any(r.v).(bool))
}

func (r *reading[T]) atLeast(now int64, want [4]int) condition.Tri {
	if r.until < now {
		return condition.Unknown
	}
	got := any(r.v).([4]int)
	for i := range got {
		if got[i] != want[i] {
			return tri(got[i] > want[i])
		}
	}
	return condition.True
}

const reportBody = `"platform":"windows","form":"laptop","model":"Skerry 14","vendor":"Skerry","name":"laptop %[1]d","ownership":"company","managed":true,"directory.joined":"joined","owner":"p%[2]d@gullholm.example",
"os.version":"10.0.22631.%[5]d","os.build":"b%[1]d","os.release":"23H2","os.patched_at":"%[3]s","storage.encrypted":true,"volumes":[{"name":"c","system":true,"encrypted":true}],"passcode.set":true,"passcode.biometric":false,
"passcode.length":8,"screen_lock.after":"10m","firewall.on":true,"antimalware.on":true,"antimalware.updated_at":"%[3]s","secure_boot":true,"tpm.present":true,"integrity.tampered":false,"threat.score":%[4]d,"threat.level":"low",
"network.addresses":["fd00::%[5]d:%[4]d"],"apps":[{"id":"a","name":"Charts","version":"3.1"}],"custom.chart_pack":"2026.11"`

// report is one report of 30 readings.
func report(i int, at time.Time) string {
	stamp := at.UTC().Format(time.RFC3339)
	body := fmt.Sprintf(reportBody, i, i%400, stamp, i%25, i%5000)
	return fmt.Sprintf(`{"source":"agent","observed_at":%q,"identity":{"id":"d-%06d","serial":"GF-%06d"},"evidence":{%s}}`, stamp, i, i, strings.ReplaceAll(body, "\n", ""))
}

// book is a rulebook with the 24 rules and 40 gates over 10 resources.
func book() []rulebook.File {
	var b strings.Builder
	b.WriteString("rulebook: bench\nplaces: {office: {networks: [10.20.0.0/16]}}\nattributes: {custom.chart_pack: {type: version}}\nbaselines:\n  - id: laptop\n    applies: form == laptop\n    rules:\n")
	for i, r := range rules {
		fmt.Fprintf(&b, "      - {id: r%d, check: '%s', cap: limited, unknown: sound}\n", i, r.check)
	}
	b.WriteString("resources:\n")
	for i := range 10 {
		fmt.Fprintf(&b, "  - {id: app%d, tags: [t%d]}\n", i, i%3)
	}
	b.WriteString("gates:\n")
	for i := range 40 {
		fmt.Fprintf(&b, "  - {id: g%d, number: %d, who: {groups: [g%d]}, what: {resources: [app%d]}, need: 'level >= sound and (auth.mfa or \"office\" in request.places)', otherwise: step-up}\n", i, i+1, i%8, i%10)
	}
	return []rulebook.File{{Name: "bench.yaml", Text: b.String()}}
}

func people() string {
	var b strings.Builder
	b.WriteString("id,name,groups\n")
	for i := range 400 {
		fmt.Fprintf(&b, "p%d@gullholm.example,Person %d,g%d;g%d\n", i, i, i%8, (i+3)%8)
	}
	return b.String()
}

// running is a service on loopback.
type running struct {
	service *service.Service
	url     string
	stop    func()
}

func start(b *testing.B) *running {
	b.Helper()
	engine.TuneMemory(context.Background(), slog.Default()) // as serve does; the baselines run in the same process
	log := slog.New(slog.DiscardHandler)
	svc, err := service.Open(context.Background(), service.Options{Dir: b.TempDir(), AdminToken: token, Log: log})
	if err != nil {
		b.Fatal(err)
	}
	if _, _, err := svc.Admin.Publish(context.Background(), "bench", api.Draft{Files: book()}); err != nil {
		b.Fatal(err)
	}
	url, stop := listen(b, httpapi.Handler(httpapi.Options{Service: svc, Log: log}))
	r := &running{service: svc, url: url, stop: func() {
		stop()
		if err := svc.Close(); err != nil {
			b.Error(err)
		}
	}}
	r.post(b, "/api/v1/people", "text/csv", people())
	return r
}

// listen serves a handler on loopback and returns its URL.
func listen(b *testing.B, h http.Handler) (url string, stop func()) {
	b.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	server := &http.Server{Handler: h}
	go server.Serve(l) // ends with the listener
	return "http://" + l.Addr().String(), func() { server.Close() }
}

func (r *running) post(b *testing.B, path, media, body string) []byte {
	b.Helper()
	status, answer, err := post(http.DefaultClient, r.url+path, media, body)
	if err != nil || status >= 300 {
		b.Fatalf("%s: %d %v %.300s", path, status, err, answer)
	}
	return answer
}

func post(client *http.Client, url, media, body string) (int, []byte, error) {
	req, err := http.NewRequest(http.MethodPost, url, strings.NewReader(body))
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set("Content-Type", media)
	req.Header.Set("Authorization", "Bearer "+token)
	answer, err := client.Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(answer.Body)
	return answer.StatusCode, raw, err
}

func fleetOf(n int) string {
	var b strings.Builder
	at := time.Now()
	for i := range n {
		b.WriteString(report(i, at))
		b.WriteByte('\n')
	}
	return b.String()
}

// BenchmarkAppraisal: 24 rules over 30 readings, against the same conditions
// written by hand in Go. The aim is under 3 times.
func BenchmarkAppraisal(b *testing.B) {
	rb, err := rulebook.Load(book())
	if err != nil {
		b.Fatal(err)
	}
	p := posture.Compile(rb)
	now := value.Micros(time.Now())
	rep, err := rb.Dict.ParseReport([]byte(report(7, time.Now())), now)
	if err != nil || len(rep.Refused) > 0 {
		b.Fatal(err, rep)
	}
	var rec *evidence.Record
	view := evidence.NewResolver(rb.Dict, rb.Policy).Resolve(rec.With(rep), evidence.Facts{}, now)
	env := view.Env(now)
	var result posture.Result
	p.Appraise(env, &result)

	u := now + day
	d := &device{osVersion: reading[[4]int]{[4]int{10, 0, 22631, 7}, u},
		chart: reading[[4]int]{[4]int{2026, 11}, u}, encrypted: reading[bool]{true, u},
		firewall: reading[bool]{true, u}, antimalware: reading[bool]{true, u},
		passcode: reading[bool]{true, u}, biometric: reading[bool]{false, u},
		tampered: reading[bool]{false, u}, secureBoot: reading[bool]{true, u}, tpm: reading[bool]{true, u},
		managed:   reading[bool]{true, u},
		updatedAt: reading[int64]{now, u}, patchedAt: reading[int64]{now, u},
		lock: reading[int64]{600_000_000, u}, score: reading[int64]{7, u}, level: reading[int64]{1, u},
		length:   reading[int64]{8, u},
		platform: reading[string]{"windows", u}, form: reading[string]{"laptop", u},
		vendor: reading[string]{"Skerry", u}, model: reading[string]{"Skerry 14", u},
		ownership: reading[string]{"company", u}, joined: reading[string]{"joined", u},
		owner: reading[string]{"p", u}}
	verdicts := make([]condition.Tri, len(rules))
	byHand := func() rulebook.Level {
		level := rulebook.Level(4)
		for i := range rules {
			verdicts[i] = rules[i].hand(d, now)
			switch verdicts[i] {
			case condition.False:
				level = min(level, 2)
			case condition.Unknown:
				level = min(level, 3)
			}
		}
		return level
	}
	for i, v := range result.Verdicts {
		if byHand(); (v == posture.Pass) != (verdicts[i] == condition.True) {
			b.Fatalf("rule %d is %s, by hand %s", i, v, verdicts[i])
		}
	}
	if byHand() != result.Level {
		b.Fatal("the two do not agree")
	}
	hand := perOp(func(n int) {
		for range n {
			byHand()
		}
	})
	ours := perOp(func(n int) {
		for range n {
			p.Appraise(env, &result)
		}
	})
	b.ReportMetric(float64(ours.Nanoseconds()), "ns/appraisal")
	b.ReportMetric(float64(hand.Nanoseconds()), "ns/by-hand")
	b.ReportMetric(float64(ours)/float64(hand), "times-by-hand")
	b.ReportMetric(testing.AllocsPerRun(1000, func() { p.Appraise(env, &result) }), "allocs/appraisal")
	b.ReportMetric(0, "ns/op")
}

// perOp times f over enough rounds and returns the best of five per round.
func perOp(f func(n int)) time.Duration {
	const n = 200_000
	best := time.Duration(1 << 62)
	for range 5 {
		begin := time.Now()
		f(n)
		best = min(best, time.Since(begin))
	}
	return best / n
}
