package shell

import (
	"cmp"
	"errors"
	"fmt"

	"ironledger.example/api"
	"ironledger.example/internal/client"
)

// HeldBack adds to the error of a change that would lock people out what to do.
func HeldBack(err error) error {
	var held *client.ProblemError
	if errors.As(err, &held) && len(held.Impacts) > 0 {
		return fmt.Errorf("%w\nmend it, or go on all the same with --accept-impact and a reason", err)
	}
	return err
}

// PrintIntake tells what became of a list, or would.
func (a *App) PrintIntake(got *client.Reply[api.ListIntake], path, what string, dry bool) error {
	in := got.Value
	for _, r := range in.Refused {
		Line(a.Err, "%s:%d: %s", path, r.Line, r.Message)
	}
	if a.Format != "table" {
		err := a.Print(Listing{Head: []string{"ADDED", "CHANGED", "UNCHANGED", "REMOVED", "REFUSED"}, Raw: got.Raw,
			Rows: [][]string{{fmt.Sprint(in.Added), fmt.Sprint(in.Changed), fmt.Sprint(in.Unchanged),
				fmt.Sprint(in.Removed), fmt.Sprint(len(in.Refused))}}})
		return cmp.Or(err, intakeError(&in, dry))
	}
	text := "%d %s added, %d changed, %d as they were, %d removed, %d lines refused"
	if dry {
		text = "Nothing is changed. It would be: " + text
	}
	Line(a.Out, text, in.Added, what, in.Changed, in.Unchanged, in.Removed, len(in.Refused))
	if in.Reach != nil {
		a.printReach(in.Reach)
	}
	for _, x := range in.Impacts {
		Line(a.Out, "%s", a.Rust("Held back: "+x.Message))
	}
	return intakeError(&in, dry)
}

func intakeError(in *api.ListIntake, dry bool) error {
	if dry && len(in.Impacts) > 0 {
		return ErrNo
	}
	if in.Added+in.Changed+in.Unchanged+in.Removed+len(in.Refused) == 0 {
		return errors.New("there is no line in it: nothing was taken")
	}
	return FailedIf(len(in.Refused) > 0)
}

// maxReachLines bounds how many people are told of whose reach changes.
const maxReachLines = 20

func (a *App) printReach(r *api.ReachShift) {
	if r.Losing+r.Gaining == 0 {
		return
	}
	Line(a.Out, "Who reaches what: people who lose something %d, who gain something %d.", r.Losing, r.Gaining)
	for i, p := range r.Persons {
		if i == maxReachLines {
			Line(a.Out, "  and %d more", len(r.Persons)-i)
			break
		}
		text := "  " + p.Person
		if len(p.Lost) > 0 {
			text += a.Rust(" loses " + Joined(p.Lost))
		}
		if len(p.Gained) > 0 {
			text += " gains " + Joined(p.Gained)
		}
		Line(a.Out, "%s", text)
	}
	if len(r.LockedOut) > 0 {
		Line(a.Out, "%s", a.Rust("Reach nothing any more: "+Joined(r.LockedOut)))
	}
}
