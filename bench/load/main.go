// Command load measures the service under a steady load, with a fleet of any size made from a seed.
//
// Requests are sent at a constant rate, whether those before were answered or not, and each is timed from the moment at
// which it was due: a stall counts against every request that it delays. It writes a table of what came out beside the
// aims, and the same as JSON.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
)

const token = "il_the_token_of_the_load"

// options are what is measured.
type options struct {
	devices, people, rules, gates int
	seconds                       int
	decisions, reports            float64 // a second
	seed                          uint64
	binary, dir, out, listen      string
	lasting, rounds               time.Duration // of a soak
	args                          []string      // that the service is started with beside the usual
}

func main() {
	var o options
	flag.IntVar(&o.devices, "devices", 100_000, "devices in the fleet")
	flag.IntVar(&o.people, "people", 0, "people (default: three for ten devices)")
	flag.IntVar(&o.rules, "rules", 24, "rules")
	flag.IntVar(&o.gates, "gates", 40, "gates")
	flag.IntVar(&o.seconds, "seconds", 30, "how long the load lasts")
	flag.Float64Var(&o.decisions, "decisions", 2000, "decisions a second")
	flag.Float64Var(&o.reports, "reports", 300, "reports a second")
	flag.Uint64Var(&o.seed, "seed", 1, "what the fleet is made from")
	flag.StringVar(&o.binary, "binary", "bin/ironledger", "the service")
	flag.StringVar(&o.dir, "data", "", "an empty folder for the records (default: one that is removed)")
	flag.StringVar(&o.out, "out", "", "write what came out into this file, as JSON")
	flag.StringVar(&o.listen, "listen", "127.0.0.1:8699", "where the service listens")
	flag.DurationVar(&o.lasting, "soak", 0, "instead of measuring: live through so much of it, with publications, "+
		"imports, restarts and kills, and fail if anything grows or a fast path leads elsewhere")
	flag.DurationVar(&o.rounds, "round", time.Minute, "how long a round of that takes")
	drawn := flag.String("draw", "", "instead of measuring: draw how all grows into this PNG, from files written with -out")
	flag.Parse()
	if *drawn != "" {
		if err := picture(*drawn, flag.Args()); err != nil {
			log.Fatal(err)
		}
		return
	}
	if o.people == 0 {
		o.people = o.devices * 3 / 10
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	if err := run(ctx, &o); err != nil {
		log.Fatal(err)
	}
}

// result is what came out of one kind of work.
type result struct {
	What   string  `json:"what"`
	Count  int64   `json:"count"`
	P50    float64 `json:"p50_ms"`
	P99    float64 `json:"p99_ms"`
	Max    float64 `json:"max_ms"`
	Failed int64   `json:"failed,omitempty"`
	Aim    string  `json:"aim,omitempty"`
}

// figure is one number that was measured once.
type figure struct {
	What  string  `json:"what"`
	Value float64 `json:"value"`
	Unit  string  `json:"unit"`
	Aim   string  `json:"aim,omitempty"`
}

// outcome is all that came out.
type outcome struct {
	Devices int      `json:"devices"`
	People  int      `json:"people"`
	Rules   int      `json:"rules"`
	Gates   int      `json:"gates"`
	Cores   int      `json:"cores"`
	Load    []result `json:"load"`
	Figures []figure `json:"figures"`
}

func run(ctx context.Context, o *options) error {
	if o.dir == "" {
		dir, err := os.MkdirTemp("", "ironledger-load-")
		if err != nil {
			return err
		}
		defer func() { _ = os.RemoveAll(dir) }()
		o.dir = dir
	}
	s := &served{options: o, client: &http.Client{Timeout: 5 * time.Minute,
		Transport: &http.Transport{MaxIdleConnsPerHost: 256, MaxConnsPerHost: 256}}}
	if o.lasting > 0 {
		return s.soak(ctx)
	}
	out := outcome{Devices: o.devices, People: o.people, Rules: o.rules, Gates: o.gates, Cores: runtime.NumCPU()}
	note := func(what string, value float64, unit, aim string) {
		out.Figures = append(out.Figures, figure{what, value, unit, aim})
		log.Printf("%-44s %10.2f %s", what, value, unit)
	}
	began := processors()
	if _, err := s.start(ctx); err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	if err := s.fill(ctx, note); err != nil {
		return err
	}
	if err := s.enter(ctx); err != nil {
		return err
	}
	out.Load = s.mix(ctx, note)
	if err := s.stop(); err != nil {
		return err
	}
	took, err := s.start(ctx)
	if err != nil {
		return err
	}
	note("restart to ready", took.Seconds(), "s", "10")
	time.Sleep(3 * time.Second) // until what was thrown away at the start is given back
	note("memory at rest", s.memory(), "KB a device", "2.5")
	note("processor time that the machine was denied", 100*denied(began, processors()), "of a hundred", "")
	table(os.Stdout, &out)
	if o.out == "" {
		return nil
	}
	raw, err := json.MarshalIndent(out, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(o.out, append(raw, '\n'), 0o644)
}

// served is the service that is measured, as a process of its own.
type served struct {
	*options
	client *http.Client
	cmd    *exec.Cmd
	tokens []string
	turn   atomic.Int64
}

// start starts the service and waits until it is ready.
func (s *served) start(ctx context.Context) (time.Duration, error) {
	begun := time.Now()
	s.cmd = exec.CommandContext(ctx, s.binary, "serve", "--data", s.dir, "--listen", s.listen, "--log-level",
		"warn")
	s.cmd.Args = append(s.cmd.Args, s.args...)
	s.cmd.Env = append(os.Environ(), "IRONLEDGER_ADMIN_TOKEN="+token)
	s.cmd.Stderr = os.Stderr
	if err := s.cmd.Start(); err != nil {
		return 0, err
	}
	for time.Since(begun) < 10*time.Minute {
		if res, err := s.client.Get("http://" + s.listen + "/readyz"); err == nil {
			_ = res.Body.Close()
			if res.StatusCode == http.StatusOK {
				return time.Since(begun), nil
			}
		}
		time.Sleep(20 * time.Millisecond)
	}
	return 0, errors.New("the service does not become ready")
}

func (s *served) stop() error {
	if s.cmd == nil {
		return nil
	}
	cmd := s.cmd
	s.cmd = nil
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		return err
	}
	return cmd.Wait()
}

// processors is for how long the processors have done each kind of work since the machine's start, as proc(5) lists it;
// nil where there is no such file.
func processors() (spent []float64) {
	raw, err := os.ReadFile("/proc/stat")
	if err != nil {
		return nil
	}
	first, _, _ := strings.Cut(string(raw), "\n")
	for _, f := range strings.Fields(first)[1:] {
		n, _ := strconv.ParseFloat(f, 64)
		spent = append(spent, n)
	}
	return spent
}

// denied is the part of the time in between that others had on the machine below this one, if it is a virtual one: what
// was measured meanwhile is that much too slow.
func denied(from, to []float64) float64 {
	const steal, kinds = 7, 8 // what comes behind is counted among the others
	if len(from) < kinds || len(to) < kinds {
		return 0
	}
	all := 0.0
	for i := range kinds {
		all += to[i] - from[i]
	}
	return (to[steal] - from[steal]) / max(all, 1)
}

// memory is what the service holds, in KB a device.
func (s *served) memory() float64 {
	raw, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(s.cmd.Process.Pid), "status"))
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(raw)) {
		if rest, is := strings.CutPrefix(line, "VmRSS:"); is {
			kb, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			return kb / float64(s.devices)
		}
	}
	return 0
}

// callers is how many callers the load is of: what one may have under way at once is bounded.
const callers = 48

// enter makes a token for each caller.
func (s *served) enter(ctx context.Context) error {
	for i := range callers {
		raw, err := s.call(ctx, "POST", "/api/v1/tokens", "application/json",
			[]byte(fmt.Sprintf(`{"name":"load-%d-%d","role":"admin"}`, i, time.Now().UnixNano())))
		if err != nil {
			return err
		}
		var made struct {
			Secret string `json:"secret"`
		}
		if err := json.Unmarshal(raw, &made); err != nil {
			return err
		}
		s.tokens = append(s.tokens, made.Secret)
	}
	return nil
}

// token is that of the next caller.
func (s *served) token() string {
	if len(s.tokens) < callers {
		return token
	}
	return s.tokens[int(s.turn.Add(1))%callers]
}

// statusError is an answer that is a refusal.
type statusError struct {
	status int
	text   string
}

func (e *statusError) Error() string { return e.text }

// call sends a request and reads all of the answer.
func (s *served) call(ctx context.Context, method, path, media string, body []byte) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, method, "http://"+s.listen+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+s.token())
	if media != "" {
		req.Header.Set("Content-Type", media)
	}
	res, err := s.client.Do(req)
	if err != nil {
		return nil, err
	}
	defer func() { _ = res.Body.Close() }()
	raw, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode >= 300 {
		err = &statusError{res.StatusCode, fmt.Sprintf("%s %s: %s: %.300s", method, path, res.Status, raw)}
	}
	return raw, err
}

// fill publishes the rulebook and brings the people and the fleet.
func (s *served) fill(ctx context.Context, note func(string, float64, string, string)) error {
	if err := s.publish(ctx, s.book(0, false)); err != nil {
		return err
	}
	var people strings.Builder
	people.WriteString("id,name,groups\n")
	for i := range s.people {
		fmt.Fprintf(&people, "p%d@gullholm.example,Person %d,g%d;all\n", i, i, i%s.gates)
	}
	begun := time.Now()
	if _, err := s.call(ctx, "POST", "/api/v1/people", "text/csv", []byte(people.String())); err != nil {
		return err
	}
	note("people brought", float64(s.people)/time.Since(begun).Seconds(), "a second", "")
	const chunk = 20_000
	begun = time.Now()
	worst := 0.0
	for from := 0; from < s.devices; from += chunk {
		var lines bytes.Buffer
		for i := from; i < min(s.devices, from+chunk); i++ {
			lines.Write(s.report(i, begun))
		}
		if _, err := s.call(ctx, "POST", "/api/v1/evidence", "application/x-ndjson", lines.Bytes()); err != nil {
			return err
		}
		worst = max(worst, s.memory())
	}
	note("import", float64(s.devices)/time.Since(begun).Seconds(), "reports a second", "")
	note("memory at worst, import", worst, "KB a device", "3.5")
	return nil
}

func (s *served) publish(ctx context.Context, text string) error {
	body, err := json.Marshal(map[string]any{"files": []map[string]string{{"name": "load.yaml", "text": text}},
		"message": "load", "accept_impact": "a load"})
	if err != nil {
		return err
	}
	_, err = s.call(ctx, "POST", "/api/v1/rulebooks", "application/json", body)
	return err
}

// book is the rulebook: its first rule, or all, differ by a version.
func (s *served) book(version int, all bool) string {
	var b strings.Builder
	b.WriteString("rulebook: load\nunknown_people: gates\nresources:\n")
	for i := range s.gates {
		fmt.Fprintf(&b, "  - {id: r%d, tags: [t%d]}\n", i, i%7)
	}
	b.WriteString("attributes:\n")
	for i := range 14 {
		fmt.Fprintf(&b, "  custom.a%d: {type: int}\n", i)
	}
	b.WriteString("baselines:\n")
	for i := range s.rules {
		if i%6 == 0 {
			fmt.Fprintf(&b, "  - id: b%d\n    applies: %s\n    rules:\n", i/6, []string{"managed", "form in [laptop, desktop]",
				"platform in [ios, ipados, android]", "true"}[i/6%4])
		}
		bound := 5
		if i == 0 || all {
			bound += version
		}
		fmt.Fprintf(&b, "      - {id: k%d, check: custom.a%d >= %d, cap: %s, unknown: sound}\n", i, i%14, bound,
			[]string{"limited", "sound", "limited", "unproven"}[i%4])
	}
	b.WriteString("gates:\n")
	for i := range s.gates {
		fmt.Fprintf(&b, "  - {id: gate%d, number: %d, who: {groups: [g%d, all]}, what: {resources: [r%d]}, need: level >= %s, "+
			"valid_for: 5m}\n", i, i+1, i, i, []string{"limited", "sound"}[i%2])
	}
	return b.String()
}

// report is what a device shows: thirty readings.
func (s *served) report(i int, at time.Time) []byte {
	r := rand.New(rand.NewPCG(s.seed, uint64(i)))
	var b bytes.Buffer
	fmt.Fprintf(&b, `{"source":"mdm","observed_at":%q,"identity":{"id":"d%07d","serial":"SN-%07d"},"evidence":{`+
		`"platform":%q,"form":%q,"name":"machine %d","model":"Model %d","vendor":"Vendor %d","owner":"p%d@gullholm.example",`+
		`"managed":%v,"ownership":"company","os.version":"14.%d.%d","os.build":"%d","storage.encrypted":%v,"passcode.set":true,`+
		`"passcode.length":%d,"firewall.on":true`, at.UTC().Format(time.RFC3339), i, i,
		[]string{"windows", "macos", "ios", "ipados", "android", "linux"}[r.IntN(6)],
		[]string{"laptop", "desktop", "phone", "tablet"}[r.IntN(4)], i, r.IntN(300), r.IntN(20), r.IntN(max(1, s.people)),
		r.IntN(10) > 0, r.IntN(8), r.IntN(10), r.IntN(90000), r.IntN(20) > 0, 4+r.IntN(6))
	for n := range 14 {
		fmt.Fprintf(&b, `,"custom.a%d":%d`, n, 4+r.IntN(60))
	}
	b.WriteString("}}\n")
	return b.Bytes()
}

// work is one kind of request, at a rate.
type work struct {
	what, aim string
	rate      float64 // a second
	do        func(ctx context.Context, r *rand.Rand) error
}

// device is the id of some device.
func (s *served) device(r *rand.Rand) string { return fmt.Sprintf("d%07d", r.IntN(s.devices)) }

func (s *served) works() []work {
	get := func(path func(r *rand.Rand) string) func(context.Context, *rand.Rand) error {
		return func(ctx context.Context, r *rand.Rand) error {
			_, err := s.call(ctx, "GET", path(r), "", nil)
			return err
		}
	}
	device := s.device
	columns := []string{"id", "-level", "name", "owner", "os_version", "-seen_at"}
	now := time.Now()
	return []work{
		{"decision, durable", "", s.decisions, func(ctx context.Context, r *rand.Rand) error {
			_, err := s.call(ctx, "POST", "/access/v1/evaluation", "application/json", []byte(fmt.Sprintf(
				`{"subject":{"type":"user","id":"p%d@gullholm.example"},"action":{"name":"open"},"resource":{"type":"app","id":"r%d"},`+
					`"context":{"device":{"id":%q}}}`, r.IntN(max(1, s.people)), r.IntN(s.gates), device(r))))
			return err
		}},
		{"report of one changed attribute", "", s.reports, func(ctx context.Context, r *rand.Rand) error {
			_, err := s.call(ctx, "POST", "/api/v1/evidence", "application/x-ndjson", []byte(fmt.Sprintf(
				`{"source":"mdm","observed_at":%q,"identity":{"id":%q},"evidence":{"custom.a%d":%d}}`,
				now.Add(time.Since(now)).UTC().Format(time.RFC3339), device(r), r.IntN(14), 4+r.IntN(60))))
			return err
		}},
		{"overview", "50", 2, get(func(*rand.Rand) string { return "/api/v1/overview" })},
		{"list of devices, sorted", "50", 3, get(func(r *rand.Rand) string {
			return "/api/v1/devices?limit=25&sort=" + columns[r.IntN(len(columns))]
		})},
		{"search by a part of a name", "50", 1, get(func(r *rand.Rand) string {
			return "/api/v1/devices?limit=25&q=" + url.QueryEscape(fmt.Sprintf("machine %d", r.IntN(s.devices)))
		})},
		{"a free condition over all", "200", 1, get(func(r *rand.Rand) string {
			return "/api/v1/devices?limit=25&where=" + url.QueryEscape(fmt.Sprintf("custom.a%d > 50 and level < sound",
				r.IntN(14)))
		})},
		{"by rule and verdict", "50", 1, get(func(r *rand.Rand) string {
			return fmt.Sprintf("/api/v1/devices?limit=25&verdict=fail&rule=b%d/k%d", 0, r.IntN(6))
		})},
		{"a device", "50", 5, get(func(r *rand.Rand) string { return "/api/v1/devices/" + device(r) })},
		{"its history", "50", 5, get(func(r *rand.Rand) string { return "/api/v1/devices/" + device(r) + "/history" })},
		{"a person", "50", 5, get(func(r *rand.Rand) string {
			return "/api/v1/people/" + url.PathEscape(fmt.Sprintf("p%d@gullholm.example", r.IntN(max(1, s.people))))
		})},
		{"decisions of a person", "50", 2, get(func(r *rand.Rand) string {
			return "/api/v1/decisions?limit=25&person=" + url.QueryEscape(fmt.Sprintf("p%d@gullholm.example",
				r.IntN(max(1, s.people))))
		})},
		{"sources", "", 0.5, get(func(*rand.Rand) string { return "/api/v1/sources" })},
	}
}

// changes are those of single devices that people make: what they leave behind grows, so that a soak has none of them.
func (s *served) changes() []work {
	post := func(path, media string, body func(r *rand.Rand) string) func(context.Context, *rand.Rand) error {
		return func(ctx context.Context, r *rand.Rand) error {
			_, err := s.call(ctx, "POST", "/api/v1/"+path, media, []byte(body(r)))
			return err
		}
	}
	return []work{
		{"a waiver", "10", 1, post("waivers", "application/json", func(r *rand.Rand) string {
			return fmt.Sprintf(`{"device":%q,"rule":"b0/k%d","reason":"a load","for":"1d"}`, s.device(r), r.IntN(min(6, s.rules)))
		})},
		{"a tag", "10", 1, post("devices/tags", "application/json", func(r *rand.Rand) string {
			return fmt.Sprintf(`{"devices":[%q],"add":["t%d"]}`, s.device(r), r.IntN(20))
		})},
	}
}

// rehearse asks, while the mix goes on, what takes long: each three times, of which it notes the longest.
func (s *served) rehearse(ctx context.Context, note func(string, float64, string, string)) error {
	draft, err := json.Marshal(map[string]any{"files": []map[string]string{{"name": "load.yaml", "text": s.book(50, true)}}})
	if err != nil {
		return err
	}
	ask := `{"subject":{"type":"user","id":"p1@gullholm.example"},"action":{"name":"open"},"resource":{"type":"app","id":"r1"}}`
	for _, x := range []struct{ what, aim, method, path, body string }{
		{"coverage", "1", "GET", "/api/v1/coverage", ""},
		{"who can get to a resource", "1", "POST", "/api/v1/reach/people?through=true&limit=50", ask},
		{"rehearsal of a rulebook in which all rules differ", "3", "POST", "/api/v1/rulebooks/rehearse", string(draft)},
		{"replay of the decisions so far", "1", "POST", "/api/v1/rulebooks/replay", string(draft)},
		{"a change of a person, replay of a week included", "0.01", "POST", "/api/v1/people",
			"id,name,groups\np1@gullholm.example,Person %d,g1;all\n"},
		{"a line of the roster, replay of a week included", "0.01", "POST", "/api/v1/roster",
			"serial,note\nSN-0000001,bought %d\n"},
	} {
		media := "application/json"
		if strings.Contains(x.body, "%d") {
			media = "text/csv"
		}
		worst := 0.0
		for n := range 3 {
			begun, body := time.Now(), strings.Replace(x.body, "%d", strconv.Itoa(n), 1)
			if _, err := s.call(ctx, x.method, x.path, media, []byte(body)); err != nil {
				return err
			}
			worst = max(worst, time.Since(begun).Seconds())
		}
		note(x.what, worst, "s", x.aim)
	}
	return nil
}

// mix runs all kinds of work at their rates, and tells what came of it; then it publishes while they go on.
func (s *served) mix(ctx context.Context, note func(string, float64, string, string)) []result {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	works := append(s.works(), s.changes()...)
	meters := make([]*meter, len(works))
	var wg sync.WaitGroup
	for i := range works {
		meters[i] = newMeter()
		wg.Go(func() { s.steadily(ctx, &works[i], meters[i], rand.New(rand.NewPCG(s.seed, uint64(1000+i)))) })
	}
	time.Sleep(2 * time.Second) // until what is kept up has been looked at once
	for _, m := range meters {
		m.anew()
	}
	time.Sleep(time.Duration(s.seconds) * time.Second)
	var out []result
	for i, w := range works {
		out = append(out, meters[i].result(w.what, w.aim))
		log.Printf("%-44s p50 %.1f, p99 %.1f ms", w.what, out[i].P50, out[i].P99) // what comes now may take long
	}
	quiet := out[0].P99
	if err := s.rehearse(ctx, note); err != nil {
		log.Print(err)
	}
	for _, p := range []struct {
		what, aim string
		version   int
		all       bool
	}{{"publication that changes one rule", "1.5", 20, false}, {"publication that changes all rules", "3", 35, true}} {
		meters[0].anew()
		begun := time.Now()
		if err := s.publish(ctx, s.book(p.version, p.all)); err != nil {
			log.Print(err)
			continue
		}
		note(p.what, time.Since(begun).Seconds(), "s", p.aim)
		note("decisions meanwhile, p99 against quiet", meters[0].result("", "").P99/max(quiet, 0.001), "times", "2")
		time.Sleep(2 * time.Second)
	}
	note("memory at worst, under load", s.memory(), "KB a device", "3.5")
	stop()
	wg.Wait()
	return out
}

// most bounds how many requests of a kind are under way at once: past it they wait, and their time goes on.
const most = 128

// steadily does one kind of work at its rate until ctx ends.
func (s *served) steadily(ctx context.Context, w *work, m *meter, r *rand.Rand) {
	var wg sync.WaitGroup
	defer wg.Wait()
	places := make(chan struct{}, most)
	// Each begins at a moment of its own: kinds of the same rate would else meet each time.
	begun := time.Now().Add(time.Duration(r.Float64() / w.rate * float64(time.Second)))
	for n := 0; ; n++ {
		due := begun.Add(time.Duration(float64(n) / w.rate * float64(time.Second)))
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(due)):
		}
		seed := r.Uint64()
		select {
		case <-ctx.Done():
			return
		case places <- struct{}{}:
		}
		wg.Go(func() {
			defer func() { <-places }()
			err := w.do(ctx, rand.New(rand.NewPCG(seed, 1)))
			if ctx.Err() == nil {
				m.note(time.Since(due), err)
			}
		})
	}
}

// meter keeps how long one kind of work took.
type meter struct {
	mu     sync.Mutex
	took   *hdrhistogram.Histogram // microseconds
	failed int64
	said   bool
}

const longest = int64(10 * time.Minute / time.Microsecond)

func newMeter() *meter { return &meter{took: hdrhistogram.New(1, longest, 3)} }

func (m *meter) note(took time.Duration, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err != nil {
		if m.failed++; !m.said {
			m.said = true
			log.Print(err)
		}
		return
	}
	_ = m.took.RecordValue(min(max(1, took.Microseconds()), longest)) // within its bounds
}

// anew forgets what came before.
func (m *meter) anew() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.took.Reset()
	m.failed = 0
}

func (m *meter) result(what, aim string) result {
	m.mu.Lock()
	defer m.mu.Unlock()
	ms := func(n int64) float64 { return float64(n) / 1000 }
	return result{What: what, Count: m.took.TotalCount(), P50: ms(m.took.ValueAtQuantile(50)),
		P99: ms(m.took.ValueAtQuantile(99)), Max: ms(m.took.Max()), Failed: m.failed, Aim: aim}
}

// table writes what came out as Markdown.
func table(w io.Writer, o *outcome) {
	fmt.Fprintf(w, "\n%d devices, %d people, %d rules, %d gates, %d cores\n\n", o.Devices, o.People, o.Rules, o.Gates, o.Cores)
	fmt.Fprintln(w, "| what | times | p50 ms | p99 ms | most ms | failed | aim, p99 |\n| --- | ---: | ---: | ---: | ---: | ---: | ---: |")
	for _, r := range o.Load {
		fmt.Fprintf(w, "| %s | %d | %.1f | %.1f | %.1f | %d | %s |\n", r.What, r.Count, r.P50, r.P99, r.Max, r.Failed, r.Aim)
	}
	fmt.Fprintln(w, "\n| what | measured | aim |\n| --- | ---: | ---: |")
	for _, f := range o.Figures {
		fmt.Fprintf(w, "| %s | %.2f %s | %s |\n", f.What, f.Value, f.Unit, f.Aim)
	}
}
