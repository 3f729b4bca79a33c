// Package outbound calls others on the network whose addresses somebody wrote down: never
// what is inside, unless the configuration names it, and never where a redirect leads.
package outbound

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Policy is where calls may go beside public addresses.
type Policy struct{ Inside []netip.Prefix }

// ErrInside is a target that is inside: on this machine, on its link, or in a private
// network, and that the configuration does not name.
var ErrInside = errors.New("the address is inside: on this machine, its link or a private network")

// special are further networks that are nobody's on the public network (RFC 6890).
var special = []netip.Prefix{netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"),
	netip.MustParsePrefix("192.0.0.0/24"), netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("240.0.0.0/4"),
	netip.MustParsePrefix("64:ff9b::/96"), netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("100::/64"),
	netip.MustParsePrefix("2002::/16"), netip.MustParsePrefix("2001::/32")}

// named reports whether the configuration names an address.
func (p Policy) named(a netip.Addr) bool {
	return slices.ContainsFunc(p.Inside, func(n netip.Prefix) bool { return n.Contains(a) })
}

// Check reports as an error that an address may not be called.
func (p Policy) Check(a netip.Addr) error {
	a = a.Unmap().WithZone("")
	if p.named(a) {
		return nil
	}
	if !a.IsValid() || a.IsUnspecified() || a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast() ||
		a.IsMulticast() ||
		slices.ContainsFunc(special, func(n netip.Prefix) bool { return n.Contains(a) }) {
		return fmt.Errorf("%s: %w", a, ErrInside)
	}
	return nil
}

// CheckURL finds what is wrong with the URL of a target: it is https, or http to an
// address that the configuration names; it has no user, and no fragment. A name is
// looked up when it is called, and each of its addresses is checked then.
func (p Policy) CheckURL(text string) error {
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.Hostname() == "":
		return fmt.Errorf("%q is not a URL, as https://idp.gullholm.example/events", text)
	case u.User != nil || u.Fragment != "" || u.Opaque != "":
		return errors.New("a URL with a user or a fragment is not taken")
	case u.Scheme != "https" && u.Scheme != "http":
		return fmt.Errorf("%s is not https", u.Scheme)
	}
	a, err := netip.ParseAddr(u.Hostname())
	if err != nil { // a name
		if u.Scheme != "https" {
			return errors.New("the URL is not https")
		}
		return nil
	}
	if u.Scheme != "https" && !p.named(a.Unmap()) {
		return errors.New("the URL is not https")
	}
	return p.Check(a)
}

// Client is a client that calls no address that the policy refuses, by whatever name it
// was found. It follows no redirect and goes through no proxy.
func (p Policy) Client(timeout time.Duration) *http.Client {
	return &http.Client{Timeout: timeout, CheckRedirect: stay, Transport: p.transport(timeout, &tls.Config{})}
}

// Patient is a client for answers that may be long: headers must come within wait, what follows
// is for who reads it. identity says how each side is known.
func (p Policy) Patient(wait time.Duration, identity *tls.Config) *http.Client {
	return &http.Client{CheckRedirect: stay, Transport: p.transport(wait, identity)}
}

// stay follows no redirect.
func stay(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

func (p Policy) transport(timeout time.Duration, identity *tls.Config) *http.Transport {
	dialer := &net.Dialer{Timeout: min(timeout, 10*time.Second), KeepAlive: 30 * time.Second,
		ControlContext: func(_ context.Context, _, address string, _ syscall.RawConn) error {
			at, err := netip.ParseAddrPort(address)
			if err != nil {
				return fmt.Errorf("%s: %w", address, ErrInside)
			}
			return p.Check(at.Addr())
		}}
	identity.MinVersion = tls.VersionTLS12
	return &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: 10 * time.Second,
		TLSClientConfig: identity, ResponseHeaderTimeout: timeout, MaxResponseHeaderBytes: 64 << 10,
		MaxIdleConnsPerHost: 16, IdleConnTimeout: 90 * time.Second, ForceAttemptHTTP2: true}
}

// RetryAfter is how long whoever answered wants to be left alone, up to a limit (RFC 9110, section
// 10.2.3); 0 when the header does not say.
func RetryAfter(header http.Header, now time.Time, most time.Duration) time.Duration {
	text := header.Get("Retry-After")
	if n, err := strconv.ParseInt(text, 10, 32); err == nil && n >= 0 {
		return min(time.Duration(n)*time.Second, most)
	}
	if t, err := http.ParseTime(text); err == nil {
		return min(max(t.Sub(now), 0), most)
	}
	return 0
}

// Plain is an address without its query, in which some keep a secret.
func Plain(address string) string {
	if before, _, cut := strings.Cut(address, "?"); cut {
		return before + "?…"
	}
	return address
}
