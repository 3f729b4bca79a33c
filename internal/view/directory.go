package view

import (
	"ironledger.example/core/access"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/state"
)

// Directory is whose devices are and how they stand, in a snapshot, at a moment in
// microseconds since the Unix epoch.
type Directory struct {
	Snapshot *state.Snapshot
	Now      int64
}

func (d Directory) attribute(device, name string) string {
	x := d.Snapshot.Fleet.Get(device)
	if x == nil || x.View == nil {
		return ""
	}
	if v := x.View.Value(d.Snapshot.Book.Rulebook.Dict.Slot(name)); v.Known() && v.Kind() == value.Text {
		return v.Str()
	}
	return ""
}

// Owner is the person whose device it is.
func (d Directory) Owner(device string) string { return d.attribute(device, "owner") }

// Serial is the serial of a device.
func (d Directory) Serial(device string) string { return d.attribute(device, "serial") }

// Level is the level that a device stands at.
func (d Directory) Level(device string) string {
	x := d.Snapshot.Fleet.Get(device)
	if x == nil {
		return ""
	}
	return d.Snapshot.Book.Rulebook.LevelName(x.Result.Level)
}

// View is what is known of a device.
func (d Directory) View(device string) *evidence.View {
	x := d.Snapshot.Fleet.Get(device)
	if x == nil {
		return nil
	}
	return d.Snapshot.At(x, d.Now).View
}

// Reach are the resources that the person whose device it is may come to reach from it
// while it stands at a level.
func (d Directory) Reach(device, level string) []string {
	rb := d.Snapshot.Book.Rulebook
	rank, onLadder := rb.Rank(level)
	x := d.Snapshot.Fleet.Get(device)
	if x == nil || !onLadder {
		return nil
	}
	q := access.Request{Action: "open", Device: access.Device{ID: x.ID, Known: !x.Outsider(),
		Level: rulebook.Level(rank),
		View:  d.View(device)}}
	d.Snapshot.People.Ask(&q, d.Owner(device))
	trial, out := d.Snapshot.Book.Gates.Evaluator(), []string{}
	for _, r := range rb.Resources {
		if q.Resource = r.ID; trial.Possible(&q, d.Now) {
			out = append(out, r.ID)
		}
	}
	return out
}
