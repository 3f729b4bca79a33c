package e2e

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ironledger.example/internal/bearer"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/service"
)

// rounds is how often the killing test kills: a few times, or as often as
// "make torture" says.
func rounds() int {
	if n, err := strconv.Atoi(os.Getenv("TORTURE_ROUNDS")); err == nil {
		return n
	}
	return 4
}

// sent is what a load on a service was answered.
type sent struct {
	mu        sync.Mutex
	decisions []string
	levels    map[string]string // the last level that was acknowledged of a device
	reported  int
	open      map[string]bool // devices of which a report is not yet acknowledged
}

var idOf = regexp.MustCompile(`"id":"(\w{20})"`)

// load asks and reports until the service is gone.
func (x *sent) load(t *testing.T, s *server, stop chan struct{}) *sync.WaitGroup {
	var wg sync.WaitGroup
	post := func(path, body string) (string, bool) {
		req, err := http.NewRequest("POST", s.url+path, strings.NewReader(body))
		if err != nil {
			t.Error(err)
			return "", false
		}
		req.Header.Set("Authorization", "Bearer "+adminToken)
		req.Header.Set("Content-Type", "application/json")
		r, err := http.DefaultClient.Do(req)
		if err != nil {
			return "", false
		}
		defer r.Body.Close()
		var whole bytes.Buffer
		if _, err := whole.ReadFrom(r.Body); err != nil || r.StatusCode != http.StatusOK {
			return "", false
		}
		return whole.String(), true
	}
	until := func(work func() bool) {
		wg.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					if !work() {
						return
					}
				}
			}
		})
	}
	for range 8 {
		until(func() bool {
			body, ok := post("/access/v1/evaluation", evaluation)
			if id := idOf.FindStringSubmatch(body); ok && id != nil {
				x.mu.Lock()
				defer x.mu.Unlock()
				x.decisions = append(x.decisions, id[1])
			}
			return ok
		})
	}
	for i := range 4 {
		device, n := fmt.Sprintf("GF-L-10%d", 43+i), 0
		until(func() bool {
			n++
			x.mu.Lock()
			x.open[device] = true
			x.mu.Unlock()
			body, ok := post("/api/v1/evidence",
				fmt.Sprintf(`{"source":"agent","observed_at":%q,"identity":{"id":%q},"evidence":{"firewall.on":%t,"storage.encrypted":%t}}`, time.Now().UTC().Format(time.RFC3339), device, n%3 != 0, n%2 == 0))
			if !ok {
				return false
			}
			var in struct{ Results []struct{ Level string } }
			if err := json.Unmarshal([]byte(body), &in); err != nil || len(in.Results) != 1 {
				t.Errorf("a report is answered with %s (%v)", body, err)
				return false
			}
			x.mu.Lock()
			defer x.mu.Unlock()
			x.levels[device], x.open[device] = in.Results[0].Level, false
			x.reported++
			return true
		})
	}
	return &wg
}

// Killed at any moment, the service has recorded whatever it answered, once;
// its ledger verifies, and no device stands otherwise than its evidence says.
func TestAKilledServiceKeepsWhatItAnswered(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	start(t, "demo", dir).stop(t)
	all, reported := 0, 0
	for round := range rounds() {
		s := start(t, "serve", dir)
		x := &sent{levels: map[string]string{}, open: map[string]bool{}}
		stop := make(chan struct{})
		wg := x.load(t, s, stop)
		time.Sleep(time.Duration(50+rand.IntN(300)) * time.Millisecond)
		if err := s.cmd.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		<-s.done
		s.cmd = nil
		close(stop)
		wg.Wait()
		all, reported = all+len(x.decisions), reported+x.reported

		offline(t, "", "ledger", "verify", "--data", dir).want(t, 0, "Sound:",
			"72 devices stand where their entries put them")
		s = start(t, "serve", dir)
		recorded := map[string]int{}
		lines := bufio.NewScanner(strings.NewReader(s.run(t, "", "ledger", "export").want(t, 0).out))
		lines.Buffer(nil, 1<<20)
		for lines.Scan() {
			var l struct {
				Entry struct {
					About, Kind string
					Body        struct{ Cause string }
				}
			}
			if err := json.Unmarshal(lines.Bytes(), &l); err != nil {
				t.Fatal(err)
			}
			if l.Entry.Kind == "decision.made" {
				recorded[l.Entry.About]++
			}
			if l.Entry.Body.Cause == "restart" {
				t.Errorf("round %d: after the restart a device stands otherwise than before: %s", round,
					lines.Text())
			}
		}
		for _, id := range x.decisions {
			if recorded[id] != 1 {
				t.Errorf("round %d: the decision %s was answered, and is recorded %d times", round,
					id, recorded[id])
			}
		}
		for device, level := range x.levels {
			var now struct{ Level string }
			s.call(t, "GET", "/api/v1/devices/"+device, adminToken, "", "").into(t, 200, &now)
			if !x.open[device] && now.Level != level {
				t.Errorf("round %d: %s was answered to stand at %s, and stands at %s", round, device, level,
					now.Level)
			}
		}
		for _, id := range x.decisions[max(0, len(x.decisions)-2):] {
			s.run(t, "", "decision", "show", id, "--replay").want(t, 0, "Same:")
		}
		s.stop(t)
	}
	t.Logf("%d rounds: %d decisions and %d reports were answered, none is lost", rounds(), all, reported)
	if all < 20*rounds() {
		t.Errorf("only %d decisions were answered in %d rounds", all, rounds())
	}
}

// denied fails unless the service denies everything for want of a disk.
func (s *server) denied(t *testing.T) {
	t.Helper()
	r := s.call(t, "POST", "/access/v1/evaluation", adminToken, "application/json", evaluation)
	var a struct {
		Decision bool
		Context  struct {
			Outcome    string
			Recorded   *bool
			ReasonUser map[string]string `json:"reason_user"`
		}
	}
	r.into(t, 200, &a)
	if a.Decision || a.Context.Outcome != "deny" || a.Context.Recorded == nil || *a.Context.Recorded ||
		a.Context.ReasonUser["en"] == "" {
		t.Errorf("a request is answered %s", r.body)
	}
	if r := s.call(t, "GET", "/readyz", "", "", ""); r.status != 503 ||
		!strings.Contains(string(r.body), "records cannot be written") {
		t.Errorf("readyz says %d %s", r.status, r.body)
	}
	req := s.request(t, "GET", "/forward-auth", adminToken)
	req.Header.Set("X-Forwarded-User", "birk.strand@gullholm.example")
	req.Header.Set("Ironledger-Resource", "noticeboard")
	if r := s.send(t, req); r.status != 403 {
		t.Errorf("forward-auth says %d %s", r.status, r.body)
	}
	r = s.call(t, "POST", "/api/v1/waivers", adminToken, "application/json",
		`{"device":"GF-L-1042","rule":"laptop/disk-encrypted","reason":"x","for":"1d"}`)
	if r.status != 503 || !strings.Contains(string(r.body), "nothing has changed") {
		t.Errorf("a waiver is answered %d %s", r.status, r.body)
	}
}

// recovered waits until the service can write, and fails unless it grants again
// and nothing was lost.
func (s *server) recovered(t *testing.T) {
	t.Helper()
	within(t, "it can write again", func() bool { return s.call(t, "GET", "/readyz", "", "", "").status == 200 })
	var a struct{ Decision bool }
	s.call(t, "POST", "/access/v1/evaluation", adminToken, "application/json", evaluation).into(t, 200, &a)
	if !a.Decision {
		t.Error("the service grants nothing after it can write again")
	}
	s.run(t, "", "ledger", "verify").want(t, 0, "Sound:")
}

func TestAFullDiskDeniesUntilThereIsRoom(t *testing.T) {
	t.Parallel()
	prlimit, err := exec.LookPath("prlimit")
	if err != nil {
		t.Skip("prlimit (util-linux) is not here")
	}
	s := start(t, "demo", t.TempDir())
	limit := func(bytes string) {
		t.Helper()
		if out, err := exec.Command(prlimit, "--pid", strconv.Itoa(s.cmd.Process.Pid),
			"--fsize="+bytes+":unlimited").CombinedOutput(); err != nil {
			t.Fatalf("%s: %v", out, err)
		}
	}
	size := s.run(t, "", "ledger", "head", "-o", "json").want(t, 0).out
	limit("4096")
	s.denied(t)
	s.denied(t)
	limit("unlimited")
	s.recovered(t)
	if now := s.run(t, "", "ledger", "list", "--limit", "1", "-o", "csv").want(t,
		0).out; strings.Contains(size, now) {
		t.Error("nothing was recorded after the recovery")
	}
}

func TestALockedDatabaseDeniesUntilItIsFree(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	db, err := sql.Open("sqlite", "file:"+engine.DatabasePath(s.data)+"?_pragma=busy_timeout(10000)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	conn, err := db.Conn(context.Background())
	if err == nil {
		_, err = conn.ExecContext(context.Background(), "BEGIN IMMEDIATE")
	}
	if err != nil {
		t.Fatal(err)
	}
	s.denied(t)
	if _, err := conn.ExecContext(context.Background(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	if err := conn.Close(); err != nil {
		t.Fatal(err)
	}
	s.recovered(t)
}

// refusesToStart runs the service on records and returns why it ended.
func refusesToStart(t *testing.T, data string, change func(*exec.Cmd), flags ...string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary,
		append([]string{"serve", "--data", data, "--listen", "127.0.0.1:0"}, flags...)...)
	cmd.Env = append(os.Environ(), "IRONLEDGER_ADMIN_TOKEN="+adminToken)
	if change != nil {
		change(cmd)
	}
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	if !errors.As(err, &exit) || exit.ExitCode() != 1 || strings.Contains(string(out), "goroutine") {
		t.Errorf("it ends with %v:\n%s", err, out)
	}
	return string(out)
}

func TestReadOnlyRecordsAreToldAtTheStart(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	start(t, "demo", dir).stop(t)
	change := func(*exec.Cmd) {}
	if os.Getuid() == 0 { // whom no permission stops
		const nobody = 65534
		for path := dir; len(path) > len(os.TempDir()); path = filepath.Dir(path) {
			if err := os.Chmod(path, 0o755); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Chmod(filepath.Dir(binary), 0o755); err != nil {
			t.Fatal(err)
		}
		entries, err := filepath.Glob(filepath.Join(dir, "*"))
		if err != nil {
			t.Fatal(err)
		}
		for _, path := range append(entries, dir) {
			if err := os.Chown(path, nobody, nobody); err != nil {
				t.Fatal(err)
			}
		}
		change = func(c *exec.Cmd) {
			c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
		}
	}
	if err := os.Chmod(engine.DatabasePath(dir), 0o400); err != nil {
		t.Fatal(err)
	}
	if said := refusesToStart(t, dir, change); !strings.Contains(said, "readonly") {
		t.Errorf("it says %s", said)
	}
}

func TestALostKeyStopsTheStartUntilSomebodySaysWhy(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir(), "--listen", "127.0.0.1:0")
	s.run(t, "", "ledger", "head").want(t, 0, "for the first time")
	listen := strings.TrimPrefix(s.url, "http://")
	s.stop(t)
	if err := os.Remove(engine.KeyPath(s.data)); err != nil {
		t.Fatal(err)
	}
	if said := refusesToStart(t, s.data, nil); !strings.Contains(said, "the key of the ledger is missing") ||
		!strings.Contains(said, "--new-ledger-key") {
		t.Errorf("it says %s", said)
	}
	s = start(t, "serve", s.data, "--new-ledger-key", "the disk with the key died", "--listen", listen)
	s.run(t, "", "ledger", "head").want(t, 1, "does not go on from what was seen", "ledger forget")
	s.run(t, "", "ledger", "forget").want(t, 0, "Forgotten")
	s.run(t, "", "ledger", "verify").want(t, 0, "Sound:")
	s.run(t, "", "ledger", "list", "--kind", "ledger.").want(t, 0, "ledger.key-replaced",
		"the disk with the key died")
}

// damage writes over a part of the database file that holds a text.
func damage(t *testing.T, dir, text string, with []byte) {
	t.Helper()
	path := engine.DatabasePath(dir)
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	at := bytes.Index(raw, []byte(text))
	if at < 0 {
		t.Fatalf("%q is not in the file", text)
	}
	copy(raw[at:], with)
	if err := os.WriteFile(path, raw, 0o600); err != nil {
		t.Fatal(err)
	}
}

func TestDamagedRecordsAreNamed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := start(t, "demo", dir)
	var page struct{ Items []struct{ Seq int } }
	s.call(t, "GET", "/api/v1/ledger/entries?kind=waiver.granted", adminToken, "", "").into(t, 200, &page)
	s.stop(t)
	whole, err := os.ReadFile(engine.DatabasePath(dir))
	if err != nil {
		t.Fatal(err)
	}

	// What follows tells the entry from the document of the same waiver.
	const inEntry = `runs over the weekend, ticket 4430","rule"`
	damage(t, dir, inEntry, []byte("RUNS"))
	offline(t, "", "ledger", "verify", "--data", dir).want(t, 3,
		fmt.Sprintf("entry %d: it was changed", page.Items[0].Seq), "Broken:")
	s = start(t, "serve", dir)
	s.run(t, "", "ledger", "verify").want(t, 3, fmt.Sprintf("entry %d: it was changed", page.Items[0].Seq))
	s.run(t, "", "ledger", "show", fmt.Sprint(page.Items[0].Seq)).want(t, 1, "the entry was changed")
	s.stop(t)

	if err := os.WriteFile(engine.DatabasePath(dir), whole, 0o600); err != nil {
		t.Fatal(err)
	}
	at := bytes.Index(whole, []byte(inEntry)) / 4096 * 4096
	copy(whole[at:], bytes.Repeat([]byte{0xa5}, 4096))
	if err := os.WriteFile(engine.DatabasePath(dir), whole, 0o600); err != nil {
		t.Fatal(err)
	}
	offline(t, "", "ledger", "verify", "--data", dir).want(t, 3, "check the database file")
	if said := refusesOrStarts(t, dir); !strings.Contains(said, "malformed") && !strings.Contains(said, "damaged") {
		t.Errorf("a service on a corrupt page says %s", said)
	}
}

// refusesOrStarts tells what a service on damaged records says: at the start, or
// when it is asked to verify.
func refusesOrStarts(t *testing.T, dir string) string {
	t.Helper()
	cmd := exec.Command(binary, "serve", "--data", dir, "--listen", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), "IRONLEDGER_ADMIN_TOKEN="+adminToken)
	out, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var said strings.Builder
	for lines := bufio.NewScanner(out); lines.Scan(); {
		said.WriteString(lines.Text() + "\n")
		if url := answersAt.FindStringSubmatch(lines.Text()); url != nil {
			s := &server{url: url[1], data: dir}
			said.WriteString(s.run(t, "", "ledger", "verify").err)
			if err := cmd.Process.Signal(os.Interrupt); err != nil {
				t.Fatal(err)
			}
		}
	}
	_ = cmd.Wait() // what it said is what counts
	return said.String()
}

func TestAClockSetBackDoesNotTurnTimeBack(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	start(t, "demo", dir).stop(t)
	svc, err := service.Open(context.Background(),
		service.Options{Dir: dir, AdminToken: adminToken, Log: slog.New(slog.DiscardHandler),
			Now: func() time.Time { return time.Now().Add(time.Hour) }})
	if err == nil {
		_, _, err = svc.Admin.CreateToken(context.Background(), "first-admin", "made-in-an-hour", bearer.Reader, "")
		err = errors.Join(err, svc.Close())
	}
	if err != nil {
		t.Fatal(err)
	}
	s := start(t, "serve", dir)
	s.run(t, "", "ledger", "head").want(t, 0, "the machine's clock stands 59m")
	s.run(t, "", "token", "create", "made-now", "--role", "reader").want(t, 0)
	s.run(t, "", "ledger", "verify").want(t, 0, "Sound:")
	var page struct{ Items []struct{ At time.Time } }
	s.call(t, "GET", "/api/v1/ledger/entries?limit=2", adminToken, "", "").into(t, 200, &page)
	if len(page.Items) != 2 || page.Items[0].At.Before(page.Items[1].At) {
		t.Errorf("the newest entries are of %v", page.Items)
	}
	s.stop(t)
	s = start(t, "serve", dir, "--reset-clock", "the clock had been an hour ahead")
	s.run(t, "", "ledger", "verify").want(t, 0, "Sound:")
	s.call(t, "GET", "/api/v1/ledger/entries?kind=ledger.&limit=1", adminToken, "", "").into(t, 200, &page)
	if len(page.Items) != 1 || time.Until(page.Items[0].At) > time.Minute {
		t.Errorf("the clock was reset at %v", page.Items)
	}
}
