package demo

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironledger.example/api"
	data "ironledger.example/demo"
	"ironledger.example/internal/client"
	"ironledger.example/internal/standin"
)

// Aboard is the network of a ship: an access point that stands in for a real one, and devices that come to it.
type Aboard struct {
	Point *standin.AccessPoint
	Page  string // where it shows who is there
	// Tablet is a company tablet with a certificate, Phone a private phone, and Stranger a device that nobody knows.
	Tablet, Phone, Stranger standin.Station
}

// The devices that come aboard.
const (
	TabletAboard = "GF-T-2107"
	PhoneAboard  = "BYO-5102"
)

// Network opens an access point on a ship, which asks the service.
func Network(ctx context.Context, cl *client.Client, at time.Time) (*Aboard, error) {
	got, err := cl.ListNetworkClients(ctx)
	if err != nil {
		return nil, err
	}
	p := &standin.AccessPoint{Name: "dunlin-saloon", Address: "02:00:5e:40:00:01", SSID: "Gullholm Aboard",
		Places: map[string][]string{"40": {"the crew rota", "the engine log", "charts", "the web"},
			"50": {"the crew rota", "the web"}, "60": {"the web"}, "90": {"the help desk", "updates"}}}
	for _, door := range got.Value.Doors {
		switch kind, address, _ := strings.Cut(door, " "); kind {
		case "radius":
			p.Ask = address
		case "radius-accounting":
			p.Account = address
		}
	}
	if err := p.Open(); err != nil {
		return nil, err
	}
	made, err := cl.AddNetworkClient(ctx, api.NetworkClientDraft{ID: p.Name, Title: "The saloon of the Dunlin",
		Range: "127.0.0.1", ToldAt: p.ToldAt(), Networks: []string{"ship-wifi", "bridge-wifi"}})
	if err != nil {
		return nil, err
	}
	p.Secret = made.Value.Secret
	go p.Serve(ctx)
	a := &Aboard{Point: p}
	if a.Page, err = standin.Serve(ctx, p); err != nil {
		return nil, err
	}
	trusted, err := authorities(ctx, cl)
	if err != nil {
		return nil, err
	}
	own, err := tls.X509KeyPair([]byte(data.Card(TabletAboard, at)), []byte(data.Key(TabletAboard)))
	if err != nil {
		return nil, err
	}
	a.Tablet = standin.Station{Address: "02:00:5e:40:21:07", IP: "10.40.1.7", Name: TabletAboard,
		TLS: &tls.Config{RootCAs: trusted, ServerName: "localhost", Certificates: []tls.Certificate{own}}}
	a.Phone = standin.Station{Address: "02:00:5e:40:51:02", IP: "10.40.5.2"}
	a.Stranger = standin.Station{Address: "02:00:5e:40:99:99", IP: "10.40.6.9"}
	return a, nil
}

// authorities are those by which the service is trusted on its networks.
func authorities(ctx context.Context, cl *client.Client) (*x509.CertPool, error) {
	got, err := cl.GetAuthority(ctx)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(got.Value.Trusted)) {
		return nil, errors.New("nobody says by whom the service is trusted")
	}
	return pool, nil
}

// handedOn tells whose the private phone is, and by which address it comes.
const handedOn = `{"owner":"birk.strand@gullholm.example","name":"birk-phone","network.macs":["02:00:5e:40:51:02"]}`

// Come has the three devices come aboard.
func (a *Aboard) Come(ctx context.Context, cl *client.Client) error {
	body := fmt.Sprintf(`{"source":"mdm","observed_at":%q,"identity":{"id":%q},"evidence":%s}`,
		time.Now().UTC().Format(time.RFC3339), PhoneAboard, handedOn)
	if _, err := cl.PostEvidence(ctx, api.PostEvidenceParams{}, "application/json", strings.NewReader(body)); err != nil {
		return err
	}
	for _, s := range []standin.Station{a.Tablet, a.Phone, a.Stranger} {
		var no *standin.RefusedError
		if _, err := a.Point.Join(ctx, s); err != nil && !errors.As(err, &no) {
			return err
		}
	}
	return nil
}
