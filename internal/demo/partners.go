package demo

import (
	"context"
	"fmt"

	"ironledger.example/api"
	"ironledger.example/internal/client"
	"ironledger.example/internal/standin"
)

// signInReceiver is the receiver in the rulebook's signals that the stand-in is.
const signInReceiver = "harbour-sign-in"

// Partners starts stand-ins for partner systems until ctx ends. It returns the address of
// the identity provider that hears of devices.
func Partners(ctx context.Context, cl *client.Client, url string) (provider string, err error) {
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
	provider = "http://" + at
	if err := p.Subscribe(ctx, provider); err != nil {
		return "", fmt.Errorf("the stand-in for an identity provider hears nothing: %w", err)
	}
	return provider, nil
}
