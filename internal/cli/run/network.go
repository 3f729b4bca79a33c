package run

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"

	"github.com/spf13/pflag"

	"ironledger.example/internal/network"
	"ironledger.example/internal/radius"
	"ironledger.example/internal/service"
)

// networkOptions are where access points ask who joins a network.
type networkOptions struct {
	access, accounting, tls string
	timing                  network.Timing // the zero one for the usual
}

func (o *networkOptions) flags(f *pflag.FlagSet) {
	f.StringVar(&o.access, "radius", "",
		"the UDP address where access points ask who joins a network (RADIUS), as :1812 (default: none)")
	f.StringVar(&o.accounting, "radius-accounting", "",
		"the UDP address where they tell who is there, as :1813 (default: none)")
	f.StringVar(&o.tls, "radsec", "", "the address where they do both over TLS, as :2083 (default: none)")
}

// open listens where access points are answered, and begins to tell them of changes. own is the certificate of the
// service, nil for one that our own authority gives it for some hosts.
func (o *networkOptions) open(svc *service.Service, own *tls.Config, hosts []string) ([]front, error) {
	certificate := (&served{by: svc.Authority, hosts: hosts}).get
	if own != nil {
		certificate = own.GetCertificate
	}
	var fronts []front
	for _, d := range []struct {
		flag, address string
		accounting    bool
	}{{"radius", o.access, false}, {"radius-accounting", o.accounting, true}} {
		if d.address == "" {
			continue
		}
		conn, err := net.ListenPacket("udp", d.address)
		if err != nil {
			return nil, fmt.Errorf("--%s: %w", d.flag, err)
		}
		svc.Networks.Answers(d.flag + " " + conn.LocalAddr().String())
		fronts = append(fronts, &packets{conn, svc.Networks, d.accounting})
	}
	if o.tls != "" {
		l, err := net.Listen("tcp", o.tls)
		if err != nil {
			return nil, fmt.Errorf("--radsec: %w", err)
		}
		svc.Networks.Answers("radsec " + l.Addr().String())
		fronts = append(fronts, &links{l, svc.Networks, radius.OverTLS(certificate, suites())})
	}
	inside := radius.Secured(certificate, suites())
	svc.Networks.Start(network.Options{TLS: func() *tls.Config { return inside }, Timing: o.timing})
	return fronts, nil
}

// packets is the front for access points over UDP.
type packets struct {
	conn       net.PacketConn
	networks   *network.Service
	accounting bool
}

func (p *packets) Serve(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() { p.conn.Close() })
	defer stop()
	return p.networks.Serve(ctx, p.conn, p.accounting)
}

func (*packets) Ready(context.Context) error { return nil }

// links is the front for access points over TLS.
type links struct {
	listener net.Listener
	networks *network.Service
	config   *tls.Config
}

func (l *links) Serve(ctx context.Context) error {
	return l.networks.ServeTLS(ctx, l.listener, l.config)
}

func (*links) Ready(context.Context) error { return nil }
