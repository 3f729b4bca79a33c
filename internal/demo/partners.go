package demo

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"ironledger.example/api"
	"ironledger.example/internal/client"
	"ironledger.example/internal/standin"
)

// The receivers in the rulebook's signals that the stand-ins are.
const (
	signInReceiver = "harbour-sign-in"
	chatReceiver   = "watch-room"
)

// Partner is a stand-in that runs, for people to look at.
type Partner struct{ Title, URL string }

// Partners starts stand-ins for partner systems until ctx ends.
func Partners(ctx context.Context, cl *client.Client, url string) ([]Partner, error) {
	provider, err := signIn(ctx, cl, url)
	if err != nil {
		return nil, fmt.Errorf("the stand-in for an identity provider hears nothing: %w", err)
	}
	room, err := chat(ctx, cl)
	if err != nil {
		return nil, fmt.Errorf("the stand-in for a chat room hears nothing: %w", err)
	}
	return []Partner{{"the harbour's sign-in, which hears of devices by Shared Signals", provider},
		{"the watch room, which a web hook tells of falls", room}}, nil
}

// Post is a stand-in for a mail server.
type Post struct {
	Server string // as serve --smtp takes it
	Trust  string // the file of its certificate
	Page   string // where what arrived is shown
}

// Mailbox starts a stand-in for a mail server until ctx ends.
func Mailbox(ctx context.Context, dir string) (*Post, error) {
	box, err := standin.NewMailbox()
	if err != nil {
		return nil, err
	}
	at, err := box.Serve(ctx)
	if err != nil {
		return nil, err
	}
	page, err := standin.Serve(ctx, box)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	trust := filepath.Join(dir, "stand-in-mail.pem")
	return &Post{"smtp://" + at, trust, "http://" + page}, os.WriteFile(trust, box.Trust(), 0o600)
}

// signIn starts an identity provider that hears of devices.
func signIn(ctx context.Context, cl *client.Client, url string) (string, error) {
	token, err := cl.CreateToken(ctx, api.TokenDraft{Name: signInReceiver, Role: "receiver"})
	if err != nil {
		return "", err
	}
	people, err := cl.ListPeople(ctx, api.ListPeopleParams{})
	if err != nil {
		return "", err
	}
	var in []standin.Person
	for _, p := range people.Value.Items {
		in = append(in, standin.Person{ID: p.ID, Name: p.Name})
	}
	p := standin.NewProvider(url, token.Value.Secret, in)
	at, err := standin.Serve(ctx, p)
	if err != nil {
		return "", err
	}
	return "http://" + at, p.Subscribe(ctx, "http://"+at)
}

// chat starts a room that a web hook tells of falls.
func chat(ctx context.Context, cl *client.Client) (string, error) {
	c := standin.NewChat()
	at, err := standin.Serve(ctx, c)
	if err != nil {
		return "", err
	}
	st, err := cl.CreateStream(ctx, api.StreamDraft{Receiver: chatReceiver, Endpoint: "http://" + at + "/hook",
		Description: "The room of those who keep watch, a stand-in"})
	if err != nil {
		return "", err
	}
	return "http://" + at, c.Secret(st.Value.Secret)
}
