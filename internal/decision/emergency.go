package decision

import (
	"context"
	"slices"
	"strings"
	"sync"

	"ironledger.example/core/value"
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

// alarms are the uses of break-glass accounts. Decisions add to them by themselves.
type alarms struct {
	mu  sync.Mutex
	all map[string]Emergency // by decision
}

func (s *Service) loadAlarms(ctx context.Context) (err error) {
	s.alarms.all, err = store.Documents[Emergency](ctx, s.Store, emergencyDocument)
	return err
}

func (a *alarms) add(x Emergency) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.all == nil {
		a.all = map[string]Emergency{}
	}
	a.all[x.Decision] = x
}

// Emergencies lists the uses of break-glass accounts since a moment, the newest
// first.
func (s *Service) Emergencies(since int64) []Emergency {
	s.alarms.mu.Lock()
	defer s.alarms.mu.Unlock()
	bound, out := value.FormatTime(since), []Emergency{}
	for _, x := range s.alarms.all {
		if x.At >= bound {
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(x, y Emergency) int { return strings.Compare(y.Decision, x.Decision) })
	return out
}
