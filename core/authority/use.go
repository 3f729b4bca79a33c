package authority

import "net/netip"

// Uses are the places where a certificate was used of late: enough to tell whether it is in two at once.
type Uses struct {
	last, before place
	returns      []int64 // moments at which it was back where it had just been
}

type place struct {
	at   netip.Prefix
	seen int64
}

// What counts as being in two places: so many returns within so long, in microseconds. Who walks from one network
// into another returns once.
const (
	twoPlaces   = 3
	twoPlacesIn = 10 * 60 * 1_000_000
)

// PlaceOf is where an address is: itself, or of IPv6 its network of 64 bits, within which a device changes its own.
func PlaceOf(a netip.Addr) netip.Prefix {
	if a = a.Unmap(); a.Is4() {
		return netip.PrefixFrom(a, 32)
	}
	p, err := a.WithZone("").Prefix(64)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}

// Use notes a use at a place and a moment, in microseconds, and returns the two places if the certificate goes to and
// fro between them; none otherwise.
func (u *Uses) Use(at netip.Prefix, now int64) []netip.Prefix {
	if at == u.last.at {
		u.last.seen = now
		return nil
	}
	back := at == u.before.at && now-u.before.seen <= twoPlacesIn
	u.before, u.last = u.last, place{at, now}
	if !back {
		return nil
	}
	u.returns = append(u.returns, now)
	for len(u.returns) > 0 && now-u.returns[0] > twoPlacesIn {
		u.returns = u.returns[1:]
	}
	if len(u.returns) < twoPlaces {
		return nil
	}
	return []netip.Prefix{u.before.at, at}
}
