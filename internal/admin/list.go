package admin

import (
	"context"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// ListImport is how a list of people, or of hardware, is taken in.
type ListImport struct {
	// Whole says that the list is the whole directory: who is not in it is removed.
	Whole bool
	// DryRun tells what would change, and changes nothing.
	DryRun bool
	// AcceptImpact is why a list is to be taken although it would lock people out, or
	// most likely is not whole; "" when it is not.
	AcceptImpact string
}

// checkRemoval finds what a removal lacks.
func checkRemoval(r *api.Removal) error {
	if r.DryRun && strings.TrimSpace(r.Reason) == "" {
		return nil
	}
	return fault.CheckReason(&r.Reason)
}

func removing(r *api.Removal) ListImport {
	return ListImport{DryRun: r.DryRun, AcceptImpact: r.AcceptImpact}
}

// listPlan is what becomes of the directory or of the roster of a snapshot.
type listPlan struct {
	api.ListIntake
	after     *state.Snapshot // nil: nothing changes
	concerned []string        // the people of whom it is told what they lose and gain
	touched   decision.Touched
	// put makes it so, tell says what happened.
	put  func(*state.Change) error
	tell func(in *api.ListIntake, accepted event.Accepted) event.Event
}

// carryOut makes a plan and weighs it, and carries it out unless something speaks
// against it that nobody accepted: then the error is an [*ImpactError]. Plan, weight
// and change are of the same state.
func (s *Service) carryOut(ctx context.Context, actor string, how ListImport,
	plan func(*state.Snapshot) (*listPlan, error)) (*api.ListIntake, error) {
	how.AcceptImpact = event.Clipped(strings.TrimSpace(how.AcceptImpact), fault.MaxReason)
	var in *listPlan
	weigh := func(snap *state.Snapshot) (err error) {
		if in, err = plan(snap); err != nil || in.after == nil {
			return err
		}
		shift := reach(snap, in.after, in.concerned, s.Micros())
		in.Reach = &shift.ReachShift
		impacts, err := s.guard(ctx, snap, in.after, shift, &in.touched)
		if in.Impacts = append(in.Impacts, impacts...); err != nil {
			return err
		}
		if len(in.Impacts) > 0 && how.AcceptImpact == "" && !how.DryRun {
			return &ImpactError{in.Impacts}
		}
		return nil
	}
	var err error
	if how.DryRun {
		err = weigh(s.Snapshot())
	} else {
		err = s.Weighed(ctx, weigh, func(c *state.Change) error {
			if in.after == nil {
				return nil
			}
			c.Record(actor, in.tell(&in.ListIntake, event.Accept(in.Impacts, how.AcceptImpact)))
			return in.put(c)
		})
	}
	if in == nil {
		return nil, err
	}
	return &in.ListIntake, err
}
