package service

import (
	"slices"

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
func alarm(batch *store.Batch, x Emergency) error {
	return batch.PutDocument(emergencyDocument, x.Decision, x)
}

// emergencies lists the uses of break-glass accounts since a moment, the newest
// first.
func (s *Service) emergencies(since int64) []Emergency {
	bound := formatTime(since)
	out := slices.DeleteFunc(s.alarms.list(), func(e Emergency) bool { return e.At < bound })
	slices.Reverse(out)
	return out
}
