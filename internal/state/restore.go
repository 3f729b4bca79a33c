package state

import (
	"slices"
	"sync"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/reported"
	"ironledger.example/internal/store"
)

// Restoration brings kept devices into a snapshot that nobody sees yet, at a moment.
type Restoration struct {
	under       *Snapshot
	granted     exceptions
	before, now int64

	mu     sync.Mutex
	fleet  *fleetEdit
	owned  []reported.Pair
	found  []reported.Pair // by hardware addresses
	digest ledger.Digest
	batch  store.Batch
}

// Restore begins to bring devices into a snapshot, which has everything else. What they were found to be at the moment
// before, that of the newest entry, is compared with what they are now.
func (snap *Snapshot) Restore(before, now int64) *Restoration {
	return &Restoration{under: snap, granted: snap.exceptions(), before: min(before, now), now: now,
		fleet: snap.Fleet.edit()}
}

// Take appraises kept devices at the present moment. It is safe for concurrent use.
func (r *Restoration) Take(rows []store.DeviceRow) error {
	c := &Change{Base: r.under, Now: r.now, devices: make(map[string]*Device, len(rows)),
		actors: make(map[string]string, len(rows)), order: make([]*Device, 0, len(rows))}
	var was Device
	var digest ledger.Digest
	for i := range rows {
		row := &rows[i]
		row.Sealed = row.Hash()
		digest.Add(row.Sealed)
		if err := r.restore(c, row, &was); err != nil {
			return err
		}
	}
	owned, found := make([]reported.Pair, 0, len(rows)), []reported.Pair{}
	for _, d := range c.order {
		for _, owner := range ownersOf(d) {
			owned = append(owned, reported.Pair{Text: owner, Device: d.ID})
		}
		for _, address := range d.Record.HardwareAddresses() {
			found = append(found, reported.Pair{Text: address, Device: d.ID})
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.digest.Join(&digest)
	r.owned, r.found = append(r.owned, owned...), append(r.found, found...)
	r.batch.Entries, r.batch.Devices = append(r.batch.Entries, c.Batch.Entries...),
		append(r.batch.Devices, c.Batch.Devices...)
	for _, d := range c.order {
		r.fleet.place(d, nil)
	}
	return nil
}

// restore reads a kept device and brings its standing to the present moment. As it
// was is put into the room given.
func (r *Restoration) restore(c *Change, row *store.DeviceRow, room *Device) error {
	d, err := deviceOf(r.under.Book, row, r.granted)
	if err != nil {
		return err
	}
	d.Held = r.under.Enrolments.Admission(d.Keys)
	since := d.Result.Since
	r.under.appraise(d, &c.scratch, r.before)
	if r.now < d.Wake && r.under.Book.Rulebook.LevelName(d.Result.Level) == row.Level &&
		slices.Equal(since, d.Result.Since) {
		c.order = append(c.order, d)
		return nil
	}
	*room = *d
	room.Result.Since = since
	was := Before{r.under.Book, room, row.Level}
	if c.Appraise(r.under, d, was, Cause{Kind: event.ByRestart, Actor: ledger.Clock}) {
		c.Keep(r.under.Book, d, was)
	}
	return nil
}

// End puts the devices into the snapshot. It returns the digest of the rows they were
// read from, and what is to be written since it changed meanwhile.
func (r *Restoration) End() (ledger.Digest, *store.Batch) {
	r.under.Fleet = r.fleet.fleet()
	var wg sync.WaitGroup
	wg.Go(func() { r.under.Fleet.owners = reported.Of(r.owned) })
	r.under.Fleet.addresses = reported.Of(r.found)
	wg.Wait()
	r.owned, r.found = nil, nil
	return r.digest, &r.batch
}
