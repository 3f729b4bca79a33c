package e2e

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/leodido/go-syslog/v4/rfc5424"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/engine"
)

func write(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestTheLedgerFromTheCommandLine(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	key := s.run(t, "", "ledger", "key").want(t, 0, "First contact").out
	var told struct{ Key string }
	if raw := s.run(t, "", "ledger", "key", "-o", "json").want(t, 0).out; json.Unmarshal([]byte(raw), &told) != nil ||
		told.Key+"\n" != key {
		t.Errorf("the key as data is %s, want %s", raw, key)
	}
	if own := offline(t, "", "ledger", "key", "--data", s.data).want(t, 0).out; own != key {
		t.Errorf("the service's key is %s, the client has seen %s", own, key)
	}
	s.run(t, "", "ledger", "head").want(t, 0, "ledger.gullholm.example", "it goes on from what was seen")
	s.run(t, "", "ledger", "verify").want(t, 0, "Sound:", "72 devices stand where their entries put them")
	s.run(t, "", "ledger", "list", "--kind", "waiver.").want(t, 0, "waiver.granted", "help-desk")
	s.run(t, "", "ledger", "list", "--device", "GF-T-2107", "--kind", "standing.changed").want(t, 0,
		"strong → limited")
	s.run(t, "", "ledger", "list", "--person", "nobody@gullholm.example").want(t, 0, "Nothing to show")
	s.run(t, "", "ledger", "show", "7").want(t, 0, "Entry 7", "it is in the tree")
	s.run(t, "", "ledger", "show", "99999").want(t, 1, "there is no entry 99999")
	s.run(t, "", "ledger", "show", "x").want(t, 2, "no number of an entry")

	t.Run("a proof is checked with the key alone", func(t *testing.T) {
		_, other, err := ledger.NewKey("log.example")
		if err != nil {
			t.Fatal(err)
		}
		proof := s.run(t, "", "ledger", "prove", "7").want(t, 0).out
		offline(t, proof, "ledger", "check-proof", "-", "--key", strings.TrimSpace(key)).want(t, 0,
			"The proof holds: entry 7")
		offline(t, strings.Replace(proof, `\"actor\"`, `\"actress\"`, 1), "ledger", "check-proof", "-",
			"--key", strings.TrimSpace(key)).want(t, 3, "the entry was changed")
		offline(t, proof, "ledger", "check-proof", "-", "--key", write(t, "other.pub", other+"\n")).want(t, 3,
			"not signed by the key")
		offline(t, "{}x", "ledger", "check-proof", "-", "--key", strings.TrimSpace(key)).want(t, 3)
		offline(t, proof, "ledger", "check-proof", "-", "--key", "nothing").want(t, 2, "neither a public key")
	})

	t.Run("what is shown is what was proven", func(t *testing.T) {
		real, err := url.Parse(s.url)
		if err != nil {
			t.Fatal(err)
		}
		var alter func([]byte) []byte
		liar := httptest.NewServer(&httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(real)
			r.Out.Header.Set("Accept-Encoding", "identity")
			r.Out.URL.Path = strings.Replace(r.Out.URL.Path, "/entries/8", "/entries/7", 1)
		}, ModifyResponse: func(r *http.Response) error {
			body, err := io.ReadAll(r.Body)
			if err != nil {
				return err
			}
			if strings.Contains(r.Request.URL.Path, "/entries/") {
				body = alter(body)
			}
			r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
			r.Header.Set("Content-Length", strconv.Itoa(len(body)))
			return nil
		}})
		defer liar.Close()
		show := func(entry string, change func(*api.ProvenEntry)) result {
			alter = func(body []byte) []byte {
				var e api.ProvenEntry
				if err := json.Unmarshal(body, &e); err != nil {
					t.Error(err)
				}
				change(&e)
				out, err := json.Marshal(e)
				if err != nil {
					t.Error(err)
				}
				return out
			}
			return s.run(t, "", "ledger", "show", entry, "--url", liar.URL)
		}
		show("7", func(*api.ProvenEntry) {}).want(t, 0, "Entry 7", "it is in the tree")
		show("8", func(*api.ProvenEntry) {}).want(t, 1, "the proof does not hold")
		for name, change := range map[string]func(*api.ProvenEntry){
			"who": func(e *api.ProvenEntry) { e.Actor = "somebody" }, "what": func(e *api.ProvenEntry) { e.Kind = "x.y" },
			"body": func(e *api.ProvenEntry) { e.Body = json.RawMessage(`{"x": 1}`) },
			"none": func(e *api.ProvenEntry) { e.Body, e.Redacted = nil, true },
			"hash": func(e *api.ProvenEntry) { e.Leaf = "AAAA" }, "form": func(e *api.ProvenEntry) { e.Canonical = "{}" },
		} {
			if r := show("7", change); r.code != 1 || !strings.Contains(r.err, "the proof does not hold") {
				t.Errorf("%s altered: %d %s%s", name, r.code, r.out, r.err)
			}
		}
	})

	t.Run("an export is verified without the service", func(t *testing.T) {
		file := filepath.Join(t.TempDir(), "ledger.ndjson")
		s.run(t, "", "ledger", "export", file).want(t, 0, "bytes written")
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		whole, lines := string(raw), strings.SplitAfter(strings.TrimSuffix(string(raw), "\n"), "\n")
		check := func(text string) result {
			return offline(t, text, "ledger", "verify", "--file", "-", "--key", strings.TrimSpace(key))
		}
		check(whole).want(t, 0, "Sound:", "signed by ledger.gullholm.example")
		check(strings.Replace(whole, "tickets", "tockets", 1)).want(t, 0) // a word that is not there: the same file
		check(strings.Join(slices.Delete(slices.Clone(lines), 99, 100), "")).want(t, 3, "entry 100: it is missing")
		check(strings.Replace(whole, `"to":"strong"`, `"to":"steady"`, 1)).want(t, 3, "it was changed")
		check(strings.Join(lines[:len(lines)-1], "")).want(t, 3, "it was cut")
		check(strings.Join(append(slices.Clone(lines[:200]), lines[len(lines)-1]), "")).want(t, 3,
			"entry 201: the ledger was cut here")
		check("{}\n").want(t, 1, "line 1")
		offline(t, "", "ledger", "verify", "--file", file).want(t, 2, "--key")
	})

	t.Run("the same tree by sumdb alone", func(t *testing.T) { independent(t, s, strings.TrimSpace(key)) })

	t.Run("what is redacted is told, and the rest holds", func(t *testing.T) {
		s.run(t, "", "ledger", "redact", "50").want(t, 2, "reason")
		s.run(t, "", "ledger", "redact", "50", "--reason", "erasure, ticket 1182").want(t, 0,
			"The body of entry 50 is gone")
		s.run(t, "", "ledger", "verify").want(t, 0, "Sound:", "1 bodies were redacted")
		s.run(t, "", "ledger", "show", "50").want(t, 0, "Redacted:")
		proof := s.run(t, "", "ledger", "prove", "50").want(t, 0).out
		offline(t, proof, "ledger", "check-proof", "-", "--key", strings.TrimSpace(key)).want(t, 0, "was redacted")
		export := s.run(t, "", "ledger", "export").want(t, 0).out
		offline(t, export, "ledger", "verify", "--file", "-", "--key", strings.TrimSpace(key)).want(t, 0,
			"1 bodies were redacted")
		var answer struct{ Context struct{ ID string } }
		s.call(t, "POST", "/access/v1/evaluation", adminToken, "application/json",
			strings.Replace(evaluation, "maren.holt", "somebody.who.asked", 1)).into(t, 200, &answer)
		var asked struct{ Seq int64 }
		s.call(t, "GET", "/api/v1/decisions/"+answer.Context.ID, adminToken, "", "").into(t, 200, &asked)
		s.run(t, "", "ledger", "redact", fmt.Sprint(asked.Seq), "--reason", "erasure, ticket 1183").want(t, 0)
		for _, path := range []string{engine.DatabasePath(s.data), engine.DatabasePath(s.data) + "-wal"} {
			if raw, err := os.ReadFile(path); err == nil && strings.Contains(string(raw), "somebody.who.asked") {
				t.Errorf("%s still holds what was redacted", path)
			}
		}
	})

	t.Run("the past is computed again", func(t *testing.T) {
		var page struct{ Items []struct{ ID string } }
		s.call(t, "GET", "/api/v1/decisions?outcome=deny&limit=3", adminToken, "", "").into(t, 200, &page)
		for _, d := range page.Items {
			s.run(t, "", "decision", "show", d.ID, "--replay").want(t, 0, "Same:")
		}
		at := time.Now().Add(-50 * time.Hour).UTC().Format(time.RFC3339)
		s.run(t, "", "device", "show", "GF-T-2107", "--at", at).want(t, 0, "As it stood at", "strong", "Same:")
		s.run(t, "", "device", "show", "GF-T-2107", "--at", "2001-01-01T00:00:00Z").want(t, 1, "was first seen at")
		s.run(t, "", "device", "show", "GF-T-2107", "--at", "yesterday").want(t, 2, "RFC 3339")
	})
}

// independent follows the ledger as any witness would: from the checkpoint and
// the tiles, with golang.org/x/mod/sumdb and nothing of ours.
func independent(t *testing.T, s *server, key string) {
	verifier, err := note.NewVerifier(key)
	if err != nil {
		t.Fatal(err)
	}
	signed, err := note.Open(s.call(t, "GET", "/ledger/checkpoint", "", "", "").body, note.VerifierList(verifier))
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(signed.Text, "\n")
	size, err := strconv.ParseInt(lines[1], 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	root, err := tlog.ParseHash(lines[2])
	if err != nil {
		t.Fatal(err)
	}
	tiles := tlog.TileHashReader(tlog.Tree{N: size, Hash: root}, overHTTP{t, s})
	n := int64(0)
	for first := int64(0); first < size; first += 256 {
		path := fmt.Sprintf("/ledger/tile/entries/%03d", first/256)
		if size-first < 256 {
			path += fmt.Sprintf(".p/%d", size-first)
		}
		if r := s.call(t, "GET", path, "", "", ""); r.status != 401 {
			t.Errorf("without a token entries are answered %d", r.status)
		}
		for bundle := s.call(t, "GET", path, adminToken, "", "").body; len(bundle) > 0; n++ {
			length := int(bundle[0])<<8 | int(bundle[1])
			leaf, err := tiles.ReadHashes([]int64{tlog.StoredHashIndex(0, n)})
			if err != nil || leaf[0] != tlog.RecordHash(bundle[2:2+length]) {
				t.Fatalf("entry %d is not the leaf of the signed tree (%v)", n+1, err)
			}
			bundle = bundle[2+length:]
		}
	}
	if n != size {
		t.Errorf("%d entries are served, %d are signed", n, size)
	}
	for _, path := range []string{"/ledger/tile/0/999", "/ledger/tile/9/000", "/ledger/tile/0/000.p/257",
		"/ledger/tile/../../etc/passwd", "/ledger/tile/0"} {
		if r := s.call(t, "GET", path, adminToken, "", ""); r.status != 404 {
			t.Errorf("%s is answered %d", path, r.status)
		}
	}
}

type overHTTP struct {
	t *testing.T
	s *server
}

func (overHTTP) Height() int                         { return 8 }
func (overHTTP) SaveTiles(_ []tlog.Tile, _ [][]byte) {}
func (o overHTTP) ReadTiles(tiles []tlog.Tile) (out [][]byte, err error) {
	for _, tile := range tiles {
		r := o.s.call(o.t, "GET", "/ledger/"+strings.Replace(tile.Path(), "tile/8/", "tile/", 1), "", "", "")
		if r.status != 200 {
			return nil, fmt.Errorf("%s: %d", tile.Path(), r.status)
		}
		out = append(out, r.body)
	}
	return out, nil
}

// follow runs "ledger tail -f" and hands over the lines that it prints.
func (s *server) follow(t *testing.T, args ...string) (next func() string, end func()) {
	t.Helper()
	cmd := exec.Command(binary, append([]string{"ledger", "tail", "-f"}, args...)...)
	cmd.Env = append(os.Environ(), "IRONLEDGER_URL="+s.url, "IRONLEDGER_TOKEN="+adminToken,
		"XDG_CONFIG_HOME="+s.data)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	lines := make(chan string, 10000)
	go func() {
		scan := bufio.NewScanner(out)
		scan.Buffer(nil, 1<<20)
		for scan.Scan() {
			lines <- scan.Text()
		}
		close(lines)
	}()
	next = func() string {
		t.Helper()
		select {
		case l := <-lines:
			return l
		case <-time.After(10 * time.Second):
			t.Fatal("the follower is silent")
			return ""
		}
	}
	return next, func() {
		t.Helper()
		if err := cmd.Process.Signal(os.Interrupt); err != nil {
			t.Fatal(err)
		}
		for range lines { // to the end
		}
		if err := cmd.Wait(); err != nil {
			t.Errorf("the follower ended with %v", err)
		}
	}
}

// entries is how many entries the ledger has.
func (s *server) entries(t *testing.T) int {
	t.Helper()
	var list []struct{ Seq int }
	if err := json.Unmarshal([]byte(s.run(t, "", "ledger", "list", "--limit", "1", "-o", "json").want(t,
		0).out), &list); err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	return list[0].Seq
}

// reported waits until a demo has made up for the reports of its week, which it records by itself.
func (s *server) reported(t *testing.T) {
	t.Helper()
	last := "daily-" + time.Now().UTC().AddDate(0, 0, -1).Format(time.DateOnly)
	within(t, "the week's reports are kept", func() bool {
		return strings.Contains(s.run(t, "", "report", "list").out, last)
	})
	within(t, "no more comes by itself", func() bool {
		before := s.entries(t)
		time.Sleep(time.Second)
		return s.entries(t) == before
	})
}

func TestFollowersMissNothing(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.reported(t)
	resume := filepath.Join(t.TempDir(), "seq")
	want := int64(1)
	take := func(next func() string, n int) {
		t.Helper()
		for range n {
			var l struct{ Entry struct{ Seq int64 } }
			if err := json.Unmarshal([]byte(next()), &l); err != nil || l.Entry.Seq != want {
				t.Fatalf("entry %d comes where %d is due (%v)", l.Entry.Seq, want, err)
			}
			want++
		}
	}
	decide := func(n int) {
		for range n {
			s.call(t, "POST", "/access/v1/evaluation", adminToken, "application/json", evaluation)
		}
	}
	next, end := s.follow(t, "--from", "1", "--as", "ndjson", "--resume", resume)
	take(next, s.entries(t))
	decide(3)
	take(next, 3)
	end()
	decide(5)
	next, end = s.follow(t, "--as", "ndjson", "--resume", resume)
	take(next, 5)
	decide(2)
	take(next, 2)
	end()
	s.run(t, "", "ledger", "tail", "-n", "2").want(t, 0, "allow: maren.holt@gullholm.example, open payroll")

	t.Run("as events and to a collector", func(t *testing.T) {
		classes := map[float64]int{}
		lines := strings.Split(strings.TrimSpace(s.run(t, "", "ledger", "export", "--as", "ocsf").want(t,
			0).out), "\n")
		for _, l := range lines {
			var e map[string]any
			if err := json.Unmarshal([]byte(l), &e); err != nil {
				t.Fatal(err)
			}
			class, activity := e["class_uid"].(float64), e["activity_id"].(float64)
			classes[class]++
			if e["type_uid"].(float64) != class*100+activity ||
				e["category_uid"].(float64) != float64(int(class)/1000) || e["time"].(float64) < 1e12 ||
				e["metadata"].(map[string]any)["version"] == "" || e["severity_id"] == nil {
				t.Fatalf("not an event of OCSF: %s", l)
			}
		}
		for _, class := range []float64{2003, 3003, 3004, 5019} {
			if classes[class] == 0 {
				t.Errorf("there is no event of class %g: %v", class, classes)
			}
		}
		for _, network := range []string{"tcp", "udp"} {
			got := collector(t, network, func(target string) {
				s.run(t, "", "ledger", "tail", "-n", "3", "--syslog", target).want(t, 0)
			})
			for _, m := range got {
				parsed, err := rfc5424.NewParser().Parse([]byte(m))
				if err != nil {
					t.Fatalf("%q: %v", m, err)
				}
				sm := parsed.(*rfc5424.SyslogMessage)
				if *sm.Appname != "ironledger" || *sm.MsgID != "decision.made" || *sm.Facility != 13 ||
					!strings.Contains(*sm.Message, `"class_uid":3003`) {
					t.Errorf("a message is %s", m)
				}
			}
			if len(got) != 3 {
				t.Errorf("over %s %d messages arrive, want 3", network, len(got))
			}
		}
		s.run(t, "", "ledger", "tail", "--syslog", "file:///tmp/x").want(t, 2, "tcp://host:port")
	})
}

// collector takes syslog messages while send runs.
func collector(t *testing.T, network string, send func(target string)) []string {
	t.Helper()
	var got []string
	if network == "udp" {
		conn, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		send("udp://" + conn.LocalAddr().String())
		buffer := make([]byte, 64<<10)
		for len(got) < 3 {
			if err := conn.SetReadDeadline(time.Now().Add(5 * time.Second)); err != nil {
				t.Fatal(err)
			}
			n, _, err := conn.ReadFrom(buffer)
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, string(buffer[:n]))
		}
		return got
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	done := make(chan struct{})
	go func() {
		defer close(done)
		conn, err := l.Accept()
		if err != nil {
			return
		}
		for r := bufio.NewReader(conn); ; {
			length, err := r.ReadString(' ')
			n, bad := strconv.Atoi(strings.TrimSpace(length))
			if err != nil || bad != nil {
				return
			}
			m := make([]byte, n)
			if _, err := io.ReadFull(r, m); err != nil {
				return
			}
			got = append(got, string(m))
		}
	}()
	send("tcp://" + l.Addr().String())
	<-done
	return got
}

func TestBackupsAreWholeAndChecked(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	listen := strings.TrimPrefix(s.url, "http://")
	old, file := filepath.Join(t.TempDir(), "old.db"), filepath.Join(t.TempDir(), "b.db")
	s.reported(t)
	entries := fmt.Sprint(s.entries(t))
	offline(t, "", "backup", old, "--data", s.data).want(t, 0, entries+" entries", "72 devices", "verified")
	x := &sent{levels: map[string]string{}, open: map[string]bool{}}
	stop := make(chan struct{})
	wg := x.load(t, s, stop)
	time.Sleep(200 * time.Millisecond)
	offline(t, "", "backup", file, "--data", s.data).want(t, 0, "verified")
	close(stop)
	wg.Wait()
	offline(t, "", "backup", file, "--data", s.data).want(t, 1, "there already")
	for _, path := range []string{file, file + ".key"} {
		if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v (%v)", path, info.Mode(), err)
		}
	}
	s.run(t, "", "ledger", "head").want(t, 0) // the client sees more than the backups hold
	s.run(t, "", "restore", file, "--data", s.data).want(t, 1, "holds records already")
	s.stop(t)

	empty := filepath.Join(t.TempDir(), "new")
	s.run(t, "", "restore", old, "--data", empty).want(t, 1, "the backup ends at entry "+entries, "would be lost")
	if _, err := os.Stat(empty); err == nil {
		t.Error("a refused restore leaves a folder")
	}
	damaged := filepath.Join(t.TempDir(), "damaged.db")
	raw, err := os.ReadFile(old)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(damaged,
		[]byte(strings.Replace(string(raw), "runs over the weekend", "RUNS over the weekend", 1)),
		0o600); err != nil {
		t.Fatal(err)
	}
	offline(t, "", "restore", damaged, "--data", empty).want(t, 1, "neither")
	key, err := os.ReadFile(old + ".key")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(damaged+".key", key, 0o600); err != nil {
		t.Fatal(err)
	}
	offline(t, "", "restore", damaged, "--data", empty).want(t, 3, "it was changed")
	s.run(t, "", "restore", old, "--data", empty, "--accept-loss").want(t, 0, entries+" entries", "ledger forget")
	again := start(t, "serve", empty, "--listen", listen)
	again.home = s.data
	again.run(t, "", "ledger", "head").want(t, 1, "the ledger was cut")
	again.run(t, "", "ledger", "forget").want(t, 0)
	again.run(t, "", "ledger", "verify").want(t, 0, "Sound: ", "72 devices") // time has gone on, and may have moved some
}

// What people see of the ledger in the console.
func TestTheLedgerInTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	ctx := browser(t)
	signIn(t, ctx, s)
	open(t, ctx, s.url+"/ledger", "ledger.gullholm.example")
	press(t, ctx, "Verify now")
	until(t, ctx, fmt.Sprintf("The service checked %d entries and 72 devices", s.entries(t)))
	picture(t, ctx, "console-ledger")
	open(t, ctx, s.url+"/ledger?kind=rulebook.published", "Tablets need iPadOS 17.5")
	script(t, ctx, `document.querySelector('.el-table__row').click(); return ''`)
	until(t, ctx, "Its place in the tree")
	until(t, ctx, "hashes lead from it to the root")
	picture(t, ctx, "console-entry")
	press(t, ctx, "Remove its body…")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input[name=reason]"), "it names somebody\r"))
	until(t, ctx, "Its body was removed")
	until(t, ctx, "tells why")

	var page struct{ Items []struct{ ID string } }
	s.call(t, "GET", "/api/v1/decisions?device=GF-T-2107&outcome=deny&limit=1", adminToken, "", "").into(t,
		200, &page)
	open(t, ctx, s.url+"/decisions/"+page.Items[0].ID, "of the ledger")
	press(t, ctx, "Make this decision again")
	until(t, ctx, "✓ The same.")
	script(t, ctx, `[...document.querySelectorAll('footer a')].find(a=>a.innerText.startsWith('entry')).click(); return ''`)
	until(t, ctx, "Its place in the tree")
	at := time.Now().Add(-50 * time.Hour).UTC().Format(time.RFC3339)
	open(t, ctx, s.url+"/devices/GF-T-2107?at="+at, "✓ The same.")
	until(t, ctx, "Show it as it stands now")
	// The moment is typed as it is read everywhere else, whatever the browser's language.
	typed := strings.Replace(at[:16], "T", " ", 1)
	press(t, ctx, "Show it as it stands now")
	untilNot(t, ctx, "Show it as it stands now")
	do(t, ctx, chromedp.Click(chromedp.CSS(`input[name=then]`)),
		chromedp.SendKeys(chromedp.CSS(`input[name=then]`), typed))
	picture(t, ctx, "console-moment")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[name=then]`), kb.Enter))
	press(t, ctx, "Go back")
	until(t, ctx, "Show it as it stands now")
	until(t, ctx, "✓ The same.")
}
