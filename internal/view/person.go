package view

import (
	"cmp"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/internal/state"
)

// maxPersonDevices bounds how many devices of a person are told.
const maxPersonDevices = 100

// Person tells of a person, of one whom the directory does not know, too: such
// people ask for access, and own devices.
func (s *Service) Person(id string) *api.PersonPage {
	snap, now := s.Snapshot(), s.Micros()
	p, known := snap.People.Get(id)
	out := &api.PersonPage{ID: id, Name: p.Name, Groups: append([]string{}, p.Groups...), Known: known,
		BreakGlass: slices.Contains(snap.Book.Rulebook.BreakGlass, id), Devices: []api.DeviceSummary{}}
	theirs := snap.DevicesOf(id, now)
	slices.SortFunc(theirs, func(a, b *state.Device) int {
		return cmp.Or(cmp.Compare(a.Result.Level, b.Result.Level), strings.Compare(a.ID, b.ID))
	})
	shown := theirs[:min(len(theirs), maxPersonDevices)]
	for _, d := range shown {
		out.Devices = append(out.Devices, Summarize(snap.Book, d, now))
	}
	out.More = len(theirs) - len(shown)
	return out
}
