package state

import (
	"runtime"
	"slices"
	"sync"

	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/internal/store"
)

// Facts is what the house knows of a device beside what it was told.
func (snap *Snapshot) Facts(d *Device, now int64) evidence.Facts {
	f := evidence.Facts{ID: d.ID, OnRoster: snap.Roster.Has(snap.Telling(d.Keys)), Groups: snap.People.GroupsOf,
		Tags: d.Tags.Value(), Owner: d.Tags.Owned()}
	for _, v := range d.Vouches {
		if v.Live(now) {
			f.Vouched = max(f.Vouched, v.Lasts(snap.Book.Resolver))
		}
	}
	return f
}

// Telling are those of a device's keys that say something.
func (snap *Snapshot) Telling(keys []evidence.Key) []evidence.Key {
	if slices.ContainsFunc(keys, snap.Book.Resolver.Ignores) {
		return slices.DeleteFunc(slices.Clone(keys), snap.Book.Resolver.Ignores)
	}
	return keys
}

// Find returns the device that a key points at.
func (snap *Snapshot) Find(k evidence.Key) (string, bool) {
	if snap.Book.Resolver.Ignores(k) {
		return "", false
	}
	return snap.Fleet.Find(k)
}

// At brings a device to the moment now and under the snapshot's book, should
// that be another than the writer has come to.
func (snap *Snapshot) At(d *Device, now int64) *Device {
	if now < d.Wake && !snap.tried {
		return d
	}
	e := d.carried(d.under, snap.Book.generation)
	snap.appraise(e, &posture.Result{}, now)
	return e
}

// appraise makes a device's view, result and wake those of the moment now under
// the snapshot. r is room to work in.
func (snap *Snapshot) appraise(d *Device, r *posture.Result, now int64) *condition.Env {
	b := snap.Book
	d.refreshView(snap, now)
	env := d.View.Env(now)
	r.Recall(d.Result.Since)
	r.Waived, r.Outsider, r.Quarantined = b.waived(d.Waivers, now), d.Outsider(), d.Quarantine.Holding(now)
	b.Rules.Appraise(env, r)
	d.Wake, d.Result = b.Rules.Wake(env, d.View, r), b.compact(r)
	d.under = b.generation
	return env
}

// rebuild makes another book, directory or roster the next snapshot, and appraises
// under it the devices for which it could make a difference. It returns how many
// changed level. The work is shared among the cores.
func (c *Change) rebuild(book *Book, people *People, roster *Roster, by Cause, devices []*Device) int {
	next := *c.Base
	next.Book, next.People, next.Roster = book, people, roster
	c.House = &HouseChange{book: book, people: people, roster: roster, By: by}
	workers := min(runtime.GOMAXPROCS(0), 1+len(devices)/512)
	parts := make([]rebuilt, workers)
	var wg sync.WaitGroup
	for w := range parts {
		wg.Go(func() {
			parts[w].run(c, &next, by, devices[w*len(devices)/workers:(w+1)*len(devices)/workers])
		})
	}
	wg.Wait()
	moved, entries, rows := 0, 0, 0
	for _, p := range parts {
		moved, entries, rows = moved+p.moved, entries+len(p.entries), rows+len(p.rows)
	}
	c.Batch.Entries, c.Batch.Devices = slices.Grow(c.Batch.Entries, entries), slices.Grow(c.Batch.Devices, rows)
	for i := range parts {
		p := &parts[i]
		c.Batch.Entries, c.Batch.Devices = append(c.Batch.Entries, p.entries...), append(c.Batch.Devices, p.rows...)
		p.entries, p.rows = nil, nil
	}
	c.House.rebuilt = parts
	return moved
}

// rebuilt is a part of a fleet appraised under another book.
type rebuilt struct {
	devices []*Device
	entries []ledger.Entry
	rows    []store.DeviceRow
	moved   int
	warmed  int64 // keeps the reading ahead from being left out
}

func (p *rebuilt) run(c *Change, next *Snapshot, by Cause, devices []*Device) {
	old, book := c.Base.Book, next.Book
	// The views, and the truth of checks that both books have, hold as they are
	// when evidence means the same under both.
	keep := next.People == c.Base.People && next.Roster == c.Base.Roster && book.Resolver == old.Resolver
	comparable := slices.Equal(old.Rulebook.Ladder, book.Rulebook.Ladder) && slices.Equal(old.RuleKeys,
		book.RuleKeys)
	carry := book.Rules.Carry(old.Rules)
	var r posture.Result
	env := &condition.Env{Now: c.Now}
	for i, d := range devices {
		if keep && i%warmth == 0 {
			p.warm(carry, devices[i:min(len(devices), i+warmth)])
		}
		current := keep && c.Now < d.Wake // its verdicts and its view are those of this moment
		e := d
		if !current || !comparable {
			e = d.carried(old.generation, book.generation)
			e.refreshView(next, c.Now)
		}
		env.Frames[evidence.DeviceFrame] = e.frame
		r.Recall(e.Result.Since)
		r.Waived, r.Outsider, r.Quarantined = book.waived(d.Waivers, c.Now), d.Outsider(), d.Quarantine.Holding(c.Now)
		wake := int64(0)
		if current {
			book.Rules.AppraiseFrom(env, &r, carry, d.Result.Verdicts)
			wake = book.Rules.WakeFrom(env, &r, carry, d.Wake)
		} else {
			book.Rules.Appraise(env, &r)
			wake = book.Rules.Wake(env, e.View, &r)
		}
		if current && comparable && wake == d.Wake && d.unmoved(&r) {
			continue
		}
		if e == d {
			e = d.Copied()
		}
		e.Wake, e.Result = wake, book.compact(&r)
		e.under = book.generation
		was := Stood(old, d)
		entry, changed := next.standingEntry(e, was, by, env)
		if entry.Kind != "" {
			p.entries = append(room(p.entries, i, len(devices)), entry)
		}
		if book.Rulebook.Called(was.Level) != book.Rulebook.LevelName(e.Result.Level) {
			p.moved++
		}
		if changed {
			p.rows = append(room(p.rows, i, len(devices)), e.row(book, was, c.Now))
		}
		p.devices = append(room(p.devices, i, len(devices)), e)
	}
}

// room makes room in a full list for what n things are going to add, if those to come are like the first done ones: of a
// whole fleet, growing a list time and again takes longer.
func room[T any](list []T, done, n int) []T {
	if len(list) < cap(list) || done < 64 {
		return list
	}
	return slices.Grow(list, 1+len(list)*(n-done)/done)
}

// warmth is how many devices are fetched from memory together: a fleet is far
// larger than the caches, and waiting for it piece by piece takes most of the time.
const warmth = 16

func (p *rebuilt) warm(carry *posture.Carry, devices []*Device) {
	var frames [warmth]*condition.Frame
	for i, d := range devices {
		frames[i] = &d.frame
		p.warmed += d.Wake + int64(d.Result.Level)
	}
	for _, f := range frames[:len(devices)] {
		p.warmed += carry.Warm(*f)
	}
}

// standingEntry makes the entry of a device that has just been appraised, if its level
// or a verdict changed, and reports whether anything that is kept did.
func (snap *Snapshot) standingEntry(d *Device, was Before, by Cause, env *condition.Env) (ledger.Entry, bool) {
	book := snap.Book
	level, changed := book.Rulebook.LevelName(d.Result.Level), changedVerdicts(book, d, was)
	if was.device != nil {
		d.Since = was.device.Since
	}
	crossed := was.device != nil && was.device.Result.Outsider != d.Result.Outsider
	if level == was.Level && len(changed) == 0 && !crossed {
		return ledger.Entry{}, was.device == nil || !slices.Equal(d.Result.Since, was.device.Result.Since)
	}
	if level != book.Rulebook.Called(was.Level) {
		d.Since = env.Now
	}
	told := &event.StandingChanged{Device: d.ID, From: was.Level, To: level,
		Binding: book.Rules.Binding(&d.Result), Rulebook: book.Info.Version, Cause: by.Kind,
		Outsider: d.Result.Outsider}
	if was.device == nil || len(told.Binding)+len(changed) > maxChanges {
		told.Verdicts = posture.Letters(d.Result.Verdicts)
	}
	if d.Result.Shadow != d.Result.Level {
		told.Shadow = book.Rulebook.LevelName(d.Result.Shadow)
	}
	if was.device != nil {
		told.Changed = book.reasons(env, d, changed)
		if by.Evidence != nil {
			told.Evidence = by.Evidence()
		}
	}
	return event.Entry(env.Now, by.Actor, told), true
}

// Next is when the standing of a device, that is at the moment now, can next
// change by itself: the first moment at which a verdict could differ.
func (b *Book) Next(d *Device, now int64) int64 {
	return b.Rules.Next(d.View.Env(now), &d.Result)
}

// TryOut is the snapshot with another book, directory or roster, for seeing what
// would be under it.
func (snap *Snapshot) TryOut(book *Book, people *People, roster *Roster) *Snapshot {
	if people != snap.People || roster != snap.Roster {
		book = book.renewed()
	}
	next := *snap
	next.Book, next.People, next.Roster, next.tried = book, people, roster, true
	return &next
}

// Cause is why a device is appraised again.
type Cause struct {
	Kind     string
	Actor    string
	Evidence func() []event.EvidenceChange // what a report changed; nil for none
}

// changedVerdict is a rule whose verdict changed, with its place in the book; -1
// for one that the book has no more.
type changedVerdict struct {
	event.VerdictChange
	index int
}

// changedVerdicts lists the rules whose verdicts differ from before; none for a
// device of which the verdicts before are not known.
func changedVerdicts(book *Book, d *Device, was Before) []changedVerdict {
	if was.device == nil || was.device.Result.Verdicts == nil {
		return nil
	}
	var out []changedVerdict
	if old := was.device.Result.Verdicts; book == was.book || slices.Equal(book.RuleKeys, was.book.RuleKeys) {
		for i, v := range d.Result.Verdicts {
			if v != old[i] {
				out = append(out, changedVerdict{event.VerdictChange{Rule: book.RuleKeys[i], From: old[i],
					To: v}, i})
			}
		}
		return out
	}
	old := map[string]posture.Verdict{}
	for i, v := range was.device.Result.Verdicts {
		old[was.book.RuleKeys[i]] = v
	}
	for i, v := range d.Result.Verdicts {
		if k := book.RuleKeys[i]; v != old[k] {
			out = append(out, changedVerdict{event.VerdictChange{Rule: k, From: old[k], To: v}, i})
		}
		delete(old, book.RuleKeys[i])
	}
	for _, k := range was.book.RuleKeys { // rules that are gone
		if v := old[k]; v != posture.None {
			out = append(out, changedVerdict{event.VerdictChange{Rule: k, From: v, To: posture.None}, -1})
		}
	}
	return out
}

// reasons tells changed verdicts with what was observed.
func (b *Book) reasons(env *condition.Env, d *Device, changed []changedVerdict) []event.VerdictChange {
	var out []event.VerdictChange
	for _, c := range changed {
		if c.index >= 0 && c.To != posture.None {
			if why := b.Rules.Why(env, d.View, &d.Result, c.index); len(why) > 0 {
				c.Why = event.Clipped(access.Reason(why[0]), maxTold)
			}
		}
		out = append(out, c.VerdictChange)
	}
	return out
}

// maxTold bounds what an entry tells of a value, in bytes, and maxChanges how many verdicts it is sure to have room to
// tell of one by one.
const (
	maxTold    = 300
	maxChanges = 60
)

// Named returns a device by its id, serial or hardware id, or nil.
func (snap *Snapshot) Named(name string) *Device {
	id, _ := named(name, snap.Fleet.Find)
	return snap.Fleet.Get(id)
}

// Under is the standing of a device under a candidate, at now.
func (snap *Snapshot) Under(candidate *Snapshot, d *Device, now int64) *Device {
	e := candidate.At(d, now)
	if candidate.Book.Rulebook.LevelName(e.Result.Level) != snap.Book.Rulebook.LevelName(d.Result.Level) {
		e.Since = now // it would begin when the candidate is published
	}
	return e
}
