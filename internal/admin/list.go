package admin

import (
	"context"
	"strings"

	"ironledger.example/core/event"
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

// ListIntake is what became of a list, or would.
type ListIntake struct {
	Added     int         `json:"added"`
	Changed   int         `json:"changed"`
	Unchanged int         `json:"unchanged"`
	Removed   int         `json:"removed"`
	Reach     *ReachShift `json:"reach,omitempty"`   // what changes in who reaches what
	Impacts   []Impact    `json:"impacts,omitempty"` // why it is held back, or would have been
}

// Removal says why something is removed.
type Removal struct {
	Reason string `json:"reason"`
	// DryRun tells what would change, and changes nothing.
	DryRun bool `json:"dry_run,omitempty"`
	// AcceptImpact is why it is right although it would lock people out.
	AcceptImpact string `json:"accept_impact,omitempty"`
}

func (r *Removal) check() error {
	if r.DryRun && strings.TrimSpace(r.Reason) == "" {
		return nil
	}
	return fault.CheckReason(&r.Reason)
}

func (r *Removal) how() ListImport { return ListImport{DryRun: r.DryRun, AcceptImpact: r.AcceptImpact} }

// listPlan is what becomes of the directory or of the roster of a snapshot.
type listPlan struct {
	ListIntake
	after     *state.Snapshot // nil: nothing changes
	concerned []string        // the people of whom it is told what they lose and gain
	// put makes it so, tell says what happened.
	put  func(*state.Change) error
	tell func(in *ListIntake, accepted event.Accepted) event.Event
}

// carryOut makes a plan and weighs it, and carries it out unless something speaks
// against it that nobody accepted: then the error is an [*ImpactError]. Plan, weight
// and change are of the same state.
func (s *Service) carryOut(ctx context.Context, actor string, how ListImport,
	plan func(*state.Snapshot) (*listPlan, error)) (ListIntake, error) {
	how.AcceptImpact = event.Clipped(strings.TrimSpace(how.AcceptImpact), fault.MaxReason)
	var in *listPlan
	weigh := func(snap *state.Snapshot) (err error) {
		if in, err = plan(snap); err != nil || in.after == nil {
			return err
		}
		in.Reach = reach(snap, in.after, in.concerned, s.Micros())
		impacts, err := s.guard(ctx, snap, in.after, in.Reach)
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
		return ListIntake{}, err
	}
	return in.ListIntake, err
}
