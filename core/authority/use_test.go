package authority

import (
	"net/netip"
	"testing"
)

// Who walks from one network into another is in one place; who goes to and fro within minutes is in two.
func TestACertificateInTwoPlaces(t *testing.T) {
	t.Parallel()
	const minute = 60 * 1_000_000
	home, away, third := PlaceOf(netip.MustParseAddr("192.0.2.4")), PlaceOf(netip.MustParseAddr("198.51.100.7")),
		PlaceOf(netip.MustParseAddr("203.0.113.9"))
	for name, c := range map[string]struct {
		at    []netip.Prefix
		every int64
		want  bool
	}{
		"one place":              {[]netip.Prefix{home, home, home, home, home}, minute, false},
		"a walk and back":        {[]netip.Prefix{home, away, away, home, home}, minute, false},
		"two walks":              {[]netip.Prefix{home, away, home, away, away}, minute, false},
		"to and fro":             {[]netip.Prefix{home, away, home, away, home}, minute, true},
		"to and fro in an hour":  {[]netip.Prefix{home, away, home, away, home, away, home, away}, 8 * minute, false},
		"on a journey":           {[]netip.Prefix{home, away, third, home, away, third, home, away}, minute, false},
		"seldom, but to and fro": {[]netip.Prefix{home, away, away, away, home, away, home}, minute, true},
	} {
		var u Uses
		shared := false
		for i, p := range c.at {
			got := u.Use(p, int64(i+1)*c.every)
			shared = shared || got != nil
			if got != nil && (len(got) != 2 || got[0] == got[1]) {
				t.Errorf("%s: between %v", name, got)
			}
		}
		if shared != c.want {
			t.Errorf("%s: %v", name, shared)
		}
	}
	for a, b := range map[string]string{"2001:db8:1:2::7": "2001:db8:1:2:ffff::1",
		"::ffff:192.0.2.4": "192.0.2.4", "fe80::1%eth0": "fe80::2"} {
		if PlaceOf(netip.MustParseAddr(a)) != PlaceOf(netip.MustParseAddr(b)) {
			t.Errorf("%s and %s are two places", a, b)
		}
	}
	if PlaceOf(netip.MustParseAddr("2001:db8:1:2::7")) == PlaceOf(netip.MustParseAddr("2001:db8:1:3::7")) ||
		PlaceOf(netip.Addr{}).IsValid() {
		t.Error("two networks are one place")
	}
}
