package service

import (
	"container/heap"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
)

// Device is a device with its evidence and its standing. It is immutable.
type Device struct {
	ID        string
	Keys      []evidence.Key
	Record    *evidence.Record
	View      *evidence.View
	Result    posture.Result
	Since     int64 // of the level, in microseconds since the Unix epoch
	Next      int64 // when the standing can next change by itself
	FirstSeen int64
	SeenAt    int64 // of the newest reading
}

// Fleet is every device. Devices are replaced one at a time.
type Fleet struct {
	devices sync.Map // id -> *atomic.Pointer[Device]
	keys    sync.Map // evidence.Key -> id
	count   atomic.Int64
}

func newFleet() *Fleet { return &Fleet{} }

// Len is how many devices there are.
func (f *Fleet) Len() int { return int(f.count.Load()) }

// Get returns a device by its id, or nil.
func (f *Fleet) Get(id string) *Device {
	if p, ok := f.devices.Load(id); ok {
		return p.(*atomic.Pointer[Device]).Load()
	}
	return nil
}

// Find returns the id of the device a key points at.
func (f *Fleet) Find(k evidence.Key) (string, bool) {
	if k.Kind == evidence.ByID {
		_, ok := f.devices.Load(k.Text)
		return k.Text, ok
	}
	id, ok := f.keys.Load(k)
	if !ok {
		return "", false
	}
	return id.(string), true
}

// All calls visit for every device, in no order, until it returns false.
func (f *Fleet) All(visit func(*Device) bool) {
	f.devices.Range(func(_, p any) bool { return visit(p.(*atomic.Pointer[Device]).Load()) })
}

func (f *Fleet) put(d *Device) {
	p := new(atomic.Pointer[Device])
	p.Store(d)
	if old, loaded := f.devices.LoadOrStore(d.ID, p); loaded {
		old.(*atomic.Pointer[Device]).Store(d)
	} else {
		f.count.Add(1)
	}
	for _, k := range d.Keys {
		f.keys.Store(k, d.ID)
	}
}

// change is a set of changes on top of a snapshot that nobody sees yet.
type change struct {
	s       *Service
	base    *Snapshot
	next    *Snapshot // set when the rulebook or the directory is replaced
	below   *change   // the change before, while it is on its way to the disk
	now     int64
	devices map[string]*Device
	keys    map[evidence.Key]string
	batch   store.Batch
}

// expect makes room for n devices.
func (c *change) expect(n int) {
	if len(c.devices) == 0 {
		c.devices, c.keys = make(map[string]*Device, n), make(map[evidence.Key]string, 2*n)
		c.batch.Devices, c.batch.Entries = slices.Grow(c.batch.Devices, n), slices.Grow(c.batch.Entries, n)
	}
}

func (c *change) device(id string) *Device {
	for layer := c; layer != nil; layer = layer.below {
		if d, ok := layer.devices[id]; ok {
			return d
		}
	}
	return c.base.Fleet.Get(id)
}

func (c *change) find(k evidence.Key) (string, bool) {
	for layer := c; layer != nil; layer = layer.below {
		if k.Kind == evidence.ByID && layer.devices[k.Text] != nil {
			return k.Text, true
		}
		if id, ok := layer.keys[k]; ok {
			return id, true
		}
	}
	return c.base.Fleet.Find(k)
}

// reveal lets the changes be seen. Only the clerk calls it, after the commit.
func (c *change) reveal(f *Fleet) {
	for _, d := range c.devices {
		f.put(d)
		if d.Next < condition.Always {
			heap.Push(&c.s.due, due{d.Next, d.ID})
		}
	}
}

// record adds a ledger entry.
func (c *change) record(kind ledger.Kind, actor, about string, body any) {
	raw, err := json.Marshal(body)
	if err != nil {
		panic(fmt.Sprintf("the body of a %s entry has no JSON form: %v", kind, err)) // our own types always have one
	}
	c.batch.Entries = append(c.batch.Entries, ledger.Entry{At: c.now, Kind: kind, Actor: actor, About: about, Body: raw})
}

// standingChange is the body of a standing.changed entry.
type standingChange struct {
	Device, From, To, Shadow string
	Binding                  []string
	Rulebook                 int64
}

// append writes the body as JSON. It is the commonest entry of all: an import
// writes one a device.
func (s *standingChange) append(b []byte) []byte {
	text := func(key, text string) { b = value.OfText(text).AppendJSON(append(b, key...)) }
	text(`{"device":`, s.Device)
	if s.From != "" {
		text(`,"from":`, s.From)
	}
	text(`,"to":`, s.To)
	if s.Shadow != "" {
		text(`,"shadow":`, s.Shadow)
	}
	b = append(b, `,"binding":`...)
	b = value.OfTexts(s.Binding).AppendJSON(b)
	return append(strconv.AppendInt(append(b, `,"rulebook":`...), s.Rulebook, 10), '}')
}

// appraise works out the standing of a device whose evidence is in d.Record,
// under a book, and keeps it in the change. old is how it stood before; nil
// for a new device.
func (c *change) appraise(book *Book, people *People, d, old *Device, oldLevel, actor string) {
	facts := evidence.Facts{Groups: people.Groups}
	if d.View == nil || c.now > d.View.Valid {
		d.View = book.Resolver.Resolve(d.Record, facts, c.now)
	}
	env := d.View.Env(c.now)
	book.Rules.Appraise(env, &d.Result)
	d.Next = min(book.Rules.Next(env, &d.Result), d.View.Valid)
	if d.Next < condition.Always && d.Next == d.View.Valid {
		d.Next++ // the view still holds at its last moment
	}
	level := book.Rulebook.LevelName(d.Result.Level)
	shadow := ""
	if d.Result.Shadow != d.Result.Level {
		shadow = book.Rulebook.LevelName(d.Result.Shadow)
	}
	if level != oldLevel {
		d.Since = c.now
		body := standingChange{d.ID, oldLevel, level, shadow, book.Rules.Binding(&d.Result), book.Info.Version}
		c.batch.Entries = append(c.batch.Entries, ledger.Entry{At: c.now, Kind: ledger.StandingChanged, Actor: actor, About: d.ID, Body: body.append(make([]byte, 0, 192))})
	} else if old != nil {
		d.Since = old.Since
	}
	c.devices[d.ID] = d
}

// keep adds a device's new state to what is written.
func (c *change) keep(book *Book, d *Device) {
	c.batch.Devices = append(c.batch.Devices, d.row(book))
}

func (d *Device) row(book *Book) store.DeviceRow {
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
	return store.DeviceRow{ID: d.ID, Keys: string(append(keys, ']')), Evidence: string(append(ev, '}')), Level: book.Rulebook.LevelName(d.Result.Level),
		Since: d.Since, Failing: string(append(failing, '}')), FirstSeen: d.FirstSeen, SeenAt: d.SeenAt}
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

// restore reads a kept device and brings its standing to the present moment.
func (c *change) restore(row store.DeviceRow) error {
	d := &Device{ID: row.ID, FirstSeen: row.FirstSeen, SeenAt: row.SeenAt, Since: row.Since}
	var keys [][2]string
	var sources map[string]json.RawMessage
	var failing map[string]int64
	for text, into := range map[string]any{row.Keys: &keys, row.Evidence: &sources, row.Failing: &failing} {
		if err := json.Unmarshal([]byte(text), into); err != nil {
			return fmt.Errorf("the record of device %s is damaged: %w", row.ID, err)
		}
	}
	for _, k := range keys {
		d.Keys = append(d.Keys, evidence.Key{Kind: evidence.KeyKind(k[0]), Text: k[1]})
	}
	book := c.base.Book
	for source, kept := range sources {
		rep, err := book.Rulebook.Dict.UnmarshalSource(source, kept)
		if err != nil {
			return fmt.Errorf("the record of device %s is damaged: %w", row.ID, err)
		}
		d.Record = d.Record.With(rep)
	}
	d.Result.Since = book.since(failing)
	c.appraise(book, c.base.People, d, &Device{Since: row.Since}, row.Level, ledger.Clock)
	if row.Level != book.Rulebook.LevelName(d.Result.Level) {
		c.keep(book, d)
	}
	return nil
}

// since lays out remembered failures in the order of the book's rules.
func (b *Book) since(failing map[string]int64) []int64 {
	out := make([]int64, len(b.ruleKeys))
	for i, k := range b.ruleKeys {
		out[i] = failing[k]
	}
	return out
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

// untilDue is how long the clerk may sleep.
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
		if old == nil || old.Next != x.at {
			continue
		}
		d := old.again()
		c.appraise(book, c.base.People, d, old, book.Rulebook.LevelName(old.Result.Level), ledger.Clock)
		c.keep(book, d)
	}
	return nil
}

// again copies a device so that it can be appraised anew.
func (d *Device) again() *Device {
	e := *d
	e.Result.Verdicts = nil
	e.Result.Since = slices.Clone(d.Result.Since)
	return &e
}
