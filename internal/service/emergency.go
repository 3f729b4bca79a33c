package service

import (
	"context"
	"slices"

	"ironledger.example/core/access"
	"ironledger.example/internal/store"
)

// Emergency is a use of a break-glass account.
type Emergency struct {
	Decision string `json:"decision"`
	Person   string `json:"person"`
	Resource string `json:"resource"`
	Action   string `json:"action"`
	At       string `json:"at"`
}

const emergencyDocument = "emergency"

// alarm writes the use of a break-glass account down beside its decision, so
// that everybody who looks sees it without searching.
func alarm(batch *store.Batch, id string, e *access.Evaluation, at string) error {
	return batch.PutDocument(emergencyDocument, id, Emergency{id, e.Subject.ID, e.Resource.ID, e.Action.Name, at})
}

// emergencies lists the uses of break-glass accounts since a moment, the newest
// first.
func (s *Service) emergencies(ctx context.Context, since int64) ([]Emergency, error) {
	all, err := documents[Emergency](ctx, s, emergencyDocument)
	if err != nil {
		return nil, err
	}
	bound := formatTime(since)
	out := slices.DeleteFunc(all, func(e Emergency) bool { return e.At < bound })
	slices.Reverse(out)
	return out, nil
}
