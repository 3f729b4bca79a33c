package network

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/rulebook/tree"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// Bounds of access points.
const (
	leastSecret = 16 // bytes (RFC 2865, section 3)
	mostSecret  = 128
	maxClients  = 1000 // entries; one can be a range of many
	widestIPv4  = 16   // bits of a range
	widestIPv6  = 48
)

// Add lets an access point ask. A secret that was made is in what it returns, and nowhere else.
func (s *Service) Add(ctx context.Context, by string, d api.NetworkClientDraft) (*api.NetworkClient, error) {
	a, err := accessPointOf(&d)
	if err != nil {
		return nil, err
	}
	made := ""
	if a.Certificate == "" && d.Secret == "" {
		made = rand.Text() // 26 letters and digits, 128 bits
		d.Secret = made
	}
	if a.Certificate == "" {
		a.Secret = s.box.Seal(d.Secret, secretUse(a.ID))
	}
	err = s.Do(ctx, func(c *state.Change) error {
		all := state.All(c, state.AccessPointKind)
		if all[a.ID] != nil {
			return fault.Inputf("/id", "there is an access point %s already; remove it first", a.ID)
		}
		if len(all) >= maxClients {
			return fault.Inputf("", "there are %d entries already; one can be a range of many", maxClients)
		}
		for _, o := range all {
			if o.Range == a.Range && (o.Certificate == "") == (a.Certificate == "") &&
				(a.Certificate == "" || o.Certificate == a.Certificate) {
				return fault.Inputf("/range", "%s is the range of %s already, by what it proves itself too", a.Range, o.ID)
			}
		}
		names := []string{}
		for i := range c.Base.Book.Rulebook.Networks {
			names = append(names, c.Base.Book.Rulebook.Networks[i].ID)
		}
		for i, n := range a.Networks {
			if !slices.Contains(names, n) {
				return fault.Inputf("/networks/"+strconv.Itoa(i), "the rulebook in force has no network %s%s", n,
					fault.Nearest(n, names))
			}
		}
		a.At, a.By = c.Now, by
		c.Record(by, &event.AccessPointChanged{AccessPoint: a.ID, Change: event.AccessPointAdded, Range: a.Range.String(),
			Certificate: a.Certificate, Networks: a.Networks, Reason: a.Reason})
		return state.Put(c, state.AccessPointKind, a.ID, a)
	})
	if err != nil {
		return nil, err
	}
	out := s.client(a, nil, nil)
	out.Secret = made
	return &out, nil
}

// accessPointOf reads a draft.
func accessPointOf(d *api.NetworkClientDraft) (*kept.AccessPoint, error) {
	a := &kept.AccessPoint{ID: d.ID, Title: strings.TrimSpace(d.Title), Networks: d.Networks, Told: uint16(d.ToldAt),
		Reason: strings.TrimSpace(d.Reason)}
	if !tree.IDPattern.MatchString(d.ID) || len(d.ID) > 100 {
		return nil, fault.Input("/id", "an id has small letters, digits, dots, dashes and underscores, as deck-3")
	}
	if len(a.Title) > 200 || len(a.Reason) > fault.MaxReason {
		return nil, fault.Inputf("", "a title has at most 200 bytes, and a reason %d", fault.MaxReason)
	}
	if d.ToldAt < 0 || d.ToldAt > 65535 {
		return nil, fault.Input("/told_at", "a port is between 1 and 65535")
	}
	r, err := netip.ParsePrefix(d.Range)
	if err != nil {
		at, err := netip.ParseAddr(d.Range)
		if err != nil {
			return nil, fault.Inputf("/range", "%q is no address or network, as 10.40.0.7 or 10.40.0.0/24", d.Range)
		}
		at = at.Unmap().WithZone("")
		r = netip.PrefixFrom(at, at.BitLen())
	}
	a.Range = netip.PrefixFrom(r.Addr().Unmap(), r.Bits())
	if r.Addr().Is4In6() {
		a.Range = netip.PrefixFrom(r.Addr().Unmap(), r.Bits()-96)
	}
	if !a.Range.IsValid() || a.Range.Masked() != a.Range {
		return nil, fault.Inputf("/range", "%q is no network: bits are set behind its prefix", d.Range)
	}
	if least := map[bool]int{true: widestIPv4, false: widestIPv6}[a.Range.Addr().Is4()]; a.Range.Bits() < least {
		return nil, fault.Inputf("/range", "a range is at most a /%d: whoever knows its secret may ask from any of it", least)
	}
	switch {
	case d.Certificate != "" && d.Secret != "":
		return nil, fault.Input("/secret", "an access point proves itself by a secret or by a certificate, not by both")
	case d.Certificate != "":
		a.Certificate, err = fingerprintOf(d.Certificate)
		return a, err
	case d.Secret != "" && (len(d.Secret) < leastSecret || len(d.Secret) > mostSecret):
		return nil, fault.Inputf("/secret", "a secret has %d to %d bytes (RFC 2865, section 3)", leastSecret, mostSecret)
	}
	return a, nil
}

// fingerprintOf is the SHA-256 of a certificate in PEM, or one in hex.
func fingerprintOf(text string) (string, error) {
	text = strings.TrimSpace(text)
	if block, _ := pem.Decode([]byte(text)); block != nil {
		if _, err := x509.ParseCertificate(block.Bytes); err != nil || block.Type != "CERTIFICATE" {
			return "", fault.Input("/certificate", "this PEM is no certificate")
		}
		sum := sha256.Sum256(block.Bytes)
		return hex.EncodeToString(sum[:]), nil
	}
	raw, err := hex.DecodeString(strings.ReplaceAll(strings.ToLower(text), ":", ""))
	if err != nil || len(raw) != sha256.Size {
		return "", fault.Input("/certificate", "a certificate is given in PEM, or by its SHA-256 of 64 hex digits")
	}
	return hex.EncodeToString(raw), nil
}

// Remove lets an access point ask no more. Devices that it let in stay until it ends that.
func (s *Service) Remove(ctx context.Context, by, id, reason string) (*api.NetworkClient, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	var was *kept.AccessPoint
	err := s.Do(ctx, func(c *state.Change) error {
		if was = state.Get(c, state.AccessPointKind, id); was == nil {
			return fault.NotFound("access point", id)
		}
		state.Drop(c, state.AccessPointKind, id)
		for stay, x := range state.All(c, state.StayKind) {
			if x.AccessPoint == id {
				state.Drop(c, state.StayKind, stay)
			}
		}
		c.Record(by, &event.AccessPointChanged{AccessPoint: id, Change: event.AccessPointRemoved,
			Range: was.Range.String(), Reason: reason})
		return nil
	})
	if err != nil {
		return nil, err
	}
	out := s.client(was, nil, nil)
	return &out, nil
}

// Clients lists access points, with what was dropped of what they sent, and who else sent something.
func (s *Service) Clients() *api.NetworkClientList {
	dropped, strangers := s.server.Dropped()
	snap := s.Snapshot()
	stays := map[string]int{}
	for _, x := range snap.Stays.All() {
		stays[x.AccessPoint]++
	}
	drops := map[string][]api.NetworkDrop{}
	for d, n := range dropped {
		drops[d.Peer] = append(drops[d.Peer], api.NetworkDrop{Why: d.Why, Times: n})
	}
	s.mu.Lock()
	for f, n := range s.faults {
		drops[f.AccessPoint] = append(drops[f.AccessPoint], api.NetworkDrop{Why: f.Why, Times: n})
	}
	doors := slices.Clone(s.doors)
	s.mu.Unlock()
	out := &api.NetworkClientList{Items: []api.NetworkClient{}, Strangers: []api.NetworkStranger{}, Doors: doors}
	list := snap.AccessPoints.List()
	for i := range list {
		out.Items = append(out.Items, s.client(&list[i], stays, drops))
	}
	for at, n := range strangers {
		out.Strangers = append(out.Strangers, api.NetworkStranger{Address: at.String(), Times: n})
	}
	slices.SortFunc(out.Strangers, func(a, b api.NetworkStranger) int {
		return cmp.Or(cmp.Compare(b.Times, a.Times), strings.Compare(a.Address, b.Address))
	})
	return out
}

// client tells of an access point.
func (s *Service) client(a *kept.AccessPoint, stays map[string]int, drops map[string][]api.NetworkDrop) api.NetworkClient {
	out := api.NetworkClient{ID: a.ID, Title: a.Title, Range: a.Range.String(), Proves: "secret", Certificate: a.Certificate,
		Networks: a.Networks, ToldAt: int(a.Told), At: value.FormatTime(a.At), By: a.By, Reason: a.Reason,
		Stays: stays[a.ID], Dropped: drops[a.ID]}
	if a.Range.IsSingleIP() {
		out.Range = a.Range.Addr().String()
	}
	if a.Certificate != "" {
		out.Proves = "certificate"
	}
	if out.ToldAt == 0 {
		out.ToldAt = usualPort
	}
	if out.Dropped == nil {
		out.Dropped = []api.NetworkDrop{}
	}
	slices.SortFunc(out.Dropped, func(a, b api.NetworkDrop) int {
		return cmp.Or(cmp.Compare(b.Times, a.Times), strings.Compare(a.Why, b.Why))
	})
	return out
}

// Networks lists the networks of the rulebook, with how many are on each.
func (s *Service) Networks() []api.Network {
	snap := s.Snapshot()
	rb := snap.Book.Rulebook
	on, untold := map[[2]string]int{}, map[string]int{}
	for _, x := range snap.Stays.All() {
		grant := ""
		if x.Granted != nil {
			grant = x.Granted.Grant
		}
		on[[2]string{x.Network, grant}]++
		if x.Untold != 0 {
			untold[x.Network]++
		}
	}
	out := []api.Network{}
	for i := range rb.Networks {
		n := &rb.Networks[i]
		shown := api.Network{ID: n.ID, Ssids: n.SSIDs, Person: n.Person, Grants: []api.NetworkGrant{},
			Untold: untold[n.ID]}
		for _, r := range rb.Resources {
			if r.ID == n.ID {
				shown.Title = r.Title
			}
		}
		for key, k := range on {
			if key[0] == n.ID {
				shown.Stays += k
			}
		}
		for j := range n.Grants {
			g := &n.Grants[j]
			one := api.NetworkGrant{ID: g.ID, When: g.When.String(), Vlan: g.VLAN, Filter: g.Filter,
				SessionSeconds: g.Session / 1_000_000, Recover: g.Recover, Stays: on[[2]string{n.ID, g.ID}]}
			for _, a := range g.Attributes {
				if one.Attributes == nil {
					one.Attributes = api.Texts{}
				}
				one.Attributes[a.Name] = a.Value
			}
			shown.Grants = append(shown.Grants, one)
		}
		out = append(out, shown)
	}
	return out
}

// Stays lists who is on which network, the newest first.
func (s *Service) Stays(p api.ListStaysParams) (*api.StayPage, error) {
	after, err := stayCursor(p.Cursor)
	if err != nil {
		return nil, err
	}
	snap := s.Snapshot()
	out := &api.StayPage{Items: []api.Stay{}}
	var all []*kept.Stay
	for _, x := range snap.Stays.All() {
		grant := ""
		if x.Granted != nil {
			grant = x.Granted.Grant
		}
		if (p.Network == "" || x.Network == p.Network) && (p.Device == "" || x.Device == p.Device) &&
			(p.Person == "" || x.Person == p.Person) && (p.AccessPoint == "" || x.AccessPoint == p.AccessPoint) &&
			(p.Grant == "" || grant == p.Grant) && (!p.Untold || x.Untold != 0) {
			all = append(all, x)
		}
	}
	slices.SortFunc(all, newestFirst)
	out.Total = len(all)
	if after != nil {
		at, found := slices.BinarySearchFunc(all, after, newestFirst)
		if found {
			at++
		}
		all = all[at:]
	}
	if len(all) > p.Limit {
		all = all[:p.Limit]
		last := all[p.Limit-1]
		out.Next = strconv.FormatInt(last.At, 10) + " " + last.ID
	}
	for _, x := range all {
		y := api.Stay{ID: x.ID, AccessPoint: x.AccessPoint, AtAddress: x.From.String(), Port: x.Port, Address: x.Address,
			Addresses: x.Addresses, Network: x.Network, Device: x.Device, Person: x.Person, Level: x.Level,
			Decision: x.Decision, Granted: x.Granted, Granting: x.Granting, Since: value.FormatTime(x.At),
			Until: value.FormatTime(x.Until), UntoldWhy: x.UntoldWhy}
		rb := snap.Book.Rulebook
		if d := snap.Fleet.Get(x.Device); d != nil {
			y.Level = rb.LevelName(snap.At(d, s.Micros()).Result.Level)
		}
		y.Rank, _ = rb.Rank(rb.Called(y.Level))
		y.Top = int(rb.Top())
		if c := x.Asked.Context; c != nil {
			y.Proof = c.Proof
		}
		if x.HeardAt != 0 {
			y.HeardAt = value.FormatTime(x.HeardAt)
		}
		if x.Untold != 0 {
			y.UntoldSince = value.FormatTime(x.Untold)
		}
		out.Items = append(out.Items, y)
	}
	return out, nil
}

func newestFirst(a, b *kept.Stay) int {
	return cmp.Or(cmp.Compare(b.At, a.At), strings.Compare(a.ID, b.ID))
}

// stayCursor reads behind which stay a page begins; nil for the first.
func stayCursor(cursor string) (*kept.Stay, error) {
	if cursor == "" {
		return nil, nil
	}
	at, id, found := strings.Cut(cursor, " ")
	moment, err := strconv.ParseInt(at, 10, 64)
	if err != nil || !found {
		return nil, &fault.QueryError{Param: "cursor", Message: "this is no cursor of a page of stays"}
	}
	return &kept.Stay{At: moment, ID: id}, nil
}

// Answers notes where packets are taken.
func (s *Service) Answers(door string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.doors = append(s.doors, door)
}
