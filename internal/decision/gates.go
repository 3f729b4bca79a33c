package decision

import (
	"context"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/value"
)

// GateWeeks counts what each gate said to the requests of the last week.
func (s *Service) GateWeeks(ctx context.Context) (map[string]api.GateWeek, error) {
	week, now := map[string]api.GateWeek{}, s.Micros()
	err := s.rulings.Since(ctx, s.Store, now-7*value.Day, now, func(_ int64, of [2]string, n int) {
		w := week[of[0]]
		switch of[1] {
		case string(access.Deny):
			w.Denied += n
		case string(access.StepUp):
			w.SteppedUp += n
		default:
			w.Met += n
		}
		week[of[0]] = w
	})
	return week, err
}

// Gates lists the gates in the order of their numbers, with what each said to
// the requests of the last week.
func (s *Service) Gates(ctx context.Context) ([]api.Gate, error) {
	week, err := s.GateWeeks(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.Gate{}
	for _, g := range s.Snapshot().Book.Rulebook.Gates {
		l := api.Gate{ID: g.ID, Number: g.Number, Title: g.Title, Mode: g.Mode, Who: g.Who.String(),
			What: g.What.String(), Need: g.Need.String(), Otherwise: string(access.Deny),
			ValidFor: value.FormatDuration(g.ValidFor), Week: week[g.ID]}
		if g.When != nil {
			l.When = g.When.String()
		}
		if g.StepUp {
			l.Otherwise = string(access.StepUp)
		}
		out = append(out, l)
	}
	return out, nil
}
