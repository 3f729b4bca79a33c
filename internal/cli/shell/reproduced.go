package shell

import (
	"ironledger.example/api"
)

// Reproduced tells whether something of the past came out the same.
func (a *App) Reproduced(r *api.Reproduction, raw any) error {
	l := Listing{Head: []string{"WHERE", "RECORDED", "COMPUTED AGAIN"}, Raw: raw}
	for _, d := range r.Differences {
		l.Rows = append(l.Rows, []string{d.Pointer, brevity(d.Recorded), brevity(d.Computed)})
	}
	switch {
	case a.Format != "table":
		if err := a.Print(l); err != nil {
			return err
		}
	case r.Same:
		Line(a.Out, "%s computed again for %s from rulebook %d, revision %d of the device, %d of the people "+
			"and %d of the roster.", a.Bold("Same:"), ShortTime(r.At), r.Rulebook, r.DeviceRevision,
			r.PeopleRevision, r.RosterRevision)
	default:
		Line(a.Out, "%s computed again for %s it is not what was recorded.", a.Rust("Different:"), ShortTime(r.At))
		a.Table(l.Head, l.Rows)
	}
	if !r.Same {
		return ErrNo
	}
	return nil
}
