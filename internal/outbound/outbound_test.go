package outbound

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"
)

// Nothing inside is called, however it is written; what is named may be.
func TestInsideIsRefused(t *testing.T) {
	named := Policy{Inside: []netip.Prefix{netip.MustParsePrefix("10.20.0.0/16")}}
	for text, inside := range map[string]bool{
		"127.0.0.1": true, "10.0.0.1": true, "172.16.0.1": true, "192.168.1.1": true, "169.254.169.254": true,
		"0.0.0.0": true, "100.64.1.1": true, "224.0.0.1": true, "255.255.255.255": true, "::1": true, "::": true,
		"fe80::1": true, "fd00::1": true, "::ffff:127.0.0.1": true, "::ffff:10.20.1.1": false, "64:ff9b::a00:1": true,
		"2002:7f00:1::": true, "198.18.0.1": true, "10.20.1.1": false, "203.0.113.9": false, "2001:db8:1::1": false,
		"fe80::1%eth0": true,
	} {
		err := named.Check(netip.MustParseAddr(text))
		if (err != nil) != inside || err != nil && !errors.Is(err, ErrInside) {
			t.Errorf("%s: %v", text, err)
		}
	}
	if (Policy{}).Check(netip.Addr{}) == nil {
		t.Error("no address at all is called")
	}
	for url, good := range map[string]bool{
		"https://idp.gullholm.example/events": true, "http://idp.gullholm.example/": false, "http://10.20.1.1:9/x": true,
		"https://10.21.1.1/": false, "https://user@idp.gullholm.example/": false, "https://idp.gullholm.example/#x": false,
		"ftp://idp.gullholm.example/": false, "https:///x": false, "idp.gullholm.example/x": false,
		"https:idp": false, "": false,
	} {
		if err := named.CheckURL(url); (err == nil) != good {
			t.Errorf("%q: %v", url, err)
		}
	}
}

// A name that leads inside is found when it is called, and a redirect is not followed.
func TestTheClientCallsNothingInside(t *testing.T) {
	called := false
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		called = true
		http.Redirect(w, r, "/again", http.StatusFound)
	}))
	defer s.Close()
	_, port, _ := strings.Cut(strings.TrimPrefix(s.URL, "http://"), ":")
	if _, err := (Policy{}).Client(time.Second).Get("http://localhost:" + port); !errors.Is(err, ErrInside) || called {
		t.Errorf("a name that leads to this machine is called: %v", err)
	}
	loopback := Policy{Inside: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")}}
	r, err := loopback.Client(time.Second).Get("http://localhost:" + port)
	if err != nil || r.StatusCode != http.StatusFound {
		t.Fatalf("%v %v", r, err)
	}
	r.Body.Close()
}
