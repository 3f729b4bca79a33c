package state

import (
	"slices"

	"ironledger.example/core/certificate"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/kept"
)

// anchored makes the book of a state that was read from disk know our own authority.
func (snap *Snapshot) anchored() error {
	list, err := kept.Anchors(snap.Authorities.byID())
	if err == nil {
		snap.Book.Anchor(list)
	}
	return err
}

// Reanchor makes the rulebook in force know our own authority as the change leaves it: the fleet is appraised again.
func (c *Change) Reanchor(by Cause) error {
	list, err := kept.Anchors(All(c, AuthorityKind))
	if err != nil {
		return err
	}
	book := *c.Base.Book
	book.Anchor(list)
	c.rebuild(&book, c.Base.People, c.Base.Roster, by, c.Base.Fleet.list())
	c.House.Everybody = true
	return nil
}

// IssuedTo is what our own authority issued to a device, as a change finds it.
func (c *Change) IssuedTo(device string) []value.Value {
	if d := c.Device(device); d != nil {
		return evidence.IssuedIn(d.Record)
	}
	return nil
}

// SetIssued makes a list what our own authority issued to a device, which is known: what ended a while ago is left out.
func (c *Change) SetIssued(device string, list []value.Value, by Cause) {
	list = slices.DeleteFunc(slices.Clone(list), func(v value.Value) bool {
		return certificate.Field(v, "not_after").Num()+keepEnded < c.Now
	})
	rep := &evidence.Report{Source: evidence.Authority, At: c.Now,
		Readings: []evidence.Reading{{Name: evidence.IssuedName,
			Source: evidence.Authority, At: c.Now, Value: value.OfList(list)}}}
	d, keyed := c.Reported(device), event.DeviceKeyed{Source: evidence.Authority}
	was := d.Record
	d.Record = d.Record.With(rep)
	c.Certify(d, &keyed)
	d.Held = c.Admission(d.Keys)
	by.Evidence = func() []event.EvidenceChange { return event.EvidenceChanges(was, rep) }
	c.Reappraise(d, by)
	c.RecordKeys(by.Actor, d.ID, &keyed)
}

// keepEnded is how long a certificate that ended is still told of.
const keepEnded = 30 * value.Day
