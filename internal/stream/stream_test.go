package stream

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"

	"ironledger.example/internal/kept"
)

// kidOf is the key that signs at a moment.
func kidOf(t *testing.T, k *keys, now time.Time) string {
	t.Helper()
	s, err := k.signer(eventType, now)
	if err != nil {
		t.Fatal(err)
	}
	signed, err := s.Sign([]byte("{}"))
	if err != nil {
		t.Fatal(err)
	}
	text, err := signed.CompactSerialize()
	if err != nil {
		t.Fatal(err)
	}
	parsed, err := jose.ParseSignedCompact(text, []jose.SignatureAlgorithm{jose.ES256})
	if err != nil {
		t.Fatal(err)
	}
	return parsed.Signatures[0].Header.KeyID
}

// A new key is shown before it signs, and an old one while what it signed is checked.
func TestKeysFollowEachOther(t *testing.T) {
	now := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	path := filepath.Join(t.TempDir(), "signals.keys")
	k, err := openKeys(path, now)
	if err != nil {
		t.Fatal(err)
	}
	shown := func() (ids []string) {
		for _, x := range k.public().Keys {
			if !x.IsPublic() || x.Use != "sig" || x.Algorithm != string(jose.ES256) {
				t.Errorf("shown is %+v", x)
			}
			ids = append(ids, x.KeyID)
		}
		return ids
	}
	first := kidOf(t, k, now)
	if err := k.rotate(now.Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	ids := shown()
	if len(ids) != 2 || ids[0] != first {
		t.Fatalf("shown are %v", ids)
	}
	if got := kidOf(t, k, now.Add(time.Hour+lead-time.Second)); got != first {
		t.Error("a key signs before receivers can know it")
	}
	if got := kidOf(t, k, now.Add(time.Hour+lead)); got != ids[1] {
		t.Error("the new key does not take over")
	}
	if k, err = openKeys(path, now); err != nil || len(shown()) != 2 {
		t.Fatalf("after a restart there are %v (%v)", shown(), err)
	}
	if err := k.rotate(now.Add(time.Hour + lead + tail + time.Minute)); err != nil {
		t.Fatal(err)
	}
	if now := shown(); len(now) != 2 || now[0] != ids[1] {
		t.Errorf("a week later shown are %v, of %v", now, ids)
	}
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the file is %v (%v)", info.Mode(), err)
	}
	for _, text := range []string{"", "[]", "{"} {
		bad := filepath.Join(t.TempDir(), "bad.keys")
		if err := os.WriteFile(bad, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := openKeys(bad, now); err == nil {
			t.Errorf("keys are read from %q", text)
		}
	}
}

// What receivers answer, and what it means.
func TestAnswers(t *testing.T) {
	now := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		status      int
		media, body string
		retry       string
		refused     string // the code
		want        string // in the error; "" for none
		after       time.Duration
	}{
		{status: 202},
		{status: 200, want: "only 202"},
		{status: 204, want: "only 202"},
		{status: 302, want: "redirects are not followed"},
		{status: 400, media: "application/json; charset=utf-8", body: `{"err":"invalid_key","description":"no"}`,
			refused: "invalid_key", want: "no"},
		{status: 400, media: "text/html", body: `{"err":"invalid_key"}`, want: "without saying why"},
		{status: 400, media: "application/json", body: `{"err":""}`, want: "without saying why"},
		{status: 400, media: "application/json", body: `<`, want: "without saying why"},
		{status: 401, want: "401"},
		{status: 429, retry: "30", want: "429", after: 30 * time.Second},
		{status: 503, retry: "Fri, 20 Nov 2026 08:01:00 GMT", want: "503", after: time.Minute},
		{status: 503, retry: "999999999", want: "503", after: longestAfter},
		{status: 503, retry: "-5", want: "503"},
		{status: 503, retry: "soon", want: "503"},
		{status: 500, retry: "30", want: "500"},
	} {
		r := &http.Response{StatusCode: c.status, Header: http.Header{}}
		r.Status = fmt.Sprintf("%d %s", c.status, http.StatusText(c.status))
		r.Header.Set("Content-Type", c.media)
		r.Header.Set("Retry-After", c.retry)
		after, err := answered(r, []byte(c.body), now)
		var refusal *RefusalError
		code := ""
		if errors.As(err, &refusal) {
			code = refusal.Code
		}
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) || code != c.refused ||
			after != c.after {
			t.Errorf("%d %s: after %s, %v", c.status, c.body, after, err)
		}
	}
}

// Events about one thing go one after another, and are named alike each time.
func TestOrderAndNames(t *testing.T) {
	again := strings.Clone("d1\nmaren")
	if lane, name := laneOf("d1\nmaren"), jtiOf("s", 5, "x"); laneOf(again) != lane ||
		jtiOf("s", 5, strings.Clone("x")) != name {
		t.Error("the same event is another one")
	}
	seen := map[string]bool{}
	for _, id := range []string{jtiOf("s", 5, "x"), jtiOf("s", 5, "y"), jtiOf("s", 6, "x"), jtiOf("t", 5, "x")} {
		if seen[id] {
			t.Error("two events have one name")
		}
		seen[id] = true
	}
	dashed := 0
	for seq := range int64(1000) {
		name := jtiOf("s", seq, "x")
		if strings.HasPrefix(name, "-") {
			t.Fatalf("a command line takes %s for a flag", name)
		}
		before := name
		if rest, is := strings.CutPrefix(name, "."); is {
			dashed++
			before = "-" + rest
		}
		if !named(&kept.Letter{JTI: name}, name) || !named(&kept.Letter{JTI: before}, name) ||
			named(&kept.Letter{JTI: "-" + name}, name) {
			t.Errorf("the letter %s, before %s, is not found by its name alone", name, before)
		}
	}
	if dashed == 0 {
		t.Error("none of a thousand names began with a dash before")
	}
}
