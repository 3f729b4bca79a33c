// Package e2e tests the real thing: the binary started on loopback, called by
// its own client, over HTTP, and by a browser.
package e2e

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"
)

var (
	binary string
	raced  string // the same with the race detector, for torture; "" without
	aged   string // the same with a clock that is 120 days behind
)

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "ironledger-e2e-")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "ironledger")
	aged = binary + "-aged"
	builds := [][]string{{"build", "-o", binary, "../cmd/ironledger"}, {"build", "-o", aged, "-ldflags",
		"-X ironledger.example/internal/cli/run.clockBehind=2880h", "../cmd/ironledger"}}
	if os.Getenv("TORTURE_ROUNDS") != "" {
		raced = binary + "-race"
		builds = append(builds, []string{"build", "-race", "-o", raced, "../cmd/ironledger"})
	}
	for _, args := range builds {
		build := exec.Command("go", args...)
		build.Stderr = os.Stderr
		if err := build.Run(); err != nil {
			fmt.Fprintln(os.Stderr, "the binary does not build:", err)
			os.Exit(1)
		}
	}
	_ = os.Setenv("PEBBLE_VA_NOSLEEP", "1") // the stand-in for an ACME server waits to seem far away, else
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

const adminToken = "il_end_to_end_administrator"

// server is a running service.
type server struct {
	url  string
	data string
	door string // where devices are answered; "" for nowhere
	home string // of the client's settings; "" for data
	cmd  *exec.Cmd
	done chan error
	log  *bytes.Buffer // what it says; to be read when it has stopped
}

var doorAt = regexp.MustCompile(`Devices are answered at (https://127\.0\.0\.1:\d+)`)

var answersAt = regexp.MustCompile(`(?:answers at|Console|Sign in at) +(https?://127\.0\.0\.1:\d+)`)

// patience is how long a test waits for what a quiet machine does at once.
const patience = 90 * time.Second

// soon waits until something holds, and says whether it does.
func soon(holds func() bool) bool {
	pause := 5 * time.Millisecond
	for until := time.Now().Add(patience); !holds(); pause = min(2*pause, 80*time.Millisecond) {
		if time.Now().After(until) {
			return false
		}
		time.Sleep(pause) // looking takes time from what is waited for
	}
	return true
}

// within fails the test unless something holds soon.
func within(t *testing.T, what string, holds func() bool) {
	t.Helper()
	if !soon(holds) {
		t.Fatalf("%s, in vain", what)
	}
}

// freePort is an address on which nothing listens at the moment, for a program that is told where to.
func freePort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// start runs "ironledger serve" or "demo" on a free port until the test ends.
func start(t *testing.T, verb, data string, flags ...string) *server {
	t.Helper()
	program := binary
	if verb == "serve" && raced != "" { // it takes half a minute to load the demo
		program = raced
	}
	if verb == "demo" && len(flags) == 0 {
		filled(t, data)
	}
	return startOf(t, program, verb, data, flags...)
}

var filling struct {
	once sync.Once
	dir  string
}

// filled puts the records of a demo into an empty folder: those that one made for all tests.
func filled(t *testing.T, data string) {
	t.Helper()
	if list, err := os.ReadDir(data); err != nil || len(list) > 0 {
		return // it is of the test's own
	}
	filling.once.Do(func() {
		dir := filepath.Join(filepath.Dir(binary), "demo")
		if err := os.Mkdir(dir, 0o700); err != nil {
			t.Fatal(err)
		}
		s := startOf(t, binary, "demo", dir)
		s.home = t.TempDir()
		s.reported(t)
		s.stop(t)
		filling.dir = dir
	})
	if filling.dir == "" {
		t.Fatal("no demo could be made for all tests")
	}
	if out, err := exec.Command("cp", "-a", filling.dir+"/.", data).CombinedOutput(); err != nil { // keys are nobody else's
		t.Fatal(err, string(out))
	}
}

// startOf starts one of the binaries.
func startOf(t *testing.T, program, verb, data string, flags ...string) *server {
	t.Helper()
	s := &server{data: data, cmd: exec.Command(program,
		append([]string{verb, "--data", data, "--listen", "127.0.0.1:0"}, flags...)...), done: make(chan error, 1)}
	s.cmd.Env = append(os.Environ(), "IRONLEDGER_ADMIN_TOKEN="+adminToken)
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	s.cmd.Stderr = s.cmd.Stdout
	if err := s.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	found, log := make(chan string, 1), &bytes.Buffer{}
	s.log = log
	go func() {
		lines, race := bufio.NewScanner(io.TeeReader(out, log)), false
		for lines.Scan() {
			if strings.Contains(lines.Text(), "DATA RACE") {
				race = true
			}
			if door := doorAt.FindStringSubmatch(lines.Text()); door != nil {
				s.door = door[1]
			}
			if url := answersAt.FindStringSubmatch(lines.Text()); url != nil && len(found) == 0 {
				found <- url[1]
			}
		}
		if race {
			t.Errorf("the race detector found something:\n%s", log)
		}
		s.done <- s.cmd.Wait()
	}()
	select {
	case s.url = <-found:
	case err := <-s.done:
		t.Fatalf("the service ended at once: %v\n%s", err, log)
	case <-time.After(patience):
		t.Fatal("the service does not start")
	}
	t.Cleanup(func() { s.stop(t) })
	return s
}

// stop ends the service as an administrator would and waits for it.
func (s *server) stop(t *testing.T) {
	t.Helper()
	if s.cmd == nil {
		return
	}
	if err := s.cmd.Process.Signal(os.Interrupt); err != nil {
		t.Logf("interrupting the service: %v", err)
	}
	if err := <-s.done; err != nil {
		t.Errorf("the service did not stop in order: %v", err)
	}
	s.cmd = nil
}

// result is what a command came to.
type result struct {
	out, err string
	code     int
}

// run calls the client against the service; stdin may be "".
func (s *server) run(t *testing.T, stdin string, args ...string) result {
	t.Helper()
	cmd := exec.Command(binary, args...)
	cmd.Env = append(os.Environ(), "IRONLEDGER_URL="+s.url, "IRONLEDGER_TOKEN="+adminToken,
		"XDG_CONFIG_HOME="+cmp.Or(s.home, s.data, os.TempDir()))
	cmd.Stdin = strings.NewReader(stdin)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// offline calls a command that needs no service.
func offline(t *testing.T, stdin string, args ...string) result {
	t.Helper()
	return (&server{}).run(t, stdin, args...)
}

// want fails unless a command ended with the code and said all of the texts.
func (r result) want(t *testing.T, code int, texts ...string) result {
	t.Helper()
	if r.code != code {
		t.Fatalf("exit code %d, want %d\n%s%s", r.code, code, r.out, r.err)
	}
	for _, s := range texts {
		if !strings.Contains(r.out+r.err, s) {
			t.Errorf("nothing says %q:\n%s%s", s, r.out, r.err)
		}
	}
	return r
}

// not fails when a command said one of the texts.
func (r result) not(t *testing.T, texts ...string) {
	t.Helper()
	for _, s := range texts {
		if strings.Contains(r.out+r.err, s) {
			t.Errorf("something says %q:\n%s%s", s, r.out, r.err)
		}
	}
}

// into decodes what a command that ended well printed as JSON.
func (r result) into(t *testing.T, v any) {
	t.Helper()
	if err := json.Unmarshal([]byte(r.want(t, 0).out), v); err != nil {
		t.Fatalf("%v:\n%s", err, r.out)
	}
}

// reply is an HTTP answer.
type reply struct {
	status int
	header http.Header
	body   []byte
}

// call sends a request; body may be "" and token may be "".
func (s *server) call(t *testing.T, method, path, token, media, body string) reply {
	t.Helper()
	req := s.request(t, method, path, token)
	req.Body, req.ContentLength = io.NopCloser(strings.NewReader(body)), int64(len(body))
	if media != "" {
		req.Header.Set("Content-Type", media)
	}
	req.Header.Set("X-Request-ID", "rq-7")
	return s.send(t, req)
}

// request makes a request without a body.
func (s *server) request(t *testing.T, method, path, token string) *http.Request {
	t.Helper()
	req, err := http.NewRequest(method, s.url+path, nil)
	if err != nil {
		t.Fatal(err)
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	return req
}

func (s *server) send(t *testing.T, req *http.Request) reply {
	t.Helper()
	r, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	raw, err := io.ReadAll(r.Body)
	if err != nil {
		t.Fatal(err)
	}
	return reply{r.StatusCode, r.Header, raw}
}

// into decodes an answer that must have a status; into nil for one that is not looked at.
func (r reply) into(t *testing.T, status int, v any) {
	t.Helper()
	if r.status != status {
		t.Fatalf("status %d, want %d: %s", r.status, status, r.body)
	}
	if v == nil {
		return
	}
	if err := json.Unmarshal(r.body, v); err != nil {
		t.Fatalf("the answer is not the JSON that was expected: %v\n%s", err, r.body)
	}
}
