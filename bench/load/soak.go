package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"text/tabwriter"
	"time"
)

// metrics is where the service answers without a token what it has open.
const metrics = "127.0.0.1:8698"

// round is what came of one round of a soak.
type round struct {
	// What it has while nobody asks for anything: MB of memory and of the write-ahead log, and how many of the others.
	memory, files, goroutines, log float64
	p99                            float64 // ms, of a decision in the quiet half
	failed                         int64
}

// grown says how far each of them may be, at the end, above what it was at the beginning: times that and some more.
var grown = []struct {
	what  string
	of    func(round) float64
	times float64
	more  float64
}{
	{"memory, MB", func(r round) float64 { return r.memory }, 1.3, 50},
	{"open files", func(r round) float64 { return r.files }, 1, 12},
	{"goroutines", func(r round) float64 { return r.goroutines }, 1, 24},
	{"write-ahead log, MB", func(r round) float64 { return r.log }, 2, 64},
	{"p99 of a decision, ms", func(r round) float64 { return r.p99 }, 3, 50},
}

// soak has the service live through round after round of the mix, each with a publication and an import, every third
// with a restart and every sixth with a kill instead, while it works out again what it keeps up. The error tells what
// grew, or why the service ended.
func (s *served) soak(ctx context.Context) error {
	s.args = []string{"--check-fast-paths", "--metrics-listen", metrics}
	if _, err := s.start(ctx); err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	if err := s.fill(ctx, func(string, float64, string, string) {}); err != nil {
		return err
	}
	if err := s.enter(ctx); err != nil {
		return err
	}
	var rounds []round
	shown := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', tabwriter.AlignRight)
	for begun, n := time.Now(), 1; time.Since(begun) < s.lasting; n++ {
		r, err := s.round(ctx, n)
		if err != nil {
			return fmt.Errorf("round %d: %w", n, err)
		}
		rounds = append(rounds, r)
		log.Printf("round %d: %.0f MB, %.0f files, %.0f goroutines, %.0f MB of log, decisions p99 %.0f ms, %d failed",
			n, r.memory, r.files, r.goroutines, r.log, r.p99, r.failed)
	}
	if err := s.sound(ctx); err != nil {
		return err
	}
	// The first round fills what is kept; a median leaves single stalls out.
	rounds = rounds[min(1, len(rounds)-1):]
	part := max(1, len(rounds)/3)
	var wrong []error
	_, _ = fmt.Fprintln(shown, "what\tat first\tat last\t")
	for _, g := range grown {
		first, last := middle(rounds[:part], g.of), middle(rounds[len(rounds)-part:], g.of)
		_, _ = fmt.Fprintf(shown, "%s\t%.1f\t%.1f\t\n", g.what, first, last)
		if last > first*g.times+g.more {
			wrong = append(wrong, fmt.Errorf("%s grew from %.1f to %.1f", g.what, first, last))
		}
	}
	return errors.Join(append(wrong, shown.Flush())...)
}

func middle(rounds []round, of func(round) float64) float64 {
	var all []float64
	for _, r := range rounds {
		all = append(all, of(r))
	}
	slices.Sort(all)
	return all[len(all)/2]
}

// round is half of quiet, then what disturbs.
func (s *served) round(ctx context.Context, n int) (r round, err error) {
	mixed, stop := context.WithCancel(ctx)
	defer stop()
	works := s.works()
	meters := make([]*meter, len(works))
	var wg sync.WaitGroup
	for i := range works {
		meters[i] = newMeter()
		wg.Go(func() { s.steadily(mixed, &works[i], meters[i], rand.New(rand.NewPCG(s.seed+uint64(n), uint64(i)))) })
	}
	time.Sleep(s.rounds / 2)
	r.p99 = meters[0].result("", "").P99
	for _, m := range meters {
		r.failed += m.result("", "").Failed
	}
	if err := errors.Join(s.publish(ctx, s.book(n%40, n%2 == 0)), s.bring(ctx, n)); err != nil {
		return r, err
	}
	time.Sleep(s.rounds / 2)
	if n%6 == 0 { // while it is busy
		if err := s.kill(); err != nil {
			return r, err
		}
	}
	stop()
	wg.Wait()
	if n%3 == 0 && s.cmd != nil {
		if err := s.stop(); err != nil {
			return r, err
		}
	}
	if s.cmd == nil {
		if _, err := s.start(ctx); err != nil {
			return r, err
		}
	}
	s.client.CloseIdleConnections()
	time.Sleep(2 * time.Second)
	return r, s.measure(&r)
}

// bring imports a twentieth of the fleet anew.
func (s *served) bring(ctx context.Context, n int) error {
	var lines strings.Builder
	for i := range max(1, s.devices/20) {
		lines.Write(s.report((i*20+n)%s.devices, time.Now()))
	}
	for {
		_, err := s.call(ctx, "POST", "/api/v1/evidence", "application/x-ndjson", []byte(lines.String()))
		var told *statusError
		if !errors.As(err, &told) || told.status != http.StatusTooManyRequests {
			return err
		}
		// As many imports as its caller may have under way wait behind the publication: it has to come again.
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return err
		}
	}
}

// kill ends the service as a loss of power would.
func (s *served) kill() error {
	cmd := s.cmd
	s.cmd = nil
	if err := cmd.Process.Kill(); err != nil {
		return err
	}
	var killed *exec.ExitError
	if err := cmd.Wait(); !errors.As(err, &killed) {
		return err
	}
	return nil
}

// measure reads what the service has. One that ended is an error.
func (s *served) measure(r *round) error {
	pid := strconv.Itoa(s.cmd.Process.Pid)
	files, err := os.ReadDir(filepath.Join("/proc", pid, "fd"))
	if err != nil {
		return fmt.Errorf("the service has ended: %w", err)
	}
	r.memory, r.files = s.memory()*float64(s.devices)/1024, float64(len(files))
	if wal, err := filepath.Glob(filepath.Join(s.dir, "*-wal")); err == nil {
		for _, path := range wal {
			if info, err := os.Stat(path); err == nil {
				r.log += float64(info.Size()) / (1 << 20)
			}
		}
	}
	res, err := http.Get("http://" + metrics + "/metrics")
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	for lines := bufio.NewScanner(io.LimitReader(res.Body, 16<<20)); lines.Scan(); {
		if n, is := strings.CutPrefix(lines.Text(), "go_goroutines "); is {
			r.goroutines, err = strconv.ParseFloat(n, 64)
			return err
		}
	}
	return errors.New("the metrics tell of no goroutines")
}

// sound has the service verify its records.
func (s *served) sound(ctx context.Context) error {
	if _, err := s.call(ctx, "POST", "/api/v1/ledger/verification", "", nil); err != nil {
		return err
	}
	for {
		raw, err := s.call(ctx, "GET", "/api/v1/ledger", "", nil)
		if err != nil {
			return err
		}
		var l struct {
			Verification struct {
				State    string `json:"state"`
				Problems []any  `json:"problems"`
			} `json:"verification"`
		}
		if err := json.Unmarshal(raw, &l); err != nil {
			return err
		}
		switch l.Verification.State {
		case "sound":
			log.Print("the records are sound")
			return nil
		case "running":
		default:
			return fmt.Errorf("the records do not verify: %+v", l.Verification)
		}
		time.Sleep(time.Second)
	}
}
