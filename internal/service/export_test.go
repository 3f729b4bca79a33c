package service

import (
	"context"

	"ironledger.example/api"
	"ironledger.example/internal/bearer"
)

// Rounds is rounds for the tests from outside.
func Rounds(n int) int { return rounds(n) }

// WaiveOne and VouchOne make an exception for one device.
func WaiveOne(ctx context.Context, s *Service, by string, d api.ExceptionDraft) (*api.Exception, error) {
	return theOne(s.Admin.Waive(ctx, &bearer.Token{Name: by, Role: bearer.Admin}, ofOne(d)))
}

func VouchOne(ctx context.Context, s *Service, by string, d api.ExceptionDraft) (*api.Exception, error) {
	return theOne(s.Admin.Vouch(ctx, by, ofOne(d)))
}

func ofOne(d api.ExceptionDraft) api.ExceptionsDraft {
	return api.ExceptionsDraft{Devices: []string{d.Device}, Rule: d.Rule, Reason: d.Reason, For: d.For, Until: d.Until}
}

func theOne(list []api.Exception, err error) (*api.Exception, error) {
	if err != nil {
		return nil, err
	}
	return &list[0], nil
}
