package service

import (
	"container/heap"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
	"ironledger.example/internal/versioned"
)

// Device is a device with its evidence and its standing. It is immutable.
type Device struct {
	// What appraising the whole fleet looks at stands together.
	Wake    int64           // when to look at it again: nothing changes by itself before
	frame   condition.Frame // that of the view
	Waivers []*Waiver       // live or ended, oldest first
	Result  posture.Result

	under     *generation // it was appraised: see [Book.stillHolds]
	View      *evidence.View
	ID        string
	Keys      []evidence.Key
	Record    *evidence.Record
	Since     int64 // of the level, in microseconds since the Unix epoch
	Refused   []RefusedReading
	Vouches   []*Vouch
	Retired   *Retirement // nil: in service
	Held      *Admission  // nil: admitted; else its enrolment waits, or was refused
	Spoken    []evidence.Spoken
	FirstSeen int64
	SeenAt    int64 // of the newest reading
	Revision  int64 // counts the changes that were kept, from 1

	seal tlog.Hash // of its row in the records
	link []byte    // the end of the chain of its past there
}

// Fleet is every device. It is immutable.
type Fleet struct {
	devices versioned.Map[string, Device]
	keys    versioned.Map[evidence.Key, string] // to ids, for all but the id itself; see shared
	// shared are the keys that several devices have, with their ids: such a key points
	// at none of them.
	shared map[evidence.Key][]string
	owners owners
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

// ambiguous reports whether a key is that of several devices.
func (f *Fleet) ambiguous(k evidence.Key) bool { return len(f.shared[k]) > 0 }

// All calls visit for every device, in no order, until it returns false.
func (f *Fleet) All(visit func(*Device) bool) {
	for d := range f.devices.Values() {
		if !visit(d) {
			return
		}
	}
}

// list is every device.
func (f *Fleet) list() []*Device {
	return slices.AppendSeq(make([]*Device, 0, f.Len()), f.devices.Values())
}

// with is the fleet after a change.
func (f *Fleet) with(c *change) *Fleet {
	if len(c.order) == 0 && len(c.rebuilt) == 0 {
		return f
	}
	e := f.edit()
	for d := range c.changed() {
		e.put(d)
	}
	return e.fleet()
}

// changed yields the devices of a change as it leaves them, some more than once: the
// last time counts.
func (c *change) changed() iter.Seq[*Device] {
	return func(yield func(*Device) bool) {
		for _, p := range c.rebuilt {
			for _, d := range p.devices {
				if !yield(d) {
					return
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

// fleetEdit makes the next fleet.
type fleetEdit struct {
	devices   *versioned.Edit[string, Device]
	keys      *versioned.Edit[evidence.Key, string]
	shared    map[evidence.Key][]string
	ownShared bool
	owners    ownersEdit
}

func (f *Fleet) edit() *fleetEdit {
	return &fleetEdit{devices: f.devices.Edit(), keys: f.keys.Edit(), shared: f.shared,
		owners: ownersEdit{owners: f.owners}}
}

func (e *fleetEdit) fleet() *Fleet {
	return &Fleet{devices: e.devices.Map(), keys: e.keys.Map(), shared: e.shared, owners: e.owners.owners}
}

// put makes a device be found as it is now.
func (e *fleetEdit) put(d *Device) {
	was := e.devices.Get(d.ID)
	e.place(d, was)
	e.owners.move(was, d)
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
// for what a person approved see Device.certified.
func found(k evidence.Key) bool { return k.Kind != evidence.ByID && k.Kind != evidence.Approved }

func (e *fleetEdit) gain(k evidence.Key, d *Device) {
	switch id := e.keys.Get(k); {
	case id == nil:
		e.keys.Set(k, &d.ID)
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

// change is a set of changes on top of a snapshot that nobody sees yet.
type change struct {
	base    *Snapshot // with the changes before, also those that are on their way to the disk
	next    *Snapshot // set when the rulebook or the directory is replaced
	now     int64
	devices map[string]*Device
	order   []*Device // of devices, as they came: neighbours in memory stay neighbours in the fleet
	keys    map[evidence.Key]string
	batch   store.Batch

	// Documents, with what finds those that others of the change need: see [put].
	unmatched  puts[Unmatched]
	waits      map[evidence.Key][]string // ids of unmatched reports that wait
	opened     map[unmatchedOf]int       // how many more unmatched reports are open
	enrolments puts[Enrolment]
	claimed    map[evidence.Key]*Enrolment
	searches   puts[Search]
	waivers    puts[Waiver]
	vouches    puts[Vouch]
	retired    puts[Retirement]

	tokens    *tokenSet // nil: as before
	redacted  []redaction
	scratch   posture.Result
	rebuilt   []rebuilt         // devices under the next snapshot
	rebuiltBy cause             // what made that necessary: a rulebook, people or the roster
	reach     *reached          // whom the next snapshot concerns, beside those devices; nil for everybody
	actors    map[string]string // by device, who made it stand otherwise
}

// reached is whom another snapshot concerns beside the devices that were appraised
// again for it.
type reached struct{ persons []string }

// extent tells a change that something was added to from one as it was before.
func (c *change) extent() [3]int {
	return [...]int{c.batch.Len(), len(c.order) + len(c.rebuilt), len(c.keys)}
}

// expect makes room for n devices.
func (c *change) expect(n int) {
	if len(c.devices) == 0 {
		c.devices, c.keys = make(map[string]*Device, n), make(map[evidence.Key]string, 2*n)
		c.order = make([]*Device, 0, n)
		c.batch.Devices, c.batch.Entries = slices.Grow(c.batch.Devices, n), slices.Grow(c.batch.Entries, n)
	}
}

func (c *change) device(id string) *Device {
	if d, ok := c.devices[id]; ok {
		return d
	}
	return c.base.Fleet.Get(id)
}

// resolve finds the id of a device by its id, serial or hardware id.
func (c *change) resolve(name string) string {
	for _, kind := range []evidence.KeyKind{evidence.ByID, evidence.BySerial, evidence.ByHardware} {
		if id, ok := c.Find(evidence.Folded(kind, name)); ok {
			return id
		}
	}
	return name
}

// Find returns the device that a key points at, as [evidence.Known] asks.
func (c *change) Find(k evidence.Key) (string, bool) {
	if c.base.Book.Resolver.Ignores(k) {
		return "", false
	}
	if k.Kind == evidence.ByID && c.devices[k.Text] != nil {
		return k.Text, true
	}
	if id, ok := c.keys[k]; ok {
		return id, id != ""
	}
	return c.base.Fleet.Find(k)
}

// Spoken returns how a source spoke of a device last.
func (c *change) Spoken(device, source string) (evidence.Spoken, bool) {
	if d := c.device(device); d != nil {
		for _, s := range d.Spoken {
			if s.Source == source {
				return s, true
			}
		}
	}
	return evidence.Spoken{}, false
}

// record adds what happened to the ledger.
func (c *change) record(actor string, e event.Event) {
	c.batch.Entries = append(c.batch.Entries, event.Entry(c.now, actor, e))
}

// before is how a device stood before it is appraised again.
type before struct {
	book   *Book
	device *Device // nil: a new device
	level  string
}

// stood is the standing of a device under a book; nil for none.
func stood(book *Book, d *Device) before {
	if d == nil {
		return before{book: book}
	}
	return before{book, d, book.Rulebook.LevelName(d.Result.Level)}
}

// appraise works out the standing of a device whose evidence is in d.Record,
// under a book and what the house knows, and puts it into the change. It
// reports whether anything that is kept differs from before.
func (c *change) appraise(under *Snapshot, d *Device, was before, by cause) bool {
	env := under.appraise(d, &c.scratch, c.now)
	c.devices[d.ID] = d
	if c.actors == nil {
		c.actors = map[string]string{}
	}
	c.actors[d.ID] = by.actor
	c.order = append(c.order, d)
	entry, changed := under.standingEntry(d, was, by, env)
	if entry.Kind != "" {
		c.batch.Entries = append(c.batch.Entries, entry)
	}
	return changed
}

// refreshView makes sure that the view of a device holds at now.
func (d *Device) refreshView(under *Snapshot, now int64) {
	if d.View == nil || now > d.View.Valid {
		d.View = under.Book.Resolver.Resolve(d.Record, under.facts(d, now), now)
		d.frame = d.View.Frame
	}
}

// compact copies a result for keeping.
func (e *generation) compact(r *posture.Result) posture.Result {
	out := posture.Result{Level: r.Level, Shadow: r.Shadow, Covered: r.Covered, Outsider: r.Outsider,
		Waived: r.Waived, NoGrace: r.NoGrace, Verdicts: e.verdicts.of(r.Verdicts)}
	if r.Remembers() {
		out.Since = slices.Clone(r.Since)
	}
	return out
}

// verdictSets keeps the verdicts of devices once for all that have the same:
// most of a fleet passes the same rules.
type verdictSets struct {
	mu    sync.RWMutex
	known map[string][]posture.Verdict
}

// maxVerdictSets bounds how many are kept; others are kept by their devices.
const maxVerdictSets = 10_000

// of returns a copy of a list of verdicts, which nobody may change.
func (s *verdictSets) of(list []posture.Verdict) []posture.Verdict {
	if len(list) == 0 {
		return nil
	}
	key := unsafe.String((*byte)(&list[0]), len(list)) // for looking up only
	s.mu.RLock()
	set, n := s.known[key], len(s.known)
	s.mu.RUnlock()
	if set != nil {
		return set
	}
	set = slices.Clone(list)
	if n >= maxVerdictSets {
		return set
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known = map[string][]posture.Verdict{}
	}
	s.known[strings.Clone(key)] = set
	return set
}

// standingEntry makes the entry of a device that has just been appraised, if its level
// or a verdict changed, and reports whether anything that is kept did.
func (snap *Snapshot) standingEntry(d *Device, was before, by cause, env *condition.Env) (ledger.Entry, bool) {
	book := snap.Book
	level, changed := book.Rulebook.LevelName(d.Result.Level), changedVerdicts(book, d, was)
	if was.device != nil {
		d.Since = was.device.Since
	}
	if level == was.level && len(changed) == 0 {
		return ledger.Entry{}, was.device == nil || !slices.Equal(d.Result.Since, was.device.Result.Since)
	}
	if level != was.level {
		d.Since = env.Now
	}
	told := &event.StandingChanged{Device: d.ID, From: was.level, To: level,
		Binding: book.Rules.Binding(&d.Result), Rulebook: book.Info.Version, Cause: by.kind}
	if d.Result.Shadow != d.Result.Level {
		told.Shadow = book.Rulebook.LevelName(d.Result.Shadow)
	}
	if was.device != nil {
		told.Changed = book.reasons(env, d, changed)
		if by.evidence != nil {
			told.Evidence = by.evidence()
		}
	}
	return event.Entry(env.Now, by.actor, told), true
}

// keep adds a device's new state to what is written.
func (c *change) keep(book *Book, d *Device, was before) {
	c.batch.Devices = append(c.batch.Devices, d.row(book, was, c.now))
}

// row makes the next revision of a device, which stood otherwise before, as it
// is kept.
func (d *Device) row(book *Book, was before, now int64) store.DeviceRow {
	back := ""
	if d.Revision = 1; was.device != nil {
		d.Revision = was.device.Revision + 1
		back = d.undoOf(book, was)
	}
	keys := []byte{'['}
	for i, k := range d.Keys {
		if i > 0 {
			keys = append(keys, ',')
		}
		keys = append(append(append(keys, `["`...), k.Kind...), `",`...)
		keys = append(value.OfText(k.Text).AppendJSON(keys), ']')
	}
	ev := []byte{'{'}
	for i, source := range d.Sources() {
		if i > 0 {
			ev = append(ev, ',')
		}
		ev = d.Record.AppendSource(append(value.OfText(source).AppendJSON(ev), ':'), source)
	}
	failing := []byte{'{'}
	for i, since := range d.Result.Since {
		if since == 0 {
			continue
		}
		if len(failing) > 1 {
			failing = append(failing, ',')
		}
		failing = fmt.Appendf(failing, "%q:%d", book.ruleKeys[i], since)
	}
	row := store.DeviceRow{ID: d.ID, Keys: string(append(keys, ']')), Evidence: string(append(ev, '}')),
		Level: book.Rulebook.LevelName(d.Result.Level),
		Since: d.Since, Failing: string(append(failing, '}')), FirstSeen: d.FirstSeen, SeenAt: d.SeenAt,
		Refused: d.refusedRow(), Spoken: string(evidence.AppendSpoken(nil, d.Spoken)), Revision: d.Revision,
		At: now, Undo: back, Past: []byte{}}
	if was.device != nil {
		row.Was, row.Before = was.device.seal, append([]byte{}, was.device.link...)
		row.Past = store.Link(d.ID, store.PastStep{Revision: d.Revision, At: now, Undo: back}, row.Before)
	}
	row.Sealed = row.Hash()
	d.seal, d.link = row.Sealed, row.Past
	return row
}

// RefusedReading is an attribute of the newest report of a source that was not
// taken.
type RefusedReading struct {
	Source    string `json:"source"`
	Attribute string `json:"attribute"`
	Message   string `json:"message"`
	At        int64  `json:"at"`
}

func (d *Device) refusedRow() string {
	if len(d.Refused) == 0 {
		return "[]"
	}
	return string(value.JSON(d.Refused))
}

// maxRefused bounds the refusals that are kept of a device.
const maxRefused = 50

// refuse keeps what was refused of the newest report of a source.
func (d *Device) refuse(rep *evidence.Report) {
	if len(d.Refused) == 0 && len(rep.Refused) == 0 {
		return
	}
	kept := slices.DeleteFunc(slices.Clone(d.Refused),
		func(r RefusedReading) bool { return r.Source == rep.Source && r.At <= rep.At })
	for _, r := range rep.Refused {
		if len(kept) < maxRefused {
			kept = append(kept, RefusedReading{rep.Source, r.Attribute, r.Message, rep.At})
		}
	}
	d.Refused = kept
}

// Sources lists who has supplied evidence about the device.
func (d *Device) Sources() []string {
	var sources []string
	readings := d.Record.Readings()
	for i := range readings {
		if s := readings[i].Source; !slices.Contains(sources, s) {
			sources = append(sources, s)
		}
	}
	slices.Sort(sources)
	return sources
}

// nextDue is when a device that has changed is to be looked at, if that is at another
// moment than before.
func nextDue(d, was *Device) (due, bool) {
	return due{d.Wake, d.ID}, d.Wake < condition.Always && (was == nil || was.Wake != d.Wake)
}

// due is when a device's standing can next change by itself.
type due struct {
	at int64
	id string
}

// dueHeap orders devices by when they are due. An element may be outdated: the
// device has been appraised since and is due at another time.
type dueHeap []due

func (h dueHeap) Len() int           { return len(h) }
func (h dueHeap) Less(i, j int) bool { return h[i].at < h[j].at }
func (h dueHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *dueHeap) Push(x any)        { *h = append(*h, x.(due)) }
func (h *dueHeap) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

// push adds a device to those due. Outdated elements are dropped when they are
// most of the heap.
func (s *Service) push(x due, f *Fleet) {
	if len(s.due) > 4*f.Len()+1024 {
		s.due = slices.DeleteFunc(s.due, func(x due) bool { d := f.Get(x.id); return d == nil || d.Wake != x.at })
		heap.Init(&s.due)
	}
	heap.Push(&s.due, x)
}

// untilDue is how long the writer may sleep.
func (s *Service) untilDue() time.Duration {
	if len(s.due) == 0 {
		return time.Hour
	}
	wait := max(0, time.Duration(s.due[0].at-s.micros())*time.Microsecond)
	if s.failing {
		wait = max(wait, time.Second) // the disk may come back; do not spin
	}
	return min(time.Hour, wait)
}

// appraiseDue appraises every device whose moment has come.
func (s *Service) appraiseDue(c *change) error {
	book := c.base.Book
	for len(s.due) > 0 && s.due[0].at <= c.now {
		x := heap.Pop(&s.due).(due)
		old := c.device(x.id)
		if old == nil || old.Wake != x.at {
			continue
		}
		d, was := old.copied(), stood(book, old)
		if c.appraise(c.base, d, was, cause{kind: event.ByTime, actor: ledger.Clock}) {
			c.keep(book, d, was)
		}
	}
	return nil
}

// copied copies a device so that it can be appraised anew.
func (d *Device) copied() *Device {
	return &Device{ID: d.ID, Keys: d.Keys, Record: d.Record, View: d.View, frame: d.frame, Result: d.Result,
		Since: d.Since, Wake: d.Wake, FirstSeen: d.FirstSeen, SeenAt: d.SeenAt,
		Refused: d.Refused, Waivers: d.Waivers, Vouches: d.Vouches, Retired: d.Retired, Held: d.Held,
		Spoken: d.Spoken, Revision: d.Revision, seal: d.seal, link: d.link}
}

// next is when the standing of a device, that is at the moment now, can next
// change by itself: the first moment at which a verdict could differ.
func (b *Book) next(d *Device, now int64) int64 {
	return b.Rules.Next(d.View.Env(now), &d.Result)
}
