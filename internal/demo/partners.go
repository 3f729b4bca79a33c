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

// Around are the stand-ins for partner systems that hear of devices.
type Around struct {
	SignIn *standin.Provider
	Room   *standin.Chat
	Pages  []Partner
}

// Partners starts stand-ins for partner systems until ctx ends.
func Partners(ctx context.Context, cl *client.Client, url string) (*Around, error) {
	provider, at, err := signIn(ctx, cl, url)
	if err != nil {
		return nil, fmt.Errorf("the stand-in for an identity provider hears nothing: %w", err)
	}
	room, page, err := chat(ctx, cl)
	if err != nil {
		return nil, fmt.Errorf("the stand-in for a chat room hears nothing: %w", err)
	}
	return &Around{provider, room, []Partner{{"the harbour's sign-in, which hears of devices by Shared Signals", at},
		{"the watch room, which a web hook tells of falls", page}}}, nil
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
func signIn(ctx context.Context, cl *client.Client, url string) (*standin.Provider, string, error) {
	token, err := cl.CreateToken(ctx, api.TokenDraft{Name: signInReceiver, Role: "receiver"})
	if err != nil {
		return nil, "", err
	}
	people, err := cl.ListPeople(ctx, api.ListPeopleParams{})
	if err != nil {
		return nil, "", err
	}
	var in []standin.Person
	for _, p := range people.Value.Items {
		in = append(in, standin.Person{ID: p.ID, Name: p.Name})
	}
	p := standin.NewProvider(url, token.Value.Secret, in)
	at, err := standin.Serve(ctx, p)
	if err != nil {
		return nil, "", err
	}
	return p, "http://" + at, p.Subscribe(ctx, "http://"+at)
}

// chat starts a room that a web hook tells of falls.
func chat(ctx context.Context, cl *client.Client) (*standin.Chat, string, error) {
	c := standin.NewChat()
	at, err := standin.Serve(ctx, c)
	if err != nil {
		return nil, "", err
	}
	st, err := cl.CreateStream(ctx, api.StreamDraft{Receiver: chatReceiver, Endpoint: "http://" + at + "/hook",
		Description: "The room of those who keep watch, a stand-in"})
	if err != nil {
		return nil, "", err
	}
	return c, "http://" + at, c.Secret(st.Value.Secret)
}
