package network

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2866"
	"layeh.com/radius/rfc2868"
	"layeh.com/radius/rfc6911"

	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/radius"
	"ironledger.example/internal/state"
)

// Bounds of what is kept of stays.
const (
	maxStays     = 200_000
	maxAddresses = 8
	heardEach    = int64(60_000_000)  // microseconds; who is heard more often is not noted
	afterEnd     = int64(120_000_000) // how long after its end the access point may still tell of a stay
)

// keep notes that a device was let in; false when more are than are kept. It does not wait until that is on disk: the
// decision is, and brings the stay back.
func (s *Service) keep(x *kept.Stay) bool {
	snap := s.Snapshot()
	if snap.Stays.Len() >= maxStays && snap.Stays.Get(x.ID) == nil {
		return false
	}
	s.Submit(func(c *state.Change) error {
		if old := state.Get(c, state.StayKind, x.ID); old != nil {
			y := *x
			if y.Session == "" || y.Session == old.Session { // it goes on, and proved itself again
				y.Session, y.Addresses, y.HeardAt = old.Session, old.Addresses, old.HeardAt
			}
			if old.At > x.At {
				return nil // two answers, of which the later was first here
			}
			return state.Put(c, state.StayKind, x.ID, &y)
		}
		return state.Put(c, state.StayKind, x.ID, x)
	})
	return true
}

// lostWithin is how long before the newest entry an allow may have been given whose stay did not come to the disk.
const lostWithin = int64(10_000_000)

// bringBack makes stays of the last allows that may be relied on, where the stay did not come to the disk, as when the
// service was killed behind its answer. Their access points are told again what was granted: one that has no such
// device says so.
func (s *Service) bringBack() {
	known := map[string]bool{}
	for _, x := range s.Snapshot().Stays.All() {
		known[x.Decision] = true
	}
	for _, x := range s.decisions.Kept() {
		id, is := strings.CutPrefix(x.Enforcer, actor(""))
		if !is || known[x.Decision] || x.Asked.Context == nil || x.Asked.Context.Network == nil {
			continue
		}
		y := stayOf(id, x.Asked)
		at, err := value.ParseTime(x.At)
		until, err2 := value.ParseTime(x.Until)
		if err != nil || err2 != nil || !y.From.IsValid() || at.Num() < s.Store.Newest()-lostWithin {
			continue
		}
		y.Device, y.Decision, y.Granted, y.Level = x.Device, x.Decision, x.Granted(), x.Level
		y.At, y.Until, y.Watched = at.Num(), until.Num(), true
		y.Untold, y.UntoldWhy, y.Granting = s.Micros(), "the service stopped behind its answer", y.Granted
		if y.Granting != nil { // else it is a break-glass account, which no session is kept for
			s.keep(y)
		}
	}
}

// Account implements [radius.Handler].
func (s *Service) Account(ctx context.Context, r *radius.Request) bool {
	if why := s.unfit(r); why != "" {
		s.fault(r.Peer.ID, why)
		return false
	}
	kind, err := rfc2866.AcctStatusType_Lookup(r.Packet)
	if err != nil {
		s.fault(r.Peer.ID, "it accounts for nothing: Acct-Status-Type is missing")
		return false
	}
	switch kind {
	case rfc2866.AcctStatusType_Value_AccountingOn, rfc2866.AcctStatusType_Value_AccountingOff:
		err = s.emptied(ctx, r)
	case rfc2866.AcctStatusType_Value_Stop:
		err = s.left(ctx, r)
	case rfc2866.AcctStatusType_Value_Start, rfc2866.AcctStatusType_Value_InterimUpdate:
		err = s.heard(ctx, r, kind == rfc2866.AcctStatusType_Value_Start)
	}
	if err != nil {
		s.Log.Warn("what an access point accounts for is not kept", "access_point", r.Peer.ID, "error", err)
	}
	return err == nil
}

// emptied drops the stays at an access point that begins or ends: nobody is there.
func (s *Service) emptied(ctx context.Context, r *radius.Request) error {
	return s.Do(ctx, func(c *state.Change) error {
		for id, x := range state.All(c, state.StayKind) {
			if x.AccessPoint == r.Peer.ID && x.From == r.Peer.At {
				state.Drop(c, state.StayKind, id)
			}
		}
		return nil
	})
}

// accountOf is the stay that an account is about.
func accountOf(r *radius.Request) string {
	return stayID(r.Peer.ID, r.Peer.At.String(), radius.Station(r.Packet), plain(portOf(r)))
}

// left drops a stay that its access point says is over.
func (s *Service) left(ctx context.Context, r *radius.Request) error {
	id, session := accountOf(r), plain(rfc2866.AcctSessionID_GetString(r.Packet))
	return s.Do(ctx, func(c *state.Change) error {
		x := state.Get(c, state.StayKind, id)
		if x == nil || x.Session != "" && session != x.Session {
			return nil // an earlier one, of which it tells late
		}
		state.Drop(c, state.StayKind, id)
		return nil
	})
}

// heard notes what an access point says of a stay that begins or goes on, and takes the addresses that the device has
// there for readings.
func (s *Service) heard(ctx context.Context, r *radius.Request, begins bool) error {
	id, session := accountOf(r), plain(rfc2866.AcctSessionID_GetString(r.Packet))
	was, err := s.stayNow(ctx, id)
	switch {
	case err != nil:
		return err
	case was == nil:
		s.fault(r.Peer.ID, "it tells of devices that nobody let in here")
		s.disconnect(r, session)
		return nil
	case !begins && was.Session != "" && session != was.Session:
		s.fault(r.Peer.ID, "it tells of two stays of one device at once")
		return nil
	}
	addresses := addressesOf(r)
	differs := s.differs(r, was)
	now := s.Micros()
	if was.Session == session && now < was.HeardAt+heardEach && slices.Equal(addresses, was.Addresses) && !differs {
		return nil
	}
	err = s.Do(ctx, func(c *state.Change) error {
		x := state.Get(c, state.StayKind, id)
		if x == nil || !begins && x.Session != "" && x.Session != session {
			return nil
		}
		y := *x
		y.Session, y.HeardAt = session, c.Now
		if len(addresses) > 0 && !slices.Equal(addresses, x.Addresses) {
			y.Addresses = addresses
			if err := s.read(c, &y); err != nil {
				return err
			}
		}
		if differs && y.Untold == 0 {
			y.Untold, y.UntoldWhy = c.Now, "it says that something else is in force than it was told"
		}
		return state.Put(c, state.StayKind, id, &y)
	})
	if err == nil && differs {
		s.enqueue(id)
	}
	return err
}

// stayNow is a stay, nil for none: also one that is on its way to the disk, as that of a device that was just let in.
func (s *Service) stayNow(ctx context.Context, id string) (x *kept.Stay, err error) {
	if x = s.Snapshot().Stays.Get(id); x == nil {
		err = s.Do(ctx, func(c *state.Change) error { x = state.Get(c, state.StayKind, id); return nil })
	}
	return x, err
}

// differs reports whether an access point says that something else is in force than was granted.
func (s *Service) differs(r *radius.Request, x *kept.Stay) bool {
	delay := int64(rfc2866.AcctDelayTime_Get(r.Packet)) * 1_000_000
	s.mu.Lock()
	_, telling := s.busy[x.ID]
	s.mu.Unlock()
	if x.Granted == nil || x.Untold != 0 || telling || s.Micros()-delay < max(x.At, x.ToldAt)+s.settles() {
		return false // it may speak of before it was told
	}
	_, vlan, err := rfc2868.TunnelPrivateGroupID_Lookup(r.Packet)
	filter, err2 := rfc2865.FilterID_LookupString(r.Packet)
	if err == nil && string(vlan) != x.Granted.VLAN || err2 == nil && filter != x.Granted.Filter {
		s.fault(r.Peer.ID, fmt.Sprintf("it says that VLAN %q and filter %q are in force, and was told %q and %q",
			plain(string(vlan)), plain(filter), x.Granted.VLAN, x.Granted.Filter))
		return true
	}
	return false
}

// settles is how long after it was told something an access point may still speak of before, in microseconds.
func (s *Service) settles() int64 { return int64(2 * s.timing.Again / time.Microsecond) }

// addressesOf are the addresses that a device has (RFC 2865, section 5.8; RFC 6911, section 3.1).
func addressesOf(r *radius.Request) (out []string) {
	add := func(ip net.IP) {
		if a, ok := netip.AddrFromSlice(ip); ok && len(out) < maxAddresses && !a.IsUnspecified() {
			out = append(out, a.Unmap().String())
		}
	}
	if ip, err := rfc2865.FramedIPAddress_Lookup(r.Packet); err == nil {
		add(ip)
	}
	if list, err := rfc6911.FramedIPv6Address_Gets(r.Packet); err == nil {
		for _, ip := range list {
			add(ip)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// read makes the addresses of a stay readings of its device, where the rulebook takes them of the source network.
func (s *Service) read(c *state.Change, x *kept.Stay) error {
	d := c.Device(x.Device)
	if x.Device == "" || d == nil || d.Retired != nil {
		return nil
	}
	rb := c.Base.Book.Rulebook
	if list := rb.Policy.Sources; list != nil &&
		!slices.ContainsFunc(list, func(src evidence.SourceRule) bool { return src.ID == evidence.Network }) {
		return nil
	}
	report := value.JSON(map[string]any{"source": evidence.Network, "identity": map[string]string{"id": x.Device},
		"observed_at": value.FormatTime(c.Now), "evidence": map[string]any{"network.addresses": x.Addresses}})
	rep, err := rb.Dict.ParseReport(report, c.Now)
	if err != nil {
		return err
	}
	intake.One(c, actor(x.AccessPoint), rep)
	return nil
}
