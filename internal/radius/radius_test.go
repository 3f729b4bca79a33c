package radius

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"log/slog"
	"math/big"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2866"
	"layeh.com/radius/rfc2869"

	"ironledger.example/core/eap"
)

const secret = "sixteen-letters-and-more"

// door answers everybody whom it knows, and counts.
type door struct {
	knows   func(netip.Addr) bool
	shows   string // the certificate of the one who comes over TLS
	asked   atomic.Int64
	told    atomic.Int64
	slow    chan struct{} // closed when answers may go; nil: at once
	answers func(*Request) *radius.Packet
	mu      sync.Mutex
}

// set changes what it does.
func (d *door) set(change func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	change()
}

func (d *door) Peer(from netip.Addr) (Peer, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return Peer{ID: "deck", Secret: []byte(secret)}, d.knows == nil || d.knows(from)
}
func (d *door) PeerShowing(_ netip.Addr, sha256 string) (Peer, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return Peer{ID: "deck", Secret: []byte(SecretOverTLS)}, sha256 == d.shows
}
func (d *door) Access(_ context.Context, r *Request) *radius.Packet {
	d.asked.Add(1)
	if d.slow != nil {
		<-d.slow
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.answers != nil {
		return d.answers(r)
	}
	return r.Response(radius.CodeAccessAccept)
}
func (d *door) Account(context.Context, *Request) bool { d.told.Add(1); return true }

// serve answers on loopback until the test ends.
func serve(t *testing.T, d *door, accounting bool) (*Server, string) {
	t.Helper()
	s := &Server{Handler: d, Log: slog.New(slog.DiscardHandler)}
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); _ = s.Serve(ctx, conn, accounting) }()
	t.Cleanup(func() { stop(); conn.Close(); <-done })
	return s, conn.LocalAddr().String()
}

// say sends bytes and returns the answer, nil when none comes in a while.
func say(t *testing.T, conn net.Conn, raw []byte) []byte {
	t.Helper()
	if _, err := conn.Write(raw); err != nil {
		t.Fatal(err)
	}
	if err := conn.SetReadDeadline(time.Now().Add(150 * time.Millisecond)); err != nil {
		t.Fatal(err)
	}
	buffer := make([]byte, radius.MaxPacketLength)
	n, err := conn.Read(buffer)
	if err != nil {
		return nil
	}
	return buffer[:n]
}

func dial(t *testing.T, to string) net.Conn {
	t.Helper()
	conn, err := net.Dial("udp", to)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	return conn
}

// request is one with all that it needs.
func request(t *testing.T, code radius.Code, key string) (*radius.Packet, []byte) {
	t.Helper()
	p := radius.New(code, []byte(key))
	_ = rfc2865.UserName_SetString(p, "maren")
	_ = rfc2865.ProxyState_SetString(p, "a")
	_ = rfc2865.ProxyState_Add(p, []byte("b"))
	raw, err := Encode(p)
	if err != nil {
		t.Fatal(err)
	}
	return p, raw
}

func TestOnlyAuthenticPacketsAreAnswered(t *testing.T) {
	d := &door{}
	s, at := serve(t, d, false)
	conn := dial(t, at)
	_, good := request(t, radius.CodeAccessRequest, secret)
	answer := say(t, conn, good)
	p, err := Authentic(answer, good, []byte(secret))
	if err != nil || p.Code != radius.CodeAccessAccept {
		t.Fatalf("it is answered %x: %v", answer, err)
	}
	if radius.Type(answer[20]) != rfc2869.MessageAuthenticator_Type {
		t.Error("the Message-Authenticator does not stand first")
	}
	if states, err := rfc2865.ProxyState_GetStrings(p); err != nil || !slices.Equal(states, []string{"a", "b"}) {
		t.Errorf("what proxies put in comes back as %q (%v)", states, err)
	}
	bare := radius.New(radius.CodeAccessRequest, []byte(secret))
	_ = rfc2865.UserName_SetString(bare, "maren")
	unsigned, _ := bare.Encode()
	_, forged := request(t, radius.CodeAccessRequest, "another secret altogether")
	_, account := request(t, radius.CodeAccountingRequest, secret)
	altered := bytes.Clone(good)
	altered[len(altered)-1] ^= 1
	altered[1]++
	twice := bytes.Clone(good)
	twice = append(twice, good[20:38]...)
	twice[3] += 18
	for name, c := range map[string]struct {
		raw []byte
		why error
	}{
		"without a Message-Authenticator": {unsigned, ErrUnsigned}, "with another secret": {forged, ErrForged},
		"altered": {altered, ErrForged}, "with two": {twice, ErrMalformed}, "cut": {good[:15], ErrMalformed},
		"shorter than it says": {good[:len(good)-1], ErrMalformed}, "of the other kind": {account, ErrUnwanted},
		"an answer": {answer, ErrUnwanted}, "nothing": {[]byte{}, ErrMalformed},
	} {
		if got := say(t, conn, c.raw); got != nil {
			t.Errorf("%s: it is answered %x", name, got)
		}
		if dropped, _ := s.Dropped(); dropped[Drop{"deck", c.why.Error()}] == 0 {
			t.Errorf("%s: nobody counts it: %v", name, dropped)
		}
	}
	if d.asked.Load() != 1 {
		t.Errorf("%d were put to the door", d.asked.Load())
	}
	d.set(func() { d.knows = func(netip.Addr) bool { return false } })
	_, other := request(t, radius.CodeAccessRequest, secret)
	if say(t, conn, other) != nil {
		t.Error("a stranger is answered")
	}
	if dropped, from := s.Dropped(); dropped[Drop{"", ErrUnknown.Error()}] != 1 || from[netip.MustParseAddr("127.0.0.1")] != 1 {
		t.Errorf("strangers are %v, %v", dropped, from)
	}
}

func TestPaddingIsNoPartOfAPacket(t *testing.T) {
	_, at := serve(t, &door{}, false)
	_, raw := request(t, radius.CodeAccessRequest, secret)
	if got := say(t, dial(t, at), append(bytes.Clone(raw), 0, 0, 0)); got == nil {
		t.Error("a packet with padding (RFC 2865, section 3) is dropped")
	}
}

// A packet that is sent again gets the same answer, and is put to the door once, also while nobody knows the answer yet.
func TestARepeatedPacketIsAnsweredOnce(t *testing.T) {
	d := &door{slow: make(chan struct{})}
	_, at := serve(t, d, false)
	conn := dial(t, at)
	_, raw := request(t, radius.CodeAccessRequest, secret)
	for range 3 {
		if got := say(t, conn, raw); got != nil {
			t.Fatalf("it is answered %x before anybody knows", got)
		}
	}
	close(d.slow)
	buffer := make([]byte, radius.MaxPacketLength)
	if err := conn.SetReadDeadline(time.Now().Add(5 * time.Second)); err != nil {
		t.Fatal(err)
	}
	n, err := conn.Read(buffer)
	if err != nil {
		t.Fatal(err)
	}
	first := bytes.Clone(buffer[:n])
	for range 3 {
		if got := say(t, conn, raw); !bytes.Equal(got, first) {
			t.Errorf("again it is answered %x, and was %x", got, first)
		}
	}
	if d.asked.Load() != 1 {
		t.Errorf("it was put to the door %d times", d.asked.Load())
	}
	// One that was answered with silence is put again.
	d.set(func() { d.answers = func(*Request) *radius.Packet { return nil } })
	_, silent := request(t, radius.CodeAccessRequest, secret)
	say(t, conn, silent)
	d.set(func() { d.answers = nil })
	if say(t, conn, silent) == nil {
		t.Error("after silence it is never answered")
	}
}

func TestOneThatFloodsLeavesRoomForOthers(t *testing.T) {
	d := &door{slow: make(chan struct{})}
	defer close(d.slow)
	s, at := serve(t, d, false)
	conn := dial(t, at)
	for range maxOfPeer + 50 {
		_, raw := request(t, radius.CodeAccessRequest, secret)
		if _, err := conn.Write(raw); err != nil {
			t.Fatal(err)
		}
	}
	for range 100 {
		if dropped, _ := s.Dropped(); dropped[Drop{"deck", ErrBusy.Error()}] >= 50 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if n := d.asked.Load(); n > maxOfPeer || n < maxOfPeer/2 {
		t.Errorf("%d of one access point go on at once", n)
	}
}

func TestStatusAndAccounts(t *testing.T) {
	d := &door{}
	_, at := serve(t, d, true)
	conn := dial(t, at)
	_, status := request(t, radius.CodeStatusServer, secret)
	if p, err := Authentic(say(t, conn, status), status, []byte(secret)); err != nil ||
		p.Code != radius.CodeAccountingResponse {
		t.Errorf("a question for the status is answered %+v (%v)", p, err)
	}
	p := radius.New(radius.CodeAccountingRequest, []byte(secret))
	_ = rfc2866.AcctStatusType_Set(p, rfc2866.AcctStatusType_Value_Start)
	plain, err := p.Encode() // which may do without a Message-Authenticator
	if err != nil {
		t.Fatal(err)
	}
	if got := say(t, conn, plain); got == nil || d.told.Load() != 1 {
		t.Errorf("an account is answered %x", got)
	}
	forged := bytes.Clone(plain)
	forged[len(forged)-1] = 2 // a stop
	if got := say(t, conn, forged); got != nil || d.told.Load() != 1 {
		t.Errorf("an account that was altered is answered %x", got)
	}
	access := &door{}
	_, at = serve(t, access, false)
	if p, err := Authentic(say(t, dial(t, at), status), status, []byte(secret)); err != nil ||
		p.Code != radius.CodeAccessAccept || access.asked.Load() != 0 {
		t.Errorf("at the other door it is answered %+v (%v)", p, err)
	}
}

// pair is a certificate that signs itself.
func pair(t *testing.T, name string) tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}
}

// allowed is an admission of everybody.
type allowed bool

func (a allowed) Allowed() bool { return bool(a) }
func (a allowed) Answer(_ context.Context, r *Request) *radius.Packet {
	if !a {
		return r.Response(radius.CodeAccessReject)
	}
	return r.Response(radius.CodeAccessAccept)
}

// conversing is a door that carries EAP-TLS.
func conversing(t *testing.T, admits bool) (c *Conversations, proved chan Proved, trust *x509.CertPool) {
	t.Helper()
	own := pair(t, "radius.gullholm.example")
	trust = x509.NewCertPool()
	trust.AddCert(own.Leaf)
	proved = make(chan Proved, 10)
	return &Conversations{
		TLS: func() *tls.Config {
			return Secured(func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return &own, nil }, nil)
		},
		Decide:  func(_ context.Context, _ *Request, p Proved) Admission { proved <- p; return allowed(admits) },
		Refused: func(_ *Request, why string) { t.Log("refused:", why) }, Now: time.Now}, proved, trust
}

// talk carries a conversation of a device, and returns the last answer. meddle may change each packet before it is sent.
func talk(t *testing.T, c *Conversations, s *Supplicant, meddle func(round int, p *radius.Packet)) *radius.Packet {
	t.Helper()
	ctx := t.Context()
	says := append([]byte{2, 1, 0, byte(5 + len(s.Identity)), 1}, s.Identity...)
	var state []byte
	for round := range 60 {
		p := radius.New(radius.CodeAccessRequest, []byte(secret))
		_ = rfc2869.EAPMessage_Set(p, says)
		_ = rfc2865.CallingStationID_SetString(p, "02-00-5E-00-53-01")
		if state != nil {
			_ = rfc2865.State_Set(p, state)
		}
		if meddle != nil {
			meddle(round, p)
		}
		answer := c.Answer(ctx, &Request{p, Peer{ID: "deck", Secret: []byte(secret)}})
		if answer == nil || answer.Code != radius.CodeAccessChallenge {
			return answer
		}
		var err error
		if says, err = s.Answer(ctx, rfc2869.EAPMessage_Get(answer)); err != nil {
			t.Log("the device gives up:", err)
			return nil
		}
		state = rfc2865.State_Get(answer)
	}
	t.Fatal("it does not end")
	return nil
}

func TestADeviceProvesItself(t *testing.T) {
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		for _, mtu := range []uint32{0, 100, 1400} {
			for _, admits := range []bool{true, false} {
				c, proved, trust := conversing(t, admits)
				own := pair(t, "d1")
				s := NewSupplicant("d1", &tls.Config{RootCAs: trust, ServerName: "radius.gullholm.example",
					Certificates: []tls.Certificate{own}, MinVersion: version, MaxVersion: version})
				answer := talk(t, c, s, func(_ int, p *radius.Packet) {
					if mtu != 0 {
						_ = rfc2865.FramedMTU_Set(p, rfc2865.FramedMTU(mtu))
					}
				})
				want, end := radius.CodeAccessReject, eap.Failure
				if admits {
					want, end = radius.CodeAccessAccept, eap.Success
				}
				if answer == nil || answer.Code != want {
					t.Fatalf("TLS %x, MTU %d: it is answered %+v", version, mtu, answer)
				}
				if p, err := eap.Parse(rfc2869.EAPMessage_Get(answer)); err != nil || p.Code != end {
					t.Errorf("TLS %x: the end is %+v (%v)", version, p, err)
				}
				got := <-proved
				if !got.Certificate.Equal(own.Leaf) || got.Identity != "d1" || got.Station != "02:00:5e:00:53:01" {
					t.Errorf("what is proved is %+v", got)
				}
				if len(c.all)+len(c.of)+len(c.by) != 0 {
					t.Errorf("conversations stay behind: %v", c.all)
				}
			}
		}
	}
}

func TestWhoDoesNotProveItself(t *testing.T) {
	c, proved, trust := conversing(t, true)
	config := func() *tls.Config {
		return &tls.Config{RootCAs: trust, ServerName: "radius.gullholm.example",
			Certificates: []tls.Certificate{pair(t, "d1")}}
	}
	for name, try := range map[string]func() *radius.Packet{
		"without a certificate": func() *radius.Packet {
			x := config()
			x.Certificates = nil
			return talk(t, c, NewSupplicant("d1", x), nil)
		},
		"who does not trust us": func() *radius.Packet {
			x := config()
			x.RootCAs = x509.NewCertPool()
			return talk(t, c, NewSupplicant("d1", x), nil)
		},
		"with a key that is not its own": func() *radius.Packet {
			x := config()
			x.Certificates[0].PrivateKey = pair(t, "other").PrivateKey
			return talk(t, c, NewSupplicant("d1", x), nil)
		},
		"by another station in the middle": func() *radius.Packet {
			return talk(t, c, NewSupplicant("d1", config()), func(round int, p *radius.Packet) {
				if round == 2 {
					_ = rfc2865.CallingStationID_SetString(p, "02-00-5E-00-53-02")
				}
			})
		},
		"with a state that was guessed": func() *radius.Packet {
			return talk(t, c, NewSupplicant("d1", config()), func(round int, p *radius.Packet) {
				if round == 1 {
					_ = rfc2865.State_Set(p, make([]byte, 16))
				}
			})
		},
		"by another method": func() *radius.Packet {
			return talk(t, c, NewSupplicant("d1", config()), func(round int, p *radius.Packet) {
				if raw := rfc2869.EAPMessage_Get(p); round == 1 {
					p.Attributes.Del(rfc2869.EAPMessage_Type)
					_ = rfc2869.EAPMessage_Set(p, eap.Packet{Code: eap.Response, ID: raw[1], Type: eap.Nak,
						Data: []byte{25}}.Append(nil))
				}
			})
		},
		"with fragments that do not fit": func() *radius.Packet {
			return talk(t, c, NewSupplicant("d1", config()), func(round int, p *radius.Packet) {
				if raw := rfc2869.EAPMessage_Get(p); round == 1 {
					p.Attributes.Del(rfc2869.EAPMessage_Type)
					_ = rfc2869.EAPMessage_Set(p, eap.Packet{Code: eap.Response, ID: raw[1], Type: eap.TLS,
						Data: []byte{0x80, 0xff, 0xff, 0xff, 0xff, 1}}.Append(nil))
				}
			})
		},
		"with noise for TLS": func() *radius.Packet {
			return talk(t, c, NewSupplicant("d1", config()), func(round int, p *radius.Packet) {
				if raw := rfc2869.EAPMessage_Get(p); round == 1 {
					p.Attributes.Del(rfc2869.EAPMessage_Type)
					_ = rfc2869.EAPMessage_Set(p, eap.Packet{Code: eap.Response, ID: raw[1], Type: eap.TLS,
						Data: append([]byte{0}, "noise, and more noise"...)}.Append(nil))
				}
			})
		},
	} {
		if answer := try(); answer != nil && answer.Code == radius.CodeAccessAccept {
			t.Errorf("%s it is let in", name)
		}
		select {
		case p := <-proved:
			t.Errorf("%s it proves %+v", name, p)
		default:
		}
	}
	// An answer that comes again in a conversation is not taken for the next.
	s := NewSupplicant("d1", config())
	var last []byte
	answer := talk(t, c, s, func(round int, p *radius.Packet) {
		if raw := rfc2869.EAPMessage_Get(p); round == 2 {
			last = raw
		} else if round == 3 {
			p.Attributes.Del(rfc2869.EAPMessage_Type)
			_ = rfc2869.EAPMessage_Set(p, last)
		}
	})
	if answer != nil {
		t.Errorf("an old answer in a conversation is answered %+v", answer)
	}
}

// Conversations that nobody ends are forgotten, and are bounded meanwhile.
func TestConversationsAreBounded(t *testing.T) {
	c, _, _ := conversing(t, true)
	c.Refused = func(*Request, string) {}
	now := time.Now()
	var mu sync.Mutex
	c.Now = func() time.Time { mu.Lock(); defer mu.Unlock(); return now }
	begin := func(i int) *radius.Packet {
		p := radius.New(radius.CodeAccessRequest, []byte(secret))
		_ = rfc2869.EAPMessage_Set(p, []byte{2, 1, 0, 6, 1, 'x'})
		_ = rfc2865.CallingStationID_SetString(p, netip.AddrFrom4([4]byte{10, 0, byte(i >> 8), byte(i)}).String())
		return c.Answer(t.Context(), &Request{p, Peer{ID: "deck", Secret: []byte(secret)}})
	}
	for i := range maxOfOnePeer + 10 {
		if got := begin(i); (got == nil) != (i >= maxOfOnePeer) {
			t.Fatalf("conversation %d: %+v", i, got)
		}
	}
	if begin(3) == nil || len(c.all) != maxOfOnePeer { // the same station begins anew
		t.Errorf("%d conversations", len(c.all))
	}
	mu.Lock()
	now = now.Add(conversationLives + time.Second)
	mu.Unlock()
	if begin(5000) == nil || len(c.all) != 1 {
		t.Errorf("%d conversations after their time", len(c.all))
	}
}

func TestOverTLS(t *testing.T) {
	own, point := pair(t, "radius.gullholm.example"), pair(t, "deck-3")
	d := &door{}
	s := &Server{Handler: d, Log: slog.New(slog.DiscardHandler)}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	served := make(chan error, 1)
	go func() {
		served <- s.ServeTLS(ctx, l, OverTLS(func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return &own, nil }, nil))
	}()
	trust := x509.NewCertPool()
	trust.AddCert(own.Leaf)
	call := func() (*tls.Conn, []byte) {
		conn, err := tls.Dial("tcp", l.Addr().String(), &tls.Config{RootCAs: trust, ServerName: "radius.gullholm.example",
			Certificates: []tls.Certificate{point}})
		if err != nil {
			t.Fatal(err)
		}
		_, raw := request(t, radius.CodeAccessRequest, SecretOverTLS)
		return conn, say(t, conn, raw)
	}
	if conn, answer := call(); answer != nil || d.asked.Load() != 0 {
		t.Errorf("one whose certificate nobody entered is answered %x", answer)
	} else {
		conn.Close()
	}
	d.set(func() { d.shows = fingerprint(point.Certificate[0]) })
	conn, answer := call()
	defer conn.Close()
	if len(answer) == 0 || radius.Code(answer[0]) != radius.CodeAccessAccept {
		t.Fatalf("over TLS it is answered %x", answer)
	}
	// What it is told comes over its own connection.
	go func() {
		buffer := make([]byte, radius.MaxPacketLength)
		_ = conn.SetReadDeadline(time.Now().Add(5 * time.Second))
		n, err := conn.Read(buffer)
		if err != nil {
			return
		}
		p, err := radius.Parse(buffer[:n], []byte(SecretOverTLS))
		if err != nil {
			return
		}
		raw, _ := Encode(p.Response(radius.CodeDisconnectACK))
		_, _ = conn.Write(raw)
	}()
	_, told := request(t, radius.CodeDisconnectRequest, SecretOverTLS)
	p, err := s.Exchange(ctx, "deck", netip.MustParseAddr("127.0.0.1"), told, 5*time.Second)
	if err != nil || p.Code != radius.CodeDisconnectACK {
		t.Errorf("what it is told is answered %+v (%v)", p, err)
	}
	if _, err := s.Exchange(ctx, "other", netip.MustParseAddr("127.0.0.1"), told, time.Second); err == nil {
		t.Error("one that is not connected is told something")
	}
	d.set(func() { d.shows = "" }) // it is removed while it is connected
	_, raw := request(t, radius.CodeAccessRequest, SecretOverTLS)
	if got := say(t, conn, raw); got != nil {
		t.Errorf("one that was removed is answered %x", got)
	}
	stop()
	if err := <-served; err != nil {
		t.Error(err)
	}
}

func TestAnswersAreChecked(t *testing.T) {
	_, raw := request(t, radius.CodeCoARequest, secret)
	if _, err := read(raw, []byte(secret), true); err != nil {
		t.Errorf("what we ask is not authentic: %v", err)
	}
	// The response hashes over the request as it was sent.
	q, err := radius.Parse(raw, []byte(secret))
	if err != nil {
		t.Fatal(err)
	}
	good, err := Encode(q.Response(radius.CodeCoAACK))
	if err != nil {
		t.Fatal(err)
	}
	if got, err := Authentic(good, raw, []byte(secret)); err != nil || got.Code != radius.CodeCoAACK {
		t.Errorf("a right answer: %+v (%v)", got, err)
	}
	other, _ := Encode(radius.New(radius.CodeCoARequest, []byte(secret)).Response(radius.CodeCoAACK))
	lie := bytes.Clone(good)
	lie[0] = byte(radius.CodeCoANAK)
	for name, raw2 := range map[string][]byte{"to another": other, "turned round": lie, "cut": good[:10], "none": nil} {
		if _, err := Authentic(raw2, raw, []byte(secret)); !errors.Is(err, ErrForged) && !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestWhomADeviceCalls(t *testing.T) {
	for text, want := range map[string][2]string{
		"02-00-5E-00-54-03:Gullholm Deck": {"02:00:5e:00:54:03", "Gullholm Deck"},
		"02:00:5e:00:54:03:a:b":           {"02:00:5e:00:54:03", "a:b"}, "02-00-5E-00-54-03": {"02:00:5e:00:54:03", ""},
		"switch 7": {"switch 7", ""}, "": {"", ""},
	} {
		p := radius.New(radius.CodeAccessRequest, nil)
		_ = rfc2865.CalledStationID_SetString(p, text)
		if station, ssid := Called(p); station != want[0] || ssid != want[1] {
			t.Errorf("%q is %q and %q", text, station, ssid)
		}
	}
}
