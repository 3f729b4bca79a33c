package state

import (
	"context"
	"iter"
	"maps"
	"slices"

	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/reported"
	"ironledger.example/internal/versioned"
)

// Fleet is every device. It is immutable.
type Fleet struct {
	devices versioned.Map[string, Device]
	keys    versioned.Map[evidence.Key, string] // to ids, for all but the id itself; see shared
	// shared are the keys that several devices have, with their ids: such a key points
	// at none of them.
	shared    map[evidence.Key][]string
	owners    reported.Index
	addresses reported.Index // hardware addresses of network interfaces
}

// Len is how many devices there are.
func (f *Fleet) Len() int { return f.devices.Len() }

// Get returns a device by its id, or nil.
func (f *Fleet) Get(id string) *Device { return f.devices.Get(id) }

// Find returns the id of the device a key points at.
func (f *Fleet) Find(k evidence.Key) (string, bool) {
	if k.Kind == evidence.ByID {
		return k.Text, f.devices.Get(k.Text) != nil
	}
	if id := f.keys.Get(k); id != nil && *id != severals {
		return *id, true
	}
	return "", false
}

// severals stands for the id of a device where a key is that of several.
const severals = ""

// Ambiguous reports whether a key is that of several devices.
func (f *Fleet) Ambiguous(k evidence.Key) bool { return len(f.shared[k]) > 0 }

// All calls visit for every device, in no order, until it returns false.
func (f *Fleet) All(visit func(*Device) bool) {
	for d := range f.devices.Values() {
		if !visit(d) {
			return
		}
	}
}

// InService calls visit for every device that is not retired, in no order, until it returns false.
func (f *Fleet) InService(visit func(*Device) bool) {
	f.All(func(d *Device) bool { return d.Retired != nil || visit(d) })
}

// Together calls work for every device in service, on all processors, and take with what that gave, for one at a time and
// in no order. It ends with ctx, whose error it returns.
func Together[T any](ctx context.Context, f *Fleet, work func(*Device) T, take func(T)) error {
	return versioned.Together(ctx, f.devices, func(d *Device) (x T, is bool) {
		if d.Retired != nil {
			return x, false
		}
		return work(d), true
	}, take)
}

// Pages are parts of the fleet, which later ones share while no device in them differs.
func (f *Fleet) Pages() iter.Seq2[int, versioned.Page[Device]] { return f.devices.Pages() }

// list is every device.
func (f *Fleet) list() []*Device {
	return slices.AppendSeq(make([]*Device, 0, f.Len()), f.devices.Values())
}

// with is the fleet after a change.
func (f *Fleet) with(c *Change) *Fleet {
	if len(c.order) == 0 && c.House == nil {
		return f
	}
	e := f.edit()
	for d := range c.Changed() {
		e.put(d)
	}
	return e.fleet()
}

// fleetEdit makes the next fleet.
type fleetEdit struct {
	devices   *versioned.Edit[string, Device]
	keys      *versioned.Edit[evidence.Key, string]
	shared    map[evidence.Key][]string
	ownShared bool
	owners    reported.Edit
	addresses reported.Edit
}

func (f *Fleet) edit() *fleetEdit {
	return &fleetEdit{devices: f.devices.Marked().Edit(), keys: f.keys.Edit(), shared: f.shared,
		owners: f.owners.Edit(), addresses: f.addresses.Edit()}
}

func (e *fleetEdit) fleet() *Fleet {
	return &Fleet{devices: e.devices.Map(), keys: e.keys.Map(), shared: e.shared, owners: e.owners.Index(),
		addresses: e.addresses.Index()}
}

// put makes a device be found as it is now.
func (e *fleetEdit) put(d *Device) {
	was := e.devices.Get(d.ID)
	e.place(d, was)
	if was != nil && was.Record == d.Record && was.Tags.Owned() == d.Tags.Owned() {
		return
	}
	var owners, addresses []string
	if was != nil {
		owners, addresses = ownersOf(was), was.Record.HardwareAddresses()
	}
	e.owners.Move(d.ID, owners, ownersOf(d))
	e.addresses.Move(d.ID, addresses, d.Record.HardwareAddresses())
}

// place does the same but for owners.
func (e *fleetEdit) place(d, was *Device) {
	e.devices.Set(d.ID, d)
	if was != nil && slices.Equal(was.Keys, d.Keys) {
		return
	}
	if was != nil {
		for _, k := range was.Keys {
			if found(k) && !slices.Contains(d.Keys, k) {
				e.lose(k, d.ID)
			}
		}
	}
	for _, k := range d.Keys {
		if found(k) {
			e.gain(k, d)
		}
	}
}

// found reports whether devices are found by a key: by an id they are without, and
// for what a person approved see [Device.Certified].
func found(k evidence.Key) bool { return k.Kind != evidence.ByID && k.Kind != evidence.Approved }

func (e *fleetEdit) gain(k evidence.Key, d *Device) {
	switch id := e.keys.Get(k); {
	case id == nil:
		own := d.ID // not &d.ID, which would hold all of the device as it is now, for good
		e.keys.Set(k, &own)
	case *id == d.ID || *id == severals && slices.Contains(e.shared[k], d.ID):
	case *id == severals:
		e.share(k, append(slices.Clip(e.shared[k]), d.ID))
	default:
		e.share(k, []string{*id, d.ID})
	}
}

func (e *fleetEdit) lose(k evidence.Key, device string) {
	switch id := e.keys.Get(k); {
	case id == nil:
	case *id == device:
		e.keys.Set(k, nil)
	case *id == severals:
		e.share(k, slices.DeleteFunc(slices.Clone(e.shared[k]), func(id string) bool { return id == device }))
	}
}

// share says which devices have a key.
func (e *fleetEdit) share(k evidence.Key, ids []string) {
	if !e.ownShared {
		if e.shared, e.ownShared = maps.Clone(e.shared), true; e.shared == nil {
			e.shared = map[evidence.Key][]string{}
		}
	}
	if len(ids) == 1 {
		delete(e.shared, k)
		e.keys.Set(k, &ids[0])
		return
	}
	none := severals
	e.shared[k] = ids
	e.keys.Set(k, &none)
}

// ownersOf lists what sources report as the owner, and whom people set.
func ownersOf(d *Device) (names []string) {
	if owner := d.Tags.Owned(); owner != "" {
		names = append(names, owner)
	}
	for r := range d.Record.Of("owner") {
		if r.Value.Known() && !slices.Contains(names, r.Value.Str()) {
			names = append(names, r.Value.Str())
		}
	}
	return names
}

// WithAddress is the one device that has a hardware address at now, as what counts of it says; nil for none, and where
// several say that they have it.
func (snap *Snapshot) WithAddress(address string, now int64) (one *Device) {
	slot := snap.Book.Rulebook.Dict.Slot("network.macs")
	for _, id := range snap.Fleet.addresses.Devices(value.HardwareAddress(address)) {
		d := snap.At(snap.Fleet.Get(id), now)
		if d.Retired != nil {
			continue // its machine may be another device's by now
		}
		has := slices.ContainsFunc(d.View.Get(slot, now).Members(), func(m value.Value) bool {
			return value.HardwareAddress(m.Str()) == value.HardwareAddress(address)
		})
		switch {
		case has && one != nil:
			return nil
		case has:
			one = snap.Fleet.Get(id)
		}
	}
	return one
}

// those are devices, each once. Of ids that are not known there are none.
func (f *Fleet) those(ids []string) []*Device {
	devices := make([]*Device, 0, len(ids))
	seen := make(map[string]bool, len(ids))
	for _, id := range ids {
		if d := f.Get(id); d != nil && !seen[id] {
			seen[id] = true
			devices = append(devices, d)
		}
	}
	return devices
}

// DevicesOf are a person's devices at now, in the order of their ids.
func (snap *Snapshot) DevicesOf(person string, now int64) (mine []*Device) {
	owner := snap.Book.Rulebook.Dict.Slot("owner")
	for _, id := range snap.Fleet.owners.Devices(person) {
		if d := snap.At(snap.Fleet.Get(id), now); d.View.Get(owner, now).Str() == person {
			mine = append(mine, d)
		}
	}
	return mine
}
