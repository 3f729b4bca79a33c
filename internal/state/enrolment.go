package state

import (
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/internal/store"
	"ironledger.example/internal/versioned"
)

// The states of an enrolment.
const (
	Held     = "held"     // waits for a person
	Enrolled = "enrolled" // the device is known here
	Refused  = "refused"
)

// Claims are what a device, or its person, says of it when it asks to be enrolled.
type Claims = event.Claims

// Enrolment is a device's request to be known here.
type Enrolment = event.Enrolment

// Retirement is why a device is no longer one of ours.
type Retirement = event.DeviceRetired

// enrolmentTable holds the enrolments, and finds the newest by the keys it claims.
type enrolmentTable struct {
	table[Enrolment]
	byKey versioned.Map[evidence.Key, Enrolment]
}

// index finds the newest request by the keys that it claims. None is ever dropped.
func (t *enrolmentTable) index(changes puts[Enrolment]) {
	if len(changes) == 0 {
		return
	}
	byKey := t.byKey.Edit()
	for _, e := range changes {
		for _, k := range e.Claims.Keys() {
			if old := byKey.Get(k); old == nil || old.Decided() < e.Decided() || old.Decided() == e.Decided() &&
				old.ID <= e.ID {
				byKey.Set(k, e)
			}
		}
	}
	t.byKey = byKey.Map()
}

// PutEnrolment writes an enrolment down.
func (c *Change) PutEnrolment(e Enrolment) error {
	if c.claimed == nil {
		c.claimed = map[evidence.Key]*Enrolment{}
	}
	for _, k := range e.Claims.Keys() {
		c.claimed[k] = &e
	}
	return Put(c, EnrolmentKind, e.ID, &e)
}

// Admission says why a device with some keys is not admitted, by the newest
// enrolment that claims one of them; nil when it is, or when none does.
func (t *enrolmentTable) Admission(keys []evidence.Key) *Admission {
	if t.byKey.Len() == 0 {
		return nil
	}
	return newestOf(keys, t.byKey.Get)
}

// Admission is the same as a change finds it.
func (c *Change) Admission(keys []evidence.Key) *Admission {
	if len(c.claimed) == 0 {
		return c.Base.Enrolments.Admission(keys)
	}
	return newestOf(keys, func(k evidence.Key) *Enrolment {
		if e, put := c.claimed[k]; put {
			return e
		}
		return c.Base.Enrolments.byKey.Get(k)
	})
}

func newestOf(keys []evidence.Key, find func(evidence.Key) *Enrolment) *Admission {
	newest := &Enrolment{}
	for _, k := range keys {
		if e := find(k); e != nil && (e.Decided() > newest.Decided() || e.Decided() == newest.Decided() &&
			e.ID > newest.ID) {
			newest = e
		}
	}
	if newest.State != Held && newest.State != Refused {
		return nil
	}
	return &Admission{newest.ID, newest.State}
}

// Purge removes what is known of a device that is retired, but for its keys: its evidence, its past, and what people
// said of it. Should it be reported again it is the same device, and retired.
func (c *Change) Purge(d *Device, by Cause) error {
	was := Stood(c.Base.Book, c.Device(d.ID))
	r := *d.Retired
	r.PurgedAt = c.Now
	d.Record, d.View, d.Refused, d.Spoken, d.SeenAt = new(evidence.Record), nil, nil, nil, 0
	d.Result.Since = nil
	for _, w := range d.Waivers {
		Drop(c, WaiverKind, w.ID)
	}
	for _, v := range d.Vouches {
		Drop(c, VouchKind, v.ID)
	}
	d.Waivers, d.Vouches, d.Tags, d.Quarantine, d.Retired = nil, nil, nil, nil, &r
	Drop(c, TagsKind, d.ID)
	Drop(c, QuarantineKind, d.ID)
	Drop(c, InviteKind, d.ID)
	if err := Put(c, RetirementKind, d.ID, &r); err != nil {
		return err
	}
	for _, e := range All(c, EnrolmentKind) {
		if e.Device != d.ID {
			continue
		}
		next := *e
		next.Claims.Name, next.Claims.Owner, next.Claims.Model, next.Claims.Vendor = "", "", "", ""
		if err := c.PutEnrolment(next); err != nil {
			return err
		}
	}
	told := len(c.Batch.Entries)
	if c.Appraise(c.Base, d, was, by); len(c.Batch.Entries) == told { // how it stands has to be told once more
		level := c.Base.Book.Rulebook.LevelName(d.Result.Level)
		c.Record(by.Actor, &event.StandingChanged{Device: d.ID, From: level, To: level, Binding: []string{},
			Rulebook: c.Base.Book.Info.Version, Cause: by.Kind})
	}
	c.Batch.Devices = append(c.Batch.Devices, d.purgedRow(c.Base.Book, was, c.Now))
	return nil
}

// purgedRow is the row of a device from which nothing leads back.
func (d *Device) purgedRow(book *Book, was Before, now int64) store.DeviceRow {
	row := d.row(book, was, now)
	row.Undo, row.Past, row.Before, row.Purged = "", []byte{}, nil, true
	row.Sealed = row.Hash()
	d.seal, d.link = row.Sealed, row.Past
	return row
}
