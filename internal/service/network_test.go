package service_test

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	issuer "ironledger.example/internal/authority"
	"ironledger.example/internal/network"
	"ironledger.example/internal/radius"
	"ironledger.example/internal/service"
	"ironledger.example/internal/standin"
	"ironledger.example/internal/state"
)

const harbour = `rulebook: harbour
freshness: {default: 24h}
break_glass: [master]
authority:
  name: gullholm.example
  profiles: [{id: crew, applies: form == laptop, lifetime: 7d, renew_from: 2d, least: unproven, holds: 9}]
resources: [{id: deck-wifi}, {id: hold}]
baselines: [{id: laptop, rules: [{id: disk, check: storage.encrypted, cap: barred, unknown: limited}]}]
gates:
  - {id: deck, who: {everyone: true}, what: {resources: [deck-wifi]}, need: 'not known(user.id) or user.id != "outcast"', valid_for: 5m}
networks:
  - id: deck-wifi
    ssids: [Gullholm Deck]
    grants:
      - {id: crew, when: level >= limited and request.proof == certificate, vlan: 40, filter: crew, session: 8h}
      - {id: heal, when: request.proof == certificate, vlan: heal, session: 1h, recover: true}
      - {id: private, when: known_device and request.proof == address, vlan: 50}
      - {id: visitors, when: not known_device and request.proof == address, vlan: 60, session: 30m}
  - {id: hold, grants: [{when: false}]}
`

// deck is a service with a network, and an access point that asks it.
type deck struct {
	*testing.T
	*service.Service
	point *standin.AccessPoint
	stop  context.CancelFunc
}

// opened serves the door of records over UDP, as on the addresses of an access point that is there already.
func (k *deck) opened() {
	k.Helper()
	cert, err := k.Authority.ServerCertificate(ctx, []string{"127.0.0.1"}, time.Hour)
	if err != nil {
		k.Fatal(err)
	}
	inside := radius.Secured(func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return cert, nil }, nil)
	k.Networks.Start(network.Options{TLS: func() *tls.Config { return inside },
		Timing: network.Timing{Wait: 100 * time.Millisecond, Tries: 2, Again: 100 * time.Millisecond, Look: 50 * time.Millisecond}})
	serving, stop := context.WithCancel(context.Background())
	for at, accounting := range map[*string]bool{&k.point.Ask: false, &k.point.Account: true} {
		conn, err := net.ListenPacket("udp", cmp.Or(*at, "127.0.0.1:0"))
		if err != nil {
			k.Fatal(err)
		}
		if *at == "" { // the access point reads it from now on
			*at = conn.LocalAddr().String()
		}
		context.AfterFunc(serving, func() { conn.Close() })
		go func() { _ = k.Networks.Serve(serving, conn, accounting) }()
	}
	k.stop = stop
}

func onDeck(t *testing.T, dir string) *deck {
	t.Helper()
	s := open(t, dir)
	publish(t, s, harbour)
	staff(t, s)
	report(t, s, "d1", `"form":"laptop","storage.encrypted":true,"owner":"maren","network.macs":["02-00-5E-00-53-01"]`)
	s.Authority.Start("http://127.0.0.1:1")
	k := &deck{T: t, Service: s, point: &standin.AccessPoint{Name: "deck-3", Address: "02:00:5e:00:54:03", SSID: "Gullholm Deck"}}
	if err := k.point.Open(); err != nil {
		t.Fatal(err)
	}
	made, err := s.Networks.Add(ctx, "admin", api.NetworkClientDraft{ID: "deck-3", Range: "127.0.0.1",
		ToldAt: k.point.ToldAt(), Networks: []string{"deck-wifi"}})
	if err != nil {
		t.Fatal(err)
	}
	k.point.Secret = made.Secret
	pointing, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	go k.point.Serve(pointing)
	k.opened()
	return k
}

func (k *deck) shut() {
	k.Helper()
	k.stop()
	shut(k.T, k.Service)
}

// certified is a device with a certificate of our own authority.
func (k *deck) certified(device, address string) (standin.Station, *x509.Certificate) {
	k.Helper()
	key := made(k.T)
	g, err := k.Authority.Enrol(ctx, issuer.Asking{Name: device, Code: invite(k.T, k.Service, device, ""),
		Request: csr(k.T, key, device)})
	if err != nil {
		k.Fatal(err)
	}
	roots := x509.NewCertPool()
	for _, c := range k.Authority.Trusted() {
		roots.AddCert(c)
	}
	return standin.Station{Address: address, IP: "10.40.0.9", Name: device, TLS: &tls.Config{RootCAs: roots,
			ServerName: "127.0.0.1", Certificates: []tls.Certificate{{Certificate: [][]byte{g.Certificate.Raw}, PrivateKey: key}}}},
		g.Certificate
}

// joins lets a device come, and returns the VLAN it is on; "" and the words it is refused with.
func (k *deck) joins(s standin.Station) (vlan, refused string) {
	k.Helper()
	on, err := k.point.Join(ctx, s)
	var no *standin.RefusedError
	switch {
	case errors.As(err, &no):
		return "", no.Error()
	case err != nil:
		k.Fatal(err)
	}
	return on.VLAN, ""
}

// moves waits until the access point has a device on a VLAN, or "" gone.
func (k *deck) moves(address, vlan string) {
	k.Helper()
	waits, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	err := k.point.Await(waits, address, func(x *standin.OnNetwork) bool {
		return x == nil && vlan == "" || x != nil && x.VLAN == vlan
	})
	if err != nil {
		k.Fatalf("%s is on %+v, and should be on %q", address, k.point.On(address), vlan)
	}
}

// stays waits until the service knows so many stays, and returns them.
func (k *deck) stays(n int) []api.Stay {
	k.Helper()
	for range 400 {
		got, err := k.Networks.Stays(api.ListStaysParams{Limit: 100})
		if err != nil {
			k.Fatal(err)
		}
		if got.Total == n {
			return got.Items
		}
		time.Sleep(10 * time.Millisecond)
	}
	k.Fatalf("there are not %d stays", n)
	return nil
}

const address1 = "02:00:5e:00:53:01"

func TestADeviceJoinsWithItsCertificateAndIsMoved(t *testing.T) {
	t.Parallel()
	k := onDeck(t, t.TempDir())
	defer k.shut()
	tablet, _ := k.certified("d1", address1)
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		tablet.TLS.MinVersion, tablet.TLS.MaxVersion = version, version
		if vlan, why := k.joins(tablet); vlan != "40" {
			t.Fatalf("over TLS %x it is on %q (%s)", version, vlan, why)
		}
	}
	if on := k.point.On(address1); on.Filter != "crew" || on.Seconds < 8*3600-5 || on.Seconds > 8*3600 || on.Name != "maren" {
		t.Errorf("it is let in with %+v", on)
	}
	stay := k.stays(1)[0]
	if stay.Device != "d1" || stay.Person != "maren" || stay.Granted.Grant != "crew" || stay.Proof != "certificate" ||
		stay.Address != address1 {
		t.Errorf("it is said to stay as %+v", stay)
	}
	if at := k.View.Device("d1"); !strings.Contains(fmt.Sprint(at.Readings), "10.40.0.9") {
		t.Errorf("the address that it has there is no reading: %+v", at.Readings)
	}
	report(t, k.Service, "d1", `"form":"laptop","storage.encrypted":false,"owner":"maren"`)
	k.moves(address1, "heal")
	report(t, k.Service, "d1", `"form":"laptop","storage.encrypted":true,"owner":"maren"`)
	k.moves(address1, "40")
	if on := k.point.On(address1); on.Moved != 2 {
		t.Errorf("it was moved %d times", on.Moved)
	}
	// Whoever loses the ground loses the network; and does not come back by the same certificate.
	if _, err := k.Authority.Revoke(ctx, "admin", "", "d1", "keyCompromise", "stolen"); err != nil {
		t.Fatal(err)
	}
	k.moves(address1, "")
	if vlan, why := k.joins(tablet); vlan != "" || why == "" {
		t.Errorf("with a certificate that is taken back it is on %q", vlan)
	}
	k.stays(0)
	text := ""
	for range 100 {
		text = ""
		for _, e := range entries(t, k.Service, ledger.StayChanged) {
			text = e.Gist + "\n" + text
		}
		if strings.Contains(text, "left") {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if !strings.Contains(text, "moved, from grant crew, VLAN 40") ||
		!strings.Contains(text, "moved, from grant heal, VLAN heal") || !strings.Contains(text, "left, from grant crew") {
		t.Errorf("the ledger tells of\n%s", text)
	}
}

// Who ends sessions by hand has the devices leave, which may come again.
func TestStaysAreEndedByHand(t *testing.T) {
	t.Parallel()
	k := onDeck(t, t.TempDir())
	defer k.shut()
	tablet, _ := k.certified("d1", address1)
	for _, deaf := range []bool{false, true} {
		if vlan, why := k.joins(tablet); vlan != "40" {
			t.Fatalf("it is on %q (%s)", vlan, why)
		}
		k.stays(1)
		k.point.Deaf(deaf)
		if n, err := k.Decisions.EndSessions(ctx, "admin", "d1", "", "", "a trial"); err != nil || n != 1 {
			t.Fatal(n, err)
		}
		if deaf { // it is told later, and nothing that is granted meanwhile lets it stay
			for range 400 {
				if stay := k.stays(1)[0]; stay.UntoldSince != "" {
					break
				}
				time.Sleep(10 * time.Millisecond)
			}
			k.point.Deaf(false)
		}
		k.moves(address1, "")
		k.stays(0)
	}
}

func TestADeviceJoinsByItsAddress(t *testing.T) {
	t.Parallel()
	k := onDeck(t, t.TempDir())
	defer k.shut()
	for _, c := range []struct{ what, address, vlan string }{
		{"a device that is known", address1, "50"}, {"one that is not", "02:00:5e:00:53:99", "60"}} {
		if vlan, why := k.joins(standin.Station{Address: c.address}); vlan != c.vlan {
			t.Errorf("%s is on %q (%s)", c.what, vlan, why)
		}
	}
	// An address that two devices say is theirs is that of neither.
	report(t, k.Service, "d2", `"form":"laptop","network.macs":["02005e005301"]`)
	if vlan, _ := k.joins(standin.Station{Address: address1}); vlan != "60" {
		t.Errorf("with an address of two devices it is on %q", vlan)
	}
	report(t, k.Service, "d2", `"form":"laptop","network.macs":[]`)
	if vlan, _ := k.joins(standin.Station{Address: address1}); vlan != "50" {
		t.Errorf("with an address of one device again it is on %q", vlan)
	}
	// Break-glass behind an address that anybody can copy is nobody's.
	report(t, k.Service, "d1", `"form":"laptop","owner":"master","network.macs":["02-00-5E-00-53-01"]`)
	if vlan, _ := k.joins(standin.Station{Address: address1}); vlan != "" {
		t.Errorf("the device of a break-glass account is on %q by its address", vlan)
	}
	report(t, k.Service, "d1", `"form":"laptop","owner":"maren","network.macs":["02-00-5E-00-53-01"]`)
	if vlan, _ := k.joins(standin.Station{Address: address1}); vlan != "50" {
		t.Errorf("with its owner back it is on %q", vlan)
	}
	// Once another device has the address too, it is that of neither, and is moved.
	report(t, k.Service, "d2", `"form":"laptop","network.macs":["02005e005301"]`)
	k.moves(address1, "60")
	report(t, k.Service, "d2", `"form":"laptop","network.macs":[]`)
	k.moves(address1, "50")
	report(t, k.Service, "d1", `"form":"laptop","owner":"outcast","network.macs":["02-00-5E-00-53-01"]`)
	k.moves(address1, "")
}

// What could not be told is told once the access point is there again, over a restart too; what it may rely on
// meanwhile ends by itself.
func TestAnAccessPointThatIsAwayIsToldLater(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	k := onDeck(t, dir)
	tablet, _ := k.certified("d1", address1)
	if vlan, why := k.joins(tablet); vlan != "40" {
		t.Fatalf("it is on %q (%s)", vlan, why)
	}
	k.stays(1)
	k.point.Deaf(true)
	report(t, k.Service, "d1", `"form":"laptop","storage.encrypted":false,"owner":"maren"`)
	for range 400 {
		if stay := k.stays(1)[0]; stay.UntoldSince != "" {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	stay := k.stays(1)[0]
	if stay.UntoldSince == "" || stay.Granted.Grant != "crew" || stay.Granting == nil || stay.Granting.Grant != "heal" ||
		!strings.Contains(stay.UntoldWhy, "does not answer") || k.Networks.Networks()[0].Untold != 1 {
		t.Errorf("of an access point that is away it is said: %+v", stay)
	}
	if list, err := k.Alerts.List(); err != nil || !slices.ContainsFunc(list.Items, func(a api.Alert) bool {
		return a.About == "deck-3" && strings.Contains(a.Title, "cannot be told that 1 device is granted something else")
	}) {
		t.Errorf("what needs a person is %+v (%v)", list, err)
	}
	k.shut()
	k.Service = open(t, dir)
	k.Authority.Start("http://127.0.0.1:1")
	k.opened()
	defer k.shut()
	k.point.Deaf(false)
	k.moves(address1, "heal")
	for range 400 {
		if stay = k.stays(1)[0]; stay.UntoldSince == "" {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if stay.UntoldSince != "" || stay.Granted.Grant != "heal" {
		t.Errorf("once it was told it is said: %+v", stay)
	}
	if v := verified(t, k.Service); v.State != "sound" {
		t.Errorf("the ledger is %+v", v)
	}
}

// One that says that it moved a device, and whose accounts say otherwise, has it leave.
func TestAnAccessPointThatLies(t *testing.T) {
	t.Parallel()
	k := onDeck(t, t.TempDir())
	defer k.shut()
	tablet, _ := k.certified("d1", address1)
	if vlan, why := k.joins(tablet); vlan != "40" {
		t.Fatalf("it is on %q (%s)", vlan, why)
	}
	k.stays(1)
	k.point.Lies(true)
	report(t, k.Service, "d1", `"form":"laptop","storage.encrypted":false,"owner":"maren"`)
	for range 400 {
		if k.stays(1)[0].Granted.Grant == "heal" {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	for range 100 {
		if err := k.point.Says(ctx, standin.AllStay); err != nil {
			t.Fatal(err)
		}
		if k.point.On(address1) == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	k.moves(address1, "")
	if c := k.Networks.Clients().Items[0]; !slices.ContainsFunc(c.Dropped, func(d api.NetworkDrop) bool {
		return strings.Contains(d.Why, `says that VLAN "40"`)
	}) {
		t.Errorf("nobody tells of it: %+v", c.Dropped)
	}
}

// A network that the rulebook has no more is left by all, though the rulebook allows what no gate is about.
func TestANetworkThatIsGone(t *testing.T) {
	t.Parallel()
	k := onDeck(t, t.TempDir())
	defer k.shut()
	if vlan, _ := k.joins(standin.Station{Address: address1}); vlan != "50" {
		t.Fatalf("it is on %q", vlan)
	}
	k.stays(1)
	before, _, _ := strings.Cut(harbour, "networks:")
	publish(t, k.Service, "unmatched: allow\n"+strings.Replace(before, "resources: [deck-wifi]}, need", "everything: true}, need", 1))
	k.moves(address1, "")
	// A device that took the place of one that is retired has its address alone.
	publish(t, k.Service, harbour)
	if _, err := k.Admin.Retire(ctx, "admin", []string{"d1"}, "replaced"); err != nil {
		t.Fatal(err)
	}
	report(t, k.Service, "d2", `"form":"laptop","network.macs":["02005e005301"]`)
	if vlan, _ := k.joins(standin.Station{Address: address1}); vlan != "50" {
		t.Errorf("with the address of one that is retired it is on %q", vlan)
	}
}

func TestWhoJoins(t *testing.T) {
	t.Parallel()
	for person, want := range map[string]struct{ subject, vlan string }{
		"owner": {"maren", "40"}, "certificate": {"d1", "40"}, "identity": {"harbour", ""}, // whom the directory does not know
	} {
		k := onDeck(t, t.TempDir())
		publish(t, k.Service, strings.Replace(harbour, "ssids: [Gullholm Deck]", "ssids: [Gullholm Deck]\n    person: "+person, 1))
		tablet, _ := k.certified("d1", address1)
		tablet.Name = "harbour"
		if vlan, why := k.joins(tablet); vlan != want.vlan {
			t.Errorf("%s: it is on %q (%s)", person, vlan, why)
		}
		last := entries(t, k.Service, ledger.DecisionMade)[0]
		if !strings.Contains(last.Gist, ": "+want.subject+", join deck-wifi") {
			t.Errorf("%s: the question is %s", person, last.Gist)
		}
		if tablet.Name = "master"; person == "identity" { // nobody proved that it is the break-glass account
			if vlan, _ := k.joins(tablet); vlan != "" {
				t.Errorf("whoever says that he is the break-glass account is on %q", vlan)
			}
		}
		k.shut()
	}
}

// Where the answer ends before the grant's time, as evidence goes stale, the access point is told no longer than that.
func TestAnAdmissionThatIsMovedEndsWithItsAnswer(t *testing.T) {
	t.Parallel()
	k := onDeck(t, t.TempDir())
	defer k.shut()
	publish(t, k.Service, strings.NewReplacer("freshness: {default: 24h}", "freshness: {default: 30m}").Replace(harbour))
	tablet, _ := k.certified("d1", address1)
	if vlan, why := k.joins(tablet); vlan != "40" {
		t.Fatalf("it is on %q (%s)", vlan, why)
	}
	for i, step := range []string{"heal", "40"} {
		report(t, k.Service, "d1", fmt.Sprintf(`"form":"laptop","storage.encrypted":%t,"owner":"maren"`, i == 1))
		k.moves(address1, step)
		if on := k.point.On(address1); on.Seconds > 30*60 || on.Seconds < 29*60 {
			t.Errorf("on %s it may stay for %d s, and its evidence is good for half an hour", step, on.Seconds)
		}
	}
	if on := k.point.On(address1); on.Moved != 2 {
		t.Errorf("it was moved %d times", on.Moved)
	}
}

// One access point that does not answer leaves the others their place.
func TestAnAccessPointThatIsAwayHoldsUpNoOther(t *testing.T) {
	t.Parallel()
	k := onDeck(t, t.TempDir())
	defer k.shut()
	other := &standin.AccessPoint{Name: "deck-4", Address: "02:00:5e:00:54:04", SSID: "Gullholm Deck", Ask: k.point.Ask,
		Account: k.point.Account, From: "127.0.0.2"}
	if err := other.Open(); err != nil {
		t.Fatal(err)
	}
	made, err := k.Networks.Add(ctx, "admin", api.NetworkClientDraft{ID: "deck-4", Range: "127.0.0.2", ToldAt: other.ToldAt()})
	if err != nil {
		t.Fatal(err)
	}
	other.Secret = made.Secret
	other.Deaf(true)
	pointing, stop := context.WithCancel(ctx)
	defer stop()
	go other.Serve(pointing)
	for i := range 60 {
		if _, err := other.Join(ctx, standin.Station{Address: fmt.Sprintf("02:00:5e:00:55:%02x", i)}); err != nil {
			t.Fatal(err)
		}
	}
	if vlan, _ := k.joins(standin.Station{Address: "02:00:5e:00:53:90"}); vlan != "60" {
		t.Fatalf("the visitor is on %q", vlan)
	}
	k.stays(61)
	begun := time.Now()
	publish(t, k.Service, strings.Replace(harbour, "vlan: 60", "vlan: 61", 1)) // all are moved
	k.moves("02:00:5e:00:53:90", "61")
	if took := time.Since(begun); took > 5*time.Second {
		t.Errorf("the other was told after %s", took)
	}
	other.Deaf(false)
	for i := range 60 {
		waits, cancel := context.WithTimeout(ctx, 90*time.Second) // an answer may be lost; each wait is longer
		if err := other.Await(waits, fmt.Sprintf("02:00:5e:00:55:%02x", i), func(x *standin.OnNetwork) bool {
			return x != nil && x.VLAN == "61"
		}); err != nil {
			t.Errorf("device %d is not moved once its access point is back: %v", i, err)
		}
		cancel()
	}
}

// What changed while the service was away is told at its start.
func TestWhatChangedWhileTheServiceWasAwayIsTold(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	k := onDeck(t, dir)
	tablet, _ := k.certified("d1", address1)
	if vlan, why := k.joins(tablet); vlan != "40" {
		t.Fatalf("it is on %q (%s)", vlan, why)
	}
	k.stays(1)
	k.stop()
	k.Networks.Stop() // nobody is told any more
	report(t, k.Service, "d1", `"form":"laptop","storage.encrypted":false,"owner":"maren"`)
	shut(t, k.Service)
	k.Service = open(t, dir)
	k.Authority.Start("http://127.0.0.1:1")
	k.opened()
	defer k.shut()
	k.moves(address1, "heal")
}

// A stay that did not come to the disk before the service was killed is known again by its decision, and one that was
// over by then is not there.
func TestAStayThatWasLostIsBroughtBack(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	k := onDeck(t, dir)
	tablet, _ := k.certified("d1", address1)
	if vlan, why := k.joins(tablet); vlan != "40" {
		t.Fatalf("it is on %q (%s)", vlan, why)
	}
	if vlan, _ := k.joins(standin.Station{Address: "02:00:5e:00:53:81"}); vlan != "60" {
		t.Fatalf("the visitor is on %q", vlan)
	}
	k.stays(2)
	if err := k.point.Leave(ctx, "02:00:5e:00:53:81"); err != nil {
		t.Fatal(err)
	}
	stay := k.stays(1)[0]
	if err := k.Do(ctx, func(c *state.Change) error { state.Drop(c, state.StayKind, stay.ID); return nil }); err != nil {
		t.Fatal(err)
	}
	k.shut()
	k.Service = open(t, dir)
	k.Authority.Start("http://127.0.0.1:1")
	k.opened()
	defer k.shut()
	for range 400 {
		if got := k.stays(1); got[0].ID == stay.ID && got[0].UntoldSince == "" {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if got := k.stays(1)[0]; got.ID != stay.ID || got.Granted.Grant != "crew" || got.UntoldSince != "" {
		t.Errorf("it is known as %+v", got)
	}
	report(t, k.Service, "d1", `"form":"laptop","storage.encrypted":false,"owner":"maren"`)
	k.moves(address1, "heal")
}

func TestAccountsOfStays(t *testing.T) {
	t.Parallel()
	k := onDeck(t, t.TempDir())
	defer k.shut()
	for i := range 3 {
		if vlan, _ := k.joins(standin.Station{Address: fmt.Sprintf("02:00:5e:00:53:8%d", i)}); vlan != "60" {
			t.Fatalf("a visitor is on %q", vlan)
		}
	}
	k.stays(3)
	if err := k.point.Leave(ctx, "02:00:5e:00:53:80"); err != nil {
		t.Fatal(err)
	}
	k.stays(2)
	if err := k.point.Says(ctx, standin.BeginsAnew); err != nil { // nobody is there after a restart of it
		t.Fatal(err)
	}
	k.stays(0)
	if err := k.point.Says(ctx, standin.HasStranger); err != nil { // nobody let it in
		t.Fatal(err)
	}
	if !slices.ContainsFunc(k.Networks.Clients().Items[0].Dropped, func(d api.NetworkDrop) bool {
		return strings.Contains(d.Why, "nobody let in")
	}) {
		t.Errorf("nobody tells of a device that nobody let in: %+v", k.Networks.Clients())
	}
	if _, err := k.Networks.Remove(ctx, "admin", "deck-3", "taken down"); err != nil {
		t.Fatal(err)
	}
	short, cancel := context.WithTimeout(ctx, 100*time.Millisecond)
	defer cancel()
	if err := k.point.Says(short, standin.BeginsAnew); err == nil {
		t.Error("an access point that was removed is answered")
	}
	if c := k.Networks.Clients(); len(c.Items) != 0 || len(c.Strangers) != 1 {
		t.Errorf("who asks is %+v", c)
	}
}
