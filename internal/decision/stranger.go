package decision

import (
	"slices"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/internal/state"
)

// What may be known to nobody.
const (
	aPerson   = "person"
	aDevice   = "device"
	aResource = "resource"
)

// maxNearest bounds how many names are told that are near one that nobody knows.
const maxNearest = 3

// Strangers are what a request names and nobody knows, with the nearest names that somebody does: it may be a typing
// error.
func (s *Service) Strangers(e *access.Evaluation) (out []api.Stranger) {
	snap := s.Snapshot()
	if _, known := snap.People.Get(e.Subject.ID); e.Subject.Type != "device" && !known &&
		!slices.Contains(snap.Book.Rulebook.BreakGlass, e.Subject.ID) {
		names := make([]string, 0, snap.People.Len())
		for _, p := range snap.People.List() {
			names = append(names, p.ID)
		}
		out = append(out, stranger(aPerson, e.Subject.ID, names))
	}
	if name := deviceNamed(e); name != "" && snap.Named(name) == nil {
		var names []string
		snap.Fleet.InService(func(d *state.Device) bool { names = append(names, d.ID); return true })
		slices.Sort(names)
		out = append(out, stranger(aDevice, name, names))
	}
	resources := make([]string, 0, len(snap.Book.Rulebook.Resources))
	for _, r := range snap.Book.Rulebook.Resources {
		resources = append(resources, r.ID)
	}
	if !slices.Contains(resources, e.Resource.ID) {
		out = append(out, stranger(aResource, e.Resource.ID, resources))
	}
	return out
}

// deviceNamed is what a request calls its device by, of what people type.
func deviceNamed(e *access.Evaluation) string {
	switch {
	case e.Subject.Type == "device":
		return e.Subject.ID
	case e.Context == nil || e.Context.Device == nil:
		return ""
	}
	for _, name := range []string{e.Context.Device.ID, e.Context.Device.Serial, e.Context.Device.HardwareID} {
		if name != "" {
			return name
		}
	}
	return ""
}

func stranger(what, name string, known []string) api.Stranger {
	x := api.Stranger{What: what, Name: name, Nearest: []string{}}
	for len(x.Nearest) < maxNearest {
		near := condition.Nearest(name, known)
		if near == "" || len(x.Nearest) > 0 && near[:min(4, len(near))] != name[:min(4, len(name))] {
			break // the best one may differ in its beginning, others are noise then
		}
		x.Nearest = append(x.Nearest, near)
		known = slices.DeleteFunc(slices.Clone(known), func(k string) bool { return k == near })
	}
	return x
}

// Spelled is a trial in which a device may be called by its serial or hardware id where an id stands: people read what
// is on its back. A question that counts takes an id for an id.
func (s *Service) Spelled(e *access.Evaluation) {
	snap := s.Snapshot()
	id := func(name string) string {
		if d := snap.Named(name); d != nil {
			return d.ID
		}
		return name
	}
	if e.Subject.Type == "device" {
		e.Subject.ID = id(e.Subject.ID)
	}
	if e.Context != nil && e.Context.Device != nil && e.Context.Device.ID != "" {
		ref := *e.Context.Device
		ref.ID = id(ref.ID)
		with := *e.Context
		with.Device = &ref
		e.Context = &with
	}
}
