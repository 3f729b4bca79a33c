package bench

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"sync/atomic"
	"testing"
	"time"

	libradius "layeh.com/radius"
	"layeh.com/radius/rfc2865"

	"ironledger.example/api"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/authority"
	"ironledger.example/internal/network"
	"ironledger.example/internal/radius"
	"ironledger.example/internal/standin"
)

const deckBook = `rulebook: deck
break_glass: [master]
authority: {name: gullholm.example, profiles: [{id: any, lifetime: 7d, holds: 10}]}
resources: [{id: deck}]
baselines: [{id: b, rules: [{id: disk, check: storage.encrypted, cap: limited}]}]
gates: [{id: deck, who: {everyone: true}, what: {resources: [deck]}, need: known_device}]
networks:
  - id: deck
    ssids: [deck]
    grants:
      - {id: crew, when: level >= sound and request.proof == certificate, vlan: 40, filter: crew, session: 8h}
      - {id: known, when: request.proof == address, vlan: 50, session: 8h}
`

func macOf(i int) string { return fmt.Sprintf("02:00:5e:%02x:%02x:%02x", i>>16, i>>8&0xff, i&0xff) }

// aboard is a service with a network and n devices that have addresses, and where it is asked.
func aboard(b *testing.B, n int) (r *running, ask, secret string, own *tls.Certificate) {
	r = start(b)
	if _, _, err := r.service.Admin.Publish(context.Background(), "bench",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: deckBook}}}); err != nil {
		b.Fatal(err)
	}
	r.service.Authority.Start("http://127.0.0.1:1")
	var all bytes.Buffer
	for i := range n {
		fmt.Fprintf(&all, `{"source":"mdm","identity":{"id":"d%d"},"evidence":{"form":"laptop","storage.encrypted":true,"network.macs":[%q]}}`+"\n",
			i, macOf(i))
	}
	r.post(b, "/api/v1/evidence", "application/x-ndjson", all.String())
	made, err := r.service.Networks.Add(context.Background(), "bench", api.NetworkClientDraft{ID: "deck", Range: "127.0.0.1"})
	if err != nil {
		b.Fatal(err)
	}
	own, err = r.service.Authority.ServerCertificate(context.Background(), []string{"127.0.0.1"}, time.Hour)
	if err != nil {
		b.Fatal(err)
	}
	inside := radius.Secured(func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return own, nil }, nil)
	r.service.Networks.Start(network.Options{TLS: func() *tls.Config { return inside }})
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	go func() { _ = r.service.Networks.Serve(ctx, conn, false) }()
	ended := r.stop
	r.stop = func() { stop(); conn.Close(); ended() }
	return r, conn.LocalAddr().String(), made.Secret, own
}

// BenchmarkRadiusAddress: Access-Requests by address from 128 callers, each decided and recorded durably before it is
// answered, against a server of the same library that accepts everything. The aim is half of it.
func BenchmarkRadiusAddress(b *testing.B) {
	const devices, n = 10_000, 20_000
	r, ask, secret, _ := aboard(b, devices)
	defer r.stop()
	bareConn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	bare := libradius.PacketServer{SecretSource: libradius.StaticSecretSource([]byte(secret)),
		Handler: libradius.HandlerFunc(func(w libradius.ResponseWriter, r *libradius.Request) {
			_ = w.Write(r.Response(libradius.CodeAccessAccept))
		})}
	go func() { _ = bare.Serve(bareConn) }()
	defer func() { _ = bare.Shutdown(context.Background()) }()
	var turn atomic.Int64
	drive := func(to string) float64 {
		conns := make(chan net.Conn, 128)
		for range 128 {
			c, err := net.Dial("udp", to)
			if err != nil {
				b.Fatal(err)
			}
			defer c.Close()
			conns <- c
		}
		base := int(turn.Add(n))
		return at(128, n, func(i int) {
			c := <-conns
			defer func() { conns <- c }()
			p := libradius.New(libradius.CodeAccessRequest, []byte(secret))
			p.Identifier = byte(i)
			mac := macOf((base + i) % devices)
			_ = rfc2865.UserName_SetString(p, mac)
			_ = rfc2865.ServiceType_Set(p, rfc2865.ServiceType_Value_CallCheck)
			_ = rfc2865.CalledStationID_SetString(p, "02-00-5E-00-00-01:deck")
			_ = rfc2865.CallingStationID_SetString(p, mac)
			raw, err := radius.Encode(p)
			if err != nil {
				b.Error(err)
				return
			}
			buffer := make([]byte, libradius.MaxPacketLength)
			for range 5 {
				if _, err = c.Write(raw); err == nil {
					_ = c.SetReadDeadline(time.Now().Add(2 * time.Second))
					var m int
					if m, err = c.Read(buffer); err == nil {
						if libradius.Code(buffer[0]) != libradius.CodeAccessAccept || m < 20 {
							err = fmt.Errorf("it is answered %x", buffer[:m])
						}
						break
					}
				}
			}
			if err != nil {
				b.Error(err)
			}
		})
	}
	var ours, base, ratio []float64
	for range turns {
		one, two := drive(bareConn.LocalAddr().String()), drive(ask)
		base, ours, ratio = append(base, one), append(ours, two), append(ratio, two/one)
	}
	b.ReportMetric(median(ours), "requests/s")
	b.ReportMetric(median(base), "bare/s")
	b.ReportMetric(median(ratio), "of-bare")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkRadiusHandshake: EAP-TLS from the first packet to the admission, decided and recorded, by 8 devices at once,
// against handshakes of TLS alone with the same certificates. The aim is 0.6 of them. Each side of both is in this
// process.
func BenchmarkRadiusHandshake(b *testing.B) {
	const n = 400
	r, ask, secret, own := aboard(b, 8)
	defer r.stop()
	roots := x509.NewCertPool()
	for _, c := range r.service.Authority.Trusted() {
		roots.AddCert(c)
	}
	configs := make(chan *tls.Config, 8)
	names := map[*tls.Config]int{}
	for i := range 8 {
		name := fmt.Sprintf("d%d", i)
		in, err := r.service.Authority.Invite(context.Background(), "bench", name, "", "", 0)
		if err != nil {
			b.Fatal(err)
		}
		der, key := request(b, name)
		g, err := r.service.Authority.Enrol(context.Background(), authority.Asking{Name: name, Code: in.Code, Request: der})
		if err != nil {
			b.Fatal(err)
		}
		c := &tls.Config{RootCAs: roots, ServerName: "127.0.0.1", Certificates: []tls.Certificate{{
			Certificate: [][]byte{g.Certificate.Raw}, PrivateKey: key}}}
		names[c] = i
		configs <- c
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0",
		radius.Secured(func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return own, nil }, nil))
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				_ = c.(*tls.Conn).Handshake()
				_, _ = c.Write([]byte{0})
				c.Close()
			}()
		}
	}()
	points := make([]*standin.AccessPoint, 8)
	for i := range points {
		points[i] = &standin.AccessPoint{Name: fmt.Sprint("p", i), Address: macOf(1000 + i), SSID: "deck", Secret: secret, Ask: ask}
	}
	var ours, base, ratio []float64
	for range turns {
		one := at(8, n, func(int) {
			config := <-configs
			defer func() { configs <- config }()
			c, err := tls.Dial("tcp", l.Addr().String(), config)
			if err == nil {
				_, err = c.Read(make([]byte, 1))
				c.Close()
			}
			if err != nil {
				b.Error(err)
			}
		})
		two := at(8, n, func(int) {
			config := <-configs
			defer func() { configs <- config }()
			i := names[config]
			if err := points[i].Asks(context.Background(), standin.Station{Address: macOf(i), Name: "d", TLS: config}); err != nil {
				b.Error(err)
			}
		})
		base, ours, ratio = append(base, one), append(ours, two), append(ratio, two/one)
	}
	b.ReportMetric(median(ours), "handshakes/s")
	b.ReportMetric(median(base), "bare-tls/s")
	b.ReportMetric(median(ratio), "of-bare-tls")
	b.ReportMetric(0, "ns/op")
}
