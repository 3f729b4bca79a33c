package httpapi

import (
	"net/url"
	"os"
	"path"
	"regexp"
	"strings"
	"testing"
)

// What is taken for plain means the same to whoever cleans, decodes or decodes
// twice.
func FuzzPlainPath(f *testing.F) {
	for _, seed := range []string{"/public", "/a%20b?x=../", "/a/../b", "/%2e%2e/", "/%C3%A5", "//x", "/a;b",
		"/%c0%af", "/%252f", "/a%00", "/a\\b", "/."} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, target string) {
		got, err := plainPath(target)
		if err != nil {
			if got != "" {
				t.Errorf("%q is refused, and read as %q", target, got)
			}
			return
		}
		if target == "" {
			return
		}
		u, err := url.ParseRequestURI(target)
		if read, _ := url.PathUnescape(got); err != nil || u.Host != "" || u.Path != read {
			t.Fatalf("%q is taken as %q, and read by others as %+v (%v)", target, got, u, err)
		}
		cleaned := path.Clean(u.Path)
		if strings.HasSuffix(u.Path, "/") && cleaned != "/" {
			cleaned += "/"
		}
		if again, err := url.PathUnescape(u.Path); cleaned != u.Path || err != nil || again != u.Path {
			t.Errorf("%q is %q, cleaned %q, decoded again %q (%v)", target, u.Path, cleaned, again, err)
		}
	})
}

func FuzzClientCert(f *testing.F) {
	f.Add(":AAAA:")
	f.Add("::")
	f.Fuzz(func(t *testing.T, text string) {
		if c, err := clientCert(text); (c == nil) == (err == nil) {
			t.Errorf("%q becomes %v and %v", text, c, err)
		}
	})
}

// The console's own addresses are those of its router.
func TestConsoleRoutesAreTheRouters(t *testing.T) {
	text, err := os.ReadFile("../../console/src/router.ts")
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for _, m := range regexp.MustCompile(`path: '/([a-z-]*)[/']`).FindAllStringSubmatch(string(text), -1) {
		there[m[1]] = true
		if !consoleRoutes[m[1]] {
			t.Errorf("the router has /%s, the service does not", m[1])
		}
	}
	for first := range consoleRoutes {
		if !there[first] {
			t.Errorf("the service has /%s, the router does not", first)
		}
	}
}
