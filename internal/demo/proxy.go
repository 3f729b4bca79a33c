package demo

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"ironledger.example/api"
	data "ironledger.example/demo"
	"ironledger.example/internal/client"
	"ironledger.example/internal/standin"
)

// proxyDevices are the devices of the demo whose certificates and keys are
// written out for people to come with: a good one, one whose certificate is
// revoked, one that shows another's name, and a tablet.
var proxyDevices = []string{"GF-L-1042", "GF-L-1041", "GF-L-1049", "GF-L-1064", "GF-T-2107"}

// Front puts nginx in front of stand-ins for the applications and keeps it running
// until ctx ends. It returns the folder with the clients' certificates; it tells
// when nginx stops by itself.
func Front(ctx context.Context, cl *client.Client, url, listen, dir string, at time.Time,
	told func(error)) (clients string, err error) {
	got, err := cl.CreateToken(ctx, api.TokenDraft{Name: "nginx", Role: "enforcer"})
	if err != nil {
		return "", err
	}
	people, err := cl.ListPeople(ctx, api.ListPeopleParams{})
	if err != nil {
		return "", err
	}
	vocabulary, err := cl.GetVocabulary(ctx)
	if err != nil {
		return "", err
	}
	var who []standin.Person
	for _, p := range people.Value.Items {
		who = append(who, standin.Person{ID: p.ID, Name: p.Name})
	}
	var names [][2]string
	for _, r := range vocabulary.Value.Resources {
		names = append(names, [2]string{r.ID, r.Title})
	}
	p := &standin.Proxy{Listen: listen, Service: url, Token: got.Value.Secret, Names: names,
		Actions: map[string]string{"/payroll/export": "export", "/ticket-till/sell": "sell"},
		Dir:     filepath.Join(dir, "proxy")}
	p.Cert, p.Key = data.Server(at)
	clients = filepath.Join(dir, "clients")
	for _, d := range []string{p.Dir, clients} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return "", err
		}
	}
	for _, id := range proxyDevices {
		for name, text := range map[string]string{id + ".pem": data.Card(id, at), id + ".key": data.Key(id)} {
			if err := os.WriteFile(filepath.Join(clients, name), []byte(text), 0o600); err != nil {
				return "", err
			}
		}
	}
	for into, h := range map[*string]http.Handler{&p.SignIn: standin.NewSignIn(who), &p.Apps: standin.App(names)} {
		if *into, err = standin.Serve(ctx, h); err != nil {
			return "", err
		}
	}
	ready, failed := make(chan struct{}), make(chan error, 1)
	go func() {
		if err := p.Run(ctx, func() { close(ready) }); err != nil {
			failed <- err
			told(err)
		}
	}()
	select {
	case <-ready:
		return clients, nil
	case err := <-failed:
		return "", err
	}
}
