package state

import (
	"iter"
	"slices"

	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/feed"
	"ironledger.example/core/posture"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/store"
)

// Touch copies a device, named by id, serial or hardware id, for changing it.
func (c *Change) Touch(name string) (*Device, error) {
	if name == "" {
		return nil, fault.Input("/device", "say which device: its id, serial or hardware id")
	}
	if id := c.Resolve(name); c.Device(id) != nil {
		return c.Reported(id), nil
	}
	return nil, fault.NotFound("device", name)
}

// Reappraise appraises a device that is new or has changed, and keeps it. It returns
// how it stood before, as the change has it.
func (c *Change) Reappraise(d *Device, by Cause) Before {
	was := Stood(c.Base.Book, c.Device(d.ID))
	c.Appraise(c.Base, d, was, by)
	c.Keep(c.Base.Book, d, was)
	return was
}

// Reported copies a device for changing what is reported of it; a new one when there is
// none with the id.
func (c *Change) Reported(id string) *Device {
	old := c.Device(id)
	if old == nil {
		return &Device{ID: id, FirstSeen: c.Now}
	}
	d := old.Copied()
	d.View = nil
	return d
}

// Changed yields the devices of a change as it leaves them, some more than once: the
// last time counts.
func (c *Change) Changed() iter.Seq[*Device] {
	return func(yield func(*Device) bool) {
		if c.House != nil {
			for _, p := range c.House.rebuilt {
				for _, d := range p.devices {
					if !yield(d) {
						return
					}
				}
			}
		}
		for _, d := range c.order {
			if !yield(d) {
				return
			}
		}
	}
}

// Change is a set of changes on top of a snapshot that nobody sees yet.
type Change struct {
	Base   *Snapshot // with the changes before, also those that are on their way to the disk
	Now    int64
	Batch  store.Batch  // what is written
	House  *HouseChange // nil: the rulebook, people and the roster stay
	Tokens *bearer.Set  // nil: as before
	// Revoked are those whose sessions end though their question may be answered as before.
	Revoked []Revocation
	Redacts string // what the entry is about whose body goes; "" for none

	devices map[string]*Device
	order   []*Device // of devices, as they came: neighbours in memory stay neighbours in the fleet
	keys    map[evidence.Key]string
	actors  map[string]string // by device, who made it stand otherwise
	scratch posture.Result

	// Documents, with what finds those that others of the change need: see [put].
	unmatched  puts[Unmatched]
	waits      map[evidence.Key][]string // ids of unmatched reports that wait
	opened     map[kept.UnmatchedOf]int  // how many more unmatched reports are open
	enrolments puts[Enrolment]
	claimed    map[evidence.Key]*Enrolment
	searches   puts[kept.Search]
	streams    puts[kept.Stream]
	places     puts[kept.StreamPlace]
	letters    puts[kept.Letter]
	notices    puts[kept.Notice]
	mutes      puts[kept.Mute]
	seen       puts[kept.Seen]
	feeds      puts[kept.Feed]
	feedPlaces puts[feed.Place]
	heard      puts[kept.Heard]

	authorities puts[kept.Authority]
	issued      puts[kept.Certificate]
	invites     puts[kept.Invite]
	statements  puts[kept.Statements]
	quarantines puts[kept.Quarantine]
	tags        puts[kept.Tags]

	archives    puts[kept.Archive]
	mappings    puts[kept.Mapping]
	noticePlace puts[kept.NoticePlace]
	terms       puts[kept.TokenTerm]
	tokenUses   puts[kept.TokenUses]

	accessPoints puts[kept.AccessPoint]
	reports      puts[kept.Report]
	stays        puts[kept.Stay]

	waivers puts[Waiver]
	vouches puts[Vouch]
	retired puts[Retirement]
}

// Revocation is whose sessions end: those of a device, of a person, of a resource, or of what is all that is said.
type Revocation struct {
	Device, Person, Resource string
	By                       Cause
}

// HouseChange is a rulebook, directory or roster that takes the place of the one there
// is, and whom that concerns.
type HouseChange struct {
	book   *Book
	people *People
	roster *Roster
	// By says what made it necessary.
	By Cause
	// Everybody is set when anybody's sessions may lose their ground; else it is those of
	// Persons, and of the devices that stand otherwise.
	Everybody bool
	Persons   []string
	rebuilt   []rebuilt
}

// Actor is who made a device stand otherwise.
func (c *Change) Actor(device string) string { return c.actors[device] }

// Extent tells a change that something was added to from one as it was before.
func (c *Change) Extent() [3]int {
	return [...]int{c.Batch.Len(), len(c.order), len(c.keys)}
}

// Expect makes room for n devices.
func (c *Change) Expect(n int) {
	if len(c.devices) == 0 {
		c.devices, c.keys = make(map[string]*Device, n), make(map[evidence.Key]string, 2*n)
		c.order = make([]*Device, 0, n)
		c.Batch.Devices, c.Batch.Entries = slices.Grow(c.Batch.Devices, n), slices.Grow(c.Batch.Entries, n)
	}
}

// Device returns a device as the change finds it, nil for none.
func (c *Change) Device(id string) *Device {
	if d, ok := c.devices[id]; ok {
		return d
	}
	return c.Base.Fleet.Get(id)
}

// Resolve finds the id of a device by its id, serial or hardware id.
func (c *Change) Resolve(name string) string {
	if id, ok := named(name, c.Find); ok {
		return id
	}
	return name
}

// named finds the id of a device by what a person may call it: its id, serial or
// hardware id.
func named(name string, find func(evidence.Key) (string, bool)) (id string, ok bool) {
	for _, kind := range []evidence.KeyKind{evidence.ByID, evidence.BySerial, evidence.ByHardware} {
		if id, ok = find(evidence.Folded(kind, name)); ok {
			break
		}
	}
	return id, ok
}

// Find returns the device that a key points at, as [evidence.Known] asks.
func (c *Change) Find(k evidence.Key) (string, bool) {
	if c.Base.Book.Resolver.Ignores(k) {
		return "", false
	}
	if k.Kind == evidence.ByID && c.devices[k.Text] != nil {
		return k.Text, true
	}
	if id, ok := c.keys[k]; ok {
		return id, id != ""
	}
	return c.Base.Fleet.Find(k)
}

// Spoken returns how a source spoke of a device last.
func (c *Change) Spoken(device, source string) (evidence.Spoken, bool) {
	if d := c.Device(device); d != nil {
		for _, s := range d.Spoken {
			if s.Source == source {
				return s, true
			}
		}
	}
	return evidence.Spoken{}, false
}

// Record adds what happened to the ledger.
func (c *Change) Record(actor string, e event.Event) {
	c.Batch.Entries = append(c.Batch.Entries, event.Entry(c.Now, actor, e))
}

// Before is how a device stood before it is appraised again.
type Before struct {
	book   *Book
	device *Device // nil: a new device
	Level  string
}

// Stood is the standing of a device under a book; nil for none.
func Stood(book *Book, d *Device) Before {
	if d == nil {
		return Before{book: book}
	}
	return Before{book, d, book.Rulebook.LevelName(d.Result.Level)}
}

// Appraise works out the standing of a device whose evidence is in d.Record,
// under a book and what the house knows, and puts it into the change. It
// reports whether anything that is kept differs from before.
func (c *Change) Appraise(under *Snapshot, d *Device, was Before, by Cause) bool {
	env := under.appraise(d, &c.scratch, c.Now)
	c.devices[d.ID] = d
	if c.actors == nil {
		c.actors = map[string]string{}
	}
	c.actors[d.ID] = by.Actor
	c.order = append(c.order, d)
	entry, changed := under.standingEntry(d, was, by, env)
	if entry.Kind != "" {
		c.Batch.Entries = append(c.Batch.Entries, entry)
	}
	return changed
}

// Keep adds a device's new state to what is written.
func (c *Change) Keep(book *Book, d *Device, was Before) {
	c.Batch.Devices = append(c.Batch.Devices, d.row(book, was, c.Now))
}

// RecordKeys adds the keys that a device gained or lost to the ledger, if any.
func (c *Change) RecordKeys(actor, device string, k *event.DeviceKeyed) {
	if len(k.Gained)+len(k.Lost) > 0 {
		k.Device = device
		c.Record(actor, k)
	}
}

// Certify makes the certificates that sources show of a device now, and those that we issued to it, its keys, and
// no others. While no source shows any, those it was enrolled with stay.
func (c *Change) Certify(d *Device, keyed *event.DeviceKeyed) {
	issued := evidence.IssuedKeys(d.Record)
	for _, k := range issued {
		if !slices.Contains(d.Keys, k) {
			c.Gain(d, k, keyed)
		}
	}
	shown := c.Base.Book.Resolver.CertificateKeys(d.Record)
	if len(shown) == 0 {
		return
	}
	for _, k := range slices.Clone(d.Keys) {
		enrolled := k.Kind == evidence.Approved &&
			!slices.Contains(shown, evidence.Key{Kind: evidence.ByCertificate, Text: k.Text})
		if enrolled || k.Kind == evidence.ByCertificate && !slices.Contains(shown, k) && !slices.Contains(issued, k) {
			c.Lose(d, k, keyed)
		}
	}
	for _, k := range shown {
		if !slices.Contains(d.Keys, k) {
			c.Gain(d, k, keyed)
		}
	}
}

// Gain makes a key point at a device. A certificate that another shows too points
// at neither; one that we issued to another stays with it.
func (c *Change) Gain(d *Device, k evidence.Key, keyed *event.DeviceKeyed) {
	if c.keys == nil {
		c.keys = map[evidence.Key]string{}
	}
	owner, known := c.Find(k)
	if k.Kind == evidence.ByCertificate && known && owner != d.ID &&
		slices.Contains(evidence.IssuedKeys(c.Device(owner).Record), k) {
		return
	}
	switch {
	case k.Kind == evidence.Approved:
	case k.Kind == evidence.ByCertificate && (known && owner != d.ID || c.Base.Fleet.Ambiguous(k)):
		c.keys[k] = ""
	default:
		c.keys[k] = d.ID
	}
	if !slices.Contains(d.Keys, k) {
		d.Keys = append(slices.Clip(d.Keys), k) // the device it was copied from keeps its own
		keyed.Gained = append(keyed.Gained, k)
	}
}

// Lose makes a key no longer point at a device.
func (c *Change) Lose(d *Device, k evidence.Key, keyed *event.DeviceKeyed) {
	i := slices.Index(d.Keys, k)
	if i < 0 {
		return
	}
	d.Keys = slices.Delete(slices.Clone(d.Keys), i, i+1)
	keyed.Lost = append(keyed.Lost, k)
	if owner, known := c.Find(k); known && owner == d.ID {
		if c.keys == nil {
			c.keys = map[evidence.Key]string{}
		}
		c.keys[k] = ""
	}
}

// NewChange begins a change on top of a state, at now.
func NewChange(base *Snapshot, now int64) *Change {
	return &Change{Base: base, Now: now, devices: map[string]*Device{}}
}

// TokensNow are the tokens as a change finds them.
func (c *Change) TokensNow() *bearer.Set {
	if c.Tokens != nil {
		return c.Tokens
	}
	return c.Base.Tokens
}
