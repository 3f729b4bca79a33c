package network

import (
	"cmp"
	"context"
	"encoding/binary"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	libradius "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2866"
	"layeh.com/radius/rfc2868"
	"layeh.com/radius/rfc2869"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/radius"
	"ironledger.example/internal/state"
)

// Access implements [radius.Handler].
func (s *Service) Access(ctx context.Context, r *radius.Request) *libradius.Packet {
	if why := s.unfit(r); why != "" {
		s.fault(r.Peer.ID, why)
		return nil
	}
	if _, err := rfc2869.EAPMessage_Lookup(r.Packet); err == nil {
		return s.eap.Answer(ctx, r)
	}
	if kind, err := rfc2865.ServiceType_Lookup(r.Packet); err == nil && kind == rfc2865.ServiceType_Value_CallCheck {
		return s.byAddress(ctx, r)
	}
	return reject(r, "Passwords are not taken here: a device proves itself by its certificate (EAP-TLS)")
}

// unfit says why a request is not one that its access point can make, "" when it is: it tells of itself as somebody else.
func (s *Service) unfit(r *radius.Request) string {
	a := s.Snapshot().AccessPoints.Get(r.Peer.ID)
	if a == nil {
		return radius.ErrUnknown.Error()
	}
	if ip, err := rfc2865.NASIPAddress_Lookup(r.Packet); err == nil {
		if at, ok := netip.AddrFromSlice(ip.To4()); !ok || !a.Range.Contains(at) {
			return "it says that it is at " + ip.String() + ", which is not within its range"
		}
	}
	return ""
}

// networkOf is the network that a request is about: the one that its SSID is called by, or the only one of its access
// point, as of a switch. The text says why there is none.
func (s *Service) networkOf(r *radius.Request) (*rulebook.Network, string) {
	snap := s.Snapshot()
	rb, a := snap.Book.Rulebook, snap.AccessPoints.Get(r.Peer.ID)
	if a == nil {
		return nil, radius.ErrUnknown.Error()
	}
	_, ssid := radius.Called(r.Packet)
	var n *rulebook.Network
	switch {
	case ssid != "":
		if n = rb.NetworkCalled(ssid); n == nil {
			return nil, "no network of the rulebook is called by the SSID " + strconv.QuoteToASCII(ssid)
		}
	case len(a.Networks) == 1:
		if n = rb.Network(a.Networks[0]); n == nil {
			return nil, "the rulebook has no network " + a.Networks[0]
		}
	default:
		return nil, "it names no network, by its SSID, and may ask about several"
	}
	if !a.May(n.ID) {
		return nil, "it may not ask about the network " + n.ID
	}
	return n, ""
}

// question is what a request asks, but for who.
func question(r *radius.Request, n *rulebook.Network) *access.Evaluation {
	called, ssid := radius.Called(r.Packet)
	if ssid != "" {
		called += ":" + ssid
	}
	return &access.Evaluation{Action: access.Action{Name: Action}, Resource: access.Entity{Type: "network", ID: n.ID},
		Context: &access.Context{Network: &access.Joining{Address: radius.Station(r.Packet), At: r.Peer.At.String(), Called: plain(called),
			Port: plain(portOf(r))}}}
}

// portOf is the port of the access point that a request is about (RFC 2869, section 5.17; RFC 2865, section 5.5).
func portOf(r *radius.Request) string {
	port := rfc2869.NASPortID_GetString(r.Packet)
	if p, err := rfc2865.NASPort_Lookup(r.Packet); err == nil && port == "" {
		port = strconv.FormatUint(uint64(p), 10)
	}
	return port
}

// plain is a text of an access point as it is kept: short, and of letters that can be shown.
func plain(text string) string { return clipped(text, 100) }

// clipped is a text of letters that can be shown, of some bytes at most.
func clipped(text string, most int) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == '\uFFFD' {
			return -1
		}
		return r
	}, strings.ToValidUTF8(text, ""))
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "")
	}
	return text
}

// byAddress answers for a device that shows nothing but its hardware address (RFC 2865, section 5.6: Call-Check).
func (s *Service) byAddress(ctx context.Context, r *radius.Request) *libradius.Packet {
	n, why := s.networkOf(r)
	station := radius.Station(r.Packet)
	switch {
	case n == nil:
		s.fault(r.Peer.ID, why)
		return reject(r, "")
	case station == "" || value.HardwareAddress(rfc2865.UserName_GetString(r.Packet)) != station:
		s.fault(r.Peer.ID, "it asks by an address without naming one, or names two")
		return reject(r, "")
	}
	e := question(r, n)
	e.Context.Proof = rulebook.ProofAddress
	e = asIs(s.Snapshot(), e, s.Micros())
	a := s.decide(r, n, e)
	if a == nil {
		return nil
	}
	return a.Answer(ctx, r)
}

// asIs is a question as it is asked now: of the device that has the address, or shows the certificate, and of whom it
// is. A person whom a certificate names, or who is claimed, stays.
func asIs(snap *state.Snapshot, asked *access.Evaluation, now int64) *access.Evaluation {
	n := snap.Book.Rulebook.Network(asked.Resource.ID)
	if n == nil || asked.Context == nil || asked.Context.Network == nil {
		return asked
	}
	e, c := *asked, *asked.Context
	e.Context = &c
	var d *state.Device
	unnamed := c.Network.Address
	if c.Proof == rulebook.ProofAddress {
		c.Device = nil
		if d = snap.WithAddress(c.Network.Address, now); d != nil {
			c.Device = &access.DeviceRef{ID: d.ID}
		}
	} else if c.Device != nil {
		d, unnamed = snap.Shows(c.Device.CertificateSHA256), c.Device.CertificateSHA256
	}
	if n.Person != rulebook.PersonOwner && e.Subject.Type == "user" {
		return &e
	}
	if e.Subject = (access.Entity{Type: "device", ID: unnamed}); d == nil {
		return &e
	}
	e.Subject.ID = d.ID
	if n.Person == rulebook.PersonOwner {
		owner := snap.At(d, now).View.Get(snap.Book.Rulebook.Dict.Slot("owner"), now)
		if owner.Known() && owner.Str() != "" {
			e.Subject = access.Entity{Type: "user", ID: owner.Str()}
		}
	}
	return &e
}

// Still implements [decision.Watch].
func (*Service) Still(snap *state.Snapshot, asked *access.Evaluation, now int64) bool {
	e := asIs(snap, asked, now)
	same := func(a, b *access.DeviceRef) bool { return a == b || a != nil && b != nil && *a == *b }
	return e == asked || e.Subject == asked.Subject && same(e.Context.Device, asked.Context.Device)
}

// proved decides about a device that proved that it has the key of a certificate.
func (s *Service) proved(_ context.Context, r *radius.Request, p radius.Proved) radius.Admission {
	n, why := s.networkOf(r)
	if n == nil {
		s.fault(r.Peer.ID, why)
		return nobody{}
	}
	e, snap, now := question(r, n), s.Snapshot(), s.Micros()
	e.Context.Device = s.decisions.Certified(p.Certificate)
	e.Context.Proof = rulebook.ProofCertificate
	switch n.Person {
	case rulebook.PersonCertificate:
		for _, mail := range p.Certificate.EmailAddresses {
			if id := personCalled(snap, mail); id != "" {
				e.Subject = access.Entity{Type: "user", ID: id}
				break
			}
		}
	case rulebook.PersonClaimed:
		if name := plain(p.Identity); name != "" {
			e.Subject = access.Entity{Type: "user", ID: name}
			if id := personCalled(snap, name); id != "" {
				e.Subject.ID = id
			}
			e.Context.Network.Claimed = true
		}
	}
	e = asIs(snap, e, now)
	if a := s.decide(r, n, e); a != nil {
		return a
	}
	return nil
}

// personCalled is the person of an id or of an address of mail; "" for none that is known.
func personCalled(snap *state.Snapshot, name string) string {
	if p, known := snap.People.Get(name); known {
		return p.ID
	}
	list := snap.People.List()
	if i := slices.IndexFunc(list, func(p api.Person) bool { return p.Mail != "" && strings.EqualFold(p.Mail, name) }); i >= 0 {
		return list[i].ID
	}
	return ""
}

// nobody is an admission of whom nothing was asked.
type nobody struct{}

func (nobody) Allowed() bool { return false }
func (nobody) Answer(_ context.Context, r *radius.Request) *libradius.Packet {
	return reject(r, "")
}

// admission is a decision about a device at an access point.
type admission struct {
	s       *Service
	network *rulebook.Network
	asked   *access.Evaluation
	answer  *decision.Answer
}

// decide answers a question for an access point; nil when the answer cannot be recorded.
func (s *Service) decide(r *radius.Request, n *rulebook.Network, e *access.Evaluation) *admission {
	a, err := s.decisions.Decide(actor(r.Peer.ID), e)
	if err != nil {
		s.Log.Error("an admission is not decided", "access_point", r.Peer.ID, "error", err)
		return nil
	}
	return &admission{s, n, e, a}
}

// Allowed implements [radius.Admission].
func (a *admission) Allowed() bool { return a.answer.Outcome == access.Allow }

// Answer implements [radius.Admission]. What was allowed a moment ago, while the device still spoke, is asked again if
// something changed.
func (a *admission) Answer(_ context.Context, r *radius.Request) *libradius.Packet {
	s := a.s
	if a.Allowed() && !a.answer.BreakGlass && a.until() > s.Micros() {
		if now, _, _ := s.decisions.Relied(actor(r.Peer.ID), a.asked); now == "" {
			again := s.decide(r, a.network, a.asked)
			if again == nil {
				return nil
			}
			a = again
		}
	}
	if !a.Allowed() {
		text := a.answer.ReasonUser["en"]
		if a.answer.Code != "" {
			text += " (" + a.answer.Code + ")"
		}
		return reject(r, text)
	}
	out := r.Response(libradius.CodeAccessAccept)
	stay := a.stay(r)
	if err := admitted(out, stay, s.Micros()); err != nil {
		s.Log.Error("an admission cannot be written", "access_point", r.Peer.ID, "error", err)
		return nil
	}
	if !s.keep(stay) {
		s.fault(r.Peer.ID, "more devices are on networks than are kept; nobody else is let in")
		return reject(r, "")
	}
	return out
}

// leastStay is how long a device is let in where the answer may not be relied on at all, as when it asks for the moment
// itself: then it is asked again.
const leastStay = int64(60_000_000)

// until is how long the answer may be relied on.
func (a *admission) until() int64 { return reliedUntil(a.answer) }

// reliedUntil is how long an answer may be relied on, in microseconds since the Unix epoch.
func reliedUntil(a *decision.Answer) int64 {
	v, err := value.ParseTime(a.ValidUntil)
	if err != nil {
		return 0
	}
	return v.Num()
}

// stay is that of the device that is let in.
func (a *admission) stay(r *radius.Request) *kept.Stay {
	now := a.s.Micros()
	out := stayOf(r.Peer.ID, a.asked)
	out.Device, out.Decision, out.Granted, out.Level = a.answer.Device, a.answer.ID, a.answer.Grant, a.answer.Level
	out.At, out.Until = now, max(a.until(), now+leastStay)
	out.Session = plain(rfc2866.AcctSessionID_GetString(r.Packet))
	by, _, _ := a.s.decisions.Relied(actor(r.Peer.ID), a.asked)
	out.Watched = by == a.answer.ID
	return out
}

// stayOf is the stay that a question is about, as far as that says it.
func stayOf(accessPoint string, asked *access.Evaluation) *kept.Stay {
	x := asked.Context.Network
	out := &kept.Stay{ID: stayID(accessPoint, x.At, x.Address, x.Port), AccessPoint: accessPoint, Address: x.Address,
		Network: asked.Resource.ID, Name: asked.Subject.ID, Asked: asked, Port: x.Port}
	out.From, _ = netip.ParseAddr(x.At) // as it was written
	if asked.Subject.Type == "user" {
		out.Person = asked.Subject.ID
	}
	return out
}

// stayID names the stay of a device at an access point, which has one at most.
func stayID(accessPoint, at, address, port string) string {
	if address == "" {
		address = "port " + port
	}
	return accessPoint + "/" + at + "/" + address
}

// admitted writes what an admission carries.
func admitted(out *libradius.Packet, x *kept.Stay, now int64) error {
	errs := []error{rfc2865.UserName_SetString(out, plain(x.Name)),
		rfc2865.Class_SetString(out, classOf(x.Decision)),
		rfc2865.SessionTimeout_Set(out, rfc2865.SessionTimeout(seconds(x.Until-now))),
		rfc2865.TerminationAction_Set(out, rfc2865.TerminationAction_Value_RADIUSRequest)}
	return cmp.Or(append(errs, granted(out, x.Granted))...)
}

// classOf is what the access point says with each account of a stay (RFC 2865, section 5.25).
func classOf(decision string) string { return "decision " + decision }

// seconds is a time in whole seconds, of which there is one at least.
func seconds(micros int64) uint32 { return uint32(max(micros/1_000_000, 1)) }

// granted writes the VLAN (RFC 3580, section 3.31), the filter and the other attributes of a grant.
func granted(out *libradius.Packet, g *access.Granted) error {
	if g == nil {
		return nil
	}
	var errs []error
	if g.VLAN != "" {
		errs = append(errs, rfc2868.TunnelType_Set(out, 0, tunnelVLAN),
			rfc2868.TunnelMediumType_Set(out, 0, rfc2868.TunnelMediumType_Value_IEEE802),
			rfc2868.TunnelPrivateGroupID_SetString(out, 0, g.VLAN))
	}
	if g.Filter != "" {
		errs = append(errs, rfc2865.FilterID_SetString(out, g.Filter))
	}
	interim := false
	for name, text := range g.Attributes {
		interim = interim || name == "Acct-Interim-Interval"
		errs = append(errs, attribute(out, name, text))
	}
	if !interim {
		errs = append(errs, rfc2869.AcctInterimInterval_Set(out, usualInterim))
	}
	return cmp.Or(errs...)
}

// tunnelVLAN is the kind of tunnel that a VLAN is (RFC 3580, section 3.31).
const tunnelVLAN rfc2868.TunnelType = 13

// usualInterim is how often an access point tells of a stay that goes on, in seconds.
const usualInterim = 600

// attribute writes one further attribute.
func attribute(out *libradius.Packet, name, text string) error {
	known, is := rulebook.RadiusAttributes[name]
	if !is {
		vendor, typ, _ := rulebook.VendorAttribute(name)
		raw := append([]byte{typ, byte(len(text) + 2)}, text...)
		v, err := libradius.NewVendorSpecific(vendor, raw)
		out.Add(rfc2865.VendorSpecific_Type, v)
		return err
	}
	value := libradius.Attribute(text)
	if known.Integer {
		n, err := strconv.ParseUint(text, 10, 32)
		if err != nil {
			return err
		}
		value = binary.BigEndian.AppendUint32(nil, uint32(n))
	}
	out.Add(libradius.Type(known.Type), value)
	return nil
}

// reject is an Access-Reject, with words for the device's user where there are some.
func reject(r *radius.Request, text string) *libradius.Packet {
	out := r.Response(libradius.CodeAccessReject)
	_, eap := r.Lookup(rfc2869.EAPMessage_Type)
	if text = clipped(text, 250); text != "" && !eap { // beside EAP there is no message (RFC 3579, section 2.6.5)
		_ = rfc2865.ReplyMessage_SetString(out, text)
	}
	return out
}
