package state

import (
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
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
